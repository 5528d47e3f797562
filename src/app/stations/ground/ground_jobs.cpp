#include "app/stations/ground/ground_jobs.h"

#include "project/span.h"

namespace porb::app {

GroundJobs::GroundJobs(Session& session, PictureService& service, PatchChoice& choice, QObject* parent)
    : QObject(parent), session_(session), service_(service), choice_(choice), job_(this) {}

void GroundJobs::start(const QString& label, const QString& doing, Work work) {
    const Patch* patch = choice_.patch();
    if (!patch) return session_.say("Choose a patch first, or make one.", Signal::care);
    if (job_.is_running())
        return session_.say("One thing at a time: stop what runs, or wait for it.", Signal::care);
    const ProjectPtr project = session_.project();
    const std::string id = session_.shot()->id, name = patch->name;
    const auto index = std::size_t(choice_.index());
    const Seconds time = session_.playhead();
    job_.start([this, project, id, name, index, time, label, doing, work = std::move(work)](
                   const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        tell(0, doing);
        const Shot& shot = *find_shot(*project, id);
        Composer& composer = service_.composer();
        const Span span = used_span(*project, shot, composer.library());
        const Outcome made = work({*project, shot, shot.patches[index], index, time, span.in, span.out,
                                   composer, [&](double share) { tell(share, doing); }, cancel});
        return [this, id, name, index, label, made] {
            const Shot* now = session_.shot();
            const bool there = now && now->id == id && index < now->patches.size() &&
                               std::as_const(*now).patches[index].name == name;
            if (made.change && !there) return session_.say_changed_meanwhile();
            if (made.change) session_.edit_shot(label, [&](Shot& s) { made.change(s.patches[index]); });
            if (!made.words.isEmpty()) session_.say(made.words);
        };
    });
}

void GroundJobs::make(const QString& label, const QString& doing, std::function<Patch(const Site&)> work) {
    if (!session_.shot()) return session_.say("There is no shot yet: Gather takes its files.", Signal::care);
    if (job_.is_running())
        return session_.say("One thing at a time: stop what runs, or wait for it.", Signal::care);
    const ProjectPtr project = session_.project();
    const std::string id = session_.shot()->id;
    const Seconds time = session_.playhead();
    job_.start([this, project, id, time, label, doing, work = std::move(work)](
                   const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        tell(0, doing);
        const Shot& shot = *find_shot(*project, id);
        Composer& composer = service_.composer();
        const Span span = used_span(*project, shot, composer.library());
        const Patch none;
        const Patch made = work({*project, shot, none, shot.patches.size(), time, span.in, span.out, composer,
                                 [&](double share) { tell(share, doing); }, cancel});
        return [this, id, label, made] {
            if (!session_.shot() || session_.shot()->id != id) return session_.say_changed_meanwhile();
            choice_.add(label, made);
        };
    });
}

} // namespace porb::app
