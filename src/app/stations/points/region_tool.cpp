#include "app/stations/points/region_tool.h"

#include "project/orientation.h"

namespace porb::app {

void RegionTool::traced(const QPolygonF& trace) {
    const QRectF box = trace.boundingRect();
    if (trace.size() < 4 || box.width() < 8 || box.height() < 8)
        return session_.say("Trace an outline: press, go round what is meant, and let go.", Signal::care);
    PointRegion region;
    region.avoid = avoids_;
    if (picture_.mode() == ViewMode::lens && picture_.selected()) {
        region.camera = picture_.selected()->id;
        for (const auto& at : trace) region.corners.push_back(picture_.lens_pixel(at));
    } else {
        for (const auto& at : trace)
            if (const auto d = picture_.direction_at(at)) {
                const Turn to = turn_towards(in_rig_axes(*session_.shot(), session_.playhead(), *d));
                region.corners.emplace_back(to.yaw_deg, to.pitch_deg);
            }
        if (region.corners.size() < 3)
            return session_.say("The outline lies off the picture. Trace it on the map.", Signal::care);
    }
    session_.edit_shot(region.avoid ? "Avoid a region" : "Look only in a region",
                       [&](Shot& s) { s.calibration.regions.push_back(region); });
}

} // namespace porb::app
