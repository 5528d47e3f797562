#include "app/shell/command_palette.h"

#include <QKeyEvent>
#include <QLineEdit>
#include <QListWidget>
#include <QVBoxLayout>

namespace porb::app {

CommandPalette::CommandPalette(const QList<QAction*>& actions, QWidget* parent)
    : QDialog(parent, Qt::Popup), actions_(actions) {
    setObjectName("command_palette");
    setFixedSize(460, 340);
    auto* column = new QVBoxLayout(this);
    line_ = new QLineEdit;
    line_->setObjectName("command_line");
    line_->setPlaceholderText("What do you want to do?");
    list_ = new QListWidget;
    column->addWidget(line_);
    column->addWidget(list_);
    line_->installEventFilter(this);
    connect(line_, &QLineEdit::textChanged, this, &CommandPalette::filter);
    connect(line_, &QLineEdit::returnPressed, this, &CommandPalette::run);
    connect(list_, &QListWidget::itemActivated, this, &CommandPalette::run);
    connect(list_, &QListWidget::itemClicked, this, &CommandPalette::run);
    filter({});
    line_->setFocus();
}

void CommandPalette::filter(const QString& text) {
    list_->clear();
    const QStringList words = text.split(' ', Qt::SkipEmptyParts);
    for (QAction* a : actions_) {
        const QString name = a->text().remove('&');
        // Its own words, its station's, and others that the trade has for it.
        const QString known =
            name + " " + a->property("group").toString() + " " + a->property("also").toString();
        if (!std::all_of(words.begin(), words.end(),
                         [&](const QString& w) { return known.contains(w, Qt::CaseInsensitive); }))
            continue;
        auto* item = new QListWidgetItem(
            name + (a->shortcut().isEmpty() ? "" : "    " + a->shortcut().toString(QKeySequence::NativeText)),
            list_);
        item->setData(Qt::UserRole, QVariant::fromValue(static_cast<void*>(a)));
        if (!a->isEnabled()) item->setFlags(Qt::NoItemFlags);
    }
    if (list_->count() == 0)
        (new QListWidgetItem("Nothing is called that. Try another word, or fewer letters.", list_))
            ->setFlags(Qt::NoItemFlags);
    list_->setCurrentRow(0);
}

void CommandPalette::run() {
    auto* item = list_->currentItem();
    if (!item || !(item->flags() & Qt::ItemIsEnabled)) return;
    auto* action = static_cast<QAction*>(item->data(Qt::UserRole).value<void*>());
    accept();
    action->trigger();
}

bool CommandPalette::eventFilter(QObject* object, QEvent* event) {
    if (object == line_ && event->type() == QEvent::KeyPress) {
        const int key = static_cast<QKeyEvent*>(event)->key();
        if (key == Qt::Key_Down || key == Qt::Key_Up) {
            list_->setCurrentRow(
                std::clamp(list_->currentRow() + (key == Qt::Key_Down ? 1 : -1), 0, list_->count() - 1));
            return true;
        }
    }
    return QDialog::eventFilter(object, event);
}

} // namespace porb::app
