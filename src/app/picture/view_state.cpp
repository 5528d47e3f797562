#include "app/picture/view_state.h"

#include "base/angle.h"

namespace porb::app {

namespace {
constexpr double kLeastFov = 20, kLeastFlat = 2, kMostFov = 140, kMostZoom = 24;
constexpr int kMapWidth = 1000; // where only places matter

QRectF placed(const ViewState& v, double w, double h) {
    return {v.size.width() / 2 - v.pan.x() * w, v.size.height() / 2 - v.pan.y() * h, w, h};
}
Target map_target(const ViewState& v, int width) {
    if (v.mode == ViewMode::down) return window_target(width, width, v.flat, v.flat_deg);
    return v.half_map ? half_sphere_target(width) : equirect_target(width);
}
QRectF rect_of(const ViewState& v) {
    return v.mode == ViewMode::lens ? v.lens_rect() : v.map_rect();
}
QPointF within_picture(double x, double y) {
    return {std::clamp(x, 0.0, 1.0), std::clamp(y, 0.0, 1.0)};
}
} // namespace

QRectF ViewState::map_rect() const {
    const double aspect = half_map || mode == ViewMode::down ? 1 : 2;
    const double w = std::min(size.width(), size.height() * aspect) * zoom;
    return placed(*this, w, w / aspect);
}

QRectF ViewState::lens_rect() const {
    if (lens.isEmpty()) return {};
    const double fit = std::min(size.width() / lens.width(), size.height() / lens.height()) * zoom;
    return placed(*this, lens.width() * fit, lens.height() * fit);
}

QPointF ViewState::lens_point(const Vec2& pixel) const {
    const QRectF r = lens_rect();
    if (r.isEmpty()) return {};
    return {r.left() + pixel.x() / lens.width() * r.width(),
            r.top() + pixel.y() / lens.height() * r.height()};
}

Vec2 ViewState::lens_pixel(const QPointF& point) const {
    const QRectF r = lens_rect();
    if (r.isEmpty()) return {0, 0};
    return {(point.x() - r.left()) / r.width() * lens.width(),
            (point.y() - r.top()) / r.height() * lens.height()};
}

Target ViewState::target() const {
    return mode == ViewMode::window ? window_target(int(size.width()), int(size.height()), look, fov_deg)
                                    : map_target(*this, kMapWidth);
}

QRectF ViewState::seen_rect() const {
    const QRectF all(QPointF(0, 0), size);
    return mode == ViewMode::window ? all : map_rect().intersected(all);
}

std::optional<QPointF> ViewState::point_of(const Vec3& direction) const {
    const Target to = target();
    const auto p = TargetMap(to).pixel(direction);
    if (!p) return std::nullopt;
    QPointF at(p->x(), p->y());
    if (mode != ViewMode::window) {
        const QRectF r = map_rect();
        at = {r.left() + p->x() / to.width * r.width(), r.top() + p->y() / to.height * r.height()};
    }
    if (!beside) return at;
    const QRectF seen = seen_rect();
    at.rx() -= seen.width() / 4; // in the half at the left
    if (at.x() < seen.left() || at.x() > seen.center().x()) return std::nullopt;
    return at;
}

std::optional<Vec3> ViewState::direction_at(const QPointF& where) const {
    if (!shows_sphere(mode)) return std::nullopt;
    QPointF point = where;
    if (beside) {
        const QRectF seen = seen_rect();
        point.rx() += seen.width() / 4 * (where.x() < seen.center().x() ? 1 : -1);
    }
    const Target to = target();
    if (mode == ViewMode::window) return TargetMap(to).direction({point.x(), point.y()});
    const QRectF r = map_rect();
    if (!r.contains(point)) return std::nullopt;
    return TargetMap(to).direction(
        {(point.x() - r.left()) / r.width() * to.width, (point.y() - r.top()) / r.height() * to.height});
}

std::optional<View> ViewState::view(double scale, Filter filter) const {
    View view;
    view.eye = eye;
    view.filter = filter;
    if (mode == ViewMode::window) {
        view.target = window_target(std::max(16, int(size.width() * scale)),
                                    std::max(16, int(size.height() * scale)), look, fov_deg);
        return view;
    }
    if (mode != ViewMode::map && mode != ViewMode::down) return std::nullopt;
    const QRectF rect = map_rect();
    const int w = std::clamp(int(std::lround(rect.width() * scale / 4)) * 4, 64, 32768);
    view.target = map_target(*this, w);
    // Only what is on the widget, snapped to whole pixels of the map.
    const QRectF seen = rect.intersected(QRectF(QPointF(0, 0), size));
    if (seen.isEmpty()) return std::nullopt;
    const double k = w / rect.width();
    const int x0 = std::max(0, int(std::floor((seen.left() - rect.left()) * k))),
              y0 = std::max(0, int(std::floor((seen.top() - rect.top()) * k)));
    const int x1 = std::min(view.target.width, int(std::ceil((seen.right() - rect.left()) * k)));
    const int y1 = std::min(view.target.height, int(std::ceil((seen.bottom() - rect.top()) * k)));
    if (x1 <= x0 || y1 <= y0) return std::nullopt;
    view.region = {x0, y0, x1 - x0, y1 - y0};
    return view;
}

void ViewState::look_at(const Turn& turn, double across_deg) {
    look = {wrapped_deg(turn.yaw_deg), std::clamp(turn.pitch_deg, -90.0, 90.0), turn.roll_deg};
    fov_deg = std::clamp(across_deg, kLeastFov, kMostFov);
}

void ViewState::look_flat(const Turn& turn, double across_deg) {
    flat = {wrapped_deg(turn.yaw_deg), std::clamp(turn.pitch_deg, -90.0, 90.0), wrapped_deg(turn.roll_deg)};
    flat_deg = std::clamp(across_deg, kLeastFlat, kMostFov);
}

void ViewState::zoom_at(const QPointF& at, double factor) {
    const QRectF before = rect_of(*this);
    if (before.isEmpty()) return;
    const double u = (at.x() - before.left()) / before.width(), v = (at.y() - before.top()) / before.height();
    zoom = std::clamp(zoom * factor, 1.0, kMostZoom);
    const QRectF after = rect_of(*this);
    pan = within_picture(pan.x() + (after.left() + u * after.width() - at.x()) / after.width(),
                         pan.y() + (after.top() + v * after.height() - at.y()) / after.height());
    if (zoom <= 1) pan = {0.5, 0.5};
}

void ViewState::pan_by(const QPointF& moved) {
    const QRectF r = rect_of(*this);
    if (r.isEmpty()) return;
    pan = within_picture(pan.x() - moved.x() / r.width(), pan.y() - moved.y() / r.height());
    if (zoom <= 1) pan = {0.5, 0.5};
}

} // namespace porb::app
