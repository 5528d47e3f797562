#pragma once

#include "app/picture/distance_view.h"
#include "app/picture/eyes_look.h"
#include "base/progress.h"
#include "stitch/compose.h"

#include <QImage>
#include <QObject>

#include <condition_variable>
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
    bool may_be_stopped = false;      ///< for another that is asked for meanwhile: nothing moves or plays
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
    Composer& composer() { return composer_; }

  signals:
    void ready(const porb::app::PictureAnswer& answer);

  private:
    void work();

    Composer composer_;
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
