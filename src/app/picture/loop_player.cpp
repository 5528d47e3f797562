#include "app/picture/loop_player.h"

namespace porb::app {

LoopPlayer::LoopPlayer(QObject* parent) : QObject(parent) {
    connect(&timer_, &QTimer::timeout, this, &LoopPlayer::next);
    connect(&job_, &BackgroundJob::progressed, this, [this](double share) {
        share_ = share;
        emit progressed();
    });
}

bool LoopPlayer::start(PictureRequest request, std::vector<Seconds> times, FrameRate rate,
                       std::shared_ptr<MediaLibrary> library) {
    if (on_) stop();
    if (job_.is_running()) return false;
    on_ = true;
    share_ = 0;
    timer_.setInterval(std::max(10, int(1000 / rate.to_double())));
    job_.start([this, request = std::move(request), times = std::move(times), library = std::move(library)](
                   const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        Composer composer(library);
        auto made = std::make_shared<std::vector<PictureAnswer>>();
        for (const Seconds t : times) {
            cancel.check();
            PictureRequest one = request;
            one.time = t;
            made->push_back(answer_to(one, composer));
            tell(double(made->size()) / double(times.size()), {});
        }
        return [this, made] {
            if (!on_) return;
            made_ = std::move(*made);
            at_ = 0;
            next();
            timer_.start();
        };
    });
    emit changed();
    return true;
}

void LoopPlayer::stop() {
    if (!on_) return;
    on_ = false;
    timer_.stop();
    job_.stop();
    made_.clear();
    emit changed();
}

void LoopPlayer::next() {
    if (made_.empty()) return;
    const PictureAnswer picture = made_[at_]; // images are shared, not copied
    at_ = (at_ + 1) % made_.size();
    emit showing(picture);
}

} // namespace porb::app
