// Control points, lines and regions over the picture: residuals magnified on a lens, predicted doubling on
// the sphere.
#include "app/picture/picture_area.h"

#include "app/picture/trace_tool.h"
#include "base/angle.h"
#include "project/orientation.h"
#include "solve/agree_distance.h"

#include <QPainter>

namespace porb::app {

namespace {
constexpr double kResidualScale = 40; ///< residuals on a lens are drawn so much larger
constexpr std::size_t kMostDrawn = 4000;
} // namespace

void PictureArea::set_points_shown(bool on) {
    points_shown_ = on;
    update();
}

void PictureArea::paint_marks(QPainter& p) {
    const Shot& shot = *session_.shot();
    const ViewState view = this->view();
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    if (points_shown_ && !shot.calibration.points->empty()) {
        const auto& fits = session_.point_fits();
        const std::size_t every = std::max<std::size_t>(1, fits.size() / kMostDrawn);
        if (view.mode == ViewMode::lens && selected()) {
            const double scale = view.lens_rect().width() / selected()->lens.width;
            for (std::size_t i = 0; i < fits.size(); i += every) {
                const ControlPoint& q = (*shot.calibration.points)[i];
                const bool a = q.a == selected()->id;
                if (!a && q.b != selected()->id) continue;
                const QPointF at = view.lens_point(a ? q.a_px : q.b_px);
                const Vec2 m = (a ? fits[i].residual_a : fits[i].residual_b) * kResidualScale * scale;
                p.setPen(QPen(q.dropped.empty() ? colour::accent : colour::stop, 1.2));
                if (q.dropped.empty()) p.drawLine(at, at + QPointF(m.x(), m.y()));
                p.setBrush(q.dropped.empty() ? colour::accent : Qt::transparent);
                p.drawEllipse(at, 1.6, 1.6);
            }
            words_.append(QString("Residuals drawn %1 times larger").arg(kResidualScale, 0, 'f', 0));
        } else if (shows_sphere(view.mode)) {
            const auto doubled = doubling_px(shot, fits, shot.seams.agree_distance_m);
            const Mat3 turn = orientation_at(shot, session_.playhead());
            int large = 0, used = 0;
            for (std::size_t i = 0; i < fits.size(); i += every) {
                if (!(*shot.calibration.points)[i].dropped.empty()) continue;
                ++used;
                const auto at = view.point_of(turn * fits[i].direction);
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
    if (lines_shown_ || points_shown_)
        for (const auto& l : shot.calibration.lines) {
            // What a solve used is shown with its points, what people draw and levelling finds in Level.
            if (is_solve_edge(l) ? !points_shown_ : !lines_shown_) continue;
            const Camera* c = find_camera(shot.rig, l.camera);
            if (!c) continue;
            QPolygonF line;
            if (view.mode == ViewMode::lens) {
                if (!selected() || selected()->id != l.camera) continue;
                for (const auto& px : l.places_px) line << view.lens_point(px);
            } else if (shows_sphere(view.mode)) {
                const LensMap map(c->lens);
                const Mat3 turn = orientation_at(shot, session_.playhead()) * rotation_of(c->pose.turn);
                for (const auto& px : l.places_px)
                    if (const auto d = map.unproject(px))
                        if (const auto at = view.point_of(turn * *d)) {
                            if (!line.isEmpty() && std::hypot(at->x() - line.last().x(),
                                                              at->y() - line.last().y()) > width() / 2.0)
                                break;
                            line << *at;
                        }
            }
            if (line.size() > 1) stroke_line(p, line, l.kind);
        }
    if (points_shown_ || regions_shown_)
        for (const auto& r : shot.calibration.regions) {
            QPolygonF outline;
            if (view.mode == ViewMode::lens && selected() && r.camera == selected()->id) {
                for (const auto& px : r.corners) outline << view.lens_point(px);
            } else if (shows_sphere(view.mode) && r.camera.empty()) {
                const Mat3 turn = orientation_at(shot, session_.playhead());
                for (const auto& c : r.corners)
                    if (const auto at = view.point_of(turn * forward_of({c.x(), c.y(), 0})))
                        outline << *at;
            }
            if (outline.size() < 3) continue;
            p.setPen(
                QPen(r.avoid ? colour::stop : colour::good, 1.6, r.avoid ? Qt::DashLine : Qt::SolidLine));
            p.setBrush(
                QBrush(r.avoid ? colour::stop : colour::good, r.avoid ? Qt::BDiagPattern : Qt::NoBrush));
            p.drawPolygon(outline);
        }
    p.restore();
}

} // namespace porb::app
