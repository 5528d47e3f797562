#include "app/picture_area.h"

#include "app/comparison.h"
#include "app/theme.h"
#include "base/angle.h"
#include "project/span.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>

namespace porb::app {

namespace {
constexpr int kFlickerMs = 280;
constexpr int kRestMs = 140;     // after the last movement, the full picture
constexpr double kCoarse = 0.45; // of the size, while something moves
constexpr double kLeastFov = 20, kMostFov = 140;
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

    compare_ = new Comparison(session_, this);
    compare_->move(10, 10);
    connect(compare_, &Comparison::other_changed, this, [this] { ask(false); });
    connect(compare_, &Comparison::look_changed, this, [this] { update(); });

    flicker_.setInterval(kFlickerMs);
    connect(&flicker_, &QTimer::timeout, this, [this] {
        second_side_ = !second_side_;
        ask(false);
    });
    connect(&loop_timer_, &QTimer::timeout, this, &PictureArea::next_of_loop);
    connect(&loop_job_, &BackgroundJob::progressed, this, [this](double share) {
        loop_done_ = share;
        update();
    });
    rest_.setSingleShot(true);
    rest_.setInterval(kRestMs);
    connect(&rest_, &QTimer::timeout, this, [this] { ask(false); });
    connect(&service_, &PictureService::ready, this, &PictureArea::take);
    connect(&session_, &Session::project_changed, this, [this] {
        update_empty();
        // Only who drags flow's own settings waits for it: anything else may change its zones, which take
        // long.
        const Shot* shot = session_.shot();
        ask(true, shot && shot->flow == flow_asked_);
    });
    connect(&session_, &Session::playhead_changed, this,
            [this] { ask(!playing_, !playing_ || playing_open_); });
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
void PictureArea::set_coverage(bool on) {
    coverage_ = on;
    update();
}
void PictureArea::set_supply(bool on) {
    supply_ = on;
    update();
}
void PictureArea::set_tool(PictureTool* tool) {
    tool_ = tool;
    unsetCursor();
    update();
}
void PictureArea::set_flicker(bool on) {
    second_side_ = false;
    if (on)
        flicker_.start();
    else
        flicker_.stop();
    ask(false);
}
const Camera* PictureArea::neighbour() const {
    const Camera* chosen = selected();
    const Camera* best = nullptr;
    double nearest = -2;
    if (!chosen) return nullptr;
    const Vec3 axis = rotation_of(chosen->pose.turn) * Vec3(0, 0, 1);
    for (const auto& c : session_.shot()->rig.cameras) {
        const double near = axis.dot(rotation_of(c.pose.turn) * Vec3(0, 0, 1));
        if (c.id != chosen->id && near > nearest) nearest = near, best = &c;
    }
    return best;
}
void PictureArea::set_playing(bool on) {
    playing_ = on;
    slow_frames_ = 0;
    set_playing_open(false);
    if (!on) ask(false); // in full, now that it rests
}
void PictureArea::set_playing_open(bool on) {
    if (playing_open_ == on) return;
    playing_open_ = on;
    emit playing_open_changed();
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

Vec2 PictureArea::lens_pixel(const QPointF& point) const {
    const QRectF r = lens_rect();
    const Camera* c = selected();
    if (!c || r.isEmpty()) return {0, 0};
    return {(point.x() - r.left()) / r.width() * c->lens.width,
            (point.y() - r.top()) / r.height() * c->lens.height};
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

std::optional<PictureRequest> PictureArea::wanted(bool moving, bool without_flow) {
    const Shot* shot = session_.shot();
    PictureRequest request;
    request.project = session_.project();
    request.shot = shot->id;
    request.time = session_.playhead();
    request.number = ++number_;
    request.view = wanted_view(moving ? kCoarse : 1);
    if (mode_ == ViewMode::rig || mode_ == ViewMode::pair) return std::nullopt;
    if (flicker_.isActive() && request.view && neighbour()) {
        Project one = *request.project;
        const std::string shown = second_side_ ? neighbour()->id : selected()->id;
        for (auto& c : find_shot(one, shot->id)->cameras) c.used = c.camera == shown;
        request.project = std::make_shared<const Project>(std::move(one));
    }
    if (request.view && compare_->is_on() && !moving) request.other = compare_->other();
    request.trust = trust_ && !moving;
    request.may_be_stopped = !moving && !playing_;
    flow_asked_ = shot->flow;
    if (request.view && ((without_flow && shot->flow.on) || (moving && shot->denoise.on))) {
        Project quick = *request.project;
        Shot& q = *find_shot(quick, shot->id);
        if (without_flow) q.flow.on = false;
        q.denoise.on = false;
        request.project = std::make_shared<const Project>(std::move(quick));
    }
    if (mode_ == ViewMode::lens && selected()) {
        request.cameras = {selected()->id};
        request.longest_side = int(std::max(lens_rect().width(), lens_rect().height()) * devicePixelRatioF() *
                                   (magnifies() ? 3 : 1));
    } else if (mode_ == ViewMode::sheet) {
        for (const auto& c : shot->rig.cameras) request.cameras.push_back(c.id);
        request.longest_side = int(width() * devicePixelRatioF() /
                                   std::max<double>(1, std::ceil(std::sqrt(double(request.cameras.size())))));
    }
    return request;
}

void PictureArea::ask(bool moving, bool without_flow) {
    settled_ = false;
    set_loop(false);
    const Shot* shot = session_.shot();
    if (!shot || width() < 8 || height() < 8) {
        answer_ = {};
        settled_ = !shot;
        update();
        return;
    }
    auto request = wanted(moving, without_flow);
    if (!request) {
        settled_ = true;
        return;
    }
    if (!request->view && request->cameras.empty()) return;
    service_.ask(std::move(*request));
    if (moving)
        rest_.start();
    else
        rest_.stop();
    update();
}

void PictureArea::set_trust(bool on) {
    if (trust_ == on) return;
    trust_ = on;
    emit trust_changed();
    ask(false);
}

void PictureArea::set_loop(bool on) {
    if (looping_ == on) return;
    const Shot* shot = session_.shot();
    if (on && (!shot || (mode_ != ViewMode::map && mode_ != ViewMode::window)))
        return session_.say("Only the map and the window play a loop.", Signal::care);
    looping_ = on;
    loop_done_ = 0;
    loop_timer_.stop();
    loop_job_.stop();
    emit loop_changed();
    if (!on) {
        reel_.clear();
        update();
        return;
    }
    const auto request = wanted(false, false);
    const Span span = used_span(*session_.project(), *shot, *session_.library());
    std::vector<Seconds> times;
    const Seconds frame = Rational(1) / shot->rate;
    for (Seconds t = session_.playhead() - frame_time(frame_index(Rational(1, 2), shot->rate), shot->rate);
         t <= session_.playhead() + Rational(1, 2); t = t + frame)
        if (t >= span.in && t < span.out) times.push_back(t);
    if (!request || times.empty()) {
        looping_ = false;
        emit loop_changed();
        return;
    }
    loop_timer_.setInterval(std::max(10, int(1000 / shot->rate.to_double())));
    if (loop_job_.is_running()) { // of the loop before: it ends soon
        looping_ = false;
        emit loop_changed();
        return session_.say("The loop before is just ending: once more.", Signal::care);
    }
    loop_job_.start([this, request = *request, times, library = session_.library()](
                        const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        Composer composer(library);
        auto made = std::make_shared<std::vector<PictureAnswer>>();
        for (const Seconds t : times) {
            cancel.check();
            PictureRequest one = request;
            one.time = t;
            made->push_back(answer_to(one, composer));
            tell(double(made->size()) / double(times.size()), {});
        }
        return [this, made] {
            if (!looping_) return;
            reel_ = std::move(*made);
            reel_at_ = 0;
            next_of_loop();
            loop_timer_.start();
        };
    });
    update();
}

void PictureArea::toggle_loop() {
    const bool was = looping_;
    set_loop(!was);
    if (was) ask(false);
}

void PictureArea::next_of_loop() {
    if (reel_.empty()) return;
    answer_ = reel_[reel_at_];
    reel_at_ = (reel_at_ + 1) % reel_.size();
    settled_ = true;
    update();
}

void PictureArea::take(const PictureAnswer& answer) {
    // Once for each source of a shot: as more of its pictures are read the figures in the remark change.
    if (answer.shot != remarked_) remarks_ = 0;
    if (answer.remarks.size() > remarks_) session_.say(answer.remarks.last(), Signal::care);
    remarked_ = answer.shot;
    remarks_ = answer.remarks.size();
    if (answer.number > number_ || !reel_.empty()) return;
    const bool composed = answer.view.has_value();
    if (composed != (mode_ == ViewMode::map || mode_ == ViewMode::window)) return;
    if (composed && (answer.view->target.kind == TargetKind::window) != (mode_ == ViewMode::window)) return;
    // Eight frames a second are the least that shows how things move; the first of them makes what others
    // use.
    constexpr double kSlowest_ms = 125;
    constexpr int kSlowFrames = 2;
    if (playing_ && composed && !playing_open_ && session_.shot() && session_.shot()->flow.on) {
        slow_frames_ = answer.milliseconds > kSlowest_ms ? slow_frames_ + 1 : 0;
        if (slow_frames_ >= kSlowFrames) set_playing_open(true);
    }
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

void PictureArea::resizeEvent(QResizeEvent*) {
    update_empty();
    ask(true);
}

} // namespace porb::app
