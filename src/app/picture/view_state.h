#pragma once

#include "stitch/compose.h"

#include <QRectF>
#include <QSizeF>

#include <optional>

namespace porb::app {

enum class ViewMode {
    map,
    window,
    lens,
    sheet,
    rig,
    pair,
    down, ///< a square seen straight on, without distortion: the ground, unless it is turned elsewhere
};
/// Whether a mode shows the sphere, composed.
inline bool shows_sphere(ViewMode mode) {
    return mode == ViewMode::map || mode == ViewMode::window || mode == ViewMode::down;
}

/// Where one looks, and which place of a widget shows which direction or source pixel. A value; places are in
/// the widget's own pixels.
struct ViewState {
    ViewMode mode = ViewMode::map;
    Eye eye = Eye::mono;
    Turn look{};           ///< of the window
    double fov_deg = 90;   ///< across it
    Turn flat{0, -90, 0};  ///< of the down view, which looks there
    double flat_deg = 90;  ///< across its square
    double zoom = 1;       ///< of map, down and lens view; 1 fits
    QPointF pan{0.5, 0.5}; ///< the place of the map or source (0..1) at the widget's centre
    QSizeF size{};         ///< the widget's
    bool half_map = false; ///< the map is of the half sphere in front
    bool beside = false;   ///< eyes side by side: each half shows the middle of what it would be alone
    QSizeF lens{};         ///< source pixels of the lens view; empty: there is no camera

    /// The whole map, or source, on the widget, zoomed and panned.
    QRectF map_rect() const;
    QRectF lens_rect() const;
    QRectF seen_rect() const; ///< what of the sphere's picture lies on the widget
    QPointF lens_point(const Vec2& pixel) const;
    Vec2 lens_pixel(const QPointF& point) const;

    /// Where a world direction is drawn, if it is, and the other way round (map, window and down view).
    std::optional<QPointF> point_of(const Vec3& direction) const;
    std::optional<Vec3> direction_at(const QPointF& point) const;

    /// The whole target at about one pixel for each of the widget's (map, window and down view).
    Target target() const;
    /// What of it lies on the widget, at so many pixels for each of the widget's; nothing in other modes.
    std::optional<View> view(double scale, Filter filter) const;

    void look_at(const Turn& turn, double across_deg); ///< within what a window can show
    void look_flat(const Turn& turn, double across_deg);
    void zoom_at(const QPointF& at, double factor); ///< what is shown there stays there
    void pan_by(const QPointF& moved);
    void fit() { zoom = 1, pan = {0.5, 0.5}; }
};

} // namespace porb::app
