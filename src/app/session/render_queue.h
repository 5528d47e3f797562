#pragma once

#include "master/render.h"

#include <QObject>

#include <map>
#include <thread>

namespace porb::app {

/// Renders deliverables one after the other in the background, each from the project as it was when it was
/// queued.
class RenderQueue : public QObject {
    Q_OBJECT
  public:
    enum class State { waiting, running, done, failed, stopped };
    struct Job {
        std::string deliverable; ///< id
        ProjectPtr project;
        State state = State::waiting;
        RenderProgress progress;
        QString words; ///< why it failed
    };

    explicit RenderQueue(std::shared_ptr<CacheBound> memory, QObject* parent = nullptr);
    ~RenderQueue() override;
    void add(const ProjectPtr& project, const std::string& deliverable);
    void stop(const std::string& deliverable);
    const Job* job(const std::string& deliverable) const; ///< the latest for it, or nullptr
    bool is_busy() const { return running_; }
    int count(State state) const;

  signals:
    void changed();
    void finished(const QString& words, bool good);

  private:
    void start_next();
    void ended(State state, const QString& words);

    std::shared_ptr<CacheBound> memory_;
    std::vector<Job> jobs_;
    std::size_t current_ = 0;
    bool running_ = false;
    Cancel cancel_;
    std::thread worker_;
};

} // namespace porb::app
