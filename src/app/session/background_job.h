#pragma once

#include "base/progress.h"

#include <QObject>

#include <deque>
#include <functional>
#include <thread>

namespace porb::app {

/// Long work on a thread of its own, one at a time: told about as it goes, stopped at will; what it returns
/// is run on the window's thread and makes the edit.
class BackgroundJob : public QObject {
    Q_OBJECT
  public:
    using Tell = std::function<void(double share, const QString& doing)>;
    using Finish = std::function<void()>;
    using Work = std::function<Finish(const Tell&, const Cancel&)>;

    explicit BackgroundJob(QObject* parent = nullptr) : QObject(parent) {}
    ~BackgroundJob() override { cancel_.raise(); }
    bool is_running() const { return running_; }
    void start(Work work); ///< nothing happens while another runs
    void add(Work work);   ///< starts when those before have ended
    /// The one that runs, and those that wait for it.
    void stop() {
        waiting_.clear();
        cancel_.raise();
    }

  signals:
    void running_changed(bool runs);
    void progressed(double share, const QString& doing);
    void ended(const QString& error, bool stopped);

  private:
    Cancel cancel_;
    bool running_ = false;
    std::deque<Work> waiting_;
    std::jthread thread_;
};

} // namespace porb::app
