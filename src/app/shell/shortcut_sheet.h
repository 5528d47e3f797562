#pragma once

#include <QDialog>

class QAction;
class QLabel;

namespace porb::app {

/// All commands with a key, in groups and columns, searched by words; never higher than the screen.
class ShortcutSheet : public QDialog {
    Q_OBJECT
  public:
    ShortcutSheet(const QList<QAction*>& actions, QWidget* parent);

  private:
    void filter(const QString& text);
    struct Row {
        QWidget* line;
        QString words; ///< that it is found by
        int group;
    };
    QList<QWidget*> groups_; ///< heads
    QList<Row> rows_;
    QLabel* nothing_;
};

} // namespace porb::app
