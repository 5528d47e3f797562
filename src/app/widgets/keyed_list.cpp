#include "app/widgets/keyed_list.h"

#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QPushButton>
#include <QSignalBlocker>

namespace porb::app {

NamedList::NamedList(const QString& what, const QString& about, QWidget* parent)
    : QTableWidget(0, 3, parent) {
    setHorizontalHeaderLabels({"On", what, about});
    verticalHeader()->hide();
    verticalHeader()->setDefaultSectionSize(25);
    for (const int column : {0, 1, 2})
        horizontalHeader()->setSectionResizeMode(column, column == 1 ? QHeaderView::Stretch
                                                                     : QHeaderView::ResizeToContents);
    setSelectionBehavior(QAbstractItemView::SelectRows);
    setSelectionMode(QAbstractItemView::SingleSelection);
    setEditTriggers(QAbstractItemView::DoubleClicked | QAbstractItemView::EditKeyPressed);
    setMinimumHeight(100);
    connect(this, &QTableWidget::itemSelectionChanged, this,
            [this] { emit selected(selectionModel()->hasSelection() ? currentRow() : -1); });
    connect(this, &QTableWidget::cellChanged, this, [this](int r, int column) {
        emit selected(r);
        if (column == 0) emit switched(r, item(r, 0)->checkState() == Qt::Checked);
        if (column == 1) emit renamed(r, item(r, 1)->text().trimmed());
    });
}

void NamedList::show_rows(const std::vector<Row>& rows, int selected) {
    const QSignalBlocker block(this);
    setRowCount(int(rows.size()));
    for (int r = 0; r < int(rows.size()); ++r) {
        const Row& row = rows[std::size_t(r)];
        const auto cell = [&](int column, const QString& text) {
            QTableWidgetItem* it = item(r, column);
            if (!it) setItem(r, column, it = new QTableWidgetItem);
            it->setText(text);
            return it;
        };
        auto* on = cell(0, "");
        on->setFlags(Qt::ItemIsEnabled | Qt::ItemIsUserCheckable | Qt::ItemIsSelectable);
        on->setCheckState(row.on ? Qt::Checked : Qt::Unchecked);
        cell(1, row.name);
        auto* word = cell(2, row.word);
        word->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable);
        word->setForeground(row.colour);
    }
    if (selected >= 0 && selected < rowCount())
        selectRow(selected);
    else
        clearSelection();
}

KeysRow::KeysRow(const QString& name, const QString& tip, QWidget* parent) : QWidget(parent) {
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(0, 0, 0, 0);
    words_ = new QLabel;
    words_->setObjectName(name + "_keys");
    button_ = new QPushButton("Key here");
    button_->setObjectName(name + "_key");
    button_->setToolTip(tip);
    row->addWidget(words_, 1);
    row->addWidget(button_);
    connect(button_, &QPushButton::clicked, this, &KeysRow::toggle_wanted);
}

void KeysRow::show_count(int keys, bool one_here) {
    words_->setText(keys == 1 ? "stays where it is"
                              : QString("%1 keys%2").arg(keys).arg(one_here ? ", one here" : ""));
    button_->setText(one_here && keys > 1 ? "Remove the key" : "Key here");
    button_->setEnabled(true);
}

void KeysRow::show_none(const QString& words) {
    words_->setText(words);
    button_->setText("Key here");
    button_->setEnabled(false);
}

} // namespace porb::app
