#include "app/points_desk.h"

#include "app/theme.h"
#include "base/angle.h"
#include "base/error.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QLabel>
#include <QLineEdit>
#include <QMouseEvent>
#include <QPainter>
#include <QPushButton>
#include <QSortFilterProxyModel>
#include <QTableView>

namespace porb::app {

namespace {
enum Columns { number, moment, first, second, miss, alike, distance, state };

int lens_index(const Shot& shot, const std::string& id) {
    for (std::size_t i = 0; i < shot.rig.cameras.size(); ++i)
        if (shot.rig.cameras[i].id == id) return int(i);
    return 0;
}
} // namespace

// ---- the table

void PointTable::show(const Shot* shot) {
    const Shared<ControlPoints> next = shot ? shot->points : Shared<ControlPoints>();
    const Rig rig = shot ? shot->rig : Rig{};
    if (next == points_ && rig == rig_) return;
    beginResetModel();
    points_ = next;
    rig_ = rig;
    fits_ = shot ? measure_points(*shot) : std::vector<PointFit>{};
    endResetModel();
}

QVariant PointTable::headerData(int section, Qt::Orientation orientation, int role) const {
    static const char* const kNames[] = {"No.", "Time", "A", "B", "Miss px", "Alike", "Distance", "State"};
    if (orientation == Qt::Horizontal && role == Qt::DisplayRole) return kNames[section];
    return {};
}

QVariant PointTable::data(const QModelIndex& index, int role) const {
    const ControlPoint& p = (*points_)[std::size_t(index.row())];
    const PointFit& f = fits_[std::size_t(index.row())];
    if (role == Qt::TextAlignmentRole) return int((index.column() < state && index.column() != first && index.column() != second ? Qt::AlignRight : Qt::AlignLeft) | Qt::AlignVCenter);
    if (role == Qt::ForegroundRole && !p.dropped.empty()) return colour::faint;
    if (role == Qt::ToolTipRole) return QString::fromStdString(p.dropped);
    const bool sort = role == Qt::UserRole;
    if (role != Qt::DisplayRole && !sort) return {};
    switch (index.column()) {
    case number: return p.id;
    case moment: return sort ? QVariant(p.time.to_double()) : QString::number(p.time.to_double(), 'f', 2);
    case first: return QString::fromStdString(p.a);
    case second: return QString::fromStdString(p.b);
    case miss: return sort ? QVariant(f.miss_px()) : QString::number(f.miss_px(), 'f', 2);
    case alike: return sort ? QVariant(p.likeness) : QString::number(p.likeness, 'f', 2);
    case distance: return sort ? QVariant(f.inverse_m) : f.inverse_m > 0.01 ? QString::number(1 / f.inverse_m, 'f', 2) + " m" : QString("far");
    default: return p.dropped.empty() ? QString(p.by_hand ? "by hand" : "used") : "out: " + QString::fromStdString(p.dropped).section(':', 0, 0);
    }
}

// ---- the pair

PairView::PairView(Session& session, QWidget* parent) : QWidget(parent), session_(session), service_(session.library()) {
    setObjectName("pair_view");
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setMinimumHeight(180);
    connect(&service_, &PictureService::ready, this, [this](const PictureAnswer& answer) {
        if (answer.number != number_ || answer.images.size() < 2) return;
        for (std::size_t i = 0; i < 2; ++i) {
            images_[i] = answer.images[i];
            shrink_[i] = images_[i].isNull() ? 1 : double(answer.full_sizes[i].width()) / images_[i].width();
        }
        update();
    });
    connect(&session_, &Session::playhead_changed, this, &PairView::ask);
    connect(&session_, &Session::project_changed, this, [this] { ask(); update(); });
    connect(&job_, &BackgroundJob::ended, this, [this](const QString& error, bool) {
        if (!error.isEmpty()) session_.say(error, Signal::care);
    });
}

void PairView::show_cameras(const std::string& a, const std::string& b) {
    if (a == cameras_[0] && b == cameras_[1]) return;
    cameras_[0] = a, cameras_[1] = b;
    point_ = 0;
    zoom_ = 0;
    ask();
    update();
}

const ControlPoint* PairView::found() const {
    if (!session_.shot()) return nullptr;
    for (const auto& p : *session_.shot()->points)
        if (p.id == point_) return &p;
    return nullptr;
}

void PairView::show_point(int id) {
    point_ = id;
    if (const ControlPoint* p = found()) {
        cameras_[0] = p->a, cameras_[1] = p->b;
        centre_[0] = p->a_px, centre_[1] = p->b_px;
        if (zoom_ < 3) zoom_ = 5;
        emit cameras_changed();
        if (session_.playhead() != p->time) session_.set_playhead(p->time);
    }
    ask();
    update();
}

void PairView::ask() {
    if (!isVisible() || !session_.shot() || cameras_[0].empty() || cameras_[1].empty()) return;
    PictureRequest r;
    r.project = session_.project();
    r.shot = session_.shot()->id;
    r.time = session_.playhead();
    r.cameras = {cameras_[0], cameras_[1]};
    r.longest_side = zoom_ > 0 ? 100000 : width();
    r.number = ++number_;
    service_.ask(std::move(r));
}

QRectF PairView::half(int side) const {
    const double w = (width() - 4) / 2.0;
    return {side * (w + 4), 0, w, double(height())};
}

QPointF PairView::widget_place(int side, const Vec2& px) const {
    const QRectF r = half(side);
    const Camera* c = session_.shot() ? find_camera(session_.shot()->rig, cameras_[side]) : nullptr;
    if (!c) return {};
    const double fit = std::min(r.width() / (2 * c->lens.circle.radius_px), r.height() / (2 * c->lens.circle.radius_px));
    const double z = zoom_ > 0 ? zoom_ : fit;
    const Vec2 middle = zoom_ > 0 ? centre_[side] : c->lens.circle.center_px;
    return {r.center().x() + (px.x() - middle.x()) * z, r.center().y() + (px.y() - middle.y()) * z};
}

Vec2 PairView::px_at(int side, const QPointF& at) const {
    const QPointF o = widget_place(side, {0, 0}), x = widget_place(side, {1, 0});
    const double z = std::max(1e-9, x.x() - o.x());
    return {(at.x() - o.x()) / z, (at.y() - o.y()) / z};
}

void PairView::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.fillRect(rect(), colour::surround);
    const Shot* shot = session_.shot();
    if (!shot || cameras_[0].empty()) {
        p.setPen(colour::muted);
        p.drawText(rect(), Qt::AlignCenter, "Choose two cameras that overlap, or click a point in the table.");
        return;
    }
    const ControlPoint* chosen = found();
    for (int side = 0; side < 2; ++side) {
        const QRectF r = half(side);
        p.save();
        p.setClipRect(r);
        const Camera* c = find_camera(shot->rig, cameras_[side]);
        if (!c) { p.restore(); continue; }
        const QPointF a = widget_place(side, {0, 0}), b = widget_place(side, {double(c->lens.width), double(c->lens.height)});
        p.setRenderHint(QPainter::SmoothPixmapTransform, zoom_ < 3);
        if (!images_[side].isNull()) p.drawImage(QRectF(a, b), images_[side]);
        p.setRenderHint(QPainter::Antialiasing);
        // Where the place of the other side must lie, for distances from infinity to half a metre.
        if (chosen) {
            const Eyepiece ea(shot->rig, std::size_t(lens_index(*shot, cameras_[1 - side])), nullptr), eb(shot->rig, std::size_t(lens_index(*shot, cameras_[side])), nullptr);
            QPolygonF arc;
            const double reach = 0.5;
            if (const auto d = ea.direction(side == 1 ? chosen->a_px : chosen->b_px))
                for (int i = 0; i <= 24; ++i)
                    if (const auto px = eb.sees((*d + double(i) / 24 / reach * (ea.position - eb.position)).normalized(), 0)) arc << widget_place(side, *px);
            p.setPen(QPen(colour::accent, 1, Qt::DotLine));
            p.drawPolyline(arc);
        }
        for (const auto& q : *shot->points) {
            if (q.time != session_.playhead()) continue;
            const bool here = q.a == cameras_[side] && q.b == cameras_[1 - side], turned = q.b == cameras_[side] && q.a == cameras_[1 - side];
            if (!here && !turned) continue;
            const QPointF at = widget_place(side, here ? q.a_px : q.b_px);
            if (!r.contains(at)) continue;
            const bool mine = q.id == point_;
            const double arm = mine ? 11 : 4;
            p.setPen(QPen(Qt::black, mine ? 3.4 : 2.6));
            p.drawLine(at - QPointF(arm, 0), at + QPointF(arm, 0)), p.drawLine(at - QPointF(0, arm), at + QPointF(0, arm));
            p.setPen(QPen(!q.dropped.empty() ? colour::stop : mine ? colour::accent : q.by_hand ? colour::care : colour::good, mine ? 1.6 : 1.2));
            p.drawLine(at - QPointF(arm, 0), at + QPointF(arm, 0)), p.drawLine(at - QPointF(0, arm), at + QPointF(0, arm));
        }
        const QString words = QString("%1%2").arg(QString::fromStdString(cameras_[side])).arg(zoom_ > 0 ? QString("   %1 ×").arg(zoom_, 0, 'f', 1) : "");
        const QRectF label(r.left() + 6, 6, p.fontMetrics().horizontalAdvance(words) + 12, 20);
        p.fillRect(label, QColor(0x1d, 0x1d, 0x1d, 200));
        p.setPen(colour::lens(lens_index(*shot, cameras_[side])));
        p.drawText(label, Qt::AlignCenter, words);
        if (hasFocus() && side == side_) {
            p.setPen(QPen(colour::accent, 1));
            p.setBrush(Qt::NoBrush);
            p.drawRect(r.adjusted(0.5, 0.5, -0.5, -0.5));
        }
        p.restore();
    }
}

void PairView::mousePressEvent(QMouseEvent* event) {
    setFocus();
    pressed_ = event->position();
    moved_ = false;
    held_ = -1;
    side_ = half(1).contains(pressed_) ? 1 : 0;
    const Shot* shot = session_.shot();
    if (!shot || event->button() != Qt::LeftButton) return;
    for (const auto& q : *shot->points) {
        if (q.time != session_.playhead()) continue;
        const bool here = q.a == cameras_[side_] && q.b == cameras_[1 - side_], turned = q.b == cameras_[side_] && q.a == cameras_[1 - side_];
        if (!here && !turned) continue;
        const QPointF d = widget_place(side_, here ? q.a_px : q.b_px) - pressed_;
        if (std::hypot(d.x(), d.y()) < 9) {
            held_ = q.id;
            if (point_ != q.id) {
                point_ = q.id;
                emit chosen(q.id);
            }
            break;
        }
    }
    update();
}

void PairView::mouseMoveEvent(QMouseEvent* event) {
    if (!(event->buttons() & (Qt::LeftButton | Qt::MiddleButton))) return;
    const QPointF by = event->position() - pressed_;
    if (!moved_ && std::hypot(by.x(), by.y()) < 4) return;
    moved_ = true;
    if (held_ >= 0 && held_ == point_) {
        move_place(side_, px_at(side_, event->position()), "drag-point");
    } else if (zoom_ > 0) {
        centre_[side_] -= Vec2(by.x(), by.y()) / zoom_;
        pressed_ = event->position();
        update();
    }
}

void PairView::mouseReleaseEvent(QMouseEvent* event) {
    if (moved_) session_.end_drag();
    else if (held_ < 0 && event->button() == Qt::LeftButton) propose(side_, px_at(side_, event->position()));
    held_ = -1;
}

void PairView::wheelEvent(QWheelEvent* event) {
    const int side = half(1).contains(event->position()) ? 1 : 0;
    const Shot* shot = session_.shot();
    const Camera* c = shot ? find_camera(shot->rig, cameras_[side]) : nullptr;
    if (!c) return;
    const Vec2 under = px_at(side, event->position());
    const double fit = std::min(half(0).width(), half(0).height()) / (2 * c->lens.circle.radius_px);
    if (zoom_ <= 0) {
        zoom_ = fit;
        for (int i = 0; i < 2; ++i)
            if (const Camera* k = find_camera(shot->rig, cameras_[i])) centre_[i] = k->lens.circle.center_px;
    }
    const double next = zoom_ * std::pow(1.2, event->angleDelta().y() / 120.0);
    if (next <= fit) {
        zoom_ = 0;
    } else {
        zoom_ = std::min(next, 24.0);
        const QPointF d = event->position() - half(side).center();
        centre_[side] = under - Vec2(d.x(), d.y()) / zoom_;
    }
    ask();
    update();
    event->accept();
}

void PairView::keyPressEvent(QKeyEvent* event) {
    const ControlPoint* p = found();
    const double step = event->modifiers() & Qt::ShiftModifier ? 1.0 : 0.1;
    Vec2 by(0, 0);
    switch (event->key()) {
    case Qt::Key_Left: by.x() = -step; break;
    case Qt::Key_Right: by.x() = step; break;
    case Qt::Key_Up: by.y() = -step; break;
    case Qt::Key_Down: by.y() = step; break;
    case Qt::Key_Delete:
        if (p) session_.edit_shot("Remove a point", [id = point_](Shot& s) { s.points.edit([&](ControlPoints& l) { std::erase_if(l, [&](const ControlPoint& q) { return q.id == id; }); }); });
        return;
    default: return QWidget::keyPressEvent(event);
    }
    if (!p) return;
    const bool as_a = p->a == cameras_[side_];
    move_place(side_, (as_a ? p->a_px : p->b_px) + by, "nudge-point");
}

void PairView::move_place(int side, const Vec2& px, const QString& key) {
    session_.edit_shot("Move a point", [&, id = point_](Shot& s) {
        s.points.edit([&](ControlPoints& list) {
            for (auto& q : list)
                if (q.id == id) (q.a == cameras_[side] ? q.a_px : q.b_px) = px, q.by_hand = true, q.dropped.clear();
        });
    }, key);
}

void PairView::propose(int side, const Vec2& px) {
    const Shot* shot = session_.shot();
    if (!shot || job_.is_running()) return;
    job_.start([this, project = session_.project(), id = shot->id, time = session_.playhead(), a = cameras_[side], b = cameras_[1 - side], px,
                library = session_.library()](const BackgroundJob::Tell&, const Cancel&) -> BackgroundJob::Finish {
        const ControlPoint p = propose_point(*project, *find_shot(*project, id), *library, time, a, px, b);
        return [this, p, id] {
            if (!session_.shot() || session_.shot()->id != id) return;
            session_.edit_shot("Set a point", [&](Shot& s) { s.points.edit([&](ControlPoints& list) { list.push_back(p); }); });
            point_ = p.id;
            emit chosen(p.id);
            session_.say(QString("Point %1 set: the two pictures are alike to %2. Drag or nudge it where it is not right.").arg(p.id).arg(p.likeness, 0, 'f', 2));
        };
    });
}

// ---- the plots

void MissPlot::show(const Shot* shot, const std::vector<PointFit>& fits) {
    misses_.clear();
    by_angle_.clear();
    pairs_.clear();
    cameras_.clear();
    if (shot) {
        pairs_ = report_on(*shot, fits).pairs;
        for (const auto& c : shot->rig.cameras) cameras_.push_back(c.id);
        std::vector<Eyepiece> eyes;
        for (std::size_t c = 0; c < shot->rig.cameras.size(); ++c) eyes.emplace_back(shot->rig, c, nullptr);
        const std::size_t every = std::max<std::size_t>(1, fits.size() / 3000);
        for (std::size_t i = 0; i < fits.size(); ++i) {
            const ControlPoint& p = (*shot->points)[i];
            if (!p.dropped.empty()) continue;
            misses_.push_back(fits[i].miss_px());
            if (i % every) continue;
            const Eyepiece& eye = eyes[std::size_t(lens_index(*shot, p.a))];
            const Vec2 out = p.a_px - eye.lens.center_px;
            if (const auto d = eye.map.unproject(p.a_px)) by_angle_.emplace_back(degrees(std::acos(std::clamp(d->z(), -1.0, 1.0))), fits[i].miss_a.dot(out) / std::max(1e-9, out.norm()));
        }
        std::sort(misses_.begin(), misses_.end());
    }
    update();
}

void MissPlot::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.fillRect(rect(), colour::field);
    p.setRenderHint(QPainter::Antialiasing);
    QFont small = font();
    small.setPixelSize(10);
    p.setFont(small);
    if (misses_.empty()) {
        p.setPen(colour::muted);
        p.drawText(rect(), Qt::AlignCenter, "No points yet");
        return;
    }
    const double third = height() * 0.29;
    // How many points miss by how much.
    const double most = std::max(0.05, misses_[std::size_t(0.99 * double(misses_.size() - 1))]);
    constexpr int kBars = 30;
    std::vector<int> bars(kBars, 0);
    for (const double m : misses_) ++bars[std::size_t(std::min(kBars - 1, int(m / most * kBars)))];
    const int top = *std::max_element(bars.begin(), bars.end());
    const QRectF hist(8, 18, width() - 16, third - 34);
    p.setPen(colour::muted);
    p.drawText(QPointF(8, 13), "points by miss, px");
    for (int i = 0; i < kBars; ++i) {
        const double h = hist.height() * bars[std::size_t(i)] / top;
        p.fillRect(QRectF(hist.left() + hist.width() * i / kBars, hist.bottom() - h, hist.width() / kBars - 1, h), colour::accent);
    }
    p.drawText(QRectF(hist.left(), hist.bottom() + 1, hist.width(), 13), Qt::AlignLeft, "0");
    p.drawText(QRectF(hist.left(), hist.bottom() + 1, hist.width(), 13), Qt::AlignRight, QString::number(most, 'f', 2));
    // Outward or inward against the angle from the axis.
    const QRectF plot(8, third + 18, width() - 16, third - 34);
    p.drawText(QPointF(8, third + 13), "outward miss by angle from the axis");
    double widest = 1, tall = 0.05;
    std::vector<double> sizes;
    for (const auto& [a, m] : by_angle_) widest = std::max(widest, a), sizes.push_back(std::abs(m));
    std::sort(sizes.begin(), sizes.end());
    if (!sizes.empty()) tall = std::max(tall, sizes[std::size_t(0.98 * double(sizes.size() - 1))]);
    p.setPen(colour::line);
    p.drawLine(QPointF(plot.left(), plot.center().y()), QPointF(plot.right(), plot.center().y()));
    p.setPen(Qt::NoPen);
    p.setBrush(colour::good);
    for (const auto& [a, m] : by_angle_)
        if (std::abs(m) <= tall) p.drawEllipse(QPointF(plot.left() + a / widest * plot.width(), plot.center().y() - m / tall * plot.height() / 2), 1.1, 1.1);
    p.setPen(colour::muted);
    p.drawText(QRectF(plot.left(), plot.bottom() + 1, plot.width(), 13), Qt::AlignRight, QString("%1°").arg(widest, 0, 'f', 0));
    p.drawText(QRectF(plot.left(), plot.bottom() + 1, plot.width(), 13), Qt::AlignLeft, QString("±%1 px").arg(tall, 0, 'f', 2));
    // Pair by pair.
    const double n = double(cameras_.size());
    const QRectF grid(26, 2 * third + 30, width() - 34, height() - 2 * third - 36);
    p.drawText(QPointF(8, 2 * third + 13), "RMS of each pair, px");
    const double w = grid.width() / n, h = grid.height() / n;
    for (std::size_t i = 0; i < cameras_.size(); ++i) {
        p.setPen(colour::muted);
        p.drawText(QRectF(grid.left() + double(i) * w, grid.top() - 13, w, 12), Qt::AlignCenter, QString::fromStdString(cameras_[i]));
        p.drawText(QRectF(2, grid.top() + double(i) * h, 22, h), Qt::AlignCenter, QString::fromStdString(cameras_[i]));
    }
    double worst = 1e-9;
    for (const auto& pair : pairs_) worst = std::max(worst, pair.rms_px);
    for (const auto& pair : pairs_)
        for (std::size_t i = 0; i < cameras_.size(); ++i)
            for (std::size_t k = 0; k < cameras_.size(); ++k)
                if ((pair.a == cameras_[i] && pair.b == cameras_[k]) || (pair.b == cameras_[i] && pair.a == cameras_[k])) {
                    const QRectF cell(grid.left() + double(k) * w, grid.top() + double(i) * h, w - 1, h - 1);
                    QColor c = colour::accent;
                    c.setAlphaF(float(0.15 + 0.5 * pair.rms_px / worst));
                    p.fillRect(cell, c);
                    p.setPen(colour::text);
                    if (w > 24 && h > 10) p.drawText(cell, Qt::AlignCenter, QString::number(pair.rms_px, 'f', 2));
                }
}

// ---- the desk

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
    for (QWidget* w : std::initializer_list<QWidget*>{a_, b_}) bar->addWidget(w);
    auto* hint = new QLabel("Click: set a point. Drag or arrow keys: move it. Wheel: magnify.");
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
    table_->sortByColumn(miss, Qt::DescendingOrder);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->verticalHeader()->hide();
    table_->verticalHeader()->setDefaultSectionSize(20);
    table_->horizontalHeader()->setStretchLastSection(true);
    for (int c = 0; c < 7; ++c) table_->setColumnWidth(c, c == first || c == second ? 34 : 66);
    left->addWidget(table_, 1);
    lower->addLayout(left, 1);
    plot_ = new MissPlot;
    plot_->setObjectName("miss_plot");
    plot_->setFixedWidth(250);
    lower->addWidget(plot_);
    column->addLayout(lower, 4);

    connect(filter_, &QLineEdit::textChanged, sorted_, &QSortFilterProxyModel::setFilterFixedString);
    connect(out, &QPushButton::clicked, this, [this] { drop_selected(true); });
    connect(back, &QPushButton::clicked, this, [this] { drop_selected(false); });
    connect(remove, &QPushButton::clicked, this, &PointsDesk::remove_selected);
    connect(table_->selectionModel(), &QItemSelectionModel::currentRowChanged, this, [this](const QModelIndex& now) {
        if (now.isValid()) pair_->show_point(model_->point(sorted_->mapToSource(now).row()).id);
    });
    const auto choose = [this] {
        if (a_->currentText() != b_->currentText()) pair_->show_cameras(a_->currentText().toStdString(), b_->currentText().toStdString());
    };
    connect(a_, &QComboBox::activated, this, choose);
    connect(b_, &QComboBox::activated, this, choose);
    connect(pair_, &PairView::cameras_changed, this, [this] {
        if (const Shot* s = session_.shot())
            for (const auto& p : *s->points)
                if (p.id == pair_->point()) a_->setCurrentText(QString::fromStdString(p.a)), b_->setCurrentText(QString::fromStdString(p.b));
    });
    connect(&session_, &Session::project_changed, this, [this] { if (isVisible()) refresh(); });
}

void PointsDesk::showEvent(QShowEvent* event) {
    QWidget::showEvent(event);
    refresh();
}

void PointsDesk::refresh() {
    const Shot* shot = session_.shot();
    model_->show(shot);
    plot_->show(shot, model_->fits());
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
    for (const auto& i : table_->selectionModel()->selectedRows()) ids.push_back(model_->point(sorted_->mapToSource(i).row()).id);
    return ids;
}

void PointsDesk::drop_selected(bool drop) {
    const auto ids = selected_ids();
    if (ids.empty()) return session_.say("Select points in the table first.");
    session_.edit_shot(drop ? "Leave points out" : "Use points again", [&](Shot& s) {
        s.points.edit([&](ControlPoints& list) {
            for (auto& p : list)
                if (std::find(ids.begin(), ids.end(), p.id) != ids.end()) p.dropped = drop ? "by hand" : "";
        });
    });
}

void PointsDesk::remove_selected() {
    const auto ids = selected_ids();
    if (ids.empty()) return session_.say("Select points in the table first.");
    session_.edit_shot("Remove points", [&](Shot& s) {
        s.points.edit([&](ControlPoints& list) { std::erase_if(list, [&](const ControlPoint& p) { return std::find(ids.begin(), ids.end(), p.id) != ids.end(); }); });
    });
}

} // namespace porb::app
