#pragma once

#include "app/session/background_job.h"
#include "app/session/session.h"
#include "stereo/findings.h"

namespace porb::app {

/// What was measured between the eyes of the shot at work. What changes where both converge, or the comfort
/// budget, leaves it true; whatever else changes a picture makes it out of date.
class EyeMeasures : public QObject {
    Q_OBJECT
  public:
    explicit EyeMeasures(Session& session, QObject* parent = nullptr);
    BackgroundJob& job() { return job_; }
    /// Over the shot's used part, on a thread and with decoders of its own; `then` is told when all is there.
    void measure(std::function<void()> then = {});
    /// As the shot converges now; empty while nothing true was measured.
    const std::vector<EyeMoment>& moments() const;
    const std::vector<EyeSummary>& summaries() const;    ///< of the same
    bool is_out_of_date() const { return out_of_date_; } ///< something was measured, of another state
    /// Of the settings and of what was measured.
    std::vector<EyeFinding> findings();

  signals:
    void changed();

  private:
    void follow();
    Session& session_;
    BackgroundJob job_;
    std::vector<EyeMoment> found_;      ///< of then_
    std::vector<EyeMoment> now_;        ///< as the shot converges
    std::vector<EyeSummary> summaries_; ///< of now_
    std::vector<EyeFinding> measured_;  ///< likewise
    std::vector<EyeFinding> of_settings_;
    std::optional<Shot> checked_;        ///< of of_settings_, without where its eyes converge
    Shot then_;                          ///< of found_
    std::optional<StereoSettings> seen_; ///< of now_
    bool out_of_date_ = false;
    std::shared_ptr<MediaLibrary> library_;
};

} // namespace porb::app
