// Control points and drawn lines over the picture: misses magnified on a lens, predicted doubling on the
// sphere, the line tool.
#include "app/picture_area.h"

#include "base/angle.h"
#include "project/orientation.h"
#include "solve/calibrate.h"

#include <QMouseEvent>
#include <QPainter>

namespace porb::app {

namespace {
constexpr double kTracePx = 10;   ///< a traced line gets a place every so many widget pixels
constexpr double kMissScale = 40; ///< misses on a lens are drawn so much larger
constexpr std::size_t kMostDrawn = 4000;
} // namespace

void PictureArea::set_points_shown(bool on) {
    points_shown_ = on;
    update();
}

void PictureArea::set_line_tool(std::optional<LineKind> kind) {
    line_tool_ = kind;
    region_tool_ = RegionTool::none;
    trace_.clear();
    setCursor(kind ? Qt::CrossCursor : Qt::ArrowCursor);
    emit trace_tool_changed();
    update();
}

void PictureArea::set_region_tool(RegionTool tool) {
    line_tool_.reset();
    region_tool_ = tool;
    trace_.clear();
    if (tool != RegionTool::none && mode_ != ViewMode::lens && mode_ != ViewMode::map)
        set_mode(ViewMode::lens);
    setCursor(tool != RegionTool::none ? Qt::CrossCursor : Qt::ArrowCursor);
    emit trace_tool_changed();
    update();
}

void PictureArea::paint_points(QPainter& p) {
    const Shot& shot = *session_.shot();
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    if (points_shown_ && !shot.points->empty()) {
        const auto& fits = session_.point_fits();
        const std::size_t every = std::max<std::size_t>(1, fits.size() / kMostDrawn);
        if (mode_ == ViewMode::lens && selected()) {
            const double scale = lens_rect().width() / selected()->lens.width;
            for (std::size_t i = 0; i < fits.size(); i += every) {
                const ControlPoint& q = (*shot.points)[i];
                const bool a = q.a == selected()->id;
                if (!a && q.b != selected()->id) continue;
                const QPointF at = lens_point(a ? q.a_px : q.b_px);
                const Vec2 m = (a ? fits[i].miss_a : fits[i].miss_b) * kMissScale * scale;
                p.setPen(QPen(q.dropped.empty() ? colour::accent : colour::stop, 1.2));
                if (q.dropped.empty()) p.drawLine(at, at + QPointF(m.x(), m.y()));
                p.setBrush(q.dropped.empty() ? colour::accent : Qt::transparent);
                p.drawEllipse(at, 1.6, 1.6);
            }
            words_.append(QString("Misses drawn %1 times larger").arg(kMissScale, 0, 'f', 0));
        } else if (mode_ == ViewMode::map || mode_ == ViewMode::window) {
            const auto doubled = doubling_px(shot, fits, shot.agree_distance_m);
            const Mat3 turn = orientation_at(shot, session_.playhead());
            int large = 0, used = 0;
            for (std::size_t i = 0; i < fits.size(); i += every) {
                if (!(*shot.points)[i].dropped.empty()) continue;
                ++used;
                const auto at = point_of(turn * fits[i].direction);
                const bool much = doubled[i] > 3, some = doubled[i] > 1;
                large += much;
                if (!at) continue;
                p.setPen(Qt::NoPen);
                p.setBrush(much ? colour::stop : some ? colour::care : colour::good);
                if (much)
                    p.drawRect(QRectF(*at - QPointF(2.2, 2.2), QSizeF(4.4, 4.4)));
                else if (some)
                    p.drawPolygon(
                        QPolygonF({*at + QPointF(0, -3), *at + QPointF(2.8, 2), *at + QPointF(-2.8, 2)}));
                else
                    p.drawEllipse(*at, 1.8, 1.8);
            }
            words_.append(QString("Doubling at this agree distance: %1 % of points over 3 px")
                              .arg(used ? 100.0 * large / used : 0, 0, 'f', 0));
        }
    }
    const auto stroke = [&](const QPolygonF& line, LineKind kind) {
        p.setBrush(Qt::NoBrush);
        p.setPen(QPen(QColor(0, 0, 0, 160), 4));
        p.drawPolyline(line);
        p.setPen(QPen(colour::accent, 1.8,
                      kind == LineKind::vertical     ? Qt::SolidLine
                      : kind == LineKind::horizontal ? Qt::DashLine
                                                     : Qt::DotLine));
        p.drawPolyline(line);
    };
    if (lines_shown_ || line_tool_ || points_shown_)
        for (const auto& l : shot.lines) {
            // What a solve used is shown with its points, what people draw and levelling finds in Level.
            if (is_solve_edge(l) ? !points_shown_ : !lines_shown_ && !line_tool_) continue;
            const Camera* c = find_camera(shot.rig, l.camera);
            if (!c) continue;
            QPolygonF line;
            if (mode_ == ViewMode::lens) {
                if (!selected() || selected()->id != l.camera) continue;
                for (const auto& px : l.places_px) line << lens_point(px);
            } else if (mode_ == ViewMode::map || mode_ == ViewMode::window) {
                const LensMap map(c->lens);
                const Mat3 turn = orientation_at(shot, session_.playhead()) * rotation_of(c->pose.turn);
                for (const auto& px : l.places_px)
                    if (const auto d = map.unproject(px))
                        if (const auto at = point_of(turn * *d)) {
                            if (!line.isEmpty() && std::hypot(at->x() - line.last().x(),
                                                              at->y() - line.last().y()) > width() / 2.0)
                                break;
                            line << *at;
                        }
            }
            if (line.size() > 1) stroke(line, l.kind);
        }
    if (points_shown_ || region_tool_ != RegionTool::none)
        for (const auto& r : shot.regions) {
            QPolygonF outline;
            if (mode_ == ViewMode::lens && selected() && r.camera == selected()->id) {
                for (const auto& px : r.corners) outline << lens_point(px);
            } else if ((mode_ == ViewMode::map || mode_ == ViewMode::window) && r.camera.empty()) {
                const Mat3 turn = orientation_at(shot, session_.playhead());
                for (const auto& c : r.corners)
                    if (const auto at = point_of(turn * (rotation_of({c.x(), c.y(), 0}) * Vec3(0, 0, 1))))
                        outline << *at;
            }
            if (outline.size() < 3) continue;
            p.setPen(
                QPen(r.avoid ? colour::stop : colour::good, 1.6, r.avoid ? Qt::DashLine : Qt::SolidLine));
            p.setBrush(
                QBrush(r.avoid ? colour::stop : colour::good, r.avoid ? Qt::BDiagPattern : Qt::NoBrush));
            p.drawPolygon(outline);
        }
    if (trace_.size() > 1) stroke(trace_, line_tool_.value_or(LineKind::straight));
    p.restore();
}

bool PictureArea::trace_press(QMouseEvent* event) {
    if (!traces() || event->button() != Qt::LeftButton || !session_.shot()) return false;
    trace_ = QPolygonF({event->position()});
    return true;
}

bool PictureArea::trace_move(QMouseEvent* event) {
    if (!traces() || trace_.isEmpty()) return false;
    const QPointF d = event->position() - trace_.last();
    if (std::hypot(d.x(), d.y()) >= kTracePx) trace_ << event->position();
    update();
    return true;
}

bool PictureArea::trace_release(QMouseEvent* event) {
    if (!traces() || trace_.isEmpty()) return false;
    trace_ << event->position();
    const QPolygonF trace = std::exchange(trace_, {});
    update();
    if (line_tool_)
        add_line(trace);
    else
        add_region(trace);
    return true;
}

void PictureArea::add_region(const QPolygonF& trace) {
    const QRectF box = trace.boundingRect();
    if (trace.size() < 4 || box.width() < 8 || box.height() < 8)
        return session_.say("Trace an outline: press, go round what is meant, and let go.", Signal::care);
    PointRegion region;
    region.avoid = region_tool_ == RegionTool::avoid;
    if (mode_ == ViewMode::lens && selected()) {
        region.camera = selected()->id;
        const double scale = selected()->lens.width / lens_rect().width();
        for (const auto& at : trace)
            region.corners.emplace_back((at.x() - lens_rect().left()) * scale,
                                        (at.y() - lens_rect().top()) * scale);
    } else {
        const Mat3 back = orientation_at(*session_.shot(), session_.playhead()).transpose();
        for (const auto& at : trace)
            if (const auto d = direction_at(at)) {
                const Vec3 r = back * *d;
                region.corners.emplace_back(degrees(std::atan2(r.x(), r.z())),
                                            degrees(std::asin(std::clamp(-r.y(), -1.0, 1.0))));
            }
        if (region.corners.size() < 3)
            return session_.say("The outline lies off the picture. Trace it on the map.", Signal::care);
    }
    session_.edit_shot(region.avoid ? "Avoid a region" : "Look only in a region",
                       [&](Shot& s) { s.regions.push_back(region); });
}

void PictureArea::add_line(const QPolygonF& trace) {
    const Shot& shot = *session_.shot();
    LineMark mark;
    mark.kind = *line_tool_;
    mark.time = session_.playhead();
    mark.id = free_point_id(shot);
    const QPointF whole = trace.last() - trace.first();
    if (std::hypot(whole.x(), whole.y()) < 20) {
        return session_.say("Trace along an edge: press at one end, let go at the other.", Signal::care);
    }
    if (mode_ == ViewMode::lens && selected()) {
        mark.camera = selected()->id;
        const double scale = selected()->lens.width / lens_rect().width();
        for (const auto& at : trace) {
            const QPointF o = at - lens_rect().topLeft();
            mark.places_px.emplace_back(o.x() * scale, o.y() * scale);
        }
    } else {
        // The camera that sees its middle best, and the great circle from end to end.
        const Mat3 back = orientation_at(shot, session_.playhead()).transpose();
        const auto from = direction_at(trace.first()), to = direction_at(trace.last());
        if (!from || !to) return;
        const Vec3 a = back * *from, b = back * *to, middle = (a + b).normalized();
        double best = 0;
        for (std::size_t c = 0; c < shot.rig.cameras.size(); ++c) {
            const Eyepiece eye(shot.rig, c, nullptr);
            if (!eye.sees(a, 2) || !eye.sees(b, 2)) continue;
            const auto px = eye.sees(middle, 2);
            if (px && eye.map.clearance(*px) > best)
                best = eye.map.clearance(*px), mark.camera = shot.rig.cameras[c].id;
        }
        if (mark.camera.empty()) {
            return session_.say("No one camera sees the whole line. Draw a shorter one.", Signal::care);
        }
        std::size_t index = 0;
        while (shot.rig.cameras[index].id != mark.camera) ++index;
        const Eyepiece eye(shot.rig, index, nullptr);
        for (int i = 0; i <= 8; ++i)
            mark.places_px.push_back(eye.place_of(((1 - i / 8.0) * a + i / 8.0 * b).normalized()));
    }
    session_.edit_shot("Draw a line", [&](Shot& s) { s.lines.push_back(mark); });
}

} // namespace porb::app
