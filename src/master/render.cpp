#include "master/render.h"

#include "base/error.h"
#include "base/file.h"
#include "master/pipe.h"
#include "media/sequence.h"
#include "media/sound.h"
#include "media/still.h"
#include "project/outputs.h"
#include "stereo/findings.h"
#include "stitch/depth_map.h"
#include "stitch/plan/coverage_report.h"

#include <fmt/format.h>

#include <chrono>
#include <thread>

namespace porb {

namespace {

constexpr int kSoundRate = 48000;
constexpr std::uint64_t kDiskReserve = 64u << 20; ///< never fill a disk to its last byte
constexpr int kFramesBetweenDiskChecks = 16;

std::string size_words(double bytes) {
    const char* units[] = {"bytes", "kB", "MB", "GB", "TB"};
    int u = 0;
    for (; bytes >= 1000 && u < 4; ++u) bytes /= 1000;
    return fmt::format("{:.{}f} {}", bytes, u > 1 ? 1 : 0, units[u]);
}

View view_of(const Deliverable& d) {
    View view;
    view.target = sphere_target(d.mapping, d.width);
    view.filter = Filter::cubic;
    return view;
}

bool is_sequence(const Deliverable& d) {
    return d.container == Container::png_sequence || d.container == Container::exr_sequence;
}

/// No tag says that distances lie below: a player that took it for a sphere would show them to the feet.
std::optional<SphericalTag> tag_of(const Deliverable& d) {
    if (d.stereo == EyeLayout::depth_below) return std::nullopt;
    return SphericalTag{d.mapping, stereo_of(d.stereo)};
}

/// A finished picture; two of them where eyes are not in one.
struct MadePicture {
    Picture picture;
    std::vector<float> metres;                ///< empty unless the deliverable has distances
    std::optional<VideoWriter::Frame> film{}; ///< of movies, in place of the picture
};

/// Where finished frames go: one movie with its sound, or numbered pictures in a folder of their own until
/// complete.
class Sink {
  public:
    virtual ~Sink() = default;
    /// Of movies: what is to be filled, from any thread.
    virtual std::optional<VideoWriter::Frame> new_frame() const { return std::nullopt; }
    virtual void write(std::span<const MadePicture> made, std::int64_t index) = 0;
    virtual void finish() = 0;
    virtual std::int64_t bytes() const = 0;
};

class MovieSink : public Sink {
  public:
    MovieSink(const Project& project, const Shot& shot, const Deliverable& d, Span span, std::int64_t frames)
        : part_(d.path), tag_(tag_of(d)) {
        VideoFormat format;
        const auto size = frame_size(d);
        format.codec = d.codec;
        format.width = size.width;
        format.height = size.height;
        format.rate = rate_ = shot.timing.rate;
        format.depth = d.depth;
        format.crf = d.crf;
        format.bit_rate = d.bit_rate;
        const Media* media = d.sound ? find_media(project, shot.timing.sound) : nullptr;
        if (media && media->ref.kind == MediaKind::video) {
            const auto info = probe(media->ref);
            if (info.sound) {
                format.sound = SoundFormat{kSoundRate, std::clamp(info.sound->channels, 1, 2), 192000};
                sound_.emplace(media->ref.path, kSoundRate, format.sound->channels);
                first_sample_ = (sound_time(shot, span.in) * Rational(kSoundRate)).round();
            }
        }
        total_samples_ = (frame_time(frames, rate_) * Rational(kSoundRate)).round();
        named([&] { writer_.emplace(part_.path(), format); });
    }
    std::optional<VideoWriter::Frame> new_frame() const override { return writer_->new_frame(); }
    void write(std::span<const MadePicture> made, std::int64_t index) override {
        named([&] {
            writer_->write(*made[0].film);
            if (sound_)
                speak_until(
                    std::min(total_samples_, (frame_time(index + 1, rate_) * Rational(kSoundRate)).round()));
        });
    }
    void finish() override {
        named([&] {
            writer_->finish();
            writer_.reset();
            if (tag_) tag_spherical_in_place(part_.path(), *tag_);
        });
        part_.commit();
    }
    std::int64_t bytes() const override { return writer_ ? writer_->bytes_written() : 0; }

  private:
    /// What goes wrong is said of the file that is wanted, not of the one in the making.
    template <class Work>
    void named(const Work& work) {
        try {
            work();
        } catch (const Error& e) {
            if (e.where() != part_.path()) throw;
            throw Error(e.what_failed(), part_.final_path().string(), e.mend());
        }
    }
    void speak_until(std::int64_t sample) {
        if (sample <= spoken_) return;
        writer_->write_sound(sound_->read(first_sample_ + spoken_, sample - spoken_));
        spoken_ = sample;
    }
    PartFile part_;
    std::optional<SphericalTag> tag_;
    FrameRate rate_{30};
    std::optional<VideoWriter> writer_;
    std::optional<SoundReader> sound_;
    std::int64_t first_sample_ = 0, spoken_ = 0, total_samples_ = 0;
};

class SequenceSink : public Sink {
  public:
    explicit SequenceSink(const Deliverable& d) : pattern_(d.path), parts_(d.path.parent_path()) {
        check_pattern(pattern_);
        options_.depth = 16;
        options_.parts = d.distances_apart;
        options_.spherical = tag_of(d);
    }
    void write(std::span<const MadePicture> made, std::int64_t index) override {
        options_.metres = made[0].metres;
        if (made.size() > 1) options_.right = &made[1].picture, options_.right_metres = made[1].metres;
        const auto name = numbered_file(pattern_.filename(), index);
        write_still(made[0].picture, parts_.path() / name, options_);
        bytes_ += std::int64_t(std::filesystem::file_size(parts_.path() / name));
        moves_.emplace_back(name.string(), name.string());
    }
    void finish() override { parts_.commit(moves_); }
    std::int64_t bytes() const override { return bytes_; }

  private:
    std::filesystem::path pattern_;
    PartFolder parts_;
    StillOptions options_;
    std::vector<std::pair<std::string, std::string>> moves_;
    std::int64_t bytes_ = 0;
};

std::int64_t frames_of(const Span& span, FrameRate rate) {
    return std::max<std::int64_t>(1, ((span.out - span.in) * rate).round());
}

/// Both eyes of one frame, read but not yet blended.
struct ReadFrame {
    std::vector<Composer::Gathered> eyes;
    Seconds time{0};
};
/// What is written of one frame.
using MadeFrame = std::vector<MadePicture>;

/// How near things are as grey, for layouts that have it below the colours: what is at kNearestGrey_m and
/// nearer is white, what is infinitely far black.
Picture grey_of(const DepthMap& depth) {
    constexpr float kNearestGrey_m = 0.5f;
    Picture out(depth.width, depth.height);
    for (int y = 0; y < depth.height; ++y)
        for (int x = 0; x < depth.width; ++x) {
            const float m = depth.metres[std::size_t(y) * std::size_t(depth.width) + std::size_t(x)];
            const float v = m <= 0 || m >= kFarthestDepth_m ? 0 : std::min(1.0f, kNearestGrey_m / m);
            set_pixel(out, x, y, {v, v, v, 1});
        }
    return out;
}

/// The files that a deliverable is written to: one, or one for each eye.
std::vector<std::filesystem::path> paths_of(const Deliverable& d) {
    if (d.stereo != EyeLayout::apart) return {d.path};
    return {eye_path(d.path, "left"), eye_path(d.path, "right")};
}

/// The part of a frame in which an eye lies, or what is below it.
YuvPlanes<std::uint8_t> part_of(const YuvPlanes<std::uint8_t>& whole, EyeLayout layout, std::size_t which) {
    YuvPlanes<std::uint8_t> out = whole;
    const bool beside = layout == EyeLayout::left_right,
               below = layout == EyeLayout::top_bottom || layout == EyeLayout::depth_below;
    if (beside) out.width /= 2;
    if (below) out.height /= 2;
    const int x = beside ? int(which) * out.width : 0, y = below ? int(which) * out.height : 0;
    const int bytes = whole.depth > 8 ? 2 : 1;
    for (std::size_t i = 0; i < 3; ++i) {
        const int sx = i > 0 ? whole.chroma_shift_x : 0, sy = i > 0 ? whole.chroma_shift_y : 0;
        out.plane[i] += (y >> sy) * whole.stride[i] + std::ptrdiff_t(x >> sx) * bytes;
    }
    return out;
}

/// Puts the eyes of one frame together as the deliverable holds them.
MadeFrame laid_out(const Deliverable& d, std::vector<Picture> eyes, std::vector<DepthMap> depths,
                   bool writes_metres) {
    MadeFrame made;
    if (d.stereo == EyeLayout::depth_below) {
        made.push_back({stacked(eyes[0], grey_of(depths[0]), false), {}});
        return made;
    }
    if (eyes.size() == 2 && stereo_of(d.stereo) != StereoLayout::mono) {
        const bool beside = d.stereo == EyeLayout::left_right;
        made.push_back({stacked(eyes[0], eyes[1], beside), {}});
        if (writes_metres) made[0].metres = stacked(depths[0], depths[1], beside).metres;
        return made;
    }
    for (std::size_t i = 0; i < eyes.size(); ++i)
        made.push_back(
            {std::move(eyes[i]), writes_metres ? std::move(depths[i].metres) : std::vector<float>()});
    return made;
}

} // namespace

Target sphere_target(SphereMapping mapping, int width) {
    return mapping == SphereMapping::equirect ? equirect_target(width) : half_sphere_target(width);
}

Picture render_still(Composer& composer, const Project& project, const Shot& shot,
                     const StillRequest& request, const Cancel& cancel) {
    View view;
    view.target = sphere_target(request.mapping, request.width);
    view.eye = request.eye;
    view.patches = request.patches;
    return compose_layout(composer, project, shot, request.time, view, request.stereo, cancel);
}

Preflight preflight(const Project& project, const Deliverable& d, MediaLibrary& library) {
    Preflight out;
    const Shot* shot = find_shot(project, d.shot);
    if (!shot) {
        out.stops.push_back("the shot '" + d.shot + "' is not in the project");
        return out;
    }
    if (d.path.empty())
        out.stops.push_back("no file name is set");
    else if (!std::filesystem::is_directory(std::filesystem::absolute(d.path).parent_path()))
        out.stops.push_back("the folder " + std::filesystem::absolute(d.path).parent_path().string() +
                            " does not exist");
    if (is_sequence(d) && !d.path.empty()) {
        try {
            check_pattern(d.path);
        } catch (const Error& e) {
            out.stops.push_back(e.message());
        }
    }
    if (!d.path.empty() && out.stops.empty()) {
        try {
            for (const auto& path : paths_of(d)) must_not_replace(path, project, {});
        } catch (const Error& e) {
            out.stops.push_back(e.message());
        }
    }
    bool any = false, left = false, right = false;
    for (const auto& use : shot->cameras) {
        const Media* media = find_media(project, use.media);
        if (!use.used) continue;
        const Eyes eyes = find_camera(shot->rig, use.camera)->eyes;
        left = left || eyes != Eyes::right;
        right = right || eyes != Eyes::left;
        if (!media) {
            out.warnings.push_back("camera " + use.camera + " has no source and stays dark");
            continue;
        }
        any = true;
        try {
            library.info(media->ref);
        } catch (const Error& e) {
            out.stops.push_back(e.message());
        }
    }
    if (!any) out.stops.push_back("no camera of the shot has a source");
    for (const Patch& p : shot->patches) {
        if (!p.on) continue;
        try {
            if (const Media* media = find_media(project, p.media); media && p.kind == PatchKind::picture)
                library.info(media->ref);
        } catch (const Error& e) {
            out.stops.push_back(e.message());
        }
        const std::size_t lost = p.pixels.lost_tiles() + p.mask.lost_tiles();
        if (lost > 0)
            out.stops.push_back(
                fmt::format("{} squares of patch '{}' are missing or damaged: put the project's "
                            "folder of painted pixels back, or paint them again",
                            lost, p.name));
    }
    const Span span = used_span(project, *shot, library);
    if (any && span.empty() && out.stops.empty()) out.stops.push_back("nothing lies between in and out");
    if (d.stereo == EyeLayout::depth_below && !shot->seams.flow.on)
        out.warnings.push_back("flow is off: everything lies at the agree distance. Switch it on in Seams");
    if (eyes_in(d.stereo) == 2) {
        if (shot->stereo.from == EyesFrom::cameras && (!left || !right))
            out.stops.push_back("no camera in use serves one of the two eyes");
        for (const EyeFinding& f : eye_findings(*shot))
            (f.stops ? out.stops : out.warnings).push_back(f.what + ". " + f.mend);
    }
    if (d.mapping == SphereMapping::equirect) {
        for (const PoleHole& hole : pole_holes(*shot)) out.warnings.push_back(words_of(hole));
        if (const auto line = hairline(*shot)) out.warnings.push_back(words_of(*line));
    }
    const auto size = frame_size(d);
    if (!is_sequence(d) && d.codec == VideoCodec::h264 && (size.width > 4096 || size.height > 2304))
        out.warnings.push_back("many players decode H.264 only up to 4096 x 2304; H.265 is safer for " +
                               std::to_string(size.width) + " x " + std::to_string(size.height));
    for (auto& remark : source_remarks(project, *shot, library)) out.warnings.push_back(std::move(remark));
    for (const auto& path : paths_of(d)) {
        if (!is_sequence(d)) {
            if (!d.path.empty() && std::filesystem::exists(path))
                out.warnings.push_back(path.filename().string() + " exists and will be replaced");
            continue;
        }
        if (!out.stops.empty()) continue;
        const SequenceOverlap there = overlap_of(path, frames_of(span, shot->timing.rate));
        if (there.replaced > 0)
            out.warnings.push_back(fmt::format("{} frames of {} exist and will be replaced", there.replaced,
                                               path.filename().string()));
        if (there.stale > 0)
            out.warnings.push_back(fmt::format("{} frames of {} with other numbers are there from before and "
                                               "will stay: remove them, or whoever "
                                               "reads the sequence sees them, too",
                                               there.stale, path.filename().string()));
    }
    if (!d.path.empty() && out.stops.empty()) {
        const auto need = std::uint64_t(expected_bytes(d, span.out - span.in, shot->timing.rate)),
                   have = free_disk_bytes(d.path);
        if (have < need + kDiskReserve)
            out.stops.push_back("the disk has " + size_words(double(have)) + " left, about " +
                                size_words(double(need)) + " are needed");
    }
    return out;
}

RenderSize render_size(const Deliverable& d) {
    return {d.mapping == SphereMapping::half_equirect ? 2 * d.width : d.width, eyes_in(d.stereo)};
}

std::shared_ptr<MediaLibrary> render_library(const Project& project, const Shot& shot,
                                             const std::shared_ptr<CacheBound>& memory,
                                             const RenderSize& size) {
    constexpr double kMB = 1 << 20;
    const double pixels = double(size.width) * (size.width / 2);
    // A plan takes 18 bytes a pixel, 25 with fine edges, and one with changes may stand beside it.
    const double plans = 30 * pixels * size.eyes + 30 * pixels;
    // Zones, eight matched moments and two fields; and for the second eye what it is drawn by, or that would
    // be found twice a frame.
    const double distances =
        !shot.seams.flow.on
            ? 0
            : (shot.seams.flow.fine_edges ? 320 + 160 * size.eyes : 160 + 64 * size.eyes) * kMB;
    const double patches =
        96 * kMB * size.eyes * double(shot.patches.size()); // as they are drawn into a picture
    double frames = 0, cleaned = 0;
    for (const ShotCamera& use : shot.cameras) {
        const Camera* camera = find_camera(shot.rig, use.camera);
        const Media* media = find_media(project, use.media);
        if (!camera || !media) continue;
        double bytes = 10;
        try {
            bytes = bytes_a_pixel(probe(media->ref));
        } catch (const Error&) {
            // It is told where the source is read.
        }
        constexpr int kAtWork = 2; // read, and being read
        constexpr double kWorking = 8, kHalvedToo = 10;
        const double lens_pixels = double(camera->lens.width) * camera->lens.height;
        frames += kAtWork * lens_pixels * (bytes + (shot.look.denoise.on ? kWorking : 0));
        // Cleaned pictures, and those before them as they were shot.
        if (shot.look.denoise.on)
            cleaned += lens_pixels * (kAtWork * kHalvedToo + (1 + Cleaner::kBefore) * kWorking);
    }
    const double rest = 128 * kMB; // bands of light and the like
    const double all = plans + distances + patches + cleaned + frames + rest;
    return std::make_shared<MediaLibrary>(std::make_shared<CacheBound>(memory, std::size_t(all)),
                                          std::max(frames, 1.0) / all);
}

void render(Composer& composer, const Project& project, const Deliverable& d,
            const std::function<void(const RenderProgress&)>& progress, const Cancel& cancel) {
    if (const Shot* its = find_shot(project, d.shot))
        for (const Patch& p : its->patches)
            if (p.on) {
                p.pixels.read_tiles();
                p.mask.read_tiles();
            }
    const Preflight checks = preflight(project, d, composer.library());
    if (!checks.stops.empty())
        throw Error("cannot be rendered: " + checks.stops.front(), d.name, "Mend that and render again");
    const Shot& shot = *find_shot(project, d.shot);
    const Span span = used_span(project, shot, composer.library());
    const std::int64_t frames = frames_of(span, shot.timing.rate);
    sweep_parts(d.path.parent_path());
    std::vector<std::unique_ptr<Sink>> sinks;
    for (const auto& path : paths_of(d)) {
        Deliverable one = d;
        one.path = path;
        if (is_sequence(d))
            sinks.push_back(std::make_unique<SequenceSink>(one));
        else
            sinks.push_back(std::make_unique<MovieSink>(project, shot, one, span, frames));
    }

    const auto begun = std::chrono::steady_clock::now();
    std::vector<View> views;
    for (const Eye eye :
         eyes_in(d.stereo) == 1 ? std::vector{Eye::mono} : std::vector{Eye::left, Eye::right}) {
        views.push_back(view_of(d));
        views.back().eye = eye;
    }
    // Three workers in a row with short queues between them: memory is a few frames, whatever the shot's
    // length. Each begins its next only when its last was taken.
    Pipe<ReadFrame> read(1);
    Pipe<MadeFrame> blended(1);
    const bool writes_metres = d.distances && d.container == Container::exr_sequence,
               distances = writes_metres || d.stereo == EyeLayout::depth_below;
    const auto reading = [&] {
        for (std::int64_t n = 0; n < frames; ++n) {
            if (!read.wait_for_room()) return;
            cancel.check();
            ReadFrame frame;
            frame.time = span.in + frame_time(n, shot.timing.rate);
            for (const View& view : views)
                frame.eyes.push_back(composer.gather(project, shot, frame.time, view, cancel));
            if (!read.put(std::move(frame))) return;
        }
        read.close();
    };
    const auto blending = [&] {
        while (blended.wait_for_room()) {
            auto frame = read.take();
            if (!frame) break;
            cancel.check();
            MadeFrame films;
            for (const auto& sink : sinks)
                if (auto film = sink->new_frame()) films.push_back({{}, {}, std::move(film)});
            if (!films.empty()) { // blended into the encoder's own pixels
                for (std::size_t eye = 0; eye < views.size(); ++eye)
                    composer.blend(frame->eyes[eye],
                                   films.size() > 1 ? films[eye].film->planes
                                                    : part_of(films[0].film->planes, d.stereo, eye),
                                   cancel);
                if (d.stereo == EyeLayout::depth_below) {
                    const auto& field = frame->eyes[0].distances;
                    yuv_from_rgba(
                        grey_of(depth_map(field ? field->grid : SphereGrid(), shot, frame->time, views[0])),
                        part_of(films[0].film->planes, d.stereo, 1));
                }
                frame.reset();
                if (!blended.put(std::move(films))) return;
                continue;
            }
            std::vector<Picture> eyes;
            std::vector<DepthMap> depths;
            for (std::size_t eye = 0; eye < views.size(); ++eye) {
                eyes.push_back(composer.blend(frame->eyes[eye], cancel));
                if (!distances) continue;
                const auto& field = frame->eyes[eye].distances;
                depths.push_back(
                    depth_map(field ? field->grid : SphereGrid(), shot, frame->time, views[eye]));
            }
            MadeFrame made = laid_out(d, std::move(eyes), std::move(depths), writes_metres);
            frame.reset();
            if (!blended.put(std::move(made))) return;
        }
        blended.close();
    };
    std::exception_ptr failed;
    std::mutex failed_mutex;
    const auto guarded = [&](const auto& work) {
        try {
            work();
        } catch (...) {
            const std::lock_guard lock(failed_mutex);
            if (!failed) failed = std::current_exception();
            read.abandon();
            blended.abandon();
        }
    };
    const auto writing = [&] {
        for (std::int64_t n = 0; const auto made = blended.take(); ++n) {
            cancel.check();
            if (n % kFramesBetweenDiskChecks == 0 && free_disk_bytes(d.path) < kDiskReserve)
                throw Error("the disk is nearly full", d.path.string(), "Free some space and render again");
            if (sinks.size() == 1)
                sinks[0]->write(*made, n);
            else
                for (std::size_t eye = 0; eye < sinks.size(); ++eye) sinks[eye]->write({&(*made)[eye], 1}, n);
            if (!progress) continue;
            RenderProgress p;
            p.frames_done = n + 1;
            p.frames = frames;
            p.seconds_gone = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
            p.frames_per_second = double(n + 1) / std::max(p.seconds_gone, 1e-3);
            p.seconds_left = double(frames - n - 1) / p.frames_per_second;
            for (const auto& sink : sinks) p.bytes += sink->bytes();
            progress(p);
        }
    };
    std::thread reader([&] { guarded(reading); });
    std::thread blender([&] { guarded(blending); });
    guarded(writing);
    reader.join();
    blender.join();
    if (failed) std::rethrow_exception(failed);
    cancel.check();
    for (const auto& sink : sinks) sink->finish();
}

} // namespace porb
