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

/// Where finished frames go: one movie with its sound, or numbered pictures in a folder of their own until
/// complete.
class Sink {
  public:
    virtual ~Sink() = default;
    virtual void write(const Picture& picture, std::span<const float> metres, std::int64_t index) = 0;
    virtual void finish() = 0;
    virtual std::int64_t bytes() const = 0;
};

class MovieSink : public Sink {
  public:
    MovieSink(const Project& project, const Shot& shot, const Deliverable& d, Span span, std::int64_t frames)
        : part_(d.path), tag_{d.mapping, d.stereo} {
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
    void write(const Picture& picture, std::span<const float>, std::int64_t index) override {
        named([&] {
            writer_->write(picture);
            if (sound_)
                speak_until(
                    std::min(total_samples_, (frame_time(index + 1, rate_) * Rational(kSoundRate)).round()));
        });
    }
    void finish() override {
        named([&] {
            writer_->finish();
            writer_.reset();
            tag_spherical_in_place(part_.path(), tag_);
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
    SphericalTag tag_;
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
        options_.spherical = SphericalTag{d.mapping, d.stereo};
    }
    void write(const Picture& picture, std::span<const float> metres, std::int64_t index) override {
        options_.metres = metres;
        const auto name = numbered_file(pattern_.filename(), index);
        write_still(picture, parts_.path() / name, options_);
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
struct MadeFrame {
    Picture picture;
    std::vector<float> metres; ///< empty unless the deliverable has distances
};

} // namespace

Target sphere_target(SphereMapping mapping, int width) {
    return mapping == SphereMapping::equirect ? equirect_target(width) : half_sphere_target(width);
}

Picture render_still(Composer& composer, const Project& project, const Shot& shot,
                     const StillRequest& request, const Cancel& cancel) {
    View view;
    view.target = sphere_target(request.mapping, request.width);
    view.eye = request.eye;
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
            must_not_replace(d.path, project, {});
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
    const Span span = used_span(project, *shot, library);
    if (any && span.empty() && out.stops.empty()) out.stops.push_back("nothing lies between in and out");
    if (d.stereo != StereoLayout::mono) {
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
    if (is_sequence(d) && out.stops.empty()) {
        const SequenceOverlap there = overlap_of(d.path, frames_of(span, shot->timing.rate));
        if (there.replaced > 0)
            out.warnings.push_back(fmt::format("{} frames of {} exist and will be replaced", there.replaced,
                                               d.path.filename().string()));
        if (there.stale > 0)
            out.warnings.push_back(fmt::format("{} frames of {} with other numbers are there from before and "
                                               "will stay: remove them, or whoever "
                                               "reads the sequence sees them, too",
                                               there.stale, d.path.filename().string()));
    } else if (!d.path.empty() && std::filesystem::exists(d.path))
        out.warnings.push_back(d.path.filename().string() + " exists and will be replaced");
    if (!d.path.empty() && out.stops.empty()) {
        const auto need = std::uint64_t(expected_bytes(d, span.out - span.in, shot->timing.rate)),
                   have = free_disk_bytes(d.path);
        if (have < need + kDiskReserve)
            out.stops.push_back("the disk has " + size_words(double(have)) + " left, about " +
                                size_words(double(need)) + " are needed");
    }
    return out;
}

std::shared_ptr<MediaLibrary> render_library(const Shot& shot, const std::shared_ptr<CacheBound>& memory) {
    constexpr std::size_t kPlans = std::size_t(512) << 20, kBytesAPixel = 8;
    const std::size_t frames =
        shot.look.denoise.on ? 2 + 2 * (1 + Cleaner::kBefore) : 2; // read, and being read
    std::size_t bytes = kPlans;
    for (const Camera& c : shot.rig.cameras)
        bytes += frames * kBytesAPixel * std::size_t(c.lens.width) * std::size_t(c.lens.height);
    return std::make_shared<MediaLibrary>(std::make_shared<CacheBound>(memory, bytes));
}

void render(Composer& composer, const Project& project, const Deliverable& d,
            const std::function<void(const RenderProgress&)>& progress, const Cancel& cancel) {
    const Preflight checks = preflight(project, d, composer.library());
    if (!checks.stops.empty())
        throw Error("cannot be rendered: " + checks.stops.front(), d.name, "Mend that and render again");
    const Shot& shot = *find_shot(project, d.shot);
    const Span span = used_span(project, shot, composer.library());
    const std::int64_t frames = frames_of(span, shot.timing.rate);
    sweep_parts(d.path.parent_path());
    std::unique_ptr<Sink> sink;
    if (is_sequence(d))
        sink = std::make_unique<SequenceSink>(d);
    else
        sink = std::make_unique<MovieSink>(project, shot, d, span, frames);

    const auto begun = std::chrono::steady_clock::now();
    std::vector<View> views;
    for (const Eye eye :
         d.stereo == StereoLayout::mono ? std::vector{Eye::mono} : std::vector{Eye::left, Eye::right}) {
        views.push_back(view_of(d));
        views.back().eye = eye;
    }
    // Three workers in a row with short queues between them: memory is a few frames, whatever the shot's
    // length. Each begins its next only when its last was taken.
    Pipe<ReadFrame> read(1);
    Pipe<MadeFrame> blended(1);
    const bool distances = d.distances && d.container == Container::exr_sequence;
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
            const bool beside = d.stereo == StereoLayout::left_right;
            MadeFrame made{composer.blend(frame->eyes[0], cancel), {}};
            if (frame->eyes.size() == 2)
                made.picture = stacked(made.picture, composer.blend(frame->eyes[1], cancel), beside);
            if (distances) {
                const auto depth_of = [&](std::size_t eye) {
                    const auto& field = frame->eyes[eye].distances;
                    return depth_map(field ? field->grid : SphereGrid(), shot, frame->time, views[eye]);
                };
                made.metres =
                    (views.size() == 2 ? stacked(depth_of(0), depth_of(1), beside) : depth_of(0)).metres;
            }
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
            sink->write(made->picture, made->metres, n);
            if (!progress) continue;
            RenderProgress p;
            p.frames_done = n + 1;
            p.frames = frames;
            p.seconds_gone = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
            p.frames_per_second = double(n + 1) / std::max(p.seconds_gone, 1e-3);
            p.seconds_left = double(frames - n - 1) / p.frames_per_second;
            p.bytes = sink->bytes();
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
    sink->finish();
}

} // namespace porb
