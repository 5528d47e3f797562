#include "app/picture_area.h"

#include "app/theme.h"
#include "base/angle.h"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QLabel>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QPushButton>

namespace porb::app {

namespace {
constexpr int kRestMs = 140;     // after the last movement, the full picture
constexpr double kCoarse = 0.45; // of the size, while something moves
constexpr double kMostZoom = 24, kLeastFov = 20, kMostFov = 140;
constexpr double kGripPx = 12;
} // namespace

PictureArea::PictureArea(Session& session, PictureService& service, QWidget* parent)
    : QWidget(parent), session_(session), service_(service) {
    setObjectName("picture_area");
    setMinimumSize(320, 180);
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setAttribute(Qt::WA_OpaquePaintEvent);
    setAccessibleName("Picture");

    empty_ = new QWidget(this);
    auto* column = new QVBoxLayout(empty_);
    auto* title = new QLabel("Drop the files of a take here");
    title->setProperty("role", "title");
    auto* words = new QLabel("One file with two image circles, or one file for each camera:\nvideo, stills, "
                             "or numbered pictures.");
    words->setProperty("role", "hint");
    words->setAlignment(Qt::AlignCenter);
    auto* buttons = new QHBoxLayout;
    auto* add = new QPushButton("Add files…");
    add->setProperty("role", "main");
    auto* demo = new QPushButton("Open the demo take");
    buttons->addStretch();
    buttons->addWidget(add);
    buttons->addWidget(demo);
    buttons->addStretch();
    column->addWidget(title, 0, Qt::AlignCenter);
    column->addWidget(words, 0, Qt::AlignCenter);
    column->addLayout(buttons);
    connect(add, &QPushButton::clicked, this, &PictureArea::add_files_wanted);
    connect(demo, &QPushButton::clicked, this, &PictureArea::demo_wanted);

    rest_.setSingleShot(true);
    rest_.setInterval(kRestMs);
    connect(&rest_, &QTimer::timeout, this, [this] { ask(false); });
    connect(&service_, &PictureService::ready, this, &PictureArea::take);
    connect(&session_, &Session::project_changed, this, [this] {
        update_empty();
        ask(true);
    });
    connect(&session_, &Session::playhead_changed, this, [this] { ask(!playing_); });
    connect(&session_, &Session::selection_changed, this, [this] {
        if (mode_ == ViewMode::lens || mode_ == ViewMode::sheet)
            ask(true);
        else
            update();
    });
    update_empty();
}

void PictureArea::update_empty() {
    empty_->setVisible(!session_.shot());
    empty_->adjustSize();
    empty_->move((width() - empty_->width()) / 2, (height() - empty_->height()) / 2);
}

void PictureArea::set_mode(ViewMode mode) {
    if (mode_ == mode) return;
    mode_ = mode;
    zoom_ = 1;
    pan_ = {0.5, 0.5};
    answer_ = {};
    setCursor(mode == ViewMode::window ? Qt::OpenHandCursor : Qt::ArrowCursor);
    emit mode_changed();
    ask(true);
}

void PictureArea::set_eye(Eye eye) {
    eye_ = eye;
    ask(true);
}
void PictureArea::set_footprints(bool on) {
    footprints_ = on;
    update();
}
void PictureArea::set_overlaps(bool on) {
    overlaps_ = on;
    update();
}
void PictureArea::set_playing(bool on) {
    playing_ = on;
    if (!on) ask(false);
}
void PictureArea::reset_look() {
    zoom_ = 1;
    pan_ = {0.5, 0.5};
    set_look({}, 90);
}
void PictureArea::set_look(const Turn& look, double fov_deg) {
    look_ = {wrapped_deg(look.yaw_deg), std::clamp(look.pitch_deg, -90.0, 90.0), look.roll_deg};
    fov_deg_ = std::clamp(fov_deg, kLeastFov, kMostFov);
    emit look_changed();
    ask(true);
}

const Camera* PictureArea::selected() const {
    const Shot* shot = session_.shot();
    if (!shot || shot->rig.cameras.empty()) return nullptr;
    const Camera* c = find_camera(shot->rig, session_.selected_camera());
    return c ? c : &shot->rig.cameras.front();
}

bool PictureArea::half_map() const {
    const Shot* shot = session_.shot();
    return shot && std::any_of(shot->rig.cameras.begin(), shot->rig.cameras.end(),
                               [](const Camera& c) { return c.eyes != Eyes::both; });
}

QRectF PictureArea::map_rect() const {
    const double aspect = half_map() ? 1 : 2;
    const double fit = std::min<double>(width(), height() * aspect);
    const double w = fit * zoom_, h = w / aspect;
    return {width() / 2.0 - pan_.x() * w, height() / 2.0 - pan_.y() * h, w, h};
}

QRectF PictureArea::lens_rect() const {
    const Camera* c = selected();
    if (!c) return {};
    const double fit = std::min(double(width()) / c->lens.width, double(height()) / c->lens.height) * zoom_;
    const double w = c->lens.width * fit, h = c->lens.height * fit;
    return {width() / 2.0 - pan_.x() * w, height() / 2.0 - pan_.y() * h, w, h};
}

QPointF PictureArea::lens_point(const Vec2& pixel) const {
    const QRectF r = lens_rect();
    const Camera* c = selected();
    if (!c) return {};
    return {r.left() + pixel.x() / c->lens.width * r.width(),
            r.top() + pixel.y() / c->lens.height * r.height()};
}

std::optional<View> PictureArea::wanted_view(double scale) const {
    View view;
    view.eye = eye_;
    view.filter = scale < 1 ? Filter::linear : Filter::cubic;
    const double dpr = devicePixelRatioF() * scale;
    if (mode_ == ViewMode::window) {
        view.target = window_target(std::max(16, int(width() * dpr)), std::max(16, int(height() * dpr)),
                                    look_, fov_deg_);
        return view;
    }
    if (mode_ != ViewMode::map) return std::nullopt;
    const QRectF rect = map_rect();
    const int w = std::clamp(int(std::lround(rect.width() * dpr / 4)) * 4, 64, 32768);
    view.target = half_map() ? half_sphere_target(w) : equirect_target(w);
    // Only what is on the widget, snapped to whole pixels of the map.
    const QRectF seen = rect.intersected(QRectF(this->rect()));
    if (seen.isEmpty()) return std::nullopt;
    const double k = w / rect.width();
    const int x0 = std::max(0, int(std::floor((seen.left() - rect.left()) * k))),
              y0 = std::max(0, int(std::floor((seen.top() - rect.top()) * k)));
    const int x1 = std::min(view.target.width, int(std::ceil((seen.right() - rect.left()) * k)));
    const int y1 = std::min(view.target.height, int(std::ceil((seen.bottom() - rect.top()) * k)));
    if (x1 <= x0 || y1 <= y0) return std::nullopt;
    view.region = {x0, y0, x1 - x0, y1 - y0};
    return view;
}

void PictureArea::ask(bool moving) {
    settled_ = false;
    const Shot* shot = session_.shot();
    if (!shot || width() < 8 || height() < 8) {
        answer_ = {};
        settled_ = !shot;
        update();
        return;
    }
    PictureRequest request;
    request.project = session_.project();
    request.shot = shot->id;
    request.time = session_.playhead();
    request.number = ++number_;
    request.view = wanted_view(moving ? kCoarse : 1);
    if (mode_ == ViewMode::lens && selected()) {
        request.cameras = {selected()->id};
        request.longest_side = int(std::max(lens_rect().width(), lens_rect().height()) * devicePixelRatioF());
    } else if (mode_ == ViewMode::sheet) {
        for (const auto& c : shot->rig.cameras) request.cameras.push_back(c.id);
        request.longest_side = int(width() * devicePixelRatioF() /
                                   std::max<double>(1, std::ceil(std::sqrt(double(request.cameras.size())))));
    }
    if (!request.view && request.cameras.empty()) return;
    service_.ask(std::move(request));
    if (moving)
        rest_.start();
    else
        rest_.stop();
    update();
}

void PictureArea::take(const PictureAnswer& answer) {
    if (answer.number > number_) return;
    const bool composed = answer.view.has_value();
    if (composed != (mode_ == ViewMode::map || mode_ == ViewMode::window)) return;
    if (composed && (answer.view->target.kind == TargetKind::window) != (mode_ == ViewMode::window)) return;
    answer_ = answer;
    settled_ = answer.number == number_ && !rest_.isActive();
    update();
}

std::optional<QPointF> PictureArea::point_of(const Vec3& direction) const {
    if (mode_ == ViewMode::window) {
        const auto p = TargetMap(window_target(width(), height(), look_, fov_deg_)).pixel(direction);
        if (!p) return std::nullopt;
        return QPointF(p->x(), p->y());
    }
    const QRectF r = map_rect();
    const Target target = half_map() ? half_sphere_target(1000) : equirect_target(1000);
    const auto p = TargetMap(target).pixel(direction);
    if (!p) return std::nullopt;
    return QPointF(r.left() + p->x() / target.width * r.width(),
                   r.top() + p->y() / target.height * r.height());
}

std::optional<Vec3> PictureArea::direction_at(const QPointF& point) const {
    if (mode_ == ViewMode::window)
        return TargetMap(window_target(width(), height(), look_, fov_deg_)).direction({point.x(), point.y()});
    if (mode_ != ViewMode::map) return std::nullopt;
    const QRectF r = map_rect();
    if (!r.contains(point)) return std::nullopt;
    const Target target = half_map() ? half_sphere_target(1000) : equirect_target(1000);
    return TargetMap(target).direction({(point.x() - r.left()) / r.width() * target.width,
                                        (point.y() - r.top()) / r.height() * target.height});
}

// ---- gestures ----

PictureArea::Grip PictureArea::lens_grip(const QPointF& at) const {
    const Camera* c = selected();
    if (!c || mode_ != ViewMode::lens) return Grip::none;
    const QPointF centre = lens_point(c->lens.circle.center_px);
    const double scale = lens_rect().width() / c->lens.width;
    const double from_centre = std::hypot(at.x() - centre.x(), at.y() - centre.y());
    if (std::abs(from_centre - c->lens.circle.radius_px * scale) < kGripPx) return Grip::circle_rim;
    if (from_centre < 2 * kGripPx) return Grip::circle_move;
    return Grip::pan;
}

void PictureArea::mousePressEvent(QMouseEvent* event) {
    grip_at_ = event->position();
    grip_ = Grip::none;
    if (event->button() == Qt::MiddleButton) {
        grip_ = mode_ == ViewMode::window ? Grip::look : Grip::pan;
    } else if (event->button() == Qt::LeftButton) {
        if (mode_ == ViewMode::lens) {
            grip_ = lens_grip(grip_at_);
        } else if (mode_ == ViewMode::sheet) {
            const Shot* shot = session_.shot();
            const auto cells = sheet_cells(shot ? shot->rig.cameras.size() : 0);
            for (std::size_t i = 0; i < cells.size(); ++i)
                if (cells[i].contains(grip_at_)) session_.select_camera(shot->rig.cameras[i].id);
        } else if (drag_use_ == DragUse::level && session_.shot()) {
            grip_direction_ = direction_at(grip_at_);
            grip_orientation_ = session_.shot()->orientation;
            if (grip_direction_) grip_ = Grip::level;
        } else {
            grip_ = mode_ == ViewMode::window ? Grip::look : Grip::pan;
        }
    }
    if (grip_ == Grip::look) setCursor(Qt::ClosedHandCursor);
}

void PictureArea::mouseMoveEvent(QMouseEvent* event) {
    const QPointF at = event->position();
    const QPointF moved = at - grip_at_;
    switch (grip_) {
    case Grip::none:
        if (mode_ == ViewMode::lens) {
            const Grip over = lens_grip(at);
            setCursor(over == Grip::circle_rim    ? Qt::SizeFDiagCursor
                      : over == Grip::circle_move ? Qt::SizeAllCursor
                                                  : Qt::ArrowCursor);
        }
        return;
    case Grip::look: {
        const double deg_per_px = fov_deg_ / width();
        grip_at_ = at;
        set_look({look_.yaw_deg - moved.x() * deg_per_px, look_.pitch_deg + moved.y() * deg_per_px, 0},
                 fov_deg_);
        return;
    }
    case Grip::pan: {
        const QRectF r = mode_ == ViewMode::lens ? lens_rect() : map_rect();
        if (r.isEmpty()) return;
        pan_ = {std::clamp(pan_.x() - moved.x() / r.width(), 0.0, 1.0),
                std::clamp(pan_.y() - moved.y() / r.height(), 0.0, 1.0)};
        if (zoom_ <= 1) pan_ = {0.5, 0.5};
        grip_at_ = at;
        ask(true);
        return;
    }
    case Grip::level:
        drag_level(at);
        return;
    case Grip::circle_move:
    case Grip::circle_rim:
        drag_circle(at);
        return;
    case Grip::reach:
        return;
    }
}

void PictureArea::mouseReleaseEvent(QMouseEvent*) {
    if (grip_ == Grip::level || grip_ == Grip::circle_move || grip_ == Grip::circle_rim) session_.end_drag();
    if (grip_ != Grip::none) ask(false);
    grip_ = Grip::none;
    setCursor(mode_ == ViewMode::window ? Qt::OpenHandCursor : Qt::ArrowCursor);
}

void PictureArea::mouseDoubleClickEvent(QMouseEvent* event) {
    if (mode_ == ViewMode::sheet)
        set_mode(ViewMode::lens);
    else if (mode_ == ViewMode::map && drag_use_ == DragUse::look) {
        if (const auto d = direction_at(event->position())) {
            look_ = {degrees(std::atan2(d->x(), d->z())), degrees(std::asin(std::clamp(-d->y(), -1.0, 1.0))),
                     0};
            emit look_changed();
            set_mode(ViewMode::window);
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
    const Turn orientation = turn_of(turn * rotation_of(grip_orientation_));
    session_.edit_shot(
        "Level by dragging", [&](Shot& s) { s.orientation = orientation; }, "drag-level");
}

void PictureArea::drag_circle(const QPointF& to) {
    const Camera* c = selected();
    const QRectF r = lens_rect();
    if (!c || r.isEmpty()) return;
    const double scale = c->lens.width / r.width();
    const std::string id = c->id;
    if (grip_ == Grip::circle_rim) {
        const QPointF centre = lens_point(c->lens.circle.center_px);
        const double radius = std::hypot(to.x() - centre.x(), to.y() - centre.y()) * scale;
        const double fov_deg = field_of_view_deg(c->lens);
        session_.edit_shot(
            "Size the image circle of " + QString::fromStdString(id),
            [&](Shot& s) {
                Lens& lens = find_camera(s.rig, id)->lens;
                lens.circle.radius_px = std::max(8.0, radius);
                // The glass keeps its field of view; its focal length follows the circle.
                lens.focal_px = focal_for_field_of_view(lens, fov_deg);
            },
            "drag-circle");
    } else {
        const Vec2 by((to.x() - grip_at_.x()) * scale, (to.y() - grip_at_.y()) * scale);
        grip_at_ = to;
        session_.edit_shot(
            "Move the image circle of " + QString::fromStdString(id),
            [&](Shot& s) {
                Lens& lens = find_camera(s.rig, id)->lens;
                lens.circle.center_px += by;
                lens.center_px += by;
            },
            "drag-circle");
    }
}

void PictureArea::zoom_at(const QPointF& at, double factor) {
    const QRectF before = mode_ == ViewMode::lens ? lens_rect() : map_rect();
    if (before.isEmpty()) return;
    const double u = (at.x() - before.left()) / before.width(), v = (at.y() - before.top()) / before.height();
    zoom_ = std::clamp(zoom_ * factor, 1.0, kMostZoom);
    const QRectF after = mode_ == ViewMode::lens ? lens_rect() : map_rect();
    pan_ = {std::clamp(pan_.x() + (after.left() + u * after.width() - at.x()) / after.width(), 0.0, 1.0),
            std::clamp(pan_.y() + (after.top() + v * after.height() - at.y()) / after.height(), 0.0, 1.0)};
    if (zoom_ <= 1) pan_ = {0.5, 0.5};
    ask(true);
}

void PictureArea::wheelEvent(QWheelEvent* event) {
    const double steps = event->angleDelta().y() / 120.0;
    if (steps == 0) return;
    if (mode_ == ViewMode::window)
        set_look(look_, fov_deg_ * std::pow(0.92, steps));
    else if (mode_ != ViewMode::sheet)
        zoom_at(event->position(), std::pow(1.2, steps));
    event->accept();
}

void PictureArea::keyPressEvent(QKeyEvent* event) {
    const double step = event->modifiers() & Qt::ShiftModifier ? 1 : 5;
    const QPointF middle(width() / 2.0, height() / 2.0);
    if (mode_ == ViewMode::window) {
        switch (event->key()) {
        case Qt::Key_Left:
            return set_look({look_.yaw_deg - step, look_.pitch_deg, 0}, fov_deg_);
        case Qt::Key_Right:
            return set_look({look_.yaw_deg + step, look_.pitch_deg, 0}, fov_deg_);
        case Qt::Key_Up:
            return set_look({look_.yaw_deg, look_.pitch_deg + step, 0}, fov_deg_);
        case Qt::Key_Down:
            return set_look({look_.yaw_deg, look_.pitch_deg - step, 0}, fov_deg_);
        case Qt::Key_Plus:
            return set_look(look_, fov_deg_ * 0.9);
        case Qt::Key_Minus:
            return set_look(look_, fov_deg_ / 0.9);
        default:
            break;
        }
    } else if (event->key() == Qt::Key_Plus) {
        return zoom_at(middle, 1.25);
    } else if (event->key() == Qt::Key_Minus) {
        return zoom_at(middle, 0.8);
    }
    QWidget::keyPressEvent(event);
}

void PictureArea::resizeEvent(QResizeEvent*) {
    update_empty();
    ask(true);
}

// ---- drawing ----

void PictureArea::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.fillRect(rect(), colour::surround);
    p.setRenderHint(QPainter::SmoothPixmapTransform);
    if (!session_.shot()) return;
    if (mode_ == ViewMode::sheet)
        paint_sheet(p);
    else if (mode_ == ViewMode::lens)
        paint_lens(p);
    else
        paint_composed(p);
    paint_words(p);
}

void PictureArea::paint_composed(QPainter& p) {
    if (!answer_.images.empty() && answer_.view && !answer_.images[0].isNull()) {
        const View& v = *answer_.view;
        QRectF to(rect());
        if (mode_ == ViewMode::map) {
            const QRectF r = map_rect();
            const double k = r.width() / v.target.width;
            to = QRectF(r.left() + v.region.x * k, r.top() + v.region.y * k, v.region.width * k,
                        v.region.height * k);
        }
        // Where no lens sees, a quiet hatching tells a hole from black.
        p.fillRect(to, QBrush(colour::line, Qt::BDiagPattern));
        p.drawImage(to, answer_.images[0]);
    }
    paint_overlays(p);
}

void PictureArea::paint_overlays(QPainter& p) {
    if (!footprints_ && !overlaps_) return;
    View view;
    view.eye = eye_;
    if (mode_ == ViewMode::window)
        view.target = window_target(width(), height(), look_, fov_deg_);
    else
        view.target = half_map() ? half_sphere_target(1000) : equirect_target(1000);
    const PlanKey key = plan_key(*session_.shot(), view);
    if (overlay_key_ != key) {
        overlay_key_ = key;
        overlay_ = make_overlays(key);
    }
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    const QRectF r = mode_ == ViewMode::window ? QRectF(rect()) : map_rect();
    const double k = r.width() / view.target.width;
    if (overlaps_) p.drawImage(r, overlay_.overlaps);
    if (footprints_)
        for (const auto& lens : overlay_.lenses) {
            const auto& id = session_.shot()->cameras[lens.camera].camera;
            const bool chosen = selected() && id == selected()->id;
            const QColor c = colour::lens(int(lens.camera));
            p.setBrush(Qt::NoBrush);
            for (const auto& line : lens.outline) {
                QPolygonF at;
                for (const auto& q : line) at << QPointF(r.left() + q.x() * k, r.top() + q.y() * k);
                p.setPen(QPen(QColor(0, 0, 0, 120), chosen ? 4.5 : 3));
                p.drawPolyline(at);
                p.setPen(QPen(c, chosen ? 2.5 : 1.4));
                p.drawPolyline(at);
            }
            if (lens.centre) {
                const QPointF q(r.left() + lens.centre->x() * k, r.top() + lens.centre->y() * k);
                p.setPen(QPen(c, 1.8));
                p.drawLine(q - QPointF(7, 0), q + QPointF(7, 0));
                p.drawLine(q - QPointF(0, 7), q + QPointF(0, 7));
                const QRectF tag(q.x() + 6, q.y() + 5, 14 + 7.0 * double(id.size()), 17);
                p.setPen(Qt::NoPen);
                p.setBrush(QColor(0, 0, 0, 150));
                p.drawRoundedRect(tag, 3, 3);
                p.setPen(c);
                p.drawText(tag, Qt::AlignCenter, QString::fromStdString(id));
            }
        }
    p.restore();
}

void PictureArea::paint_lens(QPainter& p) {
    const Camera* c = selected();
    if (!c) return;
    const QRectF r = lens_rect();
    p.fillRect(r, Qt::black);
    if (!answer_.images.empty() && !answer_.images[0].isNull()) p.drawImage(r, answer_.images[0]);
    p.setRenderHint(QPainter::Antialiasing);
    const double scale = r.width() / c->lens.width;
    const auto ring = [&](const Vec2& centre, double radius, const QPen& pen) {
        const QPointF at = lens_point(centre);
        p.setBrush(Qt::NoBrush);
        p.setPen(QPen(QColor(0, 0, 0, 140), pen.widthF() + 2));
        p.drawEllipse(at, radius * scale, radius * scale);
        p.setPen(pen);
        p.drawEllipse(at, radius * scale, radius * scale);
    };
    const Shot& shot = *session_.shot();
    int index = 0;
    for (std::size_t i = 0; i < shot.rig.cameras.size(); ++i)
        if (shot.rig.cameras[i].id == c->id) index = int(i);
    const QColor colour = colour::lens(index);
    ring(c->lens.circle.center_px, c->lens.circle.radius_px, QPen(colour, 2));
    const LensMap map(c->lens);
    if (const ShotCamera* use = find_camera(shot, c->id); use && radians(use->reach_deg) < map.theta_max())
        ring(c->lens.center_px, map.radius(radians(use->reach_deg)), QPen(colour, 1.2, Qt::DashLine));
    // Handles: a square on the rim at lower right, a cross at the lens's own centre.
    const QPointF rim =
        lens_point(c->lens.circle.center_px + c->lens.circle.radius_px * Vec2(0.7071, 0.7071));
    p.setPen(QPen(QColor(0, 0, 0, 160), 1));
    p.setBrush(colour);
    p.drawRect(QRectF(rim.x() - 5, rim.y() - 5, 10, 10));
    const QPointF centre = lens_point(c->lens.center_px);
    p.setPen(QPen(colour, 1.8));
    p.drawLine(centre - QPointF(10, 0), centre + QPointF(10, 0));
    p.drawLine(centre - QPointF(0, 10), centre + QPointF(0, 10));
    if (answer_.images.empty() || answer_.images[0].isNull()) {
        p.setPen(colour::muted);
        p.drawText(r, Qt::AlignCenter,
                   answer_.error.isEmpty() && !answer_.number
                       ? ""
                       : "No picture for camera " + QString::fromStdString(c->id) + " at this time");
    }
}

std::vector<QRectF> PictureArea::sheet_cells(std::size_t count) const {
    std::vector<QRectF> cells;
    const Shot* shot = session_.shot();
    if (!shot || count == 0) return cells;
    int best = 1;
    double best_area = 0;
    const double aspect = double(shot->rig.cameras[0].lens.width) / shot->rig.cameras[0].lens.height;
    for (int columns = 1; columns <= int(count); ++columns) { // the grid whose pictures are largest
        const int rows = (int(count) + columns - 1) / columns;
        const double w = double(width()) / columns, h = double(height()) / rows - 22;
        const double used = std::min(w, h * aspect);
        if (used > best_area) {
            best_area = used;
            best = columns;
        }
    }
    const int rows = (int(count) + best - 1) / best;
    const double w = double(width()) / best, h = double(height()) / rows;
    for (int i = 0; i < int(count); ++i)
        cells.emplace_back((i % best) * w + 4, (i / best) * h + 4, w - 8, h - 8);
    return cells;
}

void PictureArea::paint_sheet(QPainter& p) {
    const Shot& shot = *session_.shot();
    const auto cells = sheet_cells(shot.rig.cameras.size());
    p.setRenderHint(QPainter::Antialiasing);
    for (std::size_t i = 0; i < cells.size(); ++i) {
        const Camera& c = shot.rig.cameras[i];
        const ShotCamera* use = find_camera(shot, c.id);
        const Media* media = use ? find_media(*session_.project(), use->media) : nullptr;
        const bool chosen = selected() && c.id == selected()->id;
        const QRectF cell = cells[i];
        const QRectF room = cell.adjusted(0, 0, 0, -22);
        const double aspect = double(c.lens.width) / c.lens.height;
        const double w = std::min(room.width(), room.height() * aspect);
        const QRectF r(room.center().x() - w / 2, room.center().y() - w / aspect / 2, w, w / aspect);
        p.fillRect(r, Qt::black);
        if (i < answer_.images.size() && !answer_.images[i].isNull()) {
            p.drawImage(r, answer_.images[i]);
        } else {
            p.setPen(colour::muted);
            p.drawText(r, Qt::AlignCenter,
                       media ? (answer_.images.empty() ? "" : "no picture at this time")
                             : "no source yet: assign one in Gather");
        }
        const double k = w / c.lens.width;
        p.setClipRect(r);
        p.setBrush(Qt::NoBrush);
        p.setPen(QPen(colour::lens(int(i)), chosen ? 2.5 : 1.4));
        p.drawEllipse(
            QPointF(r.left() + c.lens.circle.center_px.x() * k, r.top() + c.lens.circle.center_px.y() * k),
            c.lens.circle.radius_px * k, c.lens.circle.radius_px * k);
        p.setClipping(false);
        p.setPen(chosen ? colour::accent : colour::text);
        const QString name = media ? QString::fromStdString(media->ref.path.filename().string()) : "—";
        p.drawText(QRectF(cell.left(), cell.bottom() - 20, cell.width(), 20), Qt::AlignCenter,
                   QString::fromStdString(c.id) + "   " + name);
        if (chosen) {
            p.setPen(QPen(colour::accent, 1));
            p.drawRect(r);
        }
    }
}

void PictureArea::paint_words(QPainter& p) {
    const auto badge = [&](const QString& text, Qt::Alignment where, const QColor& c) {
        QRectF box = p.fontMetrics().boundingRect(QRect(0, 0, std::max(80, width() - 80), height()),
                                                  Qt::TextWordWrap, text);
        box.adjust(-10, -5, 10, 5);
        box.moveLeft(where & Qt::AlignLeft    ? 10
                     : where & Qt::AlignRight ? width() - box.width() - 10
                                              : (width() - box.width()) / 2);
        box.moveTop(where & Qt::AlignTop      ? 10
                    : where & Qt::AlignBottom ? height() - box.height() - 10
                                              : (height() - box.height()) / 2);
        p.setPen(Qt::NoPen);
        p.setBrush(QColor(0x1d, 0x1d, 0x1d, 205));
        p.drawRoundedRect(box, 4, 4);
        p.setPen(c);
        p.drawText(box, Qt::AlignCenter | Qt::TextWordWrap, text);
    };
    if (!answer_.error.isEmpty()) badge(answer_.error, Qt::AlignCenter, colour::stop);
    const Shot& shot = *session_.shot();
    const bool assigned = std::any_of(shot.cameras.begin(), shot.cameras.end(),
                                      [](const ShotCamera& c) { return !c.media.empty(); });
    if (!assigned && mode_ != ViewMode::sheet)
        badge("No camera has a source yet. Assign files to cameras in Gather.", Qt::AlignCenter,
              colour::care);
    if (mode_ == ViewMode::window)
        badge(QString("yaw %1°   pitch %2°   field of view %3°")
                  .arg(look_.yaw_deg, 0, 'f', 1)
                  .arg(look_.pitch_deg, 0, 'f', 1)
                  .arg(fov_deg_, 0, 'f', 0),
              Qt::AlignBottom | Qt::AlignRight, colour::muted);
    else if (zoom_ > 1.001)
        badge(QString("%1 ×").arg(zoom_, 0, 'f', 1), Qt::AlignBottom | Qt::AlignRight, colour::muted);
}

} // namespace porb::app
