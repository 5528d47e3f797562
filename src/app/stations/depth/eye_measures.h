#pragma once

#include "app/session/background_job.h"
#include "app/session/session.h"
#include "stereo/findings.h"

#include <QTimer>

#include <list>
#include <mutex>

namespace porb::app {

/// What was measured between the eyes of the shot at work, kept by what its pictures depend on: an edit that
/// is taken back has its measures again. What changes where both converge, or the comfort budget, leaves them
/// true; whatever else changes a picture asks for others.
class EyeMeasures : public QObject {
    Q_OBJECT
  public:
    explicit EyeMeasures(Session& session, QObject* parent = nullptr);
    BackgroundJob& job() { return job_; }
    /// Over the shot's used part, on a thread and with decoders of its own, moment by moment; what is known
    /// already is not measured again. `then` is told when all is there.
    void measure(std::function<void()> then = {});
    /// While somebody looks, some moments of the shot are measured as soon as it rests.
    void set_looked_at(bool on);
    /// The playhead moved: what runs by itself waits.
    void disturb();
    /// Whether it is measured when it rests; kept from run to run.
    static bool by_themselves();
    static void set_by_themselves(bool on);

    /// What measures, with decoders of its own, so that playing does not wait for it; made when it is first
    /// asked for and kept. It opens files: not on the window's thread. Safe from any other.
    using ComposerOf = std::function<std::shared_ptr<Composer>(const Project&, const Shot&)>;
    ComposerOf composer();

    /// As the shot converges now, in order of time; empty while nothing true was measured.
    const std::vector<EyeMoment>& moments() const { return now_; }
    const std::vector<EyeSummary>& summaries() const { return summaries_; } ///< of the same
    const std::array<EyeSummary, 6>& regions() const { return regions_; }   ///< of all of them
    bool has_two_eyes() const;                           ///< the shot; else there is nothing to compare
    bool is_out_of_date() const { return out_of_date_; } ///< something was measured, of another state alone
    const std::vector<EyeFinding>& findings_of_settings();
    /// Of the settings and of what was measured.
    std::vector<EyeFinding> findings();
    int state() const { return state_; } ///< another number whenever these are of another state of the shot
    const std::vector<EyeFinding>& worst() const { return worst_; } ///< places; worst_places()

  signals:
    void changed();

  private:
    struct Measured {
        Shot state; ///< what its pictures depend on
        Shot then;  ///< the shot itself
        std::vector<EyeMoment> moments;
    };
    void follow();
    void rest();
    void pause(); ///< what was measured stays
    void run(std::size_t most, std::function<void()> then);
    void take(const Shot& measured, EyeMoment moment);
    Measured* measured_of(const Shot& state);

    Session& session_;
    BackgroundJob job_;
    QTimer rest_;
    bool looked_at_ = false, by_itself_ = false, refused_ = false, paused_ = false;
    Shot running_;                      ///< the state that the job measures
    std::list<Measured> kept_;          ///< the latest used first
    std::vector<EyeMoment> now_;        ///< as the shot converges
    std::vector<EyeSummary> summaries_; ///< of now_
    std::array<EyeSummary, 6> regions_;
    std::vector<EyeFinding> measured_, worst_; ///< likewise
    std::vector<EyeFinding> of_settings_;
    std::optional<Shot> checked_;        ///< of of_settings_, without where its eyes converge
    std::optional<StereoSettings> seen_; ///< of now_
    const Measured* shown_ = nullptr;    ///< of now_
    std::size_t shown_moments_ = 0;
    int state_ = 0;
    bool out_of_date_ = false;
    struct KeptComposer {
        std::mutex mutex;
        std::shared_ptr<Composer> made;
    };
    std::shared_ptr<KeptComposer> composer_ = std::make_shared<KeptComposer>();
};

} // namespace porb::app
