#include "app/stations/ground/place_tool.h"

#include "app/widgets/arrow_keys.h"
#include "app/widgets/theme.h"
#include "base/angle.h"
#include "patch/outline.h"
#include "project/limits.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>

namespace porb::app {

namespace {
constexpr double kGripPx = 12;
constexpr int kSteps = 48; ///< of an outline, a side
} // namespace

void paint_patch_outline(QPainter& p, const PictureArea& picture, const PatchPlacement& place, bool disc,
                         const QColor& colour) {
    std::vector<Vec2> outline;
    if (disc) {
        for (int i = 0; i <= 4 * kSteps; ++i) {
            const double a = 2 * kPi * i / (4 * kSteps);
            outline.emplace_back(std::cos(a), std::sin(a));
        }
    } else {
        const Vec2 corners[] = {{-1, -1}, {1, -1}, {1, 1}, {-1, 1}, {-1, -1}};
        for (int c = 0; c < 4; ++c)
            for (int i = 0; i < kSteps; ++i)
                outline.push_back(corners[c] + (corners[c + 1] - corners[c]) * (double(i) / kSteps));
        outline.emplace_back(-1, -1);
    }
    p.setRenderHint(QPainter::Antialiasing);
    for (const auto& [pen, wide] : {std::pair(QColor(0, 0, 0, 150), 3.5), std::pair(colour, 1.5)}) {
        p.setPen(QPen(pen, wide));
        std::optional<QPointF> last;
        for (const Vec2& at : outline) {
            const auto now = picture.point_of(direction_of(place, at));
            // Across the map's edge a line would run over all of it.
            if (now && last && std::hypot(now->x() - last->x(), now->y() - last->y()) < picture.width() / 3.0)
                p.drawLine(*last, *now);
            last = now;
        }
    }
}

void MaskOutlines::paint(QPainter& p, const PictureArea& picture, const PatchPlacement& place,
                         const TileImage& mask) {
    if (mask.empty()) return;
    if (!(of_ == mask)) of_ = mask, lines_ = mask_outlines(mask);
    for (const auto& line : lines_) {
        QPolygonF shown;
        for (const Vec2& at : line)
            if (const auto point = picture.point_of(direction_of(place, at))) shown << *point;
        if (shown.size() < 3 || shown.boundingRect().width() > 0.8 * picture.width())
            continue; // across the map's edge
        p.setBrush(Qt::NoBrush);
        p.setPen(QPen(QColor(0, 0, 0, 140), 2.6));
        p.drawPolygon(shown);
        p.setPen(QPen(colour::care, 1.1, Qt::DotLine));
        p.drawPolygon(shown);
    }
}

bool PlaceTool::press(QMouseEvent* event) {
    const auto place = choice_.placement();
    if (!moves_ || event->button() != Qt::LeftButton || !place || event->modifiers() != Qt::NoModifier)
        return false;
    const auto direction = picture_.direction_at(event->position());
    if (!direction) return false;
    grip_ = Grip::none;
    for (const Vec2& c : {Vec2(-1, -1), Vec2(1, -1), Vec2(1, 1), Vec2(-1, 1)}) {
        const auto at = picture_.point_of(direction_of(*place, c));
        if (at && std::hypot(at->x() - event->position().x(), at->y() - event->position().y()) < kGripPx)
            grip_ = Grip::corner;
    }
    if (grip_ == Grip::none) {
        const auto at = square_place(*place, *direction);
        if (!at || at->cwiseAbs().maxCoeff() > 1) return false;
        grip_ = Grip::inside;
    }
    from_ = *direction;
    placement_ = *place;
    place_ = place_at(*choice_.patch(), session_.playhead());
    return true;
}

bool PlaceTool::move(QMouseEvent* event) {
    if (grip_ == Grip::none) return false;
    const auto now = picture_.direction_at(event->position());
    if (!now) return true;
    PatchKey to = place_;
    if (grip_ == Grip::inside) {
        // Its own axes: what it stays with may be turned.
        const Mat3 held = placement_.to_patch.transpose();
        const Mat3 own = rotation_of({place_.yaw_deg, place_.pitch_deg, place_.roll_deg});
        const Mat3 to_world = held * own.transpose();
        const Mat3 moved = to_world.transpose() * rotation_between(from_, *now) * held;
        const Turn turn = turn_of(moved);
        to.yaw_deg = turn.yaw_deg, to.pitch_deg = turn.pitch_deg, to.roll_deg = turn.roll_deg;
    } else {
        const auto a = square_place(placement_, from_), b = square_place(placement_, *now);
        if (!a || !b || b->norm() < 0.02) return true;
        const double grown = b->norm() / a->norm();
        to.width_deg = std::clamp(degrees(2 * std::atan(placement_.half_width * grown)),
                                  limits::kPatchWidth_deg.low, limits::kPatchWidth_deg.high);
        const double turned = degrees(std::atan2(b->y(), b->x()) - std::atan2(a->y(), a->x()));
        to.roll_deg = wrapped_deg(place_.roll_deg + turned);
    }
    choice_.change(
        "Move a patch", [&](Patch& p) { set_place(p, session_.playhead(), to); }, "move-patch");
    return true;
}

bool PlaceTool::release(QMouseEvent*) {
    if (grip_ == Grip::none) return false;
    grip_ = Grip::none;
    session_.end_drag();
    return true;
}

bool PlaceTool::key(QKeyEvent* event) {
    if (moves_ && event->key() == Qt::Key_Delete && choice_.patch()) {
        choice_.remove();
        return true;
    }
    return false;
}

void PlaceTool::paint(QPainter& p) {
    const Shot* shot = session_.shot();
    if (!shot || !shows_sphere(picture_.mode())) return;
    p.save();
    for (std::size_t i = 0; i < shot->patches.size(); ++i) {
        const Patch& patch = shot->patches[i];
        const auto place =
            placement_of(*shot, patch, place_at(patch, session_.playhead()), session_.playhead(), Eye::mono);
        const bool chosen = int(i) == choice_.index();
        if (!chosen && !patch.on) continue;
        paint_patch_outline(p, picture_, place, patch.disc, chosen ? colour::accent : colour::muted);
        if (!chosen) continue;
        mask_.paint(p, picture_, place, patch.mask);
        if (!moves_) continue;
        p.setPen(QPen(QColor(0, 0, 0, 160), 1));
        p.setBrush(colour::accent);
        for (const Vec2& c : {Vec2(-1, -1), Vec2(1, -1), Vec2(1, 1), Vec2(-1, 1)})
            if (const auto at = picture_.point_of(direction_of(place, c)))
                p.drawRect(QRectF(at->x() - 4, at->y() - 4, 8, 8));
        p.setBrush(Qt::NoBrush);
    }
    p.restore();
}

QString PlaceTool::words() const {
    if (!choice_.patch() || !moves_) return {};
    return "Drag inside the patch moves it, its corners turn and scale it";
}

} // namespace porb::app
