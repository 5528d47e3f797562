#pragma once

#include "app/picture/distance_view.h"
#include "app/picture/eyes_look.h"
#include "base/progress.h"
#include "media/read_ahead.h"
#include "stitch/compose.h"

#include <QImage>
#include <QObject>

#include <condition_variable>
#include <deque>
#include <mutex>
#include <optional>
#include <thread>

namespace porb::app {

/// A picture that someone wants to see: a composed view, or the sources of some cameras as they are.
struct PictureRequest {
    ProjectPtr project;
    std::string shot;
    Seconds time{0};
    std::optional<View> view;         ///< composed when set
    EyesLook eyes = EyesLook::mono;   ///< of both: the view is made for each
    ProjectPtr other;                 ///< the same view of this one too, when set
    std::vector<std::string> cameras; ///< else these cameras' sources
    int longest_side = 0;             ///< sources are halved while they stay at least this long
    bool trust = false;               ///< where distances found are trusted, too
    bool distances = false;           ///< laid over the pictures as colours
    bool distance_steps = false;      ///< where they step
    /// It plays: pictures after this one will be asked for, every frame or as many as can be shown in time.
    enum class Plays { no, in_time, every_frame } plays = Plays::no;
    bool proxies = false;        ///< will do where there are such
    bool may_be_stopped = false; ///< for another that is asked for meanwhile: nothing moves or plays
    quint64 number = 0;
};

struct PictureAnswer {
    quint64 number = 0;
    std::string shot; ///< id
    std::vector<QImage>
        images; ///< one and perhaps the other's, or one for each camera (null where there is none)
    std::vector<QImage> turned;    ///< of eyes by turns: the right ones of `images`
    std::vector<QSize> full_sizes; ///< sources: their sizes before halving
    std::optional<View> view;
    QImage trust;            ///< a tint over the view's region, or null
    QImage distance_steps;   ///< likewise
    FoundDistancesPtr found; ///< of the shot, where distances or their steps were asked for
    Seconds time{0};
    double milliseconds = 0;
    QString error;
    QStringList remarks; ///< what was odd in the shot's sources so far
};

/// Makes it; what goes wrong is in the answer.
/// Throws Cancelled alone.
PictureAnswer answer_to(const PictureRequest& request, Composer& composer, const Cancel& cancel = {});

/// One worker that makes pictures. A new request replaces one that still waits: the latest wins. One that is
/// being made is stopped for it if it may be; while something moves it is finished, or nothing would ever
/// show.
class PictureService : public QObject {
    Q_OBJECT
  public:
    explicit PictureService(std::shared_ptr<MediaLibrary> library, QObject* parent = nullptr);
    ~PictureService() override;
    void ask(PictureRequest request);
    /// What was read ahead is of no use any more.
    void rest();
    /// Proxies are looked for there from now on, and anew.
    void set_proxies(std::shared_ptr<const ProxyStore> store);
    Composer& composer() { return composer_; }

  signals:
    void ready(const porb::app::PictureAnswer& answer);

  private:
    void work();
    /// How often the sources of a shot are halved that have proxies; 0: none has.
    int proxy_level(const Project& project, const Shot& shot);
    /// Of the request's picture, at these moments of its shot.
    void read_ahead_of(const PictureRequest& request, const std::vector<Seconds>& moments, bool back = false);
    /// Its frame and those that are promised.
    std::vector<Seconds> promised_after(const PictureRequest& request) const;
    /// Where someone steps back: what was shown before the request's picture.
    void read_back_from(const PictureRequest& request);
    /// While it plays: makes the request one for a frame that was read ahead; false when the next of these is
    /// not due yet.
    bool keep_to_schedule(PictureRequest& request);

    Composer composer_;
    ReadAhead read_ahead_;
    std::shared_ptr<const ProxyStore> proxies_; ///< with the mutex
    std::vector<MediaRef> looked_for_;          ///< of those the level was found; the worker's own
    int found_level_ = 0;
    /// While it plays, in frames of the shot: what was made last, what comes next, which is read ahead in
    /// this order, and how far these lie apart.
    std::int64_t made_frame_ = -1, asked_frame_ = -1;
    ProjectPtr made_of_;
    View made_view_;
    Seconds asked_time_{0}; ///< at rest
    bool rests_ = false;    ///< since then playing ended; with the mutex
    std::deque<std::int64_t> promised_;
    int step_ = 1;
    int late_ = 0, in_time_ = 0; ///< pictures since the step was chosen
    int patience_ = 1;           ///< half seconds in time before more are promised
    bool tries_ = false;         ///< more than before, since the step was chosen
    bool look_anew_ = true;      ///< with the mutex
    std::mutex mutex_;
    std::condition_variable changed_;
    std::optional<PictureRequest> waiting_;
    Cancel running_;
    bool may_be_stopped_ = false; ///< of the one that is running
    bool stop_ = false;
    std::thread thread_;
};

QImage image_of(const Picture& picture);

} // namespace porb::app
