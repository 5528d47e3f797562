#include "stitch/compose.h"

#include "base/error.h"
#include "base/parallel.h"
#include "project/orientation.h"
#include "stitch/blend_kernel.h"
#include "stitch/plan_lens.h"

namespace porb {

namespace {
constexpr int kRowsAtATime = 16;
constexpr std::size_t kMostKept = 3;
constexpr std::size_t kSteady = 12; ///< those of four seconds, should one look about in them
constexpr std::size_t kCleanBytes = 256u << 20;

/// What of these settings matching follows from.
FlowSettings for_matching(const FlowSettings& flow) {
    FlowSettings out;
    out.smoothness = flow.smoothness;
    for (const SeamFlow& seam : flow.seams)
        out.seams.push_back({seam.a, seam.b, out.strength, out.zone_deg, seam.smoothness, std::nullopt});
    return out;
}

std::string size_text(int width, int height) {
    return std::to_string(width) + " x " + std::to_string(height);
}
} // namespace

Composer::Composer(std::shared_ptr<MediaLibrary> library, std::size_t plan_cache_bytes)
    : library_(std::move(library)), limit_(plan_cache_bytes), cleaner_(kCleanBytes) {}

std::shared_ptr<const BlendPlan> Composer::plan_for(const PlanKey& key) {
    {
        const std::lock_guard lock(mutex_);
        for (auto it = kept_.begin(); it != kept_.end(); ++it)
            if (it->key == key) {
                std::rotate(it, it + 1, kept_.end());
                return kept_.back().plan;
            }
    }
    const auto plan = std::make_shared<const BlendPlan>(
        is_at_rest(key) ? make_plan(key) : with_changes(*plan_for(at_rest(key)), key));
    const std::lock_guard lock(mutex_);
    while (!kept_.empty() && bytes_ + plan->bytes() > limit_) {
        bytes_ -= kept_.front().plan->bytes();
        kept_.erase(kept_.begin());
    }
    bytes_ += plan->bytes();
    kept_.push_back({key, plan});
    return plan;
}

template <class Made>
template <class Make>
std::shared_ptr<const Made> Composer::Few<Made>::get(const PlanKey& key, double setting, const Make& make) {
    const std::lock_guard lock(mutex_);
    for (auto it = kept_.begin(); it != kept_.end(); ++it)
        if (it->setting == setting && it->key == key) {
            std::rotate(it, it + 1, kept_.end());
            return kept_.back().made;
        }
    auto made = std::make_shared<const Made>(make());
    if (kept_.size() >= kMostKept) kept_.erase(kept_.begin());
    kept_.push_back({key, setting, made});
    return made;
}

bool Composer::read(const Project& project, const Shot& shot, Seconds time,
                    const std::vector<BlendPlan::PlanCamera>& cameras, PlanKey& key,
                    std::vector<Picture>& sources, std::vector<CameraTone>& tones, const Cancel& cancel) {
    sources.clear();
    tones.clear();
    bool complete = true;
    for (const auto& camera : cameras) {
        cancel.check();
        const ShotCamera& use = shot.cameras[camera.index];
        const Media* media = find_media(project, use.media);
        if (!media)
            throw Error("has no media '" + use.media + "'", "camera " + use.camera, "Assign a source to it");
        const Seconds shown = shown_time(use, time, shot.rate);
        const auto picture = shot.denoise.on
                                 ? cleaner_.picture(*library_, media->ref, shown, Rational(1) / shot.rate,
                                                    camera.level, shot.denoise)
                                 : library_->picture(media->ref, shown, camera.level);
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

std::vector<Seconds> Composer::taken_at(const Project& project, const Shot& shot, Seconds time) {
    const bool shapes_move = std::any_of(shot.cameras.begin(), shot.cameras.end(), [](const ShotCamera& c) {
        return std::any_of(c.shapes.begin(), c.shapes.end(),
                           [](const Shape& s) { return s.keys.size() > 1; });
    });
    if (!orientation_moves(shot) && !shapes_move) return {};
    std::vector<Seconds> taken;
    bool differs = false;
    for (const ShotCamera& use : shot.cameras) {
        taken.push_back(time);
        const Media* media = use.used ? find_media(project, use.media) : nullptr;
        if (!media || media->ref.kind == MediaKind::still) continue;
        try {
            const MediaInfo info = library_->info(media->ref);
            if (info.variable_rate) continue; // when its frames began is not known before they are read
            const Seconds shown = shown_time(use, time, shot.rate);
            taken.back() = shot_time(use, frame_time(frame_index(shown, info.rate), info.rate));
            differs |= taken.back() != time;
        } catch (const Error&) {
            continue; // it is told where the source is read
        }
    }
    return differs ? taken : std::vector<Seconds>();
}

SphereGrid Composer::distances_at(const Project& project, const Shot& shot, Seconds time, PlanKey& key,
                                  const Cancel& cancel, bool confidence) {
    const auto find = [this](const auto& list, const Moment& moment) {
        const std::lock_guard lock(moments_mutex_);
        const auto it =
            std::find_if(list.begin(), list.end(), [&](const auto& kept) { return kept.first == moment; });
        return it == list.end() ? typename std::decay_t<decltype(list)>::value_type::second_type()
                                : it->second;
    };
    const auto keep = [this](auto& list, const Moment& moment, const auto& made, std::size_t most) {
        const std::lock_guard lock(moments_mutex_);
        if (list.size() >= most) list.erase(list.begin());
        list.emplace_back(moment, made);
    };
    std::vector<Picture> sources;
    std::vector<CameraTone> tones;
    while (true) {
        PlanKey zone_key = for_every_view(key);
        if (!is_far(zone_key)) zone_key.multiband = zone_key.hard = false;
        zone_key.shelters.clear();
        zone_key.line_state = {}; // zones are about all places that lines ever take
        const FlowSettings flow = flow_at(shot.flow, time);
        Moment moment{time, flow, shot.match, shot.denoise, shot.rate, {}, shot.cameras, zone_key};
        for (const auto& c : shot.cameras)
            if (const Media* m = find_media(project, c.media)) moment.media.push_back(m->ref);
        SphereGrid field = confidence ? SphereGrid() : find(fields_, moment);
        if (field.empty()) {
            const auto zones = zones_.get(zone_key, 0, [&] { return SeamZones(zone_key); });
            // Its witnesses in order of time, then itself.
            const bool still = std::all_of(moment.media.begin(), moment.media.end(),
                                           [](const MediaRef& m) { return m.kind == MediaKind::still; });
            const auto witnesses = still ? std::vector<Witness>{{time, 1}} : witnesses_of(time, shot.rate);
            std::vector<SeamZones::Weighed> moments;
            bool complete = true;
            for (const Witness& w : witnesses) {
                const bool own = &w == &witnesses.back();
                moment.time = w.time;
                moment.flow = for_matching(flow_at(shot.flow, w.time));
                const bool steady = counts_for_others(w.time, shot.rate);
                auto glimpse = find(steady ? steady_ : passing_, moment);
                if (!glimpse) {
                    PlanKey of_then = key;
                    if (!read(project, shot, w.time, zones->cameras(), own ? key : of_then, sources, tones,
                              cancel)) {
                        complete = !own; // when not all sources run, another moment does not count
                        continue;
                    }
                    cancel.check();
                    glimpse = zones->glimpse(sources, tones, moment.flow);
                    keep(steady ? steady_ : passing_, moment, glimpse, steady ? kSteady : kMostKept);
                }
                moments.push_back({glimpse, w.weight});
            }
            if (!complete) continue;
            if (confidence) return zones->confidence(moments, flow);
            field = zones->field(moments, flow);
            moment.time = time;
            moment.flow = flow;
            keep(fields_, moment, field, kMostKept);
        }
        return field;
    }
}

std::vector<SphereGrid> Composer::lights_at(const Project& project, const Shot& shot, Seconds time,
                                            PlanKey& key, const SphereGrid& distances, const Cancel& cancel) {
    std::vector<Picture> sources;
    std::vector<CameraTone> tones;
    while (true) {
        const PlanKey band_key = for_every_view(key);
        const double widest = shot.blend.widest_deg;
        const auto bands = bands_.get(band_key, widest, [&] { return LightBands(band_key, widest); });
        if (read(project, shot, time, bands->cameras(), key, sources, tones, cancel))
            return bands->find(sources, tones, distances);
    }
}

SphereGrid Composer::distances(const Project& project, const Shot& shot, Seconds time, Eye eye) {
    if (!shot.flow.on) return {};
    time = nearest_frame_time(time, shot.rate);
    View view;
    view.eye = eye;
    PlanKey key = plan_key(shot, view, time);
    return distances_at(project, shot, time, key, {});
}

SphereGrid Composer::confidence(const Project& project, const Shot& shot, Seconds time, Eye eye,
                                const Cancel& cancel) {
    if (!shot.flow.on) return {};
    time = nearest_frame_time(time, shot.rate);
    View view;
    view.eye = eye;
    PlanKey key = plan_key(shot, view, time);
    return distances_at(project, shot, time, key, cancel, true);
}

std::optional<Composer::Seen> Composer::look(const Project& project, const Shot& shot, Seconds time,
                                             const std::vector<BlendPlan::PlanCamera>& cameras) {
    Seen seen;
    PlanKey key = plan_key(shot, View(), time);
    if (!read(project, shot, time, cameras, key, seen.sources, seen.tones, {})) return std::nullopt;
    return seen;
}

std::shared_ptr<const Grader> Composer::grader_for(const Grade& grade) {
    if (!grade.on || is_neutral(grade)) return nullptr;
    const std::lock_guard lock(grader_mutex_);
    if (!grader_ || !(graded_ == grade)) {
        grader_ = std::make_shared<const Grader>(grade);
        graded_ = grade;
    }
    return grader_;
}

Composer::Gathered Composer::gather(const Project& project, const Shot& shot, Seconds time, const View& view,
                                    const Cancel& cancel) {
    time = nearest_frame_time(time, shot.rate); // of the frame that is meant, in all that follows from it
    PlanKey key = plan_key(shot, view, time);
    const auto taken = taken_at(project, shot, time);
    Gathered out;
    out.filter = view.filter;
    out.grader = grader_for(shot.grade);
    while (true) {
        if (shot.flow.on) out.distances = distances_at(project, shot, time, key, cancel);
        if (key.multiband) out.lights = lights_at(project, shot, time, key, out.distances, cancel);
        // Distances and bands of light are of the shot's moment: they are kept for others, and a fraction of
        // a frame shifts them by less than their cells. What is drawn is of each frame's own.
        PlanKey drawn = key;
        set_taken(drawn, shot, time, taken);
        cancel.check();
        out.plan = plan_for(drawn);
        if (read(project, shot, time, out.plan->cameras, key, out.sources, out.tones, cancel)) return out;
    }
}

Picture Composer::blend(const Gathered& gathered, const Cancel& cancel) {
    Picture out(gathered.plan->width, gathered.plan->height, library_->pool());
    parallel_ranges(out.height(), kRowsAtATime, [&](int begin, int end) {
        cancel.check();
        blend_rows(*gathered.plan,
                   {gathered.sources, gathered.tones,
                    gathered.distances.empty() ? nullptr : &gathered.distances, gathered.lights,
                    gathered.filter},
                   begin, end, out);
        if (!gathered.grader) return;
        for (int y = begin; y < end; ++y) gathered.grader->apply(out.row(y), std::size_t(out.width()));
    });
    return out;
}

Picture Composer::compose(const Project& project, const Shot& shot, Seconds time, const View& view,
                          const Cancel& cancel) {
    return blend(gather(project, shot, time, view, cancel), cancel);
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
