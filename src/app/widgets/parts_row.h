#pragma once

#include <QBoxLayout>
#include <QButtonGroup>
#include <QPushButton>
#include <QStackedWidget>
#include <QToolButton>

#include <vector>

namespace porb::app {

struct PartName {
    QString name, tip;
};
/// The row of buttons that chooses a part of a station's panel; ids count from 0. Each button's object name
/// is `prefix` and its part's name.
inline QButtonGroup* add_parts(QVBoxLayout* column, const QString& prefix,
                               const std::vector<PartName>& names) {
    auto* row = new QHBoxLayout;
    row->setSpacing(2);
    auto* group = new QButtonGroup(row);
    for (int i = 0; i < int(names.size()); ++i) {
        auto* b = new QToolButton;
        b->setObjectName(prefix + names[std::size_t(i)].name.toLower());
        b->setText(names[std::size_t(i)].name);
        b->setToolTip(names[std::size_t(i)].tip);
        b->setCheckable(true);
        b->setProperty("role", "part");
        b->setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Fixed);
        group->addButton(b, i);
        row->addWidget(b);
    }
    group->button(0)->setChecked(true);
    column->addLayout(row);
    return group;
}

/// Shows a page; the others' sizes are of no account then, so that a tall one does not make all of them
/// scroll.
inline void show_page(QStackedWidget* pages, int index) {
    for (int i = 0; i < pages->count(); ++i) {
        const auto policy = i == index ? QSizePolicy::Preferred : QSizePolicy::Ignored;
        pages->widget(i)->setSizePolicy(policy, policy);
    }
    pages->setCurrentIndex(index);
}

/// A button with its name and tooltip, as wide as the others of its row.
inline QPushButton* add_button(QBoxLayout* row, const QString& text, const char* name, const QString& tip) {
    auto* button = new QPushButton(text);
    button->setObjectName(name);
    button->setToolTip(tip);
    row->addWidget(button, 1);
    return button;
}

} // namespace porb::app
