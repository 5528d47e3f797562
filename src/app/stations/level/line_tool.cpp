#include "app/stations/level/line_tool.h"

#include "project/orientation.h"
#include "solve/pictures/grey.h"
#include "solve/points.h"

namespace porb::app {

namespace {

/// The camera that sees the middle between two directions (rig axes) best, and both of them; -1: none.
int camera_for(const Rig& rig, const Vec3& a, const Vec3& b) {
    int best = -1;
    double most = 0;
    for (std::size_t c = 0; c < rig.cameras.size(); ++c) {
        const Eyepiece eye(rig, c, nullptr);
        if (!eye.sees(a, 2) || !eye.sees(b, 2)) continue;
        const auto px = eye.sees((a + b).normalized(), 2);
        if (px && eye.map.clearance(*px) > most) most = eye.map.clearance(*px), best = int(c);
    }
    return best;
}

} // namespace

void LineTool::traced(const QPolygonF& trace) {
    const Shot& shot = *session_.shot();
    LineMark mark;
    mark.kind = kind_;
    mark.time = session_.playhead();
    mark.id = free_point_id(shot);
    const QPointF whole = trace.last() - trace.first();
    if (std::hypot(whole.x(), whole.y()) < 20)
        return session_.say("Trace along an edge: press at one end, let go at the other.", Signal::care);
    if (picture_.mode() == ViewMode::lens && picture_.selected()) {
        mark.camera = picture_.selected()->id;
        for (const auto& at : trace) mark.places_px.push_back(picture_.lens_pixel(at));
    } else { // the great circle from end to end
        const Mat3 back = orientation_at(shot, session_.playhead()).transpose();
        const auto from = picture_.direction_at(trace.first()), to = picture_.direction_at(trace.last());
        if (!from || !to) return;
        const Vec3 a = back * *from, b = back * *to;
        const int camera = camera_for(shot.rig, a, b);
        if (camera < 0)
            return session_.say("No one camera sees the whole line. Draw a shorter one.", Signal::care);
        mark.camera = shot.rig.cameras[std::size_t(camera)].id;
        const Eyepiece eye(shot.rig, std::size_t(camera), nullptr);
        for (int i = 0; i <= 8; ++i)
            mark.places_px.push_back(eye.place_of(((1 - i / 8.0) * a + i / 8.0 * b).normalized()));
    }
    session_.edit_shot("Draw a line", [&](Shot& s) { s.calibration.lines.push_back(mark); });
}

} // namespace porb::app
