#pragma once

#include "app/picture/picture_service.h"
#include "app/session/background_job.h"
#include "app/stations/ground/patch_choice.h"

namespace porb::app {

/// Long work on the chosen patch, one at a time: what it returns changes the patch, if that is still there.
class GroundJobs : public QObject {
    Q_OBJECT
  public:
    GroundJobs(Session& session, PictureService& service, PatchChoice& choice, QObject* parent = nullptr);
    BackgroundJob& job() { return job_; }

    /// What a job sees: values that nobody changes under it.
    struct Site {
        const Project& project;
        const Shot& shot;
        const Patch& patch;
        std::size_t index;
        Seconds time; ///< the playhead
        Seconds in, out;
        Composer& composer;
        std::function<void(double)> tell;
        const Cancel& cancel;
    };
    struct Outcome {
        std::function<void(Patch&)> change; ///< or none
        QString words;                      ///< for the person; may be empty
    };
    using Work = std::function<Outcome(const Site&)>;
    /// `label`: of the step of undo; `doing`: beside the progress.
    void start(const QString& label, const QString& doing, Work work);
    /// The same for work that makes a new patch; it sees none, its patch is empty.
    void make(const QString& label, const QString& doing, std::function<Patch(const Site&)> work);

  private:
    Session& session_;
    PictureService& service_;
    PatchChoice& choice_;
    BackgroundJob job_;
};

} // namespace porb::app
