#include "app/shell/shortcut_sheet.h"

#include "app/widgets/theme.h"

#include <QAction>
#include <QGuiApplication>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QScreen>
#include <QScrollArea>
#include <QVBoxLayout>

namespace porb::app {

namespace {
constexpr int kColumns = 3, kWidth = 1080, kHeight = 640, kKeyWidth = 116;

QWidget* line_of(const QAction& action) {
    auto* line = new QWidget;
    auto* row = new QHBoxLayout(line);
    row->setContentsMargins(0, 1, 0, 1);
    auto* key = new QLabel(action.shortcut().toString(QKeySequence::NativeText));
    key->setFixedWidth(kKeyWidth);
    key->setStyleSheet(QString("color: %1; font-weight: 600;").arg(colour::accent.name()));
    auto* name = new QLabel(action.text().remove('&'));
    name->setWordWrap(true);
    row->addWidget(key, 0, Qt::AlignTop);
    row->addWidget(name, 1);
    return line;
}
} // namespace

ShortcutSheet::ShortcutSheet(const QList<QAction*>& actions, QWidget* parent) : QDialog(parent) {
    setObjectName("shortcut_sheet");
    setWindowTitle("Keyboard shortcuts");
    const QSize screen = QGuiApplication::primaryScreen()->availableSize();
    resize(std::min(kWidth, screen.width() - 40), std::min(kHeight, screen.height() - 80));
    auto* column = new QVBoxLayout(this);
    auto* search = new QLineEdit;
    search->setObjectName("shortcut_search");
    search->setPlaceholderText("Search, also by other words: mask, ghost, horizon…");
    column->addWidget(search);
    auto* sheet = new QWidget;
    auto* columns = new QHBoxLayout(sheet);
    columns->setSpacing(26);
    QVBoxLayout* beside[kColumns];
    for (auto*& c : beside) {
        c = new QVBoxLayout;
        c->setSpacing(0);
        columns->addLayout(c, 1);
    }

    QStringList names;
    for (QAction* a : actions)
        if (const QString g = a->property("group").toString(); !a->shortcut().isEmpty() && !names.contains(g))
            names << g;
    int heights[kColumns] = {};
    for (const QString& name : names) {
        // Each group goes where there is most room, so that columns end about alike.
        const auto shortest = std::min_element(std::begin(heights), std::end(heights)) - std::begin(heights);
        auto* head = new QLabel(name.toUpper());
        head->setProperty("role", "group");
        beside[shortest]->addWidget(head);
        groups_ << head;
        heights[shortest] += 2;
        for (QAction* a : actions) {
            if (a->property("group").toString() != name || a->shortcut().isEmpty()) continue;
            QWidget* line = line_of(*a);
            beside[shortest]->addWidget(line);
            rows_ << Row{line, name + " " + a->text().remove('&') + " " + a->property("also").toString(),
                         int(groups_.size()) - 1};
            ++heights[shortest];
        }
    }
    for (auto* c : beside) c->addStretch(1);
    auto* scroll = new QScrollArea;
    scroll->setWidgetResizable(true);
    scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setWidget(sheet);
    column->addWidget(scroll, 1);
    nothing_ = new QLabel("No key does that. Ctrl+Space finds commands without a key, too.");
    nothing_->setProperty("role", "hint");
    nothing_->hide();
    column->addWidget(nothing_);
    auto* hint =
        new QLabel("In the picture: drag to look or level, wheel to zoom or change the field of view; arrow "
                   "keys, + and − do the same. Numbers are typed, dragged sideways (Shift: finely) or "
                   "stepped with the arrow keys.");
    hint->setProperty("role", "hint");
    hint->setWordWrap(true);
    column->addWidget(hint);
    connect(search, &QLineEdit::textChanged, this, &ShortcutSheet::filter);
    search->setFocus();
}

void ShortcutSheet::filter(const QString& text) {
    const QStringList words = text.split(' ', Qt::SkipEmptyParts);
    QList<bool> any(groups_.size(), false);
    bool anything = false;
    for (const Row& row : rows_) {
        const bool fits = std::all_of(words.begin(), words.end(), [&](const QString& w) {
            return row.words.contains(w, Qt::CaseInsensitive);
        });
        row.line->setVisible(fits);
        any[row.group] = any[row.group] || fits;
        anything = anything || fits;
    }
    for (int i = 0; i < groups_.size(); ++i) groups_[i]->setVisible(any[i]);
    nothing_->setVisible(!anything);
}

} // namespace porb::app
