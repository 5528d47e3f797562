#include "app/picture/picture_area.h"

#include "app/picture/comparison.h"
#include "app/widgets/theme.h"
#include "base/angle.h"
#include "optics/eye_pairs.h"
#include "project/span.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>

namespace porb::app {

namespace {
constexpr int kFlickerMs = 280, kTurnsMs = 500;
constexpr int kRestMs = 140;     // after the last movement, the full picture
constexpr double kCoarse = 0.45; // of the size, while something moves
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
    turns_.setInterval(kTurnsMs);
    connect(&turns_, &QTimer::timeout, this, [this] {
        right_now_ = !right_now_;
        update();
    });
    connect(&loop_, &LoopPlayer::changed, this, &PictureArea::loop_changed);
    connect(&loop_, &LoopPlayer::changed, this, qOverload<>(&QWidget::update));
    connect(&loop_, &LoopPlayer::progressed, this, qOverload<>(&QWidget::update));
    connect(&loop_, &LoopPlayer::showing, this, [this](const PictureAnswer& picture) {
        answer_ = picture;
        settled_ = true;
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
        if (tool_ && tool_->is_painting()) return ask(false);
        const bool flow_stays = shot && shot->seams.flow == flow_asked_;
        if (!playing_) return ask(true, flow_stays);
        // Plans and what is read ahead are those of playing. Distances follow when the value rests: anything
        // may match seven moments anew.
        if (flow_stays) since_edit_.start();
        ask(false, playing_open_ || flow_stays);
    });
    connect(&session_, &Session::playhead_changed, this,
            [this] { ask(!playing_, !playing_ || playing_open_ || was_just_edited()); });
    connect(&session_, &Session::selection_changed, this, [this] {
        if (mode() == ViewMode::lens || mode() == ViewMode::sheet)
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
    if (view_.mode == mode) return;
    view_.mode = mode;
    view_.fit();
    answer_ = {};
    mode_since_ = number_;
    setCursor(resting_cursor());
    emit mode_changed();
    ask(true);
}

void PictureArea::set_eyes(EyesLook look) {
    if (eyes_ == look) return;
    eyes_ = look;
    view_.eye = eye_of(look);
    view_.beside = shows_beside(look);
    right_now_ = false;
    if (look == EyesLook::by_turns)
        turns_.start();
    else
        turns_.stop();
    emit eyes_changed();
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
    if (tool_ == tool) return;
    tool_ = tool;
    setCursor(resting_cursor());
    emit tool_changed();
    update();
}
bool PictureArea::draws() const {
    return tool_ && tool_->cursor() != Qt::ArrowCursor;
}
Qt::CursorShape PictureArea::resting_cursor() const {
    return draws() ? tool_->cursor() : mode() == ViewMode::window ? Qt::OpenHandCursor : Qt::ArrowCursor;
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
void PictureArea::set_playing(bool on, bool every_frame) {
    every_frame_ = every_frame;
    playing_ = on;
    closed_frames_ = 0;
    set_playing_open(false);
    if (!on) service_.rest(), ask(false); // in full, now that it rests
}
void PictureArea::set_proxies(bool on) {
    if (proxies_ == on) return;
    proxies_ = on;
    ask(false);
}
bool PictureArea::was_just_edited() const {
    return since_edit_.isValid() && since_edit_.elapsed() < kRestMs;
}
int PictureArea::shown_proxy_level() const {
    return answer_.view ? answer_.view->proxy_level : 0;
}
void PictureArea::set_playing_open(bool on) {
    if (playing_open_ == on) return;
    playing_open_ = on;
    emit playing_open_changed();
}
void PictureArea::reset_look() {
    view_.fit();
    set_look({}, 90);
}
void PictureArea::set_look(const Turn& look, double fov_deg) {
    view_.look_at(look, fov_deg);
    emit look_changed();
    ask(true);
}

void PictureArea::set_flat_look(const Turn& look, double across_deg) {
    view_.look_flat(look, across_deg);
    if (mode() == ViewMode::down) ask(true);
}

void PictureArea::show_whole() {
    view_.fit();
    ask(true);
}

void PictureArea::set_patches(bool on) {
    if (patches_ == on) return;
    patches_ = on;
    emit patches_changed();
    ask(false);
}

const Camera* PictureArea::selected() const {
    const Shot* shot = session_.shot();
    if (!shot || shot->rig.cameras.empty()) return nullptr;
    const Camera* c = find_camera(shot->rig, session_.selected_camera());
    return c ? c : &shot->rig.cameras.front();
}

ViewState PictureArea::view() const {
    ViewState v = view_;
    v.size = size();
    if (const Shot* shot = session_.shot()) v.half_map = is_half_sphere_pair(shot->rig);
    if (const Camera* c = selected()) v.lens = QSizeF(c->lens.width, c->lens.height);
    return v;
}

std::optional<PictureRequest> PictureArea::wanted(bool moving, bool without_flow) {
    const Shot* shot = session_.shot();
    PictureRequest request;
    request.project = session_.project();
    request.shot = shot->id;
    request.time = session_.playhead();
    request.number = ++number_;
    const ViewState view = this->view();
    request.view =
        view.view(devicePixelRatioF() * (moving ? kCoarse : 1), moving ? Filter::linear : Filter::cubic);
    if (view.mode == ViewMode::rig || view.mode == ViewMode::pair) return std::nullopt;
    if (request.view) request.view->patches = patches_;
    if (flicker_.isActive() && request.view && neighbour()) {
        Project one = *request.project;
        const std::string shown = second_side_ ? neighbour()->id : selected()->id;
        for (auto& c : find_shot(one, shot->id)->cameras) c.used = c.camera == shown;
        request.project = std::make_shared<const Project>(std::move(one));
    }
    if (request.view && compare_->is_on() && !moving) request.other = compare_->other();
    request.eyes = eyes_;
    request.trust = trust_ && !moving;
    request.distances = distances_ && !(moving && playing_);
    request.distance_steps = distance_steps_ && !moving;
    request.proxies = proxies_ && (playing_ || (moving && request.time != asked_time_));
    using Plays = PictureRequest::Plays;
    request.plays = !playing_ ? Plays::no : every_frame_ ? Plays::every_frame : Plays::in_time;
    asked_time_ = request.time;
    request.may_be_stopped = !moving && !playing_ && !(tool_ && tool_->is_painting());
    flow_asked_ = shot->seams.flow;
    if (request.view && ((without_flow && shot->seams.flow.on) || (moving && shot->look.denoise.on))) {
        // One value for as long as it is asked for: who plays makes a frame again when its project changed.
        if (quick_of_ != request.project || quick_without_flow_ != without_flow) {
            Project quick = *request.project;
            Shot& q = *find_shot(quick, shot->id);
            if (without_flow) q.seams.flow.on = false; // drawn eyes see the agree distance then
            q.look.denoise.on = false;
            quick_ = std::make_shared<const Project>(std::move(quick));
            quick_of_ = request.project;
            quick_without_flow_ = without_flow;
        }
        request.project = quick_;
    }
    if (view.mode == ViewMode::lens && selected()) {
        const QRectF lens = view.lens_rect();
        request.cameras = {selected()->id};
        request.longest_side =
            int(std::max(lens.width(), lens.height()) * devicePixelRatioF() * (magnifies() ? 3 : 1));
    } else if (view.mode == ViewMode::sheet) {
        for (const auto& c : shot->rig.cameras) request.cameras.push_back(c.id);
        request.longest_side = int(width() * devicePixelRatioF() /
                                   std::max<double>(1, std::ceil(std::sqrt(double(request.cameras.size())))));
    }
    return request;
}

void PictureArea::ask(bool moving, bool without_flow) {
    settled_ = false;
    loop_.stop();
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

void PictureArea::set_distances(bool on) {
    if (distances_ == on) return;
    distances_ = on;
    emit distances_changed();
    ask(false);
}

void PictureArea::set_distance_steps(bool on) {
    if (distance_steps_ == on) return;
    distance_steps_ = on;
    ask(false);
}

void PictureArea::start_loop() {
    const Shot* shot = session_.shot();
    if (!shot || !shows_sphere(mode()))
        return session_.say("Only the map and the window play a loop.", Signal::care);
    const auto request = wanted(false, false);
    const FrameRate rate = shot->timing.rate;
    const Span span = used_span(*session_.project(), *shot, *session_.library());
    const Seconds middle = session_.playhead(), half = Rational(1, 2);
    std::vector<Seconds> times;
    for (Seconds t = middle - frame_time(frame_index(half, rate), rate); t <= middle + half;
         t = t + Rational(1) / rate)
        if (t >= span.in && t < span.out) times.push_back(t);
    if (!request || times.empty()) return;
    if (!loop_.start(*request, std::move(times), rate, session_.library()))
        session_.say("The loop before is just ending: once more.", Signal::care);
}

void PictureArea::toggle_loop() {
    if (!loop_.is_on()) return start_loop();
    ask(false); // which ends it
}

void PictureArea::take(const PictureAnswer& answer) {
    // Once for each source of a shot: as more of its pictures are read the figures in the remark change.
    if (answer.shot != remarked_) remarks_ = 0;
    if (answer.remarks.size() > remarks_) session_.say(answer.remarks.last(), Signal::care);
    remarked_ = answer.shot;
    remarks_ = answer.remarks.size();
    if (answer.number > number_ || answer.number <= mode_since_ || loop_.pictures() > 0) return;
    const bool composed = answer.view.has_value();
    if (composed != shows_sphere(mode())) return;
    // Eight frames a second are the least that shows how things move. The first one makes what others use.
    // From proxies now and then one makes a moment that others ask, so the last few are taken together; from
    // the sources those that come after a slow one are slower still.
    constexpr double kSlowest_ms = 125;
    const int together = answer.view && answer.view->proxy_level > 0 ? 4 : 1;
    if (playing_ && composed && !playing_open_ && session_.shot() && session_.shot()->seams.flow.on) {
        ++closed_frames_;
        const double share = 1.0 / std::clamp(closed_frames_ - 1, 1, together);
        frame_ms_ += share * (answer.milliseconds - frame_ms_);
        if (closed_frames_ > together && frame_ms_ > kSlowest_ms) set_playing_open(true);
    }
    answer_ = answer;
    ++shown_;
    settled_ = answer.number == number_ && !rest_.isActive();
    update();
}

void PictureArea::resizeEvent(QResizeEvent*) {
    update_empty();
    ask(true);
}

} // namespace porb::app
