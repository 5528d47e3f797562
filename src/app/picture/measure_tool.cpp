#include "app/picture/measure_tool.h"

#include "app/picture/distance_view.h"
#include "app/widgets/theme.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>

namespace porb::app {

MeasureTool::MeasureTool(Session& session, PictureArea& picture, QObject* parent)
    : QObject(parent), session_(session), picture_(picture) {
    connect(&picture_, &PictureArea::tool_changed, this, [this] { // another took its place
        if (on_ && picture_.tool() != this) on_ = false, places_.clear(), done_ = {};
    });
}

void MeasureTool::begin(std::size_t places) {
    const Shot* shot = session_.shot();
    if (!shot) return;
    if (!shot->seams.flow.on)
        return session_.say(
            "Distances are found while parallax is closed: turn it on in Seams, Parallax (W).", Signal::care);
    if (!shows_sphere(picture_.mode())) picture_.set_mode(ViewMode::map);
    if (!on_) before_ = picture_.tool(), shown_before_ = picture_.shows_distances();
    wanted_ = places;
    places_.clear();
    on_ = true;
    picture_.set_tool(this);
    picture_.set_distances(true);
    picture_.setFocus();
    picture_.update();
}

void MeasureTool::measure() {
    done_ = {};
    begin(2);
}

void MeasureTool::pick_plane(Done done) {
    begin(3);
    done_ = on_ ? std::move(done) : Done();
}

void MeasureTool::stop() {
    if (!on_) return;
    on_ = false;
    places_.clear();
    done_ = {};
    picture_.set_tool(before_);
    picture_.set_distances(shown_before_);
}

bool MeasureTool::press(QMouseEvent* event) {
    if (event->button() != Qt::LeftButton) return false;
    const auto direction = picture_.direction_at(event->position());
    const FoundDistancesPtr found = picture_.found_distances();
    if (!direction) return true;
    if (!found) {
        session_.say("Distances are still being looked for: click again in a moment.", Signal::care);
        return true;
    }
    if (places_.size() >= wanted_) places_.clear();
    places_.push_back({*direction, found->inverse_at(*direction)});
    if (places_.back().inverse_m < 1e-3) {
        places_.pop_back();
        session_.say("That is as good as infinitely far: choose a nearer place.", Signal::care);
        return true;
    }
    if (wanted_ == 3 && places_.size() == 3) {
        const Done done = std::exchange(done_, {});
        const std::array<Vec3, 3> d = {places_[0].direction, places_[1].direction, places_[2].direction};
        const std::array<double, 3> inverse = {places_[0].inverse_m, places_[1].inverse_m,
                                               places_[2].inverse_m};
        stop();
        if (done) done(d, inverse);
    }
    picture_.update();
    return true;
}

bool MeasureTool::move(QMouseEvent* event) {
    hover_ = event->position();
    picture_.update();
    return true;
}

bool MeasureTool::release(QMouseEvent*) {
    return true;
}

bool MeasureTool::double_click(QMouseEvent*) {
    return true;
}

bool MeasureTool::key(QKeyEvent* event) {
    if (event->key() != Qt::Key_Escape) return false;
    stop();
    return true;
}

void MeasureTool::paint(QPainter& p) {
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    std::optional<QPointF> last;
    for (const Place& place : places_) {
        const auto at = picture_.point_of(place.direction);
        if (at && last) {
            p.setPen(QPen(QColor(0, 0, 0, 160), 3));
            p.drawLine(*last, *at);
            p.setPen(QPen(colour::accent, 1.4));
            p.drawLine(*last, *at);
        }
        if (at) {
            p.setPen(QPen(QColor(0, 0, 0, 180), 1));
            p.setBrush(colour::accent);
            p.drawEllipse(*at, 4, 4);
        }
        last = at;
    }
    if (!places_.empty() && places_.size() < wanted_ && last) {
        p.setPen(QPen(colour::muted, 1, Qt::DotLine));
        p.drawLine(*last, hover_);
    }
    p.restore();
}

QString MeasureTool::words() const {
    if (!on_) return {};
    if (wanted_ == 3)
        return QString("A plane: click place %1 of three on it (Esc gives up)").arg(places_.size() + 1);
    if (places_.size() < 2)
        return places_.empty() ? "Measure: click the first place (Esc ends)"
                               : "Measure: click the second place (Esc ends)";
    const Vec3 a = places_[0].direction / places_[0].inverse_m,
               b = places_[1].direction / places_[1].inverse_m;
    return QString("%1 apart; %2 and %3 away. Click for another (Esc ends)")
        .arg(distance_text(1 / std::max(1e-6, (a - b).norm())), distance_text(places_[0].inverse_m),
             distance_text(places_[1].inverse_m));
}

} // namespace porb::app
