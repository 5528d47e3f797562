#include "app/stations/seams/shelter_tool.h"

#include "app/widgets/arrow_keys.h"
#include "base/angle.h"
#include "project/orientation.h"
#include "stitch/plan/plan.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>

namespace porb::app {

namespace {
constexpr double kGripPx = 10, kLeast_deg = 2, kNewWidth = 14, kNewHeight = 26;
constexpr int kOvalPoints = 96;

Mat3 frame_of(const ShelterKey& oval) {
    return rotation_of({oval.yaw_deg, oval.pitch_deg, 0});
}
/// Degrees right of and below the oval's middle, along great circles from it.
Vec2 offset_deg(const ShelterKey& oval, const Vec3& d) {
    const Vec3 v = frame_of(oval).transpose() * d;
    const double side = std::hypot(v.x(), v.y()), theta = degrees(std::atan2(side, v.z()));
    return side > 1e-12 ? Vec2(theta * v.x() / side, theta * v.y() / side) : Vec2(0, 0);
}
} // namespace

ShelterTool::ShelterTool(Session& session, PictureArea& picture, QObject* parent)
    : QObject(parent), session_(session), picture_(picture) {
    connect(&session_, &Session::project_changed, this, [this] {
        const Shot* shot = session_.shot();
        if (selected_ >= 0 && (!shot || selected_ >= int(shot->seams.shelters.size()))) select(-1);
    });
    connect(&session_, &Session::shot_changed, this, [this] { select(-1); });
}

void ShelterTool::begin() {
    if (!session_.shot()) return;
    if (picture_.mode() != ViewMode::map && picture_.mode() != ViewMode::window)
        picture_.set_mode(ViewMode::map);
    drawing_ = true;
    growing_ = false;
    draft_.reset();
    select(-1);
    picture_.setCursor(Qt::CrossCursor);
    picture_.setFocus();
    emit drawing_changed();
    picture_.update();
}

void ShelterTool::begin_growing() {
    begin();
    drawing_ = false;
    growing_ = session_.shot() != nullptr;
    picture_.update();
}

void ShelterTool::give_up() {
    drawing_ = growing_ = false;
    draft_.reset();
    picture_.unsetCursor();
    emit drawing_changed();
    picture_.update();
}

void ShelterTool::select(int index) {
    if (selected_ == index) return;
    selected_ = index;
    emit selection_changed();
    picture_.update();
}

std::optional<ShelterKey> ShelterTool::oval(int index) const {
    const Shot* shot = session_.shot();
    if (!shot || index < 0 || index >= int(shot->seams.shelters.size())) return std::nullopt;
    return oval_at(shot->seams.shelters[std::size_t(index)], session_.playhead());
}

std::optional<Vec3> ShelterTool::direction_at(const QPointF& at) const {
    const auto d = picture_.direction_at(at);
    if (!d || !session_.shot()) return std::nullopt;
    return in_rig_axes(*session_.shot(), session_.playhead(), *d);
}

std::optional<QPointF> ShelterTool::screen_of(const Vec3& d) const {
    if (picture_.mode() != ViewMode::map && picture_.mode() != ViewMode::window) return std::nullopt;
    return picture_.point_of(orientation_at(*session_.shot(), session_.playhead()) * d);
}

Vec3 ShelterTool::edge(const ShelterKey& oval, double phi) const {
    const double x = radians(oval.width_deg / 2) * std::cos(phi),
                 y = radians(oval.height_deg / 2) * std::sin(phi);
    const double theta = std::hypot(x, y);
    return frame_of(oval) * Vec3(std::sin(theta) * x / theta, std::sin(theta) * y / theta, std::cos(theta));
}

ShelterTool::Part ShelterTool::hit(const QPointF& at, int index) const {
    const auto o = oval(index);
    if (!o) return Part::none;
    const auto near = [&](const Vec3& d) {
        const auto s = screen_of(d);
        return s && std::hypot(s->x() - at.x(), s->y() - at.y()) < kGripPx;
    };
    if (near(edge(*o, 0)) || near(edge(*o, kPi))) return Part::width;
    if (near(edge(*o, kPi / 2)) || near(edge(*o, -kPi / 2))) return Part::height;
    if (const auto d = direction_at(at)) {
        const Vec2 off = offset_deg(*o, *d);
        if (std::hypot(off.x() / o->width_deg * 2, off.y() / o->height_deg * 2) <= 1) return Part::middle;
    }
    return Part::none;
}

int ShelterTool::under(const QPointF& at) const {
    const Shot* shot = session_.shot();
    if (hit(at, selected_) != Part::none) return selected_;
    for (int i = shot ? int(shot->seams.shelters.size()) - 1 : -1; i >= 0; --i)
        if (hit(at, i) != Part::none) return i;
    return -1;
}

bool ShelterTool::press(QMouseEvent* event) {
    if (event->button() != Qt::LeftButton) return false;
    const auto d = direction_at(event->position());
    if (!d) return drawing_ || growing_;
    if (growing_) {
        give_up();
        emit grow_wanted(*d);
        return true;
    }
    if (drawing_) {
        ShelterKey key;
        key.time = session_.playhead();
        const Turn to = turn_towards(*d);
        key.yaw_deg = to.yaw_deg, key.pitch_deg = to.pitch_deg;
        key.width_deg = kNewWidth, key.height_deg = kNewHeight;
        draft_ = key;
        picture_.update();
        return true;
    }
    const int index = under(event->position());
    if (index < 0) {
        select(-1);
        return false;
    }
    select(index);
    grip_ = hit(event->position(), index);
    grip_at_ = *d;
    grip_oval_ = *oval(index);
    return true;
}

bool ShelterTool::move(QMouseEvent* event) {
    const auto d = direction_at(event->position());
    if (drawing_) {
        if (draft_ && d) {
            const Vec2 off = offset_deg(*draft_, *d);
            if (off.norm() > kLeast_deg) {
                draft_->width_deg = std::clamp(2 * std::abs(off.x()), kLeast_deg, 300.0);
                draft_->height_deg = std::clamp(2 * std::abs(off.y()), kLeast_deg, 170.0);
            }
            picture_.update();
        }
        return true;
    }
    if (grip_ == Part::none || !d) return false;
    ShelterKey next = grip_oval_;
    if (grip_ == Part::middle) {
        const Vec3 middle = rotation_between(grip_at_, *d) * (frame_of(grip_oval_) * Vec3(0, 0, 1));
        const Turn to = turn_towards(middle);
        next.yaw_deg = to.yaw_deg, next.pitch_deg = to.pitch_deg;
    } else {
        const Vec2 off = offset_deg(grip_oval_, *d);
        if (grip_ == Part::width)
            next.width_deg = std::clamp(2 * std::abs(off.x()), kLeast_deg, 300.0);
        else
            next.height_deg = std::clamp(2 * std::abs(off.y()), kLeast_deg, 170.0);
    }
    edit_oval("Move a shelter", next, "shelter-drag");
    return true;
}

bool ShelterTool::release(QMouseEvent*) {
    if (drawing_) {
        if (!draft_) return true;
        Shelter shelter;
        shelter.keys = {*draft_};
        int index = 0;
        session_.edit_shot("Draw a shelter", [&](Shot& s) {
            index = int(s.seams.shelters.size());
            shelter.name = "shelter " + std::to_string(index + 1);
            s.seams.shelters.push_back(shelter);
        });
        give_up();
        select(index);
        const ShelterCamera sight = shelter_camera(*session_.shot(), shelter);
        if (sight.camera.empty())
            session_.say("No camera looks there: move the shelter to where one does.", Signal::care);
        else if (sight.seen < 1)
            session_.say(
                QString("No camera sees all of it: %1 sees %2 %, the rest stays as it was. Make it smaller.")
                    .arg(QString::fromStdString(sight.camera))
                    .arg(100 * sight.seen, 0, 'f', 0),
                Signal::care);
        return true;
    }
    if (grip_ == Part::none) return false;
    grip_ = Part::none;
    session_.end_drag();
    return true;
}

bool ShelterTool::double_click(QMouseEvent* event) {
    return drawing_ || under(event->position()) >= 0;
}

bool ShelterTool::key(QKeyEvent* event) {
    if ((drawing_ || growing_) && event->key() == Qt::Key_Escape) {
        give_up();
        return true;
    }
    if (drawing_ || selected_ < 0) return false;
    switch (event->key()) {
    case Qt::Key_Escape:
        select(-1);
        return true;
    case Qt::Key_Delete:
    case Qt::Key_Backspace:
        remove_selected();
        return true;
    default:
        break;
    }
    const auto arrow = arrow_of(*event);
    if (!arrow) return false;
    const double step = event->modifiers() & Qt::ShiftModifier ? 0.1 : 1;
    auto next = *oval(selected_);
    next.yaw_deg = wrapped_deg(next.yaw_deg + step * arrow->x());
    next.pitch_deg = std::clamp(next.pitch_deg - step * arrow->y(), -90.0, 90.0);
    edit_oval("Nudge a shelter", next, "shelter-nudge");
    return true;
}

void ShelterTool::edit_oval(const QString& label, const ShelterKey& oval, const QString& key) {
    const Seconds now = session_.playhead();
    session_.edit_shot(
        label,
        [&](Shot& s) {
            auto& keys = s.seams.shelters[std::size_t(selected_)].keys;
            ShelterKey next = oval;
            if (keys.size() == 1) {
                next.time = keys[0].time;
                keys[0] = next;
                return;
            }
            next.time = now;
            auto at =
                std::find_if(keys.begin(), keys.end(), [now](const ShelterKey& k) { return k.time >= now; });
            if (at != keys.end() && at->time == now)
                *at = next;
            else
                keys.insert(at, next);
        },
        key);
}

void ShelterTool::toggle_key() {
    const auto now_oval = oval(selected_);
    if (!now_oval) return session_.say("Select a shelter first.", Signal::care);
    const Seconds now = session_.playhead();
    session_.edit_shot("Key of a shelter", [&](Shot& s) {
        auto& keys = s.seams.shelters[std::size_t(selected_)].keys;
        auto at =
            std::find_if(keys.begin(), keys.end(), [now](const ShelterKey& k) { return k.time >= now; });
        if (at == keys.end() || at->time != now) {
            ShelterKey key = *now_oval;
            key.time = now;
            keys.insert(at, key);
        } else if (keys.size() > 1) {
            keys.erase(at);
        }
    });
}

void ShelterTool::remove_selected() {
    const int index = selected_;
    if (index < 0) return;
    select(-1);
    session_.edit_shot("Remove a shelter", [&](Shot& s) {
        if (index < int(s.seams.shelters.size())) s.seams.shelters.erase(std::size_t(index));
    });
}

void ShelterTool::paint(QPainter& p) {
    const Shot* shot = session_.shot();
    if (!shot || (picture_.mode() != ViewMode::map && picture_.mode() != ViewMode::window)) return;
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    const auto draw = [&](const ShelterKey& o, bool chosen, double presence) {
        std::vector<QPolygonF> runs(1);
        for (int i = 0; i <= kOvalPoints; ++i) {
            const auto at = screen_of(edge(o, 2 * kPi * i / kOvalPoints));
            if (!at || (!runs.back().isEmpty() &&
                        std::abs(runs.back().last().x() - at->x()) > picture_.width() / 3.0))
                runs.emplace_back();
            if (at) runs.back() << *at;
        }
        p.setOpacity(0.35 + 0.65 * presence);
        for (const auto& run : runs) {
            p.setBrush(Qt::NoBrush);
            p.setPen(QPen(QColor(0, 0, 0, 150), chosen ? 4 : 3));
            p.drawPolyline(run);
            p.setPen(QPen(colour::accent, chosen ? 2 : 1.3, presence > 0 ? Qt::SolidLine : Qt::DotLine));
            p.drawPolyline(run);
        }
        p.setOpacity(1);
        if (!chosen) return;
        for (const double phi : {0.0, kPi / 2, kPi, -kPi / 2})
            if (const auto at = screen_of(edge(o, phi))) {
                p.setPen(QPen(QColor(0, 0, 0, 180), 1));
                p.setBrush(colour::text);
                p.drawRect(QRectF(at->x() - 4, at->y() - 4, 8, 8));
            }
    };
    for (int i = 0; i < int(shot->seams.shelters.size()); ++i)
        draw(*oval(i), i == selected_,
             presence_at(shot->seams.shelters[std::size_t(i)], session_.playhead()));
    if (draft_) draw(*draft_, true, 1);
    p.restore();
}

QString ShelterTool::words() const {
    return growing_   ? "Click on the middle of the subject (Esc gives up)"
           : drawing_ ? "Drag from the middle of what must stay whole to its edge (Esc gives up)"
                      : QString();
}

} // namespace porb::app
