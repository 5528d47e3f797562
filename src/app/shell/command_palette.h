#pragma once

#include <QAction>
#include <QDialog>

class QLineEdit;
class QListWidget;

namespace porb::app {

/// Every action by name, or by another word of the trade ("ghost", "horizon", "mask"): type part of it,
/// choose with the arrow keys, Enter does it.
class CommandPalette : public QDialog {
    Q_OBJECT
  public:
    CommandPalette(const QList<QAction*>& actions, QWidget* parent);

  protected:
    bool eventFilter(QObject* object, QEvent* event) override;

  private:
    void filter(const QString& text);
    void run();
    QList<QAction*> actions_;
    QLineEdit* line_;
    QListWidget* list_;
};

} // namespace porb::app
