#include "app/picture/picture_service.h"

#include "app/widgets/theme.h"
#include "base/error.h"
#include "picture/convert.h"
#include "project/orientation.h"
#include "project/shot_media.h"

#include <QMetaObject>

#include <chrono>

namespace porb::app {

QImage image_of(const Picture& picture) {
    QImage image(picture.width(), picture.height(), QImage::Format_ARGB32_Premultiplied);
    bytes_from_rgba(picture, true, image.bits(), image.bytesPerLine());
    return image;
}

PictureService::PictureService(std::shared_ptr<MediaLibrary> library, QObject* parent)
    : QObject(parent), composer_(library), read_ahead_(library) {
    thread_ = std::thread([this] { work(); });
}

PictureService::~PictureService() {
    {
        const std::lock_guard lock(mutex_);
        stop_ = true;
        running_.raise();
    }
    changed_.notify_all();
    thread_.join();
}

void PictureService::ask(PictureRequest request) {
    {
        const std::lock_guard lock(mutex_);
        waiting_ = std::move(request);
        if (may_be_stopped_) running_.raise();
    }
    changed_.notify_all();
}

void PictureService::rest() {
    {
        const std::lock_guard lock(mutex_);
        rests_ = true;
    }
    read_ahead_.stop();
}

void PictureService::set_proxies(std::shared_ptr<const ProxyStore> store) {
    composer_.library().set_proxies(store);
    const std::lock_guard lock(mutex_);
    proxies_ = std::move(store);
    look_anew_ = true;
}

int PictureService::proxy_level(const Project& project, const Shot& shot) {
    const std::vector<MediaRef> refs = used_media(project, shot);
    std::shared_ptr<const ProxyStore> store;
    {
        const std::lock_guard lock(mutex_);
        store = proxies_;
        if (!look_anew_ && refs == looked_for_) return found_level_;
        look_anew_ = false;
    }
    looked_for_ = refs;
    found_level_ = 0;
    for (const MediaRef& ref : refs)
        if (const auto files = store ? store->of(ref) : std::vector<ProxyFile>(); !files.empty())
            found_level_ = std::max(found_level_, files.front().level);
    return found_level_;
}

bool PictureService::keep_to_schedule(PictureRequest& request) {
    const Shot* shot = find_shot(*request.project, request.shot);
    if (!shot) return true;
    const FrameRate rate = shot->timing.rate;
    const std::int64_t now = frame_index(request.time, rate);
    const auto second = std::int64_t(std::max(1.0, rate.to_double()));
    const std::int64_t furthest = promised_.empty() ? made_frame_ : promised_.back();
    // A picture may be made one frame early.
    const bool goes_on =
        made_frame_ >= 0 && now >= asked_frame_ && now >= made_frame_ - 1 && now - furthest < second;
    const bool every = request.plays == PictureRequest::Plays::every_frame;
    const bool same = request.project == made_of_ && *request.view == made_view_;
    asked_frame_ = now;
    made_of_ = request.project;
    made_view_ = *request.view;
    if (!goes_on) promised_.clear(), late_ = in_time_ = 0;
    if (goes_on && now <= made_frame_) { // it is on show, unless what it shows was changed
        request.time = frame_time(made_frame_, rate);
        return !same;
    }
    if (every) step_ = 1;
    int dropped = 0;
    while (!promised_.empty() && promised_.front() < now) promised_.pop_front(), ++dropped;
    // As many are promised as can be made: fewer when some came too late, more when all came in time. What
    // did not work is tried again after twice as long.
    constexpr int kLateOnes = 2, kMostPatience = 16;
    late_ += dropped;
    if (!every && late_ >= kLateOnes) {
        patience_ = tries_ ? std::min(2 * patience_, kMostPatience) : 1;
        step_ = int(std::min<std::int64_t>(step_ + 1, second));
        late_ = in_time_ = 0, tries_ = false;
    } else if (step_ > 1 && in_time_ * step_ * 2 > patience_ * second) {
        --step_;
        late_ = in_time_ = 0, tries_ = true;
    }
    if (goes_on && !promised_.empty()) {
        if (promised_.front() > now + 1) return false;
        made_frame_ = promised_.front();
        promised_.pop_front();
        ++in_time_;
    } else {
        // Never back to where sources were read already.
        made_frame_ = goes_on ? std::max(now, furthest) : now;
    }
    constexpr std::size_t kAhead = 4; // pictures
    while (promised_.size() < kAhead)
        promised_.push_back((promised_.empty() ? made_frame_ : promised_.back()) + step_);
    request.time = frame_time(made_frame_, rate);
    return true;
}

std::vector<Seconds> PictureService::promised_after(const PictureRequest& request) const {
    std::vector<Seconds> out{request.time};
    if (const Shot* shot = find_shot(*request.project, request.shot))
        for (const std::int64_t frame : promised_) out.push_back(frame_time(frame, shot->timing.rate));
    return out;
}

void PictureService::read_back_from(const PictureRequest& request) {
    const Shot* shot = find_shot(*request.project, request.shot);
    const Seconds before = std::exchange(asked_time_, request.time);
    if (!shot || !request.view) return;
    const Seconds frame = Rational(1) / shot->timing.rate;
    if (request.time < before && before - request.time < Rational(3, 2) * frame &&
        request.view->proxy_level == 0)
        read_ahead_of(request, {request.time}, true);
}

void PictureService::read_ahead_of(const PictureRequest& request, const std::vector<Seconds>& moments,
                                   bool back) {
    const Shot* shot = find_shot(*request.project, request.shot);
    if (!shot || !request.view) return read_ahead_.stop();
    // Distances look at moments before, too: reading ahead would send decoders forth and back between key
    // frames, which costs nothing where every frame is one.
    const bool plays = request.plays != PictureRequest::Plays::no;
    if (plays && shot->seams.flow.on && request.view->proxy_level == 0) return read_ahead_.stop();
    std::vector<ReadAhead::Run> runs;
    try {
        for (const auto& read : composer_.reads_of(*request.project, *shot, request.time, *request.view)) {
            const Footage footage = request.view->proxy_level > 0 ? Footage::proxies : Footage::originals;
            ReadAhead::Run run{read.ref, read.level, footage, {}, back};
            for (const Seconds time : moments)
                run.times.push_back(shown_time(shot->cameras[read.camera], time, shot->timing.rate));
            const auto same = std::find_if(runs.begin(), runs.end(), [&](const ReadAhead::Run& r) {
                return r.ref == run.ref && r.level == run.level;
            });
            if (same == runs.end()) runs.push_back(std::move(run));
        }
    } catch (const std::exception&) {
        runs.clear(); // told by the picture itself
    }
    read_ahead_.want(std::move(runs));
}

void PictureService::work() {
    while (true) {
        PictureRequest request;
        Cancel cancel;
        {
            std::unique_lock lock(mutex_);
            changed_.wait(lock, [&] { return stop_ || waiting_; });
            if (stop_) return;
            request = std::move(*waiting_);
            waiting_.reset();
            running_ = cancel;
            if (rests_) made_frame_ = -1, rests_ = false;
            may_be_stopped_ = request.may_be_stopped;
        }
        PictureAnswer made;
        if (request.proxies && request.view)
            if (const Shot* shot = find_shot(*request.project, request.shot))
                request.view->proxy_level = proxy_level(*request.project, *shot);
        const bool plays = request.plays != PictureRequest::Plays::no && request.view;
        if (plays) {
            if (!keep_to_schedule(request)) continue;
            read_ahead_of(request, promised_after(request));
        }
        try {
            made = answer_to(request, composer_, cancel);
        } catch (const Cancelled&) {
            continue;
        }
        if (!plays) read_back_from(request);
        QMetaObject::invokeMethod(
            this, [this, made = std::move(made)] { emit ready(made); }, Qt::QueuedConnection);
    }
}

namespace {
constexpr int kTintWidth = 360;

/// Near seams: clear where distances are trusted, in the colour of care where they are not.
QImage trust_tint(const Shot& shot, Seconds time, const View& view, const SphereGrid& trust) {
    const Region r =
        view.region.width > 0 ? view.region : Region{0, 0, view.target.width, view.target.height};
    QImage out(kTintWidth, std::max(1, kTintWidth * r.height / std::max(1, r.width)),
               QImage::Format_ARGB32_Premultiplied);
    out.fill(Qt::transparent);
    const TargetMap map(view.target);
    const Mat3 to_rig = orientation_at(shot, time).transpose();
    for (int y = 0; y < out.height(); ++y)
        for (int x = 0; x < out.width(); ++x) {
            const auto d = map.direction(
                Vec2(r.x + (x + 0.5) * r.width / out.width(), r.y + (y + 0.5) * r.height / out.height()));
            const double t = d ? trust.at(to_rig * *d) : -1;
            if (t < 0) continue;
            const double share = std::clamp(t, 0.0, 1.0);
            const auto mix = [share](int low, int high) { return int(low + share * (high - low)); };
            out.setPixel(x, y,
                         qPremultiply(qRgba(mix(colour::care.red(), colour::good.red()),
                                            mix(colour::care.green(), colour::good.green()),
                                            mix(colour::care.blue(), colour::good.blue()), mix(190, 70))));
        }
    return out;
}

FoundDistancesPtr found_distances(Composer& composer, const Project& project, const Shot& shot, Seconds time,
                                  Eye eye, const Cancel& cancel) {
    auto out = std::make_shared<FoundDistances>();
    out->to_rig = orientation_at(shot, time).transpose();
    out->rays = eye_rays_of(shot, eye, time);
    if (shot.seams.flow.on) {
        out->inverse_m = composer.distances(project, shot, time, eye, cancel);
        out->trust = composer.confidence(project, shot, time, eye, cancel);
        return out;
    }
    const double agree = shot.seams.agree_distance_m;
    out->inverse_m = SphereGrid(2, 1, agree > 0 ? float(1 / agree) : 0);
    return out;
}
} // namespace

namespace {
/// Puts a view's picture, of one eye or both, behind the answer's others.
void add_composed(const PictureRequest& request, const Project& project, const Shot& shot, Composer& composer,
                  const Cancel& cancel, PictureAnswer& out) {
    View view = *request.view;
    if (!shows_both(request.eyes)) {
        out.images.push_back(image_of(composer.compose(project, shot, request.time, view, cancel)));
        return;
    }
    view.eye = Eye::left;
    const QImage left = image_of(composer.compose(project, shot, request.time, view, cancel));
    view.eye = Eye::right;
    const QImage right = image_of(composer.compose(project, shot, request.time, view, cancel));
    out.images.push_back(merged(left, right, request.eyes));
    if (request.eyes == EyesLook::by_turns) out.turned.push_back(right);
}
} // namespace

PictureAnswer answer_to(const PictureRequest& request, Composer& composer, const Cancel& cancel) {
    const auto begun = std::chrono::steady_clock::now();
    PictureAnswer out;
    out.number = request.number;
    out.shot = request.shot;
    out.view = request.view;
    out.time = request.time;
    try {
        const Shot* shot = find_shot(*request.project, request.shot);
        if (!shot) return out;
        if (request.view) {
            add_composed(request, *request.project, *shot, composer, cancel, out);
            if (const Shot* other = request.other ? find_shot(*request.other, request.shot) : nullptr)
                add_composed(request, *request.other, *other, composer, cancel, out);
            if (request.distances || request.distance_steps) {
                out.found = found_distances(composer, *request.project, *shot, request.time,
                                            request.view->eye, cancel);
                if (request.distances) tint_by_distance(out.images[0], *request.view, *out.found);
                if (request.distances && out.images.size() > 1) {
                    const Shot& other = *find_shot(*request.other, request.shot);
                    tint_by_distance(out.images[1], *request.view,
                                     *found_distances(composer, *request.other, other, request.time,
                                                      request.view->eye, cancel));
                }
                if (request.distance_steps) out.distance_steps = distance_steps(*request.view, *out.found);
            }
            if (request.trust && shot->seams.flow.on)
                out.trust = trust_tint(
                    *shot, request.time, *request.view,
                    composer.confidence(*request.project, *shot, request.time, request.view->eye, cancel));
        } else {
            for (const auto& id : request.cameras) {
                cancel.check();
                const ShotCamera* use = find_camera(*shot, id);
                const Media* media = use ? find_media(*request.project, use->media) : nullptr;
                out.images.emplace_back();
                out.full_sizes.emplace_back();
                if (!media) continue;
                try {
                    const MediaInfo info = composer.library().info(media->ref);
                    int level = 0;
                    while (level < 6 &&
                           (std::max(info.width, info.height) >> (level + 1)) >= request.longest_side)
                        ++level;
                    out.full_sizes.back() = {info.width, info.height};
                    if (const auto picture = composer.library().picture(
                            media->ref, shown_time(*use, request.time, shot->timing.rate), level))
                        out.images.back() = image_of(*picture);
                } catch (const std::exception& e) {
                    out.error = QString::fromStdString(words_of(e));
                }
            }
        }
    } catch (const Cancelled&) {
        throw;
    } catch (const std::exception& e) {
        out.error = QString::fromStdString(words_of(e));
    }
    if (const Shot* shot = find_shot(*request.project, request.shot))
        for (const auto& remark : source_remarks(*request.project, *shot, composer.library()))
            out.remarks << QString::fromStdString(remark);
    out.milliseconds =
        std::chrono::duration<double, std::milli>(std::chrono::steady_clock::now() - begun).count();
    return out;
}

} // namespace porb::app
