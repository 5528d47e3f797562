#include "stitch/compose.h"

#include "base/error.h"
#include "base/parallel.h"
#include "stitch/blend_kernel.h"

namespace porb {

namespace {
constexpr int kRowsAtATime = 16;
constexpr std::size_t kMostZones = 3;
constexpr int kZoneWidth = 4096; ///< what of a rim is kept clear depends on the view; zones must not

std::string size_text(int width, int height) {
    return std::to_string(width) + " x " + std::to_string(height);
}
} // namespace

Composer::Composer(std::shared_ptr<MediaLibrary> library, std::size_t plan_cache_bytes)
    : library_(std::move(library)), limit_(plan_cache_bytes) {}

std::shared_ptr<const BlendPlan> Composer::plan_for(const PlanKey& key) {
    {
        const std::lock_guard lock(mutex_);
        for (auto it = kept_.begin(); it != kept_.end(); ++it)
            if (it->key == key) {
                std::rotate(it, it + 1, kept_.end());
                return kept_.back().plan;
            }
    }
    auto plan = std::make_shared<const BlendPlan>(make_plan(key));
    const std::lock_guard lock(mutex_);
    while (!kept_.empty() && bytes_ + plan->bytes() > limit_) {
        bytes_ -= kept_.front().plan->bytes();
        kept_.erase(kept_.begin());
    }
    bytes_ += plan->bytes();
    kept_.push_back({key, plan});
    return plan;
}

std::shared_ptr<const SeamZones> Composer::zones_for(PlanKey key, const FlowSettings& settings) {
    const Eye eye = key.view.eye;
    key.view = {};
    key.view.target = equirect_target(kZoneWidth);
    key.view.eye = eye;
    key.orientation = {};
    key.row_turn = Vec3(0, 0, 0);
    const std::lock_guard lock(zones_mutex_); // made once, however many ask
    for (auto it = zones_.begin(); it != zones_.end(); ++it)
        if (it->key == key && it->settings == settings) {
            std::rotate(it, it + 1, zones_.end());
            return zones_.back().zones;
        }
    auto zones = std::make_shared<const SeamZones>(key, settings);
    if (zones_.size() >= kMostZones) zones_.erase(zones_.begin());
    zones_.push_back({key, settings, zones});
    return zones;
}

bool Composer::read(const Project& project, const Shot& shot, Seconds time,
                    const std::vector<BlendPlan::PlanCamera>& cameras, PlanKey& key,
                    std::vector<Picture>& sources, std::vector<CameraTone>& tones) {
    sources.clear();
    tones.clear();
    bool complete = true;
    for (const auto& camera : cameras) {
        const ShotCamera& use = shot.cameras[camera.index];
        const Media* media = find_media(project, use.media);
        if (!media)
            throw Error("has no media '" + use.media + "'", "camera " + use.camera, "Assign a source to it");
        const auto picture = library_->picture(media->ref, shown_time(use, time, shot.rate), camera.level);
        if (!picture) {
            key.cameras[camera.index].media.clear();
            complete = false;
            continue;
        }
        const Lens& lens = find_camera(shot.rig, use.camera)->lens;
        const int scale = 1 << camera.level;
        const bool fits = (lens.width + scale - 1) / scale == picture->width() &&
                          (lens.height + scale - 1) / scale == picture->height();
        const MediaInfo info = fits ? MediaInfo() : library_->info(media->ref);
        if (!fits)
            throw Error("is " + size_text(info.width, info.height) + " pixels, the lens of camera " +
                            use.camera + " is for " + size_text(lens.width, lens.height),
                        media->ref.path.string(), "Load a rig for this size, or assign the right file");
        if (picture->width() < 4 || picture->height() < 4)
            throw Error("is too small to be stitched", media->ref.path.string(), "Use the original pictures");
        sources.push_back(*picture);
        tones.push_back(tone_of(use, lens, shot.match, time, camera.level));
    }
    return complete;
}

DistanceField Composer::distances_at(const Project& project, const Shot& shot, Seconds time, PlanKey& key) {
    std::vector<Picture> sources;
    std::vector<CameraTone> tones;
    FlowSettings settings = shot.flow;
    settings.strength = 1; // zones take seconds to make, and a drag of the strength must not make them anew
    while (true) {
        const auto zones = zones_for(key, settings);
        if (!read(project, shot, time, zones->cameras(), key, sources, tones)) continue;
        DistanceField field = zones->find(sources, tones);
        const float agree = key.agree_distance_m > 0 ? float(1 / key.agree_distance_m) : 0;
        for (float& v : field.inverse_m) v = agree + float(shot.flow.strength) * (v - agree);
        return field;
    }
}

DistanceField Composer::distances(const Project& project, const Shot& shot, Seconds time, Eye eye) {
    if (!shot.flow.on) return {};
    View view;
    view.eye = eye;
    PlanKey key = plan_key(shot, view, time);
    return distances_at(project, shot, time, key);
}

Composer::Gathered Composer::gather(const Project& project, const Shot& shot, Seconds time,
                                    const View& view) {
    PlanKey key = plan_key(shot, view, time);
    Gathered out;
    out.filter = view.filter;
    while (true) {
        if (shot.flow.on) { // places of its own for each frame
            const DistanceField distances = distances_at(project, shot, time, key);
            out.plan = std::make_shared<const BlendPlan>(displaced(*plan_for(key), key, distances));
        } else
            out.plan = plan_for(key);
        if (read(project, shot, time, out.plan->cameras, key, out.sources, out.tones)) return out;
    }
}

Picture Composer::blend(const Gathered& gathered) {
    Picture out(gathered.plan->width, gathered.plan->height, library_->pool());
    parallel_ranges(out.height(), kRowsAtATime, [&](int begin, int end) {
        blend_rows(*gathered.plan, gathered.sources, gathered.tones, gathered.filter, begin, end, out);
    });
    return out;
}

Picture Composer::compose(const Project& project, const Shot& shot, Seconds time, const View& view) {
    return blend(gather(project, shot, time, view));
}

Picture compose_layout(Composer& composer, const Project& project, const Shot& shot, Seconds time, View view,
                       StereoLayout layout) {
    if (layout == StereoLayout::mono) return composer.compose(project, shot, time, view);
    view.eye = Eye::left;
    const Picture left = composer.compose(project, shot, time, view);
    view.eye = Eye::right;
    const Picture right = composer.compose(project, shot, time, view);
    return stacked(left, right, layout == StereoLayout::left_right);
}

} // namespace porb
