#pragma once

#include "app/picture/picture_service.h"
#include "app/session/background_job.h"

#include <QTimer>

namespace porb::app {

/// Plays some moments over and over, from full pictures that were made before.
class LoopPlayer : public QObject {
    Q_OBJECT
  public:
    explicit LoopPlayer(QObject* parent = nullptr);
    /// Makes `request` at each of these times, then plays them at `rate`. False while the pictures of a loop
    /// before are just being given up.
    bool start(PictureRequest request, std::vector<Seconds> times, FrameRate rate,
               std::shared_ptr<MediaLibrary> library);
    void stop();
    bool is_on() const { return on_; }
    std::size_t pictures() const { return made_.size(); } ///< once they are all there
    double share_made() const { return share_; }

  signals:
    void changed(); ///< it began, or ended
    void progressed();
    void showing(const porb::app::PictureAnswer& picture);

  private:
    void next();
    BackgroundJob job_;
    QTimer timer_;
    std::vector<PictureAnswer> made_;
    std::size_t at_ = 0;
    bool on_ = false;
    double share_ = 0;
};

} // namespace porb::app
