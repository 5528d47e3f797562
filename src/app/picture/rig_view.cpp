#include "app/picture/rig_view.h"

#include "app/widgets/arrow_keys.h"
#include "app/widgets/theme.h"
#include "base/angle.h"
#include "stitch/plan/coverage.h"

#include <QMouseEvent>
#include <QPainter>

namespace porb::app {

namespace {
constexpr double kBodyShell =
    0.34; ///< where cameras are drawn, in sphere radii: real distances are too small to see
constexpr double kConeLength = 0.3;
constexpr double kPickPx = 22;
constexpr int kRingPoints = 48, kGridRings = 5;
} // namespace

QColor coverage_colour(int lenses) {
    // Apart in lightness as well as in hue.
    switch (std::min(lenses, 3)) {
    case 0:
        return {0xe0, 0x6c, 0x4f};
    case 1:
        return {0x5c, 0x60, 0x66};
    case 2:
        return {0x7f, 0xb8, 0xd8};
    default:
        return {0xdf, 0xee, 0xf2};
    }
}

RigView::RigView(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setObjectName("rig_view");
    setAccessibleName("Rig in three dimensions");
    setFocusPolicy(Qt::StrongFocus);
    setMinimumSize(320, 180);
    setToolTip("Drag to turn, right drag to pan, wheel to zoom, click a camera to choose it");
    const auto look = [this] {
        if (isVisible()) look_again();
    };
    connect(&session_, &Session::project_changed, this, look);
    connect(&session_, &Session::selection_changed, this, qOverload<>(&QWidget::update));
}

void RigView::reset_look() {
    yaw_ = 32, pitch_ = 24, zoom_ = 1;
    pan_ = {0, 0};
    update();
}

void RigView::showEvent(QShowEvent*) {
    look_again();
}

void RigView::look_again() {
    update();
    const Shot* shot = session_.shot();
    if (!shot) return;
    View view;
    view.target = equirect_target(3840);
    PlanKey key = in_rig_axes(plan_key(*shot, view, shot->timing.in, Sources::all));
    key.agree_distance_m = 0;
    if (key_ == key) return;
    key_ = key;
    report_ = coverage_report(*shot);
    const Coverage coverage(key);
    sphere_.clear();
    for (int lat = -80; lat <= 80; lat += 8) {
        const int count = std::max(4, int(60 * std::cos(radians(lat))));
        for (int i = 0; i < count; ++i) {
            const double lon = 2 * kPi * i / count, la = radians(lat);
            const Vec3 d(std::cos(la) * std::sin(lon), -std::sin(la), std::cos(la) * std::cos(lon));
            sphere_.push_back({d, coverage.lenses_at(d)});
        }
    }
}

RigView::Seen RigView::seen(const Vec3& place) const {
    const Vec3 v = rotation_of({0, -pitch_, 0}) * rotation_of({yaw_, 0, 0}) * place;
    const double distance = 3.4 + v.z();
    const double scale = 1.22 * std::min(width() * 0.78, double(height())) * zoom_ / distance;
    return {{width() * 0.42 + pan_.x() + scale * v.x(), height() * 0.5 + pan_.y() + scale * v.y()}, v.z()};
}

Vec3 RigView::place_of(const Camera& camera) const {
    double farthest = 1e-6;
    for (const auto& c : session_.shot()->rig.cameras)
        farthest = std::max(farthest, c.pose.position_m.norm());
    if (farthest < 1e-4) return rotation_of(camera.pose.turn) * Vec3(0, 0, kBodyShell * 0.4);
    return camera.pose.position_m * (kBodyShell / farthest);
}

QPointF RigView::body_of(std::size_t camera) const {
    return seen(place_of(session_.shot()->rig.cameras[camera])).at;
}

void RigView::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.fillRect(rect(), colour::surround);
    p.setRenderHint(QPainter::Antialiasing);
    const Shot* shot = session_.shot();
    if (!shot) {
        p.setPen(colour::muted);
        p.drawText(rect(), Qt::AlignCenter, "No rig yet. Gather the files of a take first.");
        return;
    }
    const auto dots = [&](bool far_side) {
        p.setPen(Qt::NoPen);
        for (const auto& [d, lenses] : sphere_) {
            const Seen s = seen(d);
            if ((s.depth > 0) != far_side) continue;
            QColor c = coverage_colour(lenses);
            c.setAlpha(far_side ? 90 : lenses == 0 ? 245 : 190);
            p.setBrush(c);
            const double r = lenses == 0 ? 3.4 : 2.1;
            if (lenses == 0)
                p.drawRect(QRectF(s.at.x() - r, s.at.y() - r, 2 * r, 2 * r));
            else
                p.drawEllipse(s.at, r, r);
        }
    };
    dots(true);
    // The floor: rings about the stand, with ahead marked.
    p.setBrush(Qt::NoBrush);
    for (int ring = 1; ring <= kGridRings; ++ring) {
        QPolygonF line;
        for (int i = 0; i <= 96; ++i) {
            const double a = 2 * kPi * i / 96, r = 0.2 * ring;
            line << seen(Vec3(r * std::sin(a), 0.62, r * std::cos(a))).at;
        }
        p.setPen(QPen(colour::line, ring == kGridRings ? 1.4 : 0.8));
        p.drawPolyline(line);
    }
    p.setPen(QPen(colour::faint, 1, Qt::DashLine));
    p.drawLine(seen(Vec3(0, 0.62, 0)).at, seen(Vec3(0, 0, 0)).at);
    p.setPen(QPen(colour::muted, 1.2));
    p.drawLine(seen(Vec3(0, 0.62, 0)).at, seen(Vec3(0, 0.62, 1.08)).at);
    p.drawText(seen(Vec3(0, 0.62, 1.24)).at + QPointF(-8, 10), "ahead");
    // Cameras from the farthest to the nearest.
    const auto& cameras = shot->rig.cameras;
    std::vector<std::size_t> order(cameras.size());
    for (std::size_t i = 0; i < order.size(); ++i) order[i] = i;
    std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        return seen(place_of(cameras[a])).depth > seen(place_of(cameras[b])).depth;
    });
    for (const std::size_t i : order) {
        const Camera& c = cameras[i];
        const ShotCamera* use = find_camera(*shot, c.id);
        const bool chosen = c.id == session_.selected_camera();
        const Vec3 at = place_of(c);
        const Mat3 turn = rotation_of(c.pose.turn);
        const double half = std::min(radians(use ? use->reach_deg : 90), LensMap(c.lens).theta_max());
        QPolygonF rim;
        for (int k = 0; k <= kRingPoints; ++k) {
            const double phi = 2 * kPi * k / kRingPoints;
            rim << seen(at + kConeLength * (turn * Vec3(std::sin(half) * std::cos(phi),
                                                        std::sin(half) * std::sin(phi), std::cos(half))))
                       .at;
        }
        QColor colour = colour::lens(int(i));
        QColor fill = colour;
        fill.setAlpha(chosen ? 60 : 26);
        const QPointF body = seen(at).at;
        p.setPen(Qt::NoPen);
        p.setBrush(fill);
        for (int k = 0; k < kRingPoints; ++k) p.drawPolygon(QPolygonF({body, rim[k], rim[k + 1]}));
        p.setPen(QPen(colour, chosen ? 2.4 : 1.2));
        p.setBrush(Qt::NoBrush);
        p.drawPolyline(rim);
        for (int k = 0; k < 4; ++k) p.drawLine(body, rim[k * kRingPoints / 4]);
        const QPointF ahead = seen(at + 0.42 * (turn * Vec3(0, 0, 1))).at,
                      up = seen(at + 0.1 * (turn * Vec3(0, -1, 0))).at;
        p.setPen(QPen(colour, 1, Qt::DashLine));
        p.drawLine(body, ahead);
        p.setPen(QPen(colour::text, 1.4));
        p.drawLine(body, up); // its own upright
        p.setPen(QPen(chosen ? colour::text : colour::surround, 1.6));
        p.setBrush(colour);
        p.drawRoundedRect(QRectF(body.x() - 9, body.y() - 8, 18, 16), 3, 3);
        p.setPen(colour::surround);
        QFont bold = p.font();
        bold.setBold(true);
        p.setFont(bold);
        p.drawText(QRectF(body.x() - 14, body.y() - 9, 28, 18), Qt::AlignCenter,
                   QString::fromStdString(c.id));
        bold.setBold(false);
        p.setFont(bold);
    }
    dots(false);
    paint_figures(p);
}

void RigView::paint_figures(QPainter& p) {
    const Shot& shot = *session_.shot();
    const double w = 222, left = width() - w - 10;
    double y = 12;
    const int rows = 6 + int(std::min<std::size_t>(report_.overlaps.size(), 14));
    p.setPen(Qt::NoPen);
    p.setBrush(QColor(0x2a, 0x2a, 0x2a, 225));
    p.drawRoundedRect(QRectF(left - 8, 6, w + 8, rows * 18 + 26), 4, 4);
    const auto line = [&](const QString& name, const QString& figure, const QColor& c,
                          const QColor& dot = {}) {
        if (dot.isValid()) {
            p.setPen(Qt::NoPen);
            p.setBrush(dot);
            p.drawRect(QRectF(left, y + 4, 10, 10));
        }
        p.setPen(c);
        p.drawText(QRectF(left + (dot.isValid() ? 16 : 0), y, w - 16, 18), Qt::AlignVCenter, name);
        p.drawText(QRectF(left, y, w - 8, 18), Qt::AlignVCenter | Qt::AlignRight, figure);
        y += 18;
    };
    line("Share of the sphere seen by", "", colour::muted);
    static const char* const kNames[] = {"no lens", "one lens", "two lenses", "three or more"};
    for (int i = 0; i < 4; ++i)
        line(kNames[i], QString("%1 %").arg(100 * report_.share[std::size_t(i)], 0, 'f', 1),
             i == 0 && report_.share[0] > 5e-4 ? colour::stop : colour::text, coverage_colour(i));
    y += 8;
    line("Overlaps", report_.overlaps.empty() ? "none" : "", colour::muted);
    const auto chosen = session_.selected_camera();
    std::size_t shown = 0;
    for (const auto& o : report_.overlaps) {
        if (shown++ == 14) break;
        const auto &a = shot.cameras[o.a].camera, &b = shot.cameras[o.b].camera;
        line(QString("%1 and %2").arg(QString::fromStdString(a), QString::fromStdString(b)),
             QString("%1°").arg(o.width_deg, 0, 'f', 1),
             a == chosen || b == chosen ? colour::accent : colour::text);
    }
}

void RigView::mousePressEvent(QMouseEvent* event) {
    last_ = pressed_ = event->position();
}

void RigView::mouseMoveEvent(QMouseEvent* event) {
    const QPointF moved = event->position() - last_;
    last_ = event->position();
    if (event->buttons() & Qt::LeftButton) {
        yaw_ = wrapped_deg(yaw_ + 0.4 * moved.x());
        pitch_ = std::clamp(pitch_ + 0.4 * moved.y(), -89.0, 89.0);
    } else if (event->buttons() & (Qt::MiddleButton | Qt::RightButton)) {
        pan_ += moved;
    } else {
        return;
    }
    update();
}

void RigView::mouseReleaseEvent(QMouseEvent* event) {
    if (!session_.shot() || (event->position() - pressed_).manhattanLength() > 4) return;
    double nearest = kPickPx;
    const auto& cameras = session_.shot()->rig.cameras;
    for (std::size_t i = 0; i < cameras.size(); ++i) {
        const QPointF d = body_of(i) - event->position();
        if (const double far = std::hypot(d.x(), d.y()); far < nearest) {
            nearest = far;
            session_.select_camera(cameras[i].id);
        }
    }
}

void RigView::wheelEvent(QWheelEvent* event) {
    zoom_ = std::clamp(zoom_ * std::pow(1.15, event->angleDelta().y() / 120.0), 0.4, 8.0);
    update();
    event->accept();
}

void RigView::keyPressEvent(QKeyEvent* event) {
    constexpr double kArrow_deg = 6;
    if (const auto arrow = arrow_of(*event)) {
        yaw_ += kArrow_deg * arrow->x();
        pitch_ = std::clamp(pitch_ - kArrow_deg * arrow->y(), -89.0, 89.0);
    } else if (event->key() == Qt::Key_Plus) {
        zoom_ = std::min(8.0, zoom_ * 1.15);
    } else if (event->key() == Qt::Key_Minus) {
        zoom_ = std::max(0.4, zoom_ / 1.15);
    } else {
        return QWidget::keyPressEvent(event);
    }
    update();
}

} // namespace porb::app
