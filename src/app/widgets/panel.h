#pragma once

#include <QLabel>
#include <QTableView>
#include <QVBoxLayout>
#include <QWidget>

namespace porb::app {

/// The column that every station's panel is made of: a title, a line on what to do here, then its parts.
class Panel : public QWidget {
  public:
    Panel(const QString& title, const QString& hint, QWidget* parent = nullptr)
        : QWidget(parent), column_(new QVBoxLayout(this)) {
        column_->setContentsMargins(12, 10, 12, 10);
        column_->setSpacing(6);
        auto* head = new QLabel(title);
        head->setProperty("role", "title");
        column_->addWidget(head);
        auto* words = new QLabel(hint);
        words->setProperty("role", "hint");
        words->setWordWrap(true);
        column_->addWidget(words);
    }

    /// The head of a group of a column's widgets.
    static void group_in(QVBoxLayout* column, const QString& name) {
        auto* label = new QLabel(name);
        label->setProperty("role", "group");
        column->addWidget(label);
    }

  protected:
    /// Called when the panel comes into view and, while it is seen, after every change: panels out of sight
    /// do no work.
    virtual void refresh() = 0;
    void refresh_if_seen() {
        if (isVisible()) refresh();
    }
    void showEvent(QShowEvent* event) override {
        QWidget::showEvent(event);
        refresh();
    }
    QVBoxLayout* column() const { return column_; }
    void group(const QString& name) { group_in(column_, name); }

  private:
    QVBoxLayout* column_;
};

} // namespace porb::app
