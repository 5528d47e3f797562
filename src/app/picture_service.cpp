#include "app/picture_service.h"

#include "base/error.h"
#include "picture/convert.h"

#include <QMetaObject>

#include <chrono>

namespace porb::app {

QImage image_of(const Picture& picture) {
    QImage image(picture.width(), picture.height(), QImage::Format_ARGB32_Premultiplied);
    bytes_from_rgba(picture, true, image.bits(), image.bytesPerLine());
    return image;
}

PictureService::PictureService(std::shared_ptr<MediaLibrary> library, QObject* parent)
    : QObject(parent), composer_(std::move(library)) {
    thread_ = std::thread([this] { work(); });
}

PictureService::~PictureService() {
    {
        const std::lock_guard lock(mutex_);
        stop_ = true;
    }
    changed_.notify_all();
    thread_.join();
}

void PictureService::ask(PictureRequest request) {
    {
        const std::lock_guard lock(mutex_);
        waiting_ = std::move(request);
    }
    changed_.notify_all();
}

void PictureService::work() {
    while (true) {
        PictureRequest request;
        {
            std::unique_lock lock(mutex_);
            changed_.wait(lock, [&] { return stop_ || waiting_; });
            if (stop_) return;
            request = std::move(*waiting_);
            waiting_.reset();
        }
        PictureAnswer made = answer(request);
        QMetaObject::invokeMethod(
            this, [this, made = std::move(made)] { emit ready(made); }, Qt::QueuedConnection);
    }
}

PictureAnswer PictureService::answer(const PictureRequest& request) {
    const auto begun = std::chrono::steady_clock::now();
    PictureAnswer out;
    out.number = request.number;
    out.view = request.view;
    out.time = request.time;
    try {
        const Shot* shot = find_shot(*request.project, request.shot);
        if (!shot) return out;
        if (request.view) {
            out.images.push_back(
                image_of(composer_.compose(*request.project, *shot, request.time, *request.view)));
            if (const Shot* other = request.other ? find_shot(*request.other, request.shot) : nullptr)
                out.images.push_back(
                    image_of(composer_.compose(*request.other, *other, request.time, *request.view)));
        } else {
            for (const auto& id : request.cameras) {
                const ShotCamera* use = find_camera(*shot, id);
                const Media* media = use ? find_media(*request.project, use->media) : nullptr;
                out.images.emplace_back();
                out.full_sizes.emplace_back();
                if (!media) continue;
                try {
                    const MediaInfo info = composer_.library().info(media->ref);
                    int level = 0;
                    while (level < 6 &&
                           (std::max(info.width, info.height) >> (level + 1)) >= request.longest_side)
                        ++level;
                    out.full_sizes.back() = {info.width, info.height};
                    if (const auto picture = composer_.library().picture(
                            media->ref, shown_time(*use, request.time, shot->rate), level))
                        out.images.back() = image_of(*picture);
                } catch (const std::exception& e) {
                    out.error = QString::fromStdString(e.what());
                }
            }
        }
    } catch (const std::exception& e) {
        out.error = QString::fromStdString(e.what());
    }
    out.milliseconds =
        std::chrono::duration<double, std::milli>(std::chrono::steady_clock::now() - begun).count();
    return out;
}

} // namespace porb::app
