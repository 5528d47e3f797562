#pragma once

#include "stitch/plan/plan_key.h"

#include <QImage>
#include <QPolygonF>

namespace porb::app {

/// What lies where in a composed view: outlines of what each lens supplies at most, and places that several
/// see.
struct Overlays {
    struct LensOutline {
        std::size_t camera;             ///< index into the shot's cameras
        std::vector<QPolygonF> outline; ///< open lines in target pixels
        std::optional<QPointF> centre;  ///< its axis
    };
    std::vector<LensOutline> lenses;
    QImage coverage; ///< tinted by how many lenses see: 0, 1, 2, 3 or more
    QImage supply;   ///< tinted by the lenses that supply, mixed where they pass into each other
    QImage overlaps; ///< tinted where two or more lenses see; covers the view's whole region
};

/// Of what runs in the key: footprints are shown of all sources, whether or not a camera has its own yet.
Overlays make_overlays(const PlanKey& key);

} // namespace porb::app
