#include "app/stations/depth/eye_measures.h"

#include "master/render.h"
#include "project/span.h"

#include <QSettings>

namespace porb::app {

namespace {

constexpr int kRests_ms = 1500;
constexpr std::size_t kByItself = 24, kAll = std::size_t(-1); ///< moments
constexpr std::size_t kKeptStates = 6;
const char* const kByThemselves = "eyes/by_themselves";

/// What of a shot its eyes' pictures depend on, but for where they converge.
Shot picture_of(Shot shot) {
    shot.name.clear();
    shot.timing = {};
    shot.stereo.converge_m = 0;
    shot.stereo.keys.clear();
    shot.stereo.comfort = {};
    shot.look.grade = {};
    shot.seams.crossings.reset();
    shot.calibration = {};
    shot.extra_json.clear();
    return shot;
}

/// Spread over the whole first, then between: by the bits of the index, the last one first.
std::vector<Seconds> spread(const std::vector<Seconds>& times) {
    std::vector<Seconds> out;
    std::size_t power = 1;
    while (power < times.size()) power *= 2;
    for (std::size_t n = 0; n < power; ++n) {
        std::size_t index = 0;
        for (std::size_t bit = 1, back = power / 2; bit < power; bit *= 2, back /= 2)
            if (n & bit) index += back;
        if (index < times.size()) out.push_back(times[index]);
    }
    return out;
}

} // namespace

EyeMeasures::EyeMeasures(Session& session, QObject* parent) : QObject(parent), session_(session), job_(this) {
    rest_.setSingleShot(true);
    rest_.setInterval(kRests_ms);
    connect(&rest_, &QTimer::timeout, this, &EyeMeasures::rest);
    connect(&session_, &Session::project_changed, this, [this] {
        const Shot* shot = session_.shot();
        refused_ = false;
        if (job_.is_running() && (!shot || !(picture_of(*shot) == running_))) pause();
        follow();
        if (looked_at_) rest_.start();
    });
    connect(&session_, &Session::shot_changed, this, [this] {
        pause();
        refused_ = false;
        follow();
        if (looked_at_) rest_.start();
    });
    connect(&job_, &BackgroundJob::ended, this, [this](const QString& error, bool stopped) {
        // What went wrong was told, and who stopped it does not want it now.
        if (!error.isEmpty() || (stopped && !paused_)) refused_ = true;
        if (paused_ && looked_at_) rest_.start(); // it may have rested before this had ended
        paused_ = false;
    });
}

void EyeMeasures::pause() {
    if (!job_.is_running()) return;
    paused_ = true;
    job_.stop();
}

bool EyeMeasures::by_themselves() {
    return QSettings().value(kByThemselves, true).toBool();
}
void EyeMeasures::set_by_themselves(bool on) {
    QSettings().setValue(kByThemselves, on);
}

bool EyeMeasures::has_two_eyes() const {
    const Shot* shot = session_.shot();
    return shot && (shot->stereo.from == EyesFrom::distances ||
                    (shot->stereo.from == EyesFrom::cameras && eye_separation_m(shot->rig) > 0));
}

void EyeMeasures::set_looked_at(bool on) {
    looked_at_ = on;
    if (on) {
        rest_.start();
    } else {
        rest_.stop();
        if (by_itself_) pause();
    }
}

void EyeMeasures::disturb() {
    if (by_itself_) pause();
    if (looked_at_) rest_.start();
}

void EyeMeasures::rest() {
    if (!looked_at_ || job_.is_running() || refused_ || !by_themselves() || !has_two_eyes()) return;
    if (!missing_media(*session_.project()).empty()) return; // which is told where they are missed
    by_itself_ = true;
    run(kByItself, {});
}

void EyeMeasures::measure(std::function<void()> then) {
    if (job_.is_running() && !by_itself_) return;
    pause(); // what it has measured stays
    by_itself_ = false;
    run(kAll, std::move(then));
}

EyeMeasures::ComposerOf EyeMeasures::composer() {
    return
        [kept = composer_, memory = session_.library()->bound()](const Project& project, const Shot& shot) {
            const std::lock_guard lock(kept->mutex);
            if (!kept->made)
                kept->made = std::make_shared<Composer>(render_library(project, shot, memory, {1920, 2}));
            return kept->made;
        };
}

EyeMeasures::Measured* EyeMeasures::measured_of(const Shot& state) {
    for (auto m = kept_.begin(); m != kept_.end(); ++m)
        if (m->state == state) {
            kept_.splice(kept_.begin(), kept_, m);
            return &kept_.front();
        }
    return nullptr;
}

void EyeMeasures::run(std::size_t most, std::function<void()> then) {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const ProjectPtr project = session_.project();
    Span span;
    try {
        span = used_span(*project, *shot, *session_.library());
    } catch (const std::exception& e) {
        if (!by_itself_) session_.say(QString::fromStdString(words_of(e)), Signal::care);
        return;
    }
    if (span.empty()) {
        if (!by_itself_) session_.say("The shot has no sources to compare eyes of.", Signal::care);
        return;
    }
    Shot state = picture_of(*shot);
    const Measured* known = measured_of(state);
    std::vector<Seconds> times = spread(eye_times(span.in, span.out, shot->timing.rate, kEyeStep_s));
    times.resize(std::min(times.size(), most));
    std::erase_if(times, [&](Seconds t) {
        return known && std::any_of(known->moments.begin(), known->moments.end(),
                                    [&](const EyeMoment& m) { return m.time == t; });
    });
    if (times.empty()) {
        if (then) then();
        return;
    }
    running_ = std::move(state);
    job_.add([this, project, id = shot->id, times, composer_of = composer(), then = std::move(then)](
                 const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        const Shot& measured = *find_shot(*project, id);
        const auto composer = composer_of(*project, measured);
        for (std::size_t n = 0; n < times.size(); ++n) {
            tell(double(n) / double(times.size()), "Comparing both eyes");
            EyeMoment found = measure_eyes(*composer, *project, measured, times[n], {}, cancel);
            QMetaObject::invokeMethod(this, [this, project, id, found = std::move(found)] {
                take(*find_shot(*project, id), found);
            });
        }
        return [then] {
            if (then) then();
        };
    });
}

void EyeMeasures::take(const Shot& measured, EyeMoment moment) {
    const Shot state = picture_of(measured);
    Measured* into = measured_of(state);
    if (!into) {
        kept_.push_front({state, measured, {}});
        into = &kept_.front();
        if (kept_.size() > kKeptStates) {
            if (shown_ == &kept_.back()) shown_ = nullptr;
            kept_.pop_back();
        }
    }
    // Measures of one state may have been made while it converged in different ways.
    const double turn =
        parallel_disparity_deg(measured, moment.time, 0) - parallel_disparity_deg(into->then, moment.time, 0);
    for (EyePlace& p : moment.places) p.horizontal_deg += float(turn);
    const auto at = std::find_if(into->moments.begin(), into->moments.end(),
                                 [&](const EyeMoment& m) { return m.time >= moment.time; });
    if (at != into->moments.end() && at->time == moment.time)
        *at = std::move(moment);
    else
        into->moments.insert(at, std::move(moment));
    follow();
}

void EyeMeasures::follow() {
    const Shot* shot = session_.shot();
    const Measured* known = shot && !kept_.empty() ? measured_of(picture_of(*shot)) : nullptr;
    out_of_date_ = shot && !known && std::any_of(kept_.begin(), kept_.end(), [&](const Measured& m) {
                       return m.state.id == shot->id;
                   });
    if (!known) {
        now_.clear(), summaries_.clear(), measured_.clear(), worst_.clear();
        regions_ = {};
        seen_.reset();
        shown_ = nullptr;
    } else if (known != shown_ || known->moments.size() != shown_moments_ || seen_ != shot->stereo) {
        seen_ = shot->stereo;
        if (known != shown_) ++state_;
        shown_ = known, shown_moments_ = known->moments.size();
        now_ = known->moments;
        summaries_.clear();
        for (EyeMoment& m : now_) {
            const double turn =
                parallel_disparity_deg(known->then, m.time, 0) - parallel_disparity_deg(*shot, m.time, 0);
            for (EyePlace& p : m.places) p.horizontal_deg += float(turn);
            summaries_.push_back(summary_of(m, *shot));
        }
        regions_ = by_region(now_, *shot);
        measured_ = eye_findings(*shot, now_);
        worst_ = worst_places(*shot, now_);
    }
    emit changed();
}

const std::vector<EyeFinding>& EyeMeasures::findings_of_settings() {
    const Shot* shot = session_.shot();
    if (!shot) {
        of_settings_.clear();
        checked_.reset();
        return of_settings_;
    }
    // The sphere is looked through for them, which dragging convergence need not wait for.
    if (Shot now = picture_of(*shot); checked_ != now) {
        of_settings_ = eye_findings(*shot);
        checked_ = std::move(now);
    }
    return of_settings_;
}

std::vector<EyeFinding> EyeMeasures::findings() {
    std::vector<EyeFinding> out = findings_of_settings();
    out.insert(out.end(), measured_.begin(), measured_.end());
    return out;
}

} // namespace porb::app
