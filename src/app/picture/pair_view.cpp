#include "app/picture/pair_view.h"

#include "app/widgets/arrow_keys.h"
#include "app/widgets/theme.h"
#include "solve/pictures/grey.h"
#include "solve/pictures/matching.h"
#include "solve/points.h"

#include <QMouseEvent>
#include <QPainter>

namespace porb::app {

namespace {
constexpr double kPointGripPx = 9, kNearestM = 0.5;

std::size_t index_in(const Rig& rig, const Camera* camera) {
    return std::size_t(camera - rig.cameras.data());
}
} // namespace

PairView::PairView(Session& session, QWidget* parent)
    : QWidget(parent), session_(session), service_(session.library()) {
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
    connect(&session_, &Session::project_changed, this, [this] {
        ask();
        update();
    });
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
    for (const auto& p : *session_.shot()->calibration.points)
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
    const double fit =
        std::min(r.width() / (2 * c->lens.circle.radius_px), r.height() / (2 * c->lens.circle.radius_px));
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
        p.drawText(rect(), Qt::AlignCenter,
                   "Choose two cameras that overlap, or click a point in the table.");
        return;
    }
    const ControlPoint* chosen = found();
    for (int side = 0; side < 2; ++side) {
        const QRectF r = half(side);
        p.save();
        p.setClipRect(r);
        const Camera *c = find_camera(shot->rig, cameras_[side]),
                     *other = find_camera(shot->rig, cameras_[1 - side]);
        if (!c) {
            p.restore();
            continue;
        }
        const QPointF a = widget_place(side, {0, 0}),
                      b = widget_place(side, {double(c->lens.width), double(c->lens.height)});
        p.setRenderHint(QPainter::SmoothPixmapTransform, zoom_ < 3);
        if (!images_[side].isNull()) p.drawImage(QRectF(a, b), images_[side]);
        p.setRenderHint(QPainter::Antialiasing);
        // Where the place of the other side must lie, for distances from infinity to half a metre.
        if (chosen && other) {
            const Eyepiece from(shot->rig, index_in(shot->rig, other), nullptr),
                to(shot->rig, index_in(shot->rig, c), nullptr);
            QPolygonF arc;
            for (const auto& px : epipolar_arc(from, to, side == 1 ? chosen->a_px : chosen->b_px, kNearestM))
                arc << widget_place(side, px);
            p.setPen(QPen(colour::accent, 1, Qt::DotLine));
            p.drawPolyline(arc);
        }
        for (const auto& q : *shot->calibration.points) {
            if (q.time != session_.playhead()) continue;
            const bool here = q.a == cameras_[side] && q.b == cameras_[1 - side],
                       turned = q.b == cameras_[side] && q.a == cameras_[1 - side];
            if (!here && !turned) continue;
            const QPointF at = widget_place(side, here ? q.a_px : q.b_px);
            if (!r.contains(at)) continue;
            const bool mine = q.id == point_;
            const double arm = mine ? 11 : 4;
            p.setPen(QPen(Qt::black, mine ? 3.4 : 2.6));
            p.drawLine(at - QPointF(arm, 0), at + QPointF(arm, 0)),
                p.drawLine(at - QPointF(0, arm), at + QPointF(0, arm));
            p.setPen(QPen(!q.dropped.empty() ? colour::stop
                          : mine             ? colour::accent
                          : q.by_hand        ? colour::care
                                             : colour::good,
                          mine ? 1.6 : 1.2));
            p.drawLine(at - QPointF(arm, 0), at + QPointF(arm, 0)),
                p.drawLine(at - QPointF(0, arm), at + QPointF(0, arm));
        }
        const QString words = QString("%1%2")
                                  .arg(QString::fromStdString(cameras_[side]))
                                  .arg(zoom_ > 0 ? QString("   %1 ×").arg(zoom_, 0, 'f', 1) : "");
        const QRectF label(r.left() + 6, 6, p.fontMetrics().horizontalAdvance(words) + 12, 20);
        p.fillRect(label, QColor(0x1d, 0x1d, 0x1d, 200));
        p.setPen(colour::lens(int(index_in(shot->rig, c))));
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
    for (const auto& q : *shot->calibration.points) {
        if (q.time != session_.playhead()) continue;
        const bool here = q.a == cameras_[side_] && q.b == cameras_[1 - side_],
                   turned = q.b == cameras_[side_] && q.a == cameras_[1 - side_];
        if (!here && !turned) continue;
        const QPointF d = widget_place(side_, here ? q.a_px : q.b_px) - pressed_;
        if (std::hypot(d.x(), d.y()) < kPointGripPx) {
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
    if (moved_)
        session_.end_drag();
    else if (held_ < 0 && event->button() == Qt::LeftButton)
        propose(side_, px_at(side_, event->position()));
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
    switch (event->key()) {
    case Qt::Key_Return:
    case Qt::Key_Enter:
        if (p) refine(*p);
        return;
    case Qt::Key_Delete:
        if (p)
            session_.edit_shot("Remove a point", [id = point_](Shot& s) {
                s.calibration.points.edit([&](ControlPoints& l) {
                    std::erase_if(l, [&](const ControlPoint& q) { return q.id == id; });
                });
            });
        return;
    default:
        break;
    }
    const auto arrow = arrow_of(*event);
    if (!arrow) return QWidget::keyPressEvent(event);
    if (!p) return;
    const Vec2 by = (event->modifiers() & Qt::ShiftModifier ? 1.0 : 0.1) * *arrow;
    const bool as_a = p->a == cameras_[side_];
    move_place(side_, (as_a ? p->a_px : p->b_px) + by, "nudge-point");
}

void PairView::move_place(int side, const Vec2& px, const QString& key) {
    session_.edit_shot(
        "Move a point",
        [&, id = point_](Shot& s) {
            s.calibration.points.edit([&](ControlPoints& list) {
                for (auto& q : list)
                    if (q.id == id)
                        (q.a == cameras_[side] ? q.a_px : q.b_px) = px, q.by_hand = true, q.dropped.clear();
            });
        },
        key);
}

void PairView::propose(int side, const Vec2& px) {
    const Shot* shot = session_.shot();
    if (!shot || job_.is_running()) return;
    job_.start([this, project = session_.project(), id = shot->id, time = session_.playhead(),
                a = cameras_[side], b = cameras_[1 - side], px, library = session_.library()](
                   const BackgroundJob::Tell&, const Cancel&) -> BackgroundJob::Finish {
        const ControlPoint p = propose_point(*project, *find_shot(*project, id), *library, time, a, px, b);
        return [this, p, id] {
            if (!session_.shot() || session_.shot()->id != id) return;
            session_.edit_shot("Set a point", [&](Shot& s) {
                s.calibration.points.edit([&](ControlPoints& list) { list.push_back(p); });
            });
            point_ = p.id;
            emit chosen(p.id);
            session_.say(
                QString(
                    "Point %1 set: the two pictures are alike to %2. Drag or nudge it where it is not right.")
                    .arg(p.id)
                    .arg(p.correlation, 0, 'f', 2));
        };
    });
}

void PairView::refine(const ControlPoint& point) {
    const Shot* shot = session_.shot();
    if (!shot || job_.is_running()) return;
    job_.start([this, project = session_.project(), id = shot->id, point, library = session_.library()](
                   const BackgroundJob::Tell&, const Cancel&) -> BackgroundJob::Finish {
        const ControlPoint p = propose_point(*project, *find_shot(*project, id), *library, point.time,
                                             point.a, point.a_px, point.b, point.b_px);
        return [this, p, point, id] {
            if (!session_.shot() || session_.shot()->id != id) return;
            if (p.correlation <= 0)
                return session_.say(
                    "The two pictures differ too much there to refine it. Move it nearer by hand.",
                    Signal::care);
            session_.edit_shot("Refine a point", [&](Shot& s) {
                s.calibration.points.edit([&](ControlPoints& list) {
                    for (auto& q : list)
                        if (q.id == point.id) q.b_px = p.b_px, q.correlation = p.correlation;
                });
            });
            session_.say(QString("Point %1 moved by %2 px; the two pictures are alike to %3.")
                             .arg(point.id)
                             .arg((p.b_px - point.b_px).norm(), 0, 'f', 2)
                             .arg(p.correlation, 0, 'f', 2));
        };
    });
}

} // namespace porb::app
