#include "app/stations/depth/converge_tool.h"

#include "app/widgets/theme.h"
#include "stereo/comfort.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>

namespace porb::app {

ConvergeTool::ConvergeTool(Session& session, PictureArea& picture, PictureService& service, QObject* parent)
    : QObject(parent), session_(session), picture_(picture), service_(service), job_(this) {}

void ConvergeTool::toggle() {
    if (picture_.tool() == this) return picture_.set_tool(nullptr);
    if (!shows_sphere(picture_.mode())) picture_.set_mode(ViewMode::map);
    last_.reset();
    picture_.set_tool(this);
    picture_.setFocus();
}

bool ConvergeTool::press(QMouseEvent* event) {
    const Shot* shot = session_.shot();
    if (event->button() != Qt::LeftButton || !shot || job_.is_running()) return false;
    const auto direction = picture_.direction_at(event->position());
    if (!direction) return true;
    last_ = direction;
    picture_.update();
    const Vec3 looks = eye_rays_of(*shot, picture_.view().eye, session_.playhead()).looks(*direction);
    job_.start([this, project = session_.project(), id = shot->id, time = session_.playhead(),
                looks](const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        tell(0, "Looking for its distance");
        const double metres =
            distance_towards(service_.composer(), *project, *find_shot(*project, id), time, looks, cancel);
        return [this, metres, time] {
            if (metres <= 0)
                return session_.say(
                    "That is as good as infinitely far, or both eyes do not show it alike: click on "
                    "something nearer.",
                    Signal::care);
            session_.edit_shot("Converge on what was clicked",
                               [&](Shot& s) { set_converge(s.stereo, time, metres); });
            session_.say(QString("Both eyes converge at %1 m").arg(metres, 0, 'f', 2), Signal::good);
        };
    });
    return true;
}

bool ConvergeTool::key(QKeyEvent* event) {
    if (event->key() != Qt::Key_Escape) return false;
    picture_.set_tool(nullptr);
    return true;
}

void ConvergeTool::paint(QPainter& p) {
    const auto at = last_ ? picture_.point_of(*last_) : std::nullopt;
    if (!at) return;
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    for (const auto& [pen, wide] : {std::pair(QColor(0, 0, 0, 160), 3.5), std::pair(colour::accent, 1.6)}) {
        p.setPen(QPen(pen, wide));
        for (const double side : {-1.0, 1.0}) { // two arrows that meet
            p.drawLine(*at + QPointF(side * 16, 0), *at + QPointF(side * 4, 0));
            p.drawLine(*at + QPointF(side * 4, 0), *at + QPointF(side * 8, -4));
            p.drawLine(*at + QPointF(side * 4, 0), *at + QPointF(side * 8, 4));
        }
    }
    p.restore();
}

QString ConvergeTool::words() const {
    return "Click on what both eyes should converge on (Esc ends)";
}

} // namespace porb::app
