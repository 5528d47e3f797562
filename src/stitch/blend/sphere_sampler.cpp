#include "stitch/blend/sphere_sampler.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "picture/convert_simd.h"

namespace porb {

SphereSampler::SphereSampler(const std::vector<PlanLens>& lenses, int side, double agree_inverse_m,
                             const FlowSettings& flow)
    : side_(side), agree_(agree_inverse_m), cell_rad_(std::sqrt(4 * kPi) / side),
      places_(lenses.size(), std::vector<Place>(std::size_t(side) * std::size_t(side))) {
    for (const PlanLens& lens : lenses) {
        int level = 0;
        while (lens.map.lens().focal_px / (1 << (level + 1)) * cell_rad_ >= 1) ++level;
        cameras_.push_back({lens.index, level});
    }
    const SphereGrid cells(side, 1);
    parallel_ranges(side, 4, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < side; ++x)
                for (std::size_t l = 0; l < lenses.size(); ++l)
                    places_[l][std::size_t(y) * std::size_t(side) + std::size_t(x)] =
                        place_of(lenses[l], cameras_[l].level, cells.direction(x, y), flow);
    });
}

SphereSampler::Place SphereSampler::place_of(const PlanLens& lens, int level, const Vec3& direction,
                                             const FlowSettings& flow) const {
    const LensMap& map = lens.map;
    const double scale = 1.0 / (1 << level);
    const Vec3 ray = lens.ray(direction, agree_);
    const Vec2 px = land(lens, ray).px;
    const double clear = map.clearance(px) * lens.rad_per_px / cell_rad_;
    Place p;
    if (clear <= 0 || ray.z() < lens.cos_far * ray.norm()) return p;
    p.seen = float(std::min(1.0, clear));
    p.u = float(px.x() * scale), p.v = float(px.y() * scale);
    if (!flow.on) return p;
    double high = 1.5 / flow.nearest_m - agree_;
    Landing near = land(lens, lens.ray(direction, agree_ + high));
    for (int i = 0; i < 6 && map.clearance(near.px) < 2; ++i) {
        high *= 0.5;
        near = land(lens, lens.ray(direction, agree_ + high));
    }
    if (map.clearance(near.px) < 2 || high <= 0) return p;
    const Landing mid = land(lens, lens.ray(direction, agree_ + high / 2));
    const Vec2 a = (near.px - px) * (scale / high), b = (mid.px - px) * (2 * scale / high);
    const Vec2 second = (a - b) * 2 / high, slope = a - second * high;
    p.u1 = float(slope.x()), p.u2 = float(second.x());
    p.v1 = float(slope.y()), p.v2 = float(second.y());
    p.high = float(high);
    return p;
}

std::vector<SphereGrid> SphereSampler::sample(std::span<const Picture> sources,
                                              std::span<const CameraTone> tones,
                                              const SphereGrid& distances) const {
    std::vector<SphereGrid> all(sources.size());
    const auto agree = float(agree_);
    const auto one = [&](std::size_t l) {
        const Picture& source = sources[l];
        const CameraTone& tone = tones[l];
        const auto width = std::size_t(source.width());
        std::vector<float> pixels(width * std::size_t(source.height()) * 4);
        for (int y = 0; y < source.height(); ++y)
            simd::floats_from_halves(source.row(y), pixels.data() + std::size_t(y) * width * 4, width * 4);
        SphereGrid out(side_, 4);
        for (int y = 0; y < side_; ++y)
            for (int x = 0; x < side_; ++x) {
                const Place& p = places_[l][std::size_t(y) * std::size_t(side_) + std::size_t(x)];
                if (p.seen <= 0) continue;
                float u = p.u, v = p.v;
                if (!distances.empty()) {
                    const auto rho =
                        std::clamp(float(distances.at(out.direction(x, y))) - agree, -agree, p.high);
                    u += (p.u1 + p.u2 * rho) * rho, v += (p.v1 + p.v2 * rho) * rho;
                }
                const float cu = std::clamp(u - 0.5f, 0.0f, float(source.width() - 1) - 1e-3f),
                            cv = std::clamp(v - 0.5f, 0.0f, float(source.height() - 1) - 1e-3f);
                const int iu = int(cu), iv = int(cv);
                const float fu = cu - float(iu), fv = cv - float(iv);
                const float* a = &pixels[(std::size_t(iv) * width + std::size_t(iu)) * 4];
                const float* b = a + width * 4;
                float rim = 1;
                if (!tone.plain) {
                    const float du = u - tone.centre_u, dv = v - tone.centre_v;
                    const float q = std::min((du * du + dv * dv) * tone.per_radius2, kFarthestQ);
                    rim = 1 + q * (tone.rim[0] + q * (tone.rim[1] + q * tone.rim[2]));
                }
                float* to = out.cell(x, y);
                for (int c = 0; c < 3; ++c) {
                    float e =
                        (1 - fv) * ((1 - fu) * a[c] + fu * a[c + 4]) + fv * ((1 - fu) * b[c] + fu * b[c + 4]);
                    if (!tone.plain) e = (e + kCurveFoot) * tone.scale[c] * rim - kCurveFoot;
                    to[c] = p.seen * e;
                }
                to[3] = p.seen;
            }
        out.close_edges();
        all[l] = std::move(out);
    };
    parallel_ranges(int(sources.size()), 1, [&](int begin, int end) {
        for (int l = begin; l < end; ++l) one(std::size_t(l));
    });
    return all;
}

} // namespace porb
