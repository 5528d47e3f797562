#include "app/stations/depth/eye_measures.h"

#include "master/render.h"
#include "project/span.h"

namespace porb::app {

namespace {
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
} // namespace

EyeMeasures::EyeMeasures(Session& session, QObject* parent) : QObject(parent), session_(session), job_(this) {
    connect(&session_, &Session::project_changed, this, &EyeMeasures::follow);
    connect(&session_, &Session::shot_changed, this, [this] {
        job_.stop();
        found_.clear();
        follow();
    });
}

void EyeMeasures::measure(std::function<void()> then) {
    const Shot* shot = session_.shot();
    if (!shot || job_.is_running()) return;
    const ProjectPtr project = session_.project();
    const Span span = used_span(*project, *shot, *session_.library());
    if (span.empty()) return session_.say("The shot has no sources to compare eyes of.", Signal::care);
    job_.start([this, project, id = shot->id, span, kept = library_, memory = session_.library()->bound(),
                then = std::move(then)](const BackgroundJob::Tell& tell,
                                        const Cancel& cancel) -> BackgroundJob::Finish {
        const Shot& measured = *find_shot(*project, id);
        // Of its own, so that playing does not wait for it; kept for the next time.
        const auto library = kept ? kept : render_library(*project, measured, memory, {1920, 2});
        Composer composer(library);
        const auto times = eye_times(span.in, span.out, measured.timing.rate, kEyeStep_s);
        std::vector<EyeMoment> moments;
        for (const Seconds t : times) {
            tell(double(moments.size()) / double(times.size()), "Comparing both eyes");
            moments.push_back(measure_eyes(composer, *project, measured, t, {}, cancel));
        }
        return [this, measured, library, moments = std::move(moments), then] {
            library_ = library;
            if (!session_.shot() || session_.shot()->id != measured.id) return;
            found_ = moments;
            then_ = measured;
            seen_.reset();
            follow();
            if (then) then();
        };
    });
}

void EyeMeasures::follow() {
    const Shot* shot = session_.shot();
    out_of_date_ = !found_.empty() && shot && !(picture_of(*shot) == picture_of(then_));
    if (!shot || found_.empty()) {
        now_.clear(), summaries_.clear(), measured_.clear();
        seen_.reset();
    } else if (!out_of_date_ && seen_ != shot->stereo) {
        seen_ = shot->stereo;
        now_ = found_;
        summaries_.clear();
        for (EyeMoment& m : now_) {
            const double turn =
                parallel_disparity_deg(then_, m.time, 0) - parallel_disparity_deg(*shot, m.time, 0);
            for (EyePlace& p : m.places) p.horizontal_deg += float(turn);
            summaries_.push_back(summary_of(m, *shot));
        }
        measured_ = eye_findings(*shot, now_);
    }
    emit changed();
}

const std::vector<EyeMoment>& EyeMeasures::moments() const {
    static const std::vector<EyeMoment> none;
    return out_of_date_ ? none : now_;
}

const std::vector<EyeSummary>& EyeMeasures::summaries() const {
    static const std::vector<EyeSummary> none;
    return out_of_date_ ? none : summaries_;
}

std::vector<EyeFinding> EyeMeasures::findings() {
    const Shot* shot = session_.shot();
    if (!shot) return {};
    // The sphere is looked through for them, which dragging convergence need not wait for.
    if (Shot now = picture_of(*shot); checked_ != now) {
        of_settings_ = eye_findings(*shot);
        checked_ = std::move(now);
    }
    std::vector<EyeFinding> out = of_settings_;
    if (!out_of_date_) out.insert(out.end(), measured_.begin(), measured_.end());
    return out;
}

} // namespace porb::app
