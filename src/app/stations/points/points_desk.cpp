#include "app/stations/points/points_desk.h"

#include "app/widgets/theme.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QSortFilterProxyModel>
#include <QTableView>

namespace porb::app {

namespace {
enum Columns { number, moment, first, second, residual, correlation, distance, state };
}

void PointTable::show(const Shot* shot, const std::vector<PointFit>& fits) {
    beginResetModel();
    points_ = shot ? shot->calibration.points : Shared<ControlPoints>();
    fits_ = fits;
    endResetModel();
}

QVariant PointTable::headerData(int section, Qt::Orientation orientation, int role) const {
    static const char* const kNames[] = {"No.",         "Time",        "A",        "B",
                                         "Residual px", "Correlation", "Distance", "State"};
    if (orientation == Qt::Horizontal && role == Qt::DisplayRole) return kNames[section];
    return {};
}

QVariant PointTable::data(const QModelIndex& index, int role) const {
    const ControlPoint& p = (*points_)[std::size_t(index.row())];
    const PointFit& f = fits_[std::size_t(index.row())];
    if (role == Qt::TextAlignmentRole)
        return int((index.column() < state && index.column() != first && index.column() != second
                        ? Qt::AlignRight
                        : Qt::AlignLeft) |
                   Qt::AlignVCenter);
    if (role == Qt::ForegroundRole && !p.dropped.empty()) return colour::faint;
    if (role == Qt::ToolTipRole) return QString::fromStdString(text_of(p.dropped));
    const bool sort = role == Qt::UserRole;
    if (role != Qt::DisplayRole && !sort) return {};
    switch (index.column()) {
    case number:
        return p.id;
    case moment:
        return sort ? QVariant(p.time.to_double()) : QString::number(p.time.to_double(), 'f', 2);
    case first:
        return QString::fromStdString(p.a);
    case second:
        return QString::fromStdString(p.b);
    case residual:
        return sort ? QVariant(f.residual_px()) : QString::number(f.residual_px(), 'f', 2);
    case correlation:
        return sort ? QVariant(p.correlation) : QString::number(p.correlation, 'f', 2);
    case distance:
        return sort                 ? QVariant(f.inverse_m)
               : f.inverse_m > 0.01 ? QString::number(1 / f.inverse_m, 'f', 2) + " m"
                                    : QString("far");
    default:
        return p.dropped.empty() ? QString(p.by_hand ? "by hand" : "used")
                                 : "out: " + QString::fromStdString(words_of(p.dropped.reason));
    }
}

PointsDesk::PointsDesk(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setObjectName("points_desk");
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(4);
    auto* bar = new QHBoxLayout;
    bar->setContentsMargins(8, 4, 8, 0);
    a_ = new QComboBox;
    a_->setObjectName("pair_a");
    b_ = new QComboBox;
    b_->setObjectName("pair_b");
    filter_ = new QLineEdit;
    filter_->setObjectName("point_filter");
    filter_->setPlaceholderText("Filter: a camera, a time, used, out, by hand");
    filter_->setClearButtonEnabled(true);
    auto* out = new QPushButton("Leave out");
    auto* back = new QPushButton("Use again");
    auto* remove = new QPushButton("Remove");
    a_->setToolTip("Camera on the left");
    b_->setToolTip("Camera on the right");
    filter_->setToolTip("Shows the points whose row holds these words");
    out->setToolTip("Solves do without the points chosen in the table; they stay in it");
    back->setToolTip("Solves use the points chosen in the table again");
    remove->setToolTip("Takes the points chosen in the table away for good");
    for (QWidget* w : std::initializer_list<QWidget*>{a_, b_}) bar->addWidget(w);
    auto* hint =
        new QLabel("Click: set a point. Drag or arrow keys: move it. Return: refine. Wheel: magnify.");
    hint->setProperty("role", "hint");
    bar->addWidget(hint, 1);
    column->addLayout(bar);
    pair_ = new PairView(session_);
    column->addWidget(pair_, 3);
    auto* lower = new QHBoxLayout;
    lower->setContentsMargins(8, 0, 8, 6);
    auto* left = new QVBoxLayout;
    auto* tools = new QHBoxLayout;
    tools->addWidget(filter_, 1);
    tools->addWidget(out);
    tools->addWidget(back);
    tools->addWidget(remove);
    left->addLayout(tools);
    model_ = new PointTable(this);
    sorted_ = new QSortFilterProxyModel(this);
    sorted_->setSourceModel(model_);
    sorted_->setSortRole(Qt::UserRole);
    sorted_->setFilterKeyColumn(-1);
    sorted_->setFilterCaseSensitivity(Qt::CaseInsensitive);
    table_ = new QTableView;
    table_->setObjectName("point_table");
    table_->setModel(sorted_);
    table_->setSortingEnabled(true);
    table_->sortByColumn(residual, Qt::DescendingOrder);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->verticalHeader()->hide();
    table_->verticalHeader()->setDefaultSectionSize(20);
    table_->horizontalHeader()->setStretchLastSection(true);
    const int widths[] = {60, 66, 36, 36, 100, 96, 78}; // of the columns in their order but the last
    for (int c = 0; c < int(std::size(widths)); ++c) table_->setColumnWidth(c, widths[c]);
    left->addWidget(table_, 1);
    lower->addLayout(left, 1);
    plot_ = new ResidualPlot;
    plot_->setObjectName("residual_plot");
    plot_->setFixedWidth(250);
    lower->addWidget(plot_);
    column->addLayout(lower, 4);

    connect(filter_, &QLineEdit::textChanged, sorted_, &QSortFilterProxyModel::setFilterFixedString);
    connect(out, &QPushButton::clicked, this, [this] { drop_selected(true); });
    connect(back, &QPushButton::clicked, this, [this] { drop_selected(false); });
    connect(remove, &QPushButton::clicked, this, &PointsDesk::remove_selected);
    connect(table_->selectionModel(), &QItemSelectionModel::currentRowChanged, this,
            [this](const QModelIndex& now) {
                if (now.isValid()) pair_->show_point(model_->point(sorted_->mapToSource(now).row()).id);
            });
    const auto choose = [this] {
        if (a_->currentText() != b_->currentText())
            pair_->show_cameras(a_->currentText().toStdString(), b_->currentText().toStdString());
    };
    connect(a_, &QComboBox::activated, this, choose);
    connect(b_, &QComboBox::activated, this, choose);
    connect(pair_, &PairView::cameras_changed, this, [this] {
        if (const Shot* s = session_.shot())
            for (const auto& p : *s->calibration.points)
                if (p.id == pair_->point())
                    a_->setCurrentText(QString::fromStdString(p.a)),
                        b_->setCurrentText(QString::fromStdString(p.b));
    });
    connect(&session_, &Session::project_changed, this, [this] {
        if (isVisible()) refresh();
    });
}

void PointsDesk::showEvent(QShowEvent* event) {
    QWidget::showEvent(event);
    refresh();
}

void PointsDesk::refresh() {
    const Shot* shot = session_.shot();
    const auto& fits = session_.point_fits();
    // A reset loses the selection, so only when something of it has changed.
    if (shown_ != session_.fits_made()) {
        model_->show(shot, fits);
        plot_->show(shot, fits);
        shown_ = session_.fits_made();
    }
    if (!shot) return;
    QStringList ids;
    for (const auto& c : shot->rig.cameras) ids << QString::fromStdString(c.id);
    QStringList shown;
    for (int i = 0; i < a_->count(); ++i) shown << a_->itemText(i);
    if (ids != shown) {
        for (auto* box : {a_, b_}) box->clear(), box->addItems(ids);
        if (ids.size() > 1) b_->setCurrentIndex(1);
        if (ids.size() > 1) pair_->show_cameras(ids[0].toStdString(), ids[1].toStdString());
    }
}

std::vector<int> PointsDesk::selected_ids() const {
    std::vector<int> ids;
    for (const auto& i : table_->selectionModel()->selectedRows())
        ids.push_back(model_->point(sorted_->mapToSource(i).row()).id);
    return ids;
}

void PointsDesk::drop_selected(bool drop) {
    const auto ids = selected_ids();
    if (ids.empty()) return session_.say("Select points in the table first.");
    session_.edit_shot(drop ? "Leave points out" : "Use points again", [&](Shot& s) {
        s.calibration.points.edit([&](ControlPoints& list) {
            for (auto& p : list)
                if (std::find(ids.begin(), ids.end(), p.id) != ids.end())
                    p.dropped = drop ? Dropped{DropReason::by_hand} : Dropped();
        });
    });
}

void PointsDesk::remove_selected() {
    const auto ids = selected_ids();
    if (ids.empty()) return session_.say("Select points in the table first.");
    session_.edit_shot("Remove points", [&](Shot& s) {
        s.calibration.points.edit([&](ControlPoints& list) {
            std::erase_if(list, [&](const ControlPoint& p) {
                return std::find(ids.begin(), ids.end(), p.id) != ids.end();
            });
        });
    });
}

} // namespace porb::app
