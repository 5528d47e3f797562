#include "stitch/compose.h"

#include "base/angle.h"
#include "base/error.h"
#include "base/parallel.h"
#include "base/smooth.h"
#include "picture/convert.h"
#include "project/orientation.h"
#include "stitch/blend/blend_kernel.h"
#include "stitch/plan/plan_lens.h"

#include <fmt/format.h>

namespace porb {

namespace {
constexpr int kRowsAtATime = 16;

/// What of these settings matching follows from.
FlowSettings for_matching(const FlowSettings& flow) {
    FlowSettings out;
    out.smoothness = flow.smoothness;
    for (const SeamFlow& seam : flow.seams)
        out.seams.push_back({seam.a, seam.b, out.strength, out.zone_deg, seam.smoothness, std::nullopt});
    return out;
}

/// Throws Error when a camera's medium is not among the project's.
const Media& media_of(const Project& project, const ShotCamera& use) {
    if (const Media* media = find_media(project, use.media)) return *media;
    throw Error("has no media '" + use.media + "'", "camera " + use.camera, "Assign a source to it");
}

Footage footage_of(const View& view) {
    return view.proxy_level > 0 ? Footage::proxies : Footage::originals;
}

std::string size_text(int width, int height) {
    return std::to_string(width) + " x " + std::to_string(height);
}
} // namespace

Composer::Composer(std::shared_ptr<MediaLibrary> library)
    : library_(std::move(library)), cleaner_(library_->bound()), patch_drawer_(library_->bound()),
      plans_(library_->bound()), zones_(library_->bound()), matched_moments_(library_->bound()),
      fields_(library_->bound()), eye_fields_(library_->bound()), confidences_(library_->bound()),
      bands_(library_->bound()), bases_(library_->bound()) {}

std::shared_ptr<const BlendPlan> Composer::plan_for(const PlanKey& key) {
    return plans_.get(
        key,
        [&] {
            return std::make_shared<const BlendPlan>(
                is_at_rest(key) ? make_plan(key) : with_changes(*plan_for(at_rest(key)), key));
        },
        [](const auto& plan) { return plan->bytes(); });
}

std::vector<Composer::SourceRead> Composer::reads_of(const Project& project, const Shot& shot, Seconds time,
                                                     const View& view) {
    time = nearest_frame_time(time, shot.timing.rate);
    std::vector<SourceRead> out;
    for (const auto& camera : plan_for(running_key(project, shot, time, view, {}))->cameras)
        if (camera.shown)
            out.push_back({media_of(project, shot.cameras[camera.index]).ref, camera.level, camera.index});
    return out;
}

PlanKey Composer::running_key(const Project& project, const Shot& shot, Seconds time, const View& view,
                              const Cancel& cancel) {
    PlanKey key = plan_key(shot, view, time);
    for (const std::size_t i : contributing_cameras(key)) {
        cancel.check();
        const ShotCamera& use = shot.cameras[i];
        key.cameras[i].runs =
            library_->shows(media_of(project, use).ref, shown_time(use, time, shot.timing.rate));
    }
    return key;
}

template <class Pixels, class PictureOf>
std::optional<std::size_t> Composer::read_each(const Project& project, const Shot& shot, Seconds time,
                                               const std::vector<BlendPlan::PlanCamera>& cameras,
                                               const Cancel& cancel, const PictureOf& picture_of,
                                               std::vector<Pixels>& sources, std::vector<CameraTone>& tones) {
    for (const auto& camera : cameras) {
        cancel.check();
        if (!camera.shown) {
            sources.emplace_back();
            tones.emplace_back();
            continue;
        }
        const ShotCamera& use = shot.cameras[camera.index];
        const MediaRef& ref = media_of(project, use).ref;
        const Seconds shown = shown_time(use, time, shot.timing.rate);
        std::optional<Pixels> picture;
        if (!shot.look.denoise.on)
            picture = picture_of(ref, shown, camera.level);
        else if (auto clean = cleaner_.picture(*library_, ref, shown, Rational(1) / shot.timing.rate,
                                               camera.level, shot.look.denoise))
            picture.emplace(std::move(*clean));
        if (!picture) return camera.index;
        const Lens& lens = find_camera(shot.rig, use.camera)->lens;
        const int scale = 1 << camera.level;
        if ((lens.width + scale - 1) / scale != picture->width() ||
            (lens.height + scale - 1) / scale != picture->height()) {
            const MediaInfo info = library_->info(ref);
            throw Error("is " + size_text(info.width, info.height) + " pixels, the lens of camera " +
                            use.camera + " is for " + size_text(lens.width, lens.height),
                        ref.path.string(), "Load a rig for this size, or assign the right file");
        }
        if (picture->width() < 4 || picture->height() < 4)
            throw Error("is too small to be stitched", ref.path.string(), "Use the original pictures");
        sources.push_back(std::move(*picture));
        tones.push_back(tone_of(use, lens, shot.colour.match, time, camera.level));
    }
    return std::nullopt;
}

Composer::Reading Composer::read(const Project& project, const Shot& shot, Seconds time,
                                 const std::vector<BlendPlan::PlanCamera>& cameras, Footage footage,
                                 const Cancel& cancel) {
    Reading out;
    const auto picture_of = [&](const MediaRef& ref, Seconds shown, int level) {
        return library_->picture(ref, shown, level, footage);
    };
    out.ended =
        read_each(project, shot, time, cameras, cancel, picture_of, out.frames.sources, out.frames.tones);
    return out;
}

Composer::FileReading Composer::read_files(const Project& project, const Shot& shot, Seconds time,
                                           const std::vector<BlendPlan::PlanCamera>& cameras, Footage footage,
                                           const Cancel& cancel) {
    FileReading out;
    const auto frame_of = [&](const MediaRef& ref, Seconds shown, int level) {
        return library_->frame(ref, shown, level, footage);
    };
    out.ended = read_each(project, shot, time, cameras, cancel, frame_of, out.sources, out.tones);
    return out;
}

void Composer::tell_ended(const Project& project, const Shot& shot, Seconds time, std::size_t camera) {
    const ShotCamera& use = shot.cameras[camera];
    const MediaRef& ref = media_of(project, use).ref;
    throw Error(fmt::format("shows nothing at {:.3f} s, though it says that it lasts {:.3f} s",
                            shown_time(use, time, shot.timing.rate).to_double(),
                            library_->info(ref).duration.to_double()),
                ref.path.string(), "It was cut short: copy it again, or end the shot before that");
}

Composer::SourceFrames Composer::read_running(const Project& project, const Shot& shot, Seconds time,
                                              const std::vector<BlendPlan::PlanCamera>& cameras,
                                              Footage footage, const Cancel& cancel) {
    Reading reading = read(project, shot, time, cameras, footage, cancel);
    if (reading.ended) tell_ended(project, shot, time, *reading.ended);
    return std::move(reading.frames);
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
            const Seconds shown = shown_time(use, time, shot.timing.rate);
            taken.back() = shot_time(use, frame_time(frame_index(shown, info.rate), info.rate));
            differs |= taken.back() != time;
        } catch (const Error&) {
            continue; // it is told where the source is read
        }
    }
    return differs ? taken : std::vector<Seconds>();
}

Composer::MomentKey Composer::moment_key(const Project& project, const Shot& shot, Seconds time,
                                         const PlanKey& key) const {
    MomentKey out{time,
                  flow_at(shot.seams.flow, time),
                  shot.colour.match,
                  shot.look.denoise,
                  shot.timing.rate,
                  {},
                  key.view.proxy_level > 0,
                  for_every_view(key),
                  {},
                  distance_areas(shot, time)};
    if (!is_far(out.zones)) out.zones.multiband = out.zones.hard = false;
    if (out.proxies) out.zones.flow.fine_edges = false; // for watching
    out.zones.shelters.clear();
    out.zones.line_state = {}; // zones are about all places that lines ever take
    for (const auto& c : shot.cameras) {
        const Media* media = find_media(project, c.media);
        out.sources.push_back({media ? media->ref : MediaRef(), c.offset, c.drift_ppm, c.colour});
    }
    return out;
}

std::shared_ptr<const SeamZones> Composer::zones_of(const PlanKey& zones) {
    return zones_.get(
        zones, [&] { return std::make_shared<const SeamZones>(zones); },
        [](const auto& made) { return made->bytes(); });
}

Composer::Moments Composer::moments(const Project& project, const Shot& shot, const MomentKey& field,
                                    const PlanKey& key, const Cancel& cancel) {
    Moments out;
    const Footage footage = field.proxies ? Footage::proxies : Footage::originals;
    out.zones = zones_of(field.zones);
    std::vector<BlendPlan::PlanCamera> cameras = out.zones->cameras();
    const std::vector<bool> looked_through = out.zones->cameras_of(field.pairs);
    for (std::size_t c = 0; c < cameras.size(); ++c) cameras[c].shown = looked_through[c];
    const bool still = std::all_of(key.cameras.begin(), key.cameras.end(), [&](const KeyCamera& c) {
        const auto& ref = field.sources[std::size_t(&c - key.cameras.data())].ref;
        return !c.runs || ref.kind == MediaKind::still;
    });
    const auto support_frames =
        still ? std::vector<SupportFrame>{{field.time, 1}} : support_frames_of(field.time, shot.timing.rate);
    Seconds before;
    for (const SupportFrame& w : support_frames) {
        MomentKey moment = field;
        moment.time = w.time;
        moment.flow = for_matching(flow_at(shot.seams.flow, w.time));
        moment.areas.clear();
        auto matched = matched_moments_.find(moment);
        if (!matched) {
            const bool own = &w == &support_frames.back();
            FileReading reading = read_files(project, shot, w.time, cameras, footage, cancel);
            if (reading.ended && own) tell_ended(project, shot, w.time, *reading.ended);
            if (reading.ended) continue; // when not all sources run, another moment does not count
            cancel.check();
            // Moments that count for others are matched whole, so that a frame depends on them and itself
            // alone.
            const bool whole = out.weighed.empty() || counts_for_others(w.time, shot.timing.rate) ||
                               !(moment.flow == for_matching(flow_at(shot.seams.flow, before)));
            matched = out.zones->match_moment(reading.sources, reading.tones, moment.flow, field.pairs,
                                              whole ? nullptr : out.weighed.back().matched.get());
            matched_moments_.keep(moment, *matched, SeamZones::bytes_of(**matched));
        }
        out.weighed.push_back({*matched, w.weight});
        before = w.time;
    }
    return out;
}

std::shared_ptr<const DistanceField> Composer::distances_at(const Project& project, const Shot& shot,
                                                            Seconds time, const PlanKey& key,
                                                            const Cancel& cancel) {
    MomentKey moment = moment_key(project, shot, time, key);
    // While it plays what is not shown is not looked for, if that is worth while.
    std::optional<SphereBlocks> blocks;
    if (moment.proxies) {
        blocks = blocks_shown(key);
        if (blocks->all()) blocks.reset();
        if (blocks) moment.pairs = zones_of(moment.zones)->pairs_in(*blocks);
        if (std::find(moment.pairs.begin(), moment.pairs.end(), false) == moment.pairs.end())
            moment.pairs.clear(); // all
    }
    if (!key.rays.moves()) return distances_from_centre(project, shot, moment, key, cancel);
    RigEyeRays eye{key.rays, rotation_of(key.orientation)};
    eye.rays.turn_deg = 0; // where a ray ends does not depend on where it is shown
    return eye_fields_.get(
        {moment, eye, blocks},
        [&] {
            const auto from_centre = distances_from_centre(project, shot, moment, key, cancel);
            return std::make_shared<const DistanceField>(
                zones_of(moment.zones)->seen_by(*from_centre, eye, blocks));
        },
        [](const auto& field) { return field->bytes(); });
}

std::shared_ptr<const DistanceField> Composer::distances_from_centre(const Project& project, const Shot& shot,
                                                                     const MomentKey& moment,
                                                                     const PlanKey& key,
                                                                     const Cancel& cancel) {
    return fields_.get(
        moment,
        [&] {
            const Moments m = moments(project, shot, moment, key, cancel);
            return std::make_shared<const DistanceField>(
                moment.zones.flow.fine_edges
                    ? m.zones->fine(m.weighed, moment.flow, moment.areas)
                    : DistanceField{m.zones->field(m.weighed, moment.flow, moment.areas), {}, {}, {}});
        },
        [](const auto& field) { return field->bytes(); });
}

std::vector<SphereGrid> Composer::lights_at(const Project& project, const Shot& shot, Seconds time,
                                            const PlanKey& key, const SphereGrid& distances,
                                            const Cancel& cancel) {
    const PlanKey band_key = for_every_view(key);
    const double widest = shot.seams.blend.widest_deg;
    const auto bands = bands_.get(
        {band_key, widest}, [&] { return std::make_shared<const LightBands>(band_key, widest); },
        [](const auto& made) { return made->bytes(); });
    const SourceFrames frames =
        read_running(project, shot, time, bands->cameras(), footage_of(key.view), cancel);
    return bands->find(frames.sources, frames.tones, distances);
}

SphereGrid Composer::distances(const Project& project, const Shot& shot, Seconds time, Eye eye,
                               const Cancel& cancel) {
    if (!shot.seams.flow.on) return {};
    time = nearest_frame_time(time, shot.timing.rate);
    View view;
    view.eye = eye;
    return distances_at(project, shot, time, running_key(project, shot, time, view, cancel), cancel)->grid;
}

SphereGrid Composer::confidence(const Project& project, const Shot& shot, Seconds time, Eye eye,
                                const Cancel& cancel) {
    if (!shot.seams.flow.on) return {};
    time = nearest_frame_time(time, shot.timing.rate);
    View view;
    view.eye = eye;
    const PlanKey key = running_key(project, shot, time, view, cancel);
    const MomentKey moment = moment_key(project, shot, time, key);
    return *confidences_.get(
        moment,
        [&] {
            const Moments m = moments(project, shot, moment, key, cancel);
            return std::make_shared<const SphereGrid>(m.zones->confidence(m.weighed, moment.flow));
        },
        [](const auto& grid) { return sizeof(SphereGrid) + grid->values.size() * sizeof(float); });
}

std::optional<Composer::SourceFrames>
Composer::source_frames(const Project& project, const Shot& shot, Seconds time,
                        const std::vector<BlendPlan::PlanCamera>& cameras) {
    Reading reading = read(project, shot, time, cameras, Footage::originals, {});
    if (reading.ended) return std::nullopt;
    return std::move(reading.frames);
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
    time =
        nearest_frame_time(time, shot.timing.rate); // of the frame that is meant, in all that follows from it
    const PlanKey key = running_key(project, shot, time, view, cancel);
    Gathered out;
    out.filter = view.filter;
    out.view = view;
    if (view.target.kind == TargetKind::half_sphere) out.border_deg = shot.stereo.border_deg;
    out.grader = grader_for(shot.look.grade);
    // Distances and bands of light are of the shot's moment: they are kept for others, and a fraction of a
    // frame shifts them by less than their cells. What is drawn is of each frame's own.
    if (shot.seams.flow.on) out.distances = distances_at(project, shot, time, key, cancel);
    if (key.multiband)
        out.lights =
            lights_at(project, shot, time, key, out.distances ? out.distances->grid : SphereGrid(), cancel);
    cancel.check();
    if (const auto taken = taken_at(project, shot, time); !taken.empty()) {
        PlanKey drawn = key;
        set_taken(drawn, shot, time, taken);
        out.plan = plan_for(drawn);
    } else {
        out.plan = plan_for(key);
    }
    if (view.patches && !shot.patches.empty()) out.patches = patches_at(project, shot, time, view, cancel);
    FileReading reading = read_files(project, shot, time, out.plan->cameras, footage_of(view), cancel);
    if (reading.ended) tell_ended(project, shot, time, *reading.ended);
    out.sources = std::move(reading.sources);
    out.tones = std::move(reading.tones);
    return out;
}

namespace {
/// Rows of a half sphere fade to nothing at the great circle that bounds it, wherever lenses end.
void fade_rim(const View& view, double border_deg, int begin, int end, Picture& out) {
    const Region region = whole_region(view);
    const double cleared = std::sin(radians(border_deg)); // further inside nothing fades
    const auto cosine = [](double at, double of) { return std::cos((at / of - 0.5) * kPi); };
    std::vector<double> across;
    for (int x = 0; x < out.width(); ++x) across.push_back(cosine(x + 0.5 + region.x, view.target.width));
    for (int y = begin; y < end; ++y) {
        const double down = cosine(y + 0.5 + region.y, view.target.height);
        for (int x = 0; x < out.width(); ++x) {
            const double ahead = down * across[std::size_t(x)]; // of the direction
            if (ahead >= cleared) continue;
            const auto share = float(smooth(degrees(std::asin(std::max(0.0, ahead))) / border_deg));
            Half* const pixel = out.row(y) + 4 * x;
            for (int c = 0; c < 4; ++c) pixel[c] = half_from_float(share * float_from_half(pixel[c]));
        }
    }
}
} // namespace

namespace {
FrameParts parts_of(const Composer::Gathered& gathered) {
    FrameParts frame{gathered.sources, gathered.tones, nullptr, gathered.lights, gathered.filter};
    if (gathered.distances)
        frame.distances = &gathered.distances->grid, frame.hidden = gathered.distances->hidden,
        frame.silhouettes = &gathered.distances->silhouettes;
    frame.outlines = &gathered.distances->outlines;
    return frame;
}
} // namespace

void Composer::blend_band(const Gathered& gathered, int begin, int end, Picture& out) const {
    blend_rows(*gathered.plan, parts_of(gathered), begin, end, out);
    finish(gathered, begin, end, out);
}

Picture Composer::blend(const Gathered& gathered, const Cancel& cancel) {
    Picture out(gathered.plan->width, gathered.plan->height, library_->pool());
    parallel_ranges(out.height(), kRowsAtATime, [&](int begin, int end) {
        cancel.check();
        blend_band(gathered, begin, end, out);
    });
    return out;
}

void Composer::blend(const Gathered& gathered, const YuvPlanes<std::uint8_t>& out, const Cancel& cancel) {
    constexpr int kRowsTogether = 4; // as near caches hold
    const int width = gathered.plan->width, height = gathered.plan->height;
    const bool as_blended = gathered.patches.empty() && !gathered.grader && gathered.border_deg <= 0;
    const FrameParts parts = parts_of(gathered);
    const auto direct = [&](int begin, int end) {
        const std::ptrdiff_t stride = width + kSegment;
        const auto rows = std::make_unique_for_overwrite<float[]>(3 * kRowsTogether * std::size_t(stride));
        const FloatRows band{rows.get(), rows.get() + kRowsTogether * stride,
                             rows.get() + 2 * kRowsTogether * stride, stride};
        for (int y = begin; y < end; y += kRowsTogether) {
            const int last = std::min(y + kRowsTogether, end);
            blend_rows(*gathered.plan, parts, y, last, band);
            yuv_rows_from_floats(band, out, y, last);
        }
    };
    const auto finished = [&](int begin, int end) {
        Picture band = Picture::band(width, height, begin, end - begin, library_->pool());
        blend_band(gathered, begin, end, band);
        yuv_rows_from_rgba(band, out, begin, end);
    };
    parallel_ranges((height + kRowsAtATime - 1) / kRowsAtATime, 1, [&](int first, int last) {
        for (int n = first; n < last; ++n) {
            cancel.check();
            const int begin = n * kRowsAtATime, end = std::min(begin + kRowsAtATime, height);
            if (as_blended)
                direct(begin, end);
            else
                finished(begin, end);
        }
    });
}

void Composer::finish(const Gathered& gathered, int begin, int end, Picture& out) const {
    draw_patches(gathered.patches, begin, end, out);
    if (gathered.grader)
        for (int y = begin; y < end; ++y) gathered.grader->apply(out.row(y), std::size_t(out.width()));
    if (gathered.border_deg > 0) fade_rim(gathered.view, gathered.border_deg, begin, end, out);
}

Picture Composer::compose(const Project& project, const Shot& shot, Seconds time, const View& view,
                          const Cancel& cancel) {
    constexpr std::int64_t kMostShown = 4 << 20; // what a window shows
    const Region region = whole_region(view);
    const auto patched = [&] {
        return std::any_of(shot.patches.begin(), shot.patches.end(),
                           [&](const Patch& p) { return shows(p, time); });
    };
    if (!view.patches || std::int64_t(region.width) * region.height > kMostShown || !patched())
        return blend(gather(project, shot, time, view, cancel), cancel);
    BaseKey key{shot, project.media, nearest_frame_time(time, shot.timing.rate), view};
    key.shot.patches.clear();
    key.shot.look.grade = {};
    key.view.patches = false;
    const auto base = base_again(key, project, cancel);
    if (!base) return blend(gather(project, shot, time, view, cancel), cancel);
    Gathered top;
    top.view = view;
    if (view.target.kind == TargetKind::half_sphere) top.border_deg = shot.stereo.border_deg;
    top.grader = grader_for(shot.look.grade);
    top.patches = patches_at(project, shot, key.time, view, cancel);
    Picture out(base->width(), base->height(), library_->pool());
    parallel_ranges(out.height(), kRowsAtATime, [&](int begin, int end) {
        cancel.check();
        for (int y = begin; y < end; ++y) std::copy_n(base->row(y), std::size_t(out.width()) * 4, out.row(y));
        finish(top, begin, end, out);
    });
    return out;
}

std::optional<Picture> Composer::base_again(const BaseKey& key, const Project& project,
                                            const Cancel& cancel) {
    if (auto found = bases_.find(key)) return found;
    {
        // While a shot plays each moment is asked for once, and keeping it would push out what is needed.
        const std::lock_guard lock(base_mutex_);
        const bool again = asked_ && *asked_ == key;
        if (!again) {
            asked_ = std::make_shared<const BaseKey>(key);
            return std::nullopt;
        }
    }
    Picture made = compose_ungraded(project, key.shot, key.time, key.view, cancel);
    bases_.keep(key, made, made.bytes());
    return made;
}

std::vector<DrawnPatch> Composer::patches_at(const Project& project, const Shot& shot, Seconds time,
                                             const View& view, const Cancel& cancel) {
    const auto footage = [&](const View& below) {
        return compose_ungraded(project, shot, time, below, cancel);
    };
    return patch_drawer_.gather(project, shot, time, view, *library_, footage, cancel);
}

Picture Composer::patches_alone(const Project& project, const Shot& shot, Seconds time, const View& view,
                                const Cancel& cancel) {
    time = nearest_frame_time(time, shot.timing.rate);
    const auto patches = patches_at(project, shot, time, view, cancel);
    const Region region = whole_region(view);
    Picture out(region.width, region.height, library_->pool());
    parallel_ranges(out.height(), kRowsAtATime, [&](int begin, int end) {
        for (int y = begin; y < end; ++y) std::fill_n(out.row(y), std::size_t(out.width()) * 4, Half(0));
        draw_patches(patches, begin, end, out);
    });
    return out;
}

Picture Composer::compose_ungraded(const Project& project, const Shot& shot, Seconds time, const View& view,
                                   const Cancel& cancel) {
    Gathered gathered = gather(project, shot, time, view, cancel);
    gathered.grader = nullptr;
    gathered.border_deg = 0;
    return blend(gathered, cancel);
}

Picture compose_layout(Composer& composer, const Project& project, const Shot& shot, Seconds time, View view,
                       StereoLayout layout, const Cancel& cancel) {
    if (layout == StereoLayout::mono) return composer.compose(project, shot, time, view, cancel);
    view.eye = Eye::left;
    const Picture left = composer.compose(project, shot, time, view, cancel);
    view.eye = Eye::right;
    const Picture right = composer.compose(project, shot, time, view, cancel);
    return stacked(left, right, layout == StereoLayout::left_right);
}

} // namespace porb
