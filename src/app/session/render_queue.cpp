#include "app/session/render_queue.h"

#include "base/error.h"

#include <QMetaObject>

namespace porb::app {

RenderQueue::RenderQueue(std::shared_ptr<CacheBound> memory, QObject* parent)
    : QObject(parent), memory_(std::move(memory)) {}

RenderQueue::~RenderQueue() {
    cancel_.raise();
    if (worker_.joinable()) worker_.join();
}

void RenderQueue::add(const ProjectPtr& project, const std::string& deliverable) {
    std::erase_if(jobs_, [&](const Job& j) {
        return j.deliverable == deliverable && j.state != State::running && j.state != State::waiting;
    });
    for (const auto& j : jobs_)
        if (j.deliverable == deliverable) return; // already under way
    jobs_.push_back({deliverable, project, State::waiting, {}, {}});
    emit changed();
    start_next();
}

const RenderQueue::Job* RenderQueue::job(const std::string& deliverable) const {
    for (auto it = jobs_.rbegin(); it != jobs_.rend(); ++it)
        if (it->deliverable == deliverable) return &*it;
    return nullptr;
}

int RenderQueue::count(State state) const {
    return int(std::count_if(jobs_.begin(), jobs_.end(), [&](const Job& j) { return j.state == state; }));
}

void RenderQueue::stop(const std::string& deliverable) {
    for (auto& j : jobs_) {
        if (j.deliverable != deliverable) continue;
        if (j.state == State::waiting) j.state = State::stopped;
        if (j.state == State::running) cancel_.raise();
    }
    emit changed();
}

void RenderQueue::start_next() {
    if (running_) return;
    for (std::size_t i = 0; i < jobs_.size(); ++i) {
        if (jobs_[i].state != State::waiting) continue;
        if (worker_.joinable()) worker_.join();
        Job& job = jobs_[i];
        const std::string id = job.deliverable;
        job.state = State::running;
        running_ = true;
        cancel_ = Cancel();
        worker_ = std::thread([this, project = job.project, id, memory = memory_, cancel = cancel_] {
            State state = State::done;
            QString words;
            try {
                const auto d = std::find_if(project->deliverables.begin(), project->deliverables.end(),
                                            [&](const Deliverable& x) { return x.id == id; });
                const Shot* shot = find_shot(*project, d->shot);
                if (!shot) throw Error("has no shot", d->name, "Choose one in Master");
                Composer composer(render_library(*project, *shot, memory, render_size(*d)));
                auto last = std::chrono::steady_clock::time_point();
                render(
                    composer, *project, *d,
                    [&](const RenderProgress& p) {
                        const auto now = std::chrono::steady_clock::now();
                        if (p.frames_done < p.frames && now - last < std::chrono::milliseconds(100)) return;
                        last = now;
                        QMetaObject::invokeMethod(
                            this,
                            [this, id, p] {
                                for (auto& j : jobs_)
                                    if (j.deliverable == id && j.state == State::running) j.progress = p;
                                emit changed();
                            },
                            Qt::QueuedConnection);
                    },
                    cancel);
                for (const auto& remark :
                     source_remarks(*project, *find_shot(*project, d->shot), composer.library()))
                    words += (words.isEmpty() ? "" : " ") + QString::fromStdString(remark);
            } catch (const Cancelled&) {
                state = State::stopped;
            } catch (const std::exception& e) {
                state = State::failed;
                words = QString::fromStdString(words_of(e));
            }
            QMetaObject::invokeMethod(
                this, [this, state, words] { ended(state, words); }, Qt::QueuedConnection);
        });
        emit changed();
        return;
    }
}

void RenderQueue::ended(State state, const QString& words) {
    running_ = false;
    for (auto& j : jobs_) {
        if (j.state != State::running) continue;
        j.state = state;
        j.words = words;
        const auto d = std::find_if(j.project->deliverables.begin(), j.project->deliverables.end(),
                                    [&](const Deliverable& x) { return x.id == j.deliverable; });
        const QString name = QString::fromStdString(d->path.filename().string());
        if (state == State::done)
            emit finished(words.isEmpty() ? "Rendered " + name : "Rendered " + name + ". " + words, true);
        else if (state == State::failed)
            emit finished(words, false);
        else
            emit finished("Stopped " + name + "; nothing was left behind", true);
    }
    emit changed();
    start_next();
}

} // namespace porb::app
