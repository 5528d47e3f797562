#include "stitch/depth_map.h"

#include "base/error.h"
#include "base/file.h"
#include "base/parallel.h"
#include "media/sequence.h"
#include "media/still.h"
#include "project/orientation.h"
#include "stitch/plan/plan_lens.h"

namespace porb {

namespace {
constexpr float kWhite_m = 0.25f; ///< of the inverse in 16 bits
}

DepthMap depth_map(Composer& composer, const Project& project, const Shot& shot, Seconds time,
                   const View& view, const Cancel& cancel) {
    return depth_map(composer.distances(project, shot, time, view.eye, cancel), shot, time, view);
}

DepthMap depth_map(const SphereGrid& found, const Shot& shot, Seconds time, const View& view) {
    time = nearest_frame_time(time, shot.timing.rate);
    const TargetMap map(view.target);
    const Mat3 to_rig = orientation_at(shot, time).transpose();
    const EyeRays rays = eye_rays_of(shot, view.eye, time);
    const double agree = shot.seams.agree_distance_m > 0 ? 1 / shot.seams.agree_distance_m : 0;
    const Region region = whole_region(view);
    DepthMap out{region.width, region.height, {}};
    out.metres.resize(std::size_t(out.width) * std::size_t(out.height));
    parallel_ranges(out.height, 16, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < out.width; ++x) {
                const auto d = map.direction({x + 0.5 + region.x, y + 0.5 + region.y});
                if (!d) continue;
                const double inverse = found.empty() ? agree : found.at(to_rig * rays.looks(*d));
                out.metres[std::size_t(y) * std::size_t(out.width) + std::size_t(x)] =
                    inverse * double(kFarthestDepth_m) > 1 ? float(1 / inverse) : kFarthestDepth_m;
            }
    });
    return out;
}

DepthMap stacked(const DepthMap& upper, const DepthMap& lower, bool side_by_side) {
    DepthMap out = upper;
    if (!side_by_side) {
        out.height += lower.height;
        out.metres.insert(out.metres.end(), lower.metres.begin(), lower.metres.end());
        return out;
    }
    out.width += lower.width;
    out.metres.clear();
    for (int y = 0; y < upper.height; ++y)
        for (const DepthMap* m : {&upper, &lower}) {
            const auto row = m->metres.begin() + std::ptrdiff_t(y) * m->width;
            out.metres.insert(out.metres.end(), row, row + m->width);
        }
    return out;
}

bool is_depth_name(const std::filesystem::path& path) {
    return path.extension() == ".exr" || path.extension() == ".png";
}

void write_depth(const DepthMap& depth, const std::filesystem::path& path) {
    if (path.extension() == ".exr") {
        PartFile part(path);
        write_exr_depth(depth.metres, depth.width, depth.height, part.path());
        part.commit();
        return;
    }
    if (path.extension() != ".png")
        throw Error("is no picture of distances", path.string(), "End the name in .exr or .png");
    std::vector<std::uint16_t> grey(depth.metres.size());
    for (std::size_t i = 0; i < grey.size(); ++i) {
        const float m = depth.metres[i];
        grey[i] = m <= 0 || m >= kFarthestDepth_m
                      ? std::uint16_t(0)
                      : std::uint16_t(std::lround(65535 * std::min(1.0f, kWhite_m / m)));
    }
    write_png_grey16(grey, depth.width, depth.height, path);
}

void write_depths(Composer& composer, const Project& project, const Shot& shot, const Span& span,
                  const View& view, const std::filesystem::path& pattern,
                  const std::function<void(std::int64_t, std::int64_t)>& step, const Cancel& cancel) {
    check_pattern(pattern);
    const std::int64_t frames = ((span.out - span.in) * shot.timing.rate).round();
    if (frames < 1)
        throw Error("is not after its beginning", "the end of the sequence", "Let it end after it begins");
    const std::filesystem::path whole = std::filesystem::absolute(pattern);
    PartFolder parts(whole.parent_path());
    std::vector<std::pair<std::string, std::string>> moves;
    for (std::int64_t n = 0; n < frames; ++n) {
        cancel.check();
        const std::string name = numbered_file(whole.filename(), n).string();
        write_depth(
            depth_map(composer, project, shot, span.in + frame_time(n, shot.timing.rate), view, cancel),
            parts.path() / name);
        moves.emplace_back(name, name);
        step(n + 1, frames);
    }
    parts.commit(moves);
}

} // namespace porb
