// What the mouse, the wheel and the keys do in the picture.
#include "app/picture/picture_area.h"

#include "app/picture/comparison.h"
#include "app/widgets/arrow_keys.h"
#include "base/angle.h"
#include "project/camera_edits.h"
#include "project/orientation.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QTabletEvent>

namespace porb::app {

namespace {
constexpr double kGripPx = 12;
}

PictureArea::Grip PictureArea::lens_grip(const QPointF& at) const {
    const Camera* c = selected();
    if (!c || mode() != ViewMode::lens) return Grip::none;
    const QPointF centre = lens_point(c->lens.circle.center_px);
    const double scale = view().lens_rect().width() / c->lens.width;
    const double from_centre = std::hypot(at.x() - centre.x(), at.y() - centre.y());
    if (std::abs(from_centre - c->lens.circle.radius_px * scale) < kGripPx) return Grip::circle_rim;
    if (from_centre < 2 * kGripPx) return Grip::circle_move;
    return Grip::pan;
}

void PictureArea::mousePressEvent(QMouseEvent* event) {
    grip_at_ = event->position();
    grip_ = Grip::none;
    if (compares() && compare_->way() == Comparison::Way::wipe && event->button() == Qt::LeftButton &&
        std::abs(grip_at_.x() - compare_->wipe() * width()) < kGripPx) {
        grip_ = Grip::wipe;
        return;
    }
    if (tool_ && tool_->press(event)) return;
    if (event->button() == Qt::MiddleButton) {
        grip_ = mode() == ViewMode::window ? Grip::look : Grip::pan;
    } else if (event->button() == Qt::LeftButton) {
        if (mode() == ViewMode::lens) {
            grip_ = lens_grip(grip_at_);
        } else if (mode() == ViewMode::sheet) {
            const Shot* shot = session_.shot();
            const auto cells = sheet_cells(shot ? shot->rig.cameras.size() : 0);
            for (std::size_t i = 0; i < cells.size(); ++i)
                if (cells[i].contains(grip_at_)) session_.select_camera(shot->rig.cameras[i].id);
        } else if (drag_use_ == DragUse::level && session_.shot()) {
            grip_direction_ = direction_at(grip_at_);
            grip_orientation_ = turn_of(orientation_at(*session_.shot(), session_.playhead()));
            if (grip_direction_) grip_ = Grip::level;
        } else if (mode() == ViewMode::down && (event->modifiers() & Qt::ShiftModifier)) {
            grip_ = Grip::flat_turn;
        } else if (mode() == ViewMode::down && (event->modifiers() & Qt::ControlModifier)) {
            grip_direction_ = direction_at(grip_at_);
            if (grip_direction_) grip_ = Grip::flat_aim;
        } else {
            grip_ = mode() == ViewMode::window ? Grip::look : Grip::pan;
        }
    }
    if (grip_ == Grip::look) setCursor(Qt::ClosedHandCursor);
}

void PictureArea::mouseMoveEvent(QMouseEvent* event) {
    pointer_ = event->position();
    if ((distances_ || distance_steps_) && shows_sphere(mode())) update();
    if (tool_ && grip_ == Grip::none && tool_->move(event)) return;
    const QPointF at = event->position();
    const QPointF moved = at - grip_at_;
    const bool near_rim = magnifies();
    hover_ = at;
    if (mode() == ViewMode::lens && (near_rim || magnifies())) {
        update();
        if (near_rim != magnifies()) ask(false); // closer pixels for the magnifier
    }
    switch (grip_) {
    case Grip::none:
        if (mode() == ViewMode::lens) {
            const Grip over = lens_grip(at);
            setCursor(draws()                     ? resting_cursor()
                      : over == Grip::circle_rim  ? Qt::SizeFDiagCursor
                      : over == Grip::circle_move ? Qt::SizeAllCursor
                                                  : resting_cursor());
        }
        return;
    case Grip::look: {
        const double deg_per_px = view_.fov_deg / width();
        const Turn& look = view_.look;
        grip_at_ = at;
        set_look({look.yaw_deg - moved.x() * deg_per_px, look.pitch_deg + moved.y() * deg_per_px, 0},
                 view_.fov_deg);
        return;
    }
    case Grip::pan: {
        ViewState panned = view();
        panned.pan_by(moved);
        view_.pan = panned.pan;
        grip_at_ = at;
        ask(true);
        return;
    }
    case Grip::flat_turn: {
        const QPointF middle(width() / 2.0, height() / 2.0), a = grip_at_ - middle, b = at - middle;
        const double turned = degrees(std::atan2(b.y(), b.x()) - std::atan2(a.y(), a.x()));
        grip_at_ = at;
        set_flat_look(turn_of(rotation_of(view_.flat) * rotation_of({0, 0, -turned})), view_.flat_deg);
        return;
    }
    case Grip::flat_aim: {
        const auto now = direction_at(at);
        if (!now || !grip_direction_) return;
        // What was gripped stays under the pointer.
        set_flat_look(turn_of(rotation_between(*now, *grip_direction_) * rotation_of(view_.flat)),
                      view_.flat_deg);
        return;
    }
    case Grip::level:
        drag_level(at);
        return;
    case Grip::circle_move:
    case Grip::circle_rim:
        drag_circle(at);
        return;
    case Grip::wipe:
        compare_->set_wipe(at.x() / std::max(1, width()));
        return;
    }
}

void PictureArea::mouseReleaseEvent(QMouseEvent* event) {
    if (tool_ && grip_ == Grip::none && tool_->release(event)) return;
    if (grip_ == Grip::level || grip_ == Grip::circle_move || grip_ == Grip::circle_rim) session_.end_drag();
    if (grip_ != Grip::none && grip_ != Grip::wipe) ask(false);
    grip_ = Grip::none;
    setCursor(resting_cursor());
}

void PictureArea::mouseDoubleClickEvent(QMouseEvent* event) {
    if (tool_ && tool_->double_click(event)) return;
    if (mode() == ViewMode::sheet)
        set_mode(ViewMode::lens);
    else if (mode() == ViewMode::map && drag_use_ == DragUse::look) {
        if (const auto d = direction_at(event->position())) {
            view_.look = turn_towards(*d);
            emit look_changed();
            set_mode(ViewMode::window);
        }
    } else if (drag_use_ == DragUse::level && session_.shot()) {
        if (const auto d = direction_at(event->position())) {
            const double yaw = degrees(std::atan2(d->x(), d->z()));
            session_.edit_shot("Face what was clicked", [yaw](Shot& s) {
                turn_all(s, rotation_of({-yaw, 0, 0}));
            });
        }
    }
}

void PictureArea::drag_level(const QPointF& to) {
    const auto now = direction_at(to);
    if (!now || !grip_direction_) return;
    Mat3 turn;
    if (level_hold_ == LevelHold::pitch_and_roll) {
        const double yaw =
            std::atan2(now->x(), now->z()) - std::atan2(grip_direction_->x(), grip_direction_->z());
        turn = rotation_about(Vec3(0, 1, 0), yaw);
    } else {
        turn = rotation_between(*grip_direction_, *now);
    }
    const Mat3 orientation = turn * rotation_of(grip_orientation_);
    session_.edit_shot(
        "Level by dragging",
        [&](Shot& s) {
            if (orientation_moves(s))
                set_orientation(s, session_.playhead(), orientation);
            else
                s.levelling.orientation = turn_of(orientation);
        },
        "drag-level");
}

void PictureArea::drag_circle(const QPointF& to) {
    const Camera* c = selected();
    const QRectF r = view().lens_rect();
    if (!c || r.isEmpty()) return;
    const double scale = c->lens.width / r.width();
    ImageCircle circle = c->lens.circle;
    if (grip_ == Grip::circle_rim) {
        const QPointF centre = lens_point(circle.center_px);
        circle.radius_px = std::max(8.0, std::hypot(to.x() - centre.x(), to.y() - centre.y()) * scale);
        edit_circle(circle, "Size the image circle of ");
    } else {
        circle.center_px += Vec2((to.x() - grip_at_.x()) * scale, (to.y() - grip_at_.y()) * scale);
        grip_at_ = to;
        edit_circle(circle, "Move the image circle of ");
    }
}

void PictureArea::edit_circle(const ImageCircle& circle, const QString& label) {
    const std::string id = selected()->id;
    session_.edit_shot(
        label + QString::fromStdString(id),
        [&](Shot& s) { set_circle(find_camera(s.rig, id)->lens, circle); }, "drag-circle");
}

void PictureArea::zoom_at(const QPointF& at, double factor) {
    ViewState zoomed = view();
    zoomed.zoom_at(at, factor);
    view_.zoom = zoomed.zoom, view_.pan = zoomed.pan;
    ask(true);
}

void PictureArea::wheelEvent(QWheelEvent* event) {
    const double steps = event->angleDelta().y() / 120.0;
    if (steps == 0) return;
    if (mode() == ViewMode::window)
        set_look(view_.look, view_.fov_deg * std::pow(0.92, steps));
    else if (mode() == ViewMode::down && (event->modifiers() & Qt::ControlModifier))
        set_flat_look(view_.flat, view_.flat_deg * std::pow(0.92, steps));
    else if (mode() != ViewMode::sheet)
        zoom_at(event->position(), std::pow(1.2, steps));
    event->accept();
}

void PictureArea::keyPressEvent(QKeyEvent* event) {
    const double step = event->modifiers() & Qt::ShiftModifier ? 1 : 5;
    const QPointF middle(width() / 2.0, height() / 2.0);
    const auto arrow = arrow_of(*event);
    if (event->key() == Qt::Key_Escape && loop_.is_on()) return toggle_loop();
    if (tool_ && tool_->key(event)) return;
    if (mode() == ViewMode::window) {
        const Turn& look = view_.look;
        if (arrow)
            return set_look({look.yaw_deg + step * arrow->x(), look.pitch_deg - step * arrow->y(), 0},
                            view_.fov_deg);
        if (event->key() == Qt::Key_Plus) return set_look(look, view_.fov_deg * 0.9);
        if (event->key() == Qt::Key_Minus) return set_look(look, view_.fov_deg / 0.9);
    } else if (mode() == ViewMode::down && arrow) {
        // Sideways turns it, up and down makes it narrower and wider.
        const Mat3 turned = rotation_of(view_.flat) * rotation_of({0, 0, step * arrow->x()});
        return set_flat_look(turn_of(turned), view_.flat_deg * std::pow(1.0 + 0.01 * step, arrow->y()));
    } else if (const Camera* c = selected(); mode() == ViewMode::lens && c) {
        // The circle by keys: arrows move it a pixel, [ and ] size it; with Shift a tenth.
        const double px = event->modifiers() & Qt::ShiftModifier ? 0.1 : 1;
        ImageCircle circle = c->lens.circle;
        if (arrow) circle.center_px += px * *arrow;
        switch (event->key()) {
        case Qt::Key_BracketLeft:
        case Qt::Key_BraceLeft:
            circle.radius_px = std::max(8.0, circle.radius_px - px);
            break;
        case Qt::Key_BracketRight:
        case Qt::Key_BraceRight:
            circle.radius_px += px;
            break;
        case Qt::Key_Plus:
            return zoom_at(middle, 1.25);
        case Qt::Key_Minus:
            return zoom_at(middle, 0.8);
        default:
            if (!arrow) return QWidget::keyPressEvent(event);
        }
        return edit_circle(circle, "Move the image circle of ");
    } else if (event->key() == Qt::Key_Plus) {
        return zoom_at(middle, 1.25);
    } else if (event->key() == Qt::Key_Minus) {
        return zoom_at(middle, 0.8);
    }
    QWidget::keyPressEvent(event);
}

void PictureArea::tabletEvent(QTabletEvent* event) {
    event->setAccepted(tool_ && tool_->pen(event));
}

void PictureArea::leaveEvent(QEvent* event) {
    pointer_ = QPointF(-1, -1);
    if (tool_ && tool_->is_painting()) update(); // its brush is gone with it
    QWidget::leaveEvent(event);
}

} // namespace porb::app
