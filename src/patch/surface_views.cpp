#include "patch/surface_views.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "base/smooth.h"
#include "project/orientation.h"
#include "project/span.h"
#include "stitch/patches/placement.h"
#include "stitch/plan/plan_lens.h"

#include <opencv2/imgproc.hpp>

#include <map>

namespace porb {

namespace {

/// The placement as the rig's centre sees it, with its surface kept.
struct Surface {
    PatchPlacement place;
    PatchSurface kind;
    double distance_m;
    Vec3 down;
    double inverse_m(const Vec3& direction) const {
        switch (kind) {
        case PatchSurface::far:
            return 0;
        case PatchSurface::sphere:
            return 1 / distance_m;
        case PatchSurface::level:
            return std::max(0.0, down.dot(direction)) / distance_m;
        case PatchSurface::facing:
            return std::max(0.0, place.to_patch.row(2).dot(direction)) / distance_m;
        }
        return 0;
    }
};
Surface surface_of(const Shot& shot, const Patch& patch, Seconds time) {
    const PatchKey key = place_at(patch, time);
    const Mat3 to_world = patch.hold == PatchHold::rig ? orientation_at(shot, time) : Mat3::Identity();
    return {placement_of(shot, patch, key, time, Eye::mono), patch.surface, patch.distance_m,
            to_world * Vec3(0, key.pitch_deg <= 0 ? 1 : -1, 0)};
}

float toned(float value, const CameraTone& tone, double u, double v, int channel) {
    if (tone.plain) return value;
    const double du = u - tone.centre_u, dv = v - tone.centre_v;
    const float q = std::min(float(du * du + dv * dv) * tone.per_radius2, kFarthestQ);
    const float rim = 1 + q * (tone.rim[0] + q * (tone.rim[1] + q * tone.rim[2]));
    return (value + kCurveFoot) * tone.scale[channel] * rim - kCurveFoot;
}

/// Catmull-Rom, 4 x 4 pixels.
std::array<float, 3> cubic(const Picture& p, double u, double v) {
    const auto weights = [](double at, int& first) {
        const double x = at - 0.5, whole = std::floor(x);
        first = int(whole) - 1;
        const double t = x - whole, t2 = t * t, t3 = t2 * t;
        return std::array<double, 4>{0.5 * (-t + 2 * t2 - t3), 0.5 * (2 - 5 * t2 + 3 * t3),
                                     0.5 * (t + 4 * t2 - 3 * t3), 0.5 * (t3 - t2)};
    };
    int x0 = 0, y0 = 0;
    const auto wx = weights(u, x0), wy = weights(v, y0);
    std::array<double, 3> sum{};
    for (int j = 0; j < 4; ++j) {
        const Half* row = p.row(std::clamp(y0 + j, 0, p.height() - 1));
        for (int i = 0; i < 4; ++i) {
            const Half* px = row + 4 * std::clamp(x0 + i, 0, p.width() - 1);
            const double w = wx[std::size_t(i)] * wy[std::size_t(j)];
            for (std::size_t c = 0; c < 3; ++c) sum[c] += w * float_from_half(px[c]);
        }
    }
    return {float(sum[0]), float(sum[1]), float(sum[2])};
}

/// Where a camera sees each pixel of the square; u < 0 where it does not.
struct Sight {
    float u = -1, v = -1, quality = 0;
};
std::vector<Sight> sights_of(const PlanLens& lens, const Surface& surface, const TargetMap& map,
                             const Mat3& to_rig, double scale) {
    const int side = map.target().width;
    std::vector<Sight> out(std::size_t(side) * std::size_t(side));
    parallel_ranges(side, 8, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < side; ++x) {
                const Vec3 direction = *map.direction({x + 0.5, y + 0.5});
                const Vec3 ray = lens.ray(to_rig * direction, surface.inverse_m(direction));
                if (ray.z() < lens.cos_far * ray.norm()) continue;
                const Landing at = land(lens, ray);
                constexpr double kClear_deg = 0.4; // the rim's own pixels are dark
                if (at.margin_deg < kClear_deg || at.available < 0.99f) continue;
                out[std::size_t(y) * std::size_t(side) + std::size_t(x)] = {
                    float(at.px.x() * scale), float(at.px.y() * scale), float(smooth(at.margin_deg / 8))};
            }
    });
    return out;
}

std::vector<SurfaceView> views_of(Composer& composer, const Project& project, const Shot& shot,
                                  const Surface& surface, std::span<const Seconds> times, int side,
                                  const Cancel& cancel) {
    Shot all = shot; // each camera counts, whichever eye it serves, as far as it sees
    all.stereo = {};
    all.stereo.from = EyesFrom::distances;
    all.seams.shelters.clear();
    View view = patch_view(surface.place, side);
    const TargetMap map(view.target);
    const double pixel = map.pixel_angle();
    std::map<std::size_t, SurfaceView> seen;
    std::map<std::size_t, std::vector<Sight>> sights; // of the key
    std::optional<PlanKey> key;
    for (const Seconds moment : times) {
        cancel.check();
        const Seconds time = nearest_frame_time(moment, shot.timing.rate);
        PlanKey now = plan_key(all, view, time);
        if (!key || !(now == *key)) sights.clear();
        key = std::move(now);
        const std::vector<PlanLens> lenses = plan_lenses(*key);
        std::vector<BlendPlan::PlanCamera> cameras;
        for (const PlanLens& lens : lenses) {
            int level = 0;
            while (lens.map.lens().focal_px / (1 << (level + 1)) * pixel > 0.9) ++level;
            cameras.push_back({lens.index, level});
        }
        const auto frames = composer.source_frames(project, shot, time, cameras);
        if (!frames) continue;
        for (std::size_t l = 0; l < lenses.size(); ++l) {
            cancel.check();
            auto& own = sights[lenses[l].index];
            if (own.empty())
                own = sights_of(lenses[l], surface, map, rotation_of(key->orientation).transpose(),
                                1.0 / (1 << cameras[l].level));
            if (std::none_of(own.begin(), own.end(), [](const Sight& s) { return s.u >= 0; })) continue;
            SurfaceView& to = seen[lenses[l].index];
            to.camera = lenses[l].index;
            to.quality.resize(own.size());
            for (std::size_t i = 0; i < own.size(); ++i) to.quality[i] = own[i].quality;
            Picture picture(side, side);
            parallel_ranges(side, 8, [&](int begin, int end) {
                for (int y = begin; y < end; ++y) {
                    Half* pixels = picture.row(y);
                    for (int x = 0; x < side; ++x, pixels += 4) {
                        const Sight& s = own[std::size_t(y) * std::size_t(side) + std::size_t(x)];
                        std::fill_n(pixels, 4, Half(0));
                        if (s.u < 0) continue;
                        const auto c = cubic(frames->sources[l], s.u, s.v);
                        for (int k = 0; k < 3; ++k)
                            pixels[k] =
                                half_from_float(toned(c[std::size_t(k)], frames->tones[l], s.u, s.v, k));
                        pixels[3] = half_from_float(1);
                    }
                }
            });
            to.pictures.push_back(std::move(picture));
        }
    }
    std::vector<SurfaceView> out;
    for (auto& [camera, view_of_it] : seen) out.push_back(std::move(view_of_it));
    return out;
}

/// Grey, on the working curve.
cv::Mat grey_of(const Picture& p, cv::Mat& seen) {
    cv::Mat out(p.height(), p.width(), CV_32F);
    seen.create(p.height(), p.width(), CV_32F);
    for (int y = 0; y < p.height(); ++y)
        for (int x = 0; x < p.width(); ++x) {
            const Rgba c = pixel_at(p, x, y);
            out.at<float>(y, x) = (c.r + 2 * c.g + c.b) / 4;
            seen.at<float>(y, x) = c.a;
        }
    return out;
}

/// How unlike two cameras' pictures of a surface are where both see it: the mean over places of one less
/// their correlation; and over how many.
std::pair<double, int> unlike(const SurfaceView& a, const SurfaceView& b) {
    cv::Mat seen_a, seen_b;
    const cv::Mat ga = grey_of(a.pictures.front(), seen_a), gb = grey_of(b.pictures.front(), seen_b);
    constexpr int kPatch = 15;
    const auto mean = [](const cv::Mat& m) {
        cv::Mat out;
        cv::boxFilter(m, out, CV_32F, {kPatch, kPatch});
        return out;
    };
    const cv::Mat ma = mean(ga), mb = mean(gb), aa = mean(ga.mul(ga)), bb = mean(gb.mul(gb)),
                  ab = mean(ga.mul(gb)), both = mean(seen_a.mul(seen_b));
    double sum = 0;
    int n = 0;
    for (int y = 0; y < ga.rows; y += 4)
        for (int x = 0; x < ga.cols; x += 4) {
            if (both.at<float>(y, x) < 0.999f) continue;
            const double va = aa.at<float>(y, x) - std::pow(ma.at<float>(y, x), 2),
                         vb = bb.at<float>(y, x) - std::pow(mb.at<float>(y, x), 2);
            constexpr double kLeast = 4e-4; // where there is nothing to see nothing is told
            if (va < kLeast || vb < kLeast) continue;
            const double r =
                (ab.at<float>(y, x) - ma.at<float>(y, x) * mb.at<float>(y, x)) / std::sqrt(va * vb);
            sum += 1 - std::clamp(r, -1.0, 1.0);
            ++n;
        }
    return {sum, n};
}

} // namespace

double surface_inverse_m(const Shot& shot, const Patch& patch, Seconds time, const Vec3& direction) {
    return surface_of(shot, patch, time).inverse_m(direction.normalized());
}

std::vector<SurfaceView> surface_views(Composer& composer, const Project& project, const Shot& shot,
                                       const Patch& patch, std::span<const Seconds> times, int side,
                                       const Cancel& cancel) {
    if (times.empty()) return {};
    return views_of(composer, project, shot, surface_of(shot, patch, times.front()), times, side, cancel);
}

std::optional<double> found_height_m(Composer& composer, const Project& project, const Shot& shot,
                                     const Patch& patch, Seconds time, const TellShare& tell,
                                     const Cancel& cancel) {
    constexpr int kCoarse = 160, kFine = 320, kFewest = 50; // pixels a side; places that tell something
    constexpr double kNearest = 0.3, kFarthest = 12, kStep = 1.1, kSettled = 0.003, kClearly = 0.8;
    // Wide enough that cameras see it from different sides, whatever the patch's own width.
    Patch wide = patch;
    wide.surface = PatchSurface::level;
    for (PatchKey& k : wide.keys) k.width_deg = std::max(k.width_deg, 100.0);
    Surface surface = surface_of(shot, wide, time);
    if (surface.place.to_patch.row(2).dot(surface.down) < 0.3) return std::nullopt; // it looks ahead
    const auto cost = [&](double height, int side) {
        cancel.check();
        surface.distance_m = height;
        const auto views = views_of(composer, project, shot, surface, {&time, 1}, side, cancel);
        double sum = 0;
        int n = 0;
        for (std::size_t i = 0; i < views.size(); ++i)
            for (std::size_t j = i + 1; j < views.size(); ++j) {
                const auto [s, m] = unlike(views[i], views[j]);
                sum += s, n += m;
            }
        return n < kFewest ? 2.0 : sum / n;
    };
    const auto say = [&](double share) {
        if (tell) tell(share);
    };
    double best = 0, least = 2, total = 0;
    int tried = 0;
    for (double h = kNearest; h < kFarthest; h *= kStep) {
        const double c = cost(h, kCoarse);
        say(0.5 * std::log(h / kNearest) / std::log(kFarthest / kNearest));
        if (c >= 2) continue;
        total += c, ++tried;
        if (c < least) least = c, best = h;
    }
    // As likely at any other height: nothing is told.
    if (tried < 8 || least > kClearly * total / tried) return std::nullopt;
    double low = best / kStep, high = best * kStep;
    constexpr double kGolden = 0.381966; // golden section: one of two probes serves the next step, too
    const auto probe = [&](double share) {
        const double h = low + share * (high - low);
        return std::pair(h, cost(h, kFine));
    };
    auto a = probe(kGolden), b = probe(1 - kGolden);
    while (high / low - 1 > kSettled) {
        say(0.5 + 0.5 * std::log((high / low - 1) / (kStep * kStep - 1)) /
                      std::log(kSettled / (kStep * kStep - 1)));
        if (a.second < b.second) {
            high = b.first, b = a, a = probe(kGolden);
        } else {
            low = a.first, a = b, b = probe(1 - kGolden);
        }
    }
    return (low + high) / 2;
}

} // namespace porb
