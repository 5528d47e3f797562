#include "stitch/light_bands.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "picture/convert_simd.h"
#include "stitch/supply.h"

namespace porb {

namespace {

constexpr int kSide = 160; ///< cells of about 1.3 degrees: as wide as the plan's own feather
constexpr double kCell_deg = 1.3;
constexpr int kMostBands = 4;
constexpr float kHardlyKnown = 1e-3f;

/// Half the side: each cell from the 4 x 4 about it, weighted 1 3 3 1.
SphereGrid reduced(const SphereGrid& fine) {
    SphereGrid out(fine.side / 2, fine.channels);
    constexpr float w[4] = {0.125f, 0.375f, 0.375f, 0.125f};
    for (int y = 0; y < out.side; ++y)
        for (int x = 0; x < out.side; ++x) {
            float* to = out.cell(x, y);
            for (int j = 0; j < 4; ++j)
                for (int i = 0; i < 4; ++i) {
                    const float* from = fine.cell(2 * x - 1 + i, 2 * y - 1 + j);
                    for (int c = 0; c < fine.channels; ++c) to[c] += w[i] * w[j] * from[c];
                }
        }
    out.close_edges();
    return out;
}

/// The coarse grid read at the middles of cells half as large, one row: weights 3/4 and 1/4.
template <class Use>
void each_expanded(const SphereGrid& coarse, const Use& use) {
    std::vector<float> value(std::size_t(coarse.channels));
    for (int y = 0; y < 2 * coarse.side; ++y)
        for (int x = 0; x < 2 * coarse.side; ++x) {
            const int x0 = x / 2, x1 = x % 2 ? x0 + 1 : x0 - 1, y0 = y / 2, y1 = y % 2 ? y0 + 1 : y0 - 1;
            const float *a = coarse.cell(x0, y0), *b = coarse.cell(x1, y0), *c = coarse.cell(x0, y1),
                        *d = coarse.cell(x1, y1);
            for (std::size_t i = 0; i < value.size(); ++i)
                value[i] = 0.5625f * a[i] + 0.1875f * (b[i] + c[i]) + 0.0625f * d[i];
            use(x, y, value.data());
        }
}

/// Fills cells with little of the last channel (what is known) from coarser ones, and divides by it.
void fill_unknown(SphereGrid& grid) {
    const int last = grid.channels - 1;
    if (grid.side > 4) {
        SphereGrid coarse = reduced(grid);
        fill_unknown(coarse);
        each_expanded(coarse, [&](int x, int y, const float* filled) {
            float* to = grid.cell(x, y);
            const float lacks = 1 - std::min(1.0f, to[last]);
            for (int c = 0; c < last; ++c) to[c] += lacks * filled[c];
            to[last] += lacks;
        });
    } else {
        std::vector<float> sum(std::size_t(grid.channels));
        for (int y = 0; y < grid.side; ++y)
            for (int x = 0; x < grid.side; ++x)
                for (int c = 0; c <= last; ++c) sum[std::size_t(c)] += grid.cell(x, y)[c];
        for (int y = 0; y < grid.side; ++y)
            for (int x = 0; x < grid.side; ++x) {
                float* to = grid.cell(x, y);
                const float lacks = std::max(0.0f, 1 - to[last]);
                for (int c = 0; c < last; ++c)
                    to[c] += lacks * sum[std::size_t(c)] / std::max(sum[std::size_t(last)], kHardlyKnown);
                to[last] += lacks;
            }
    }
    for (int y = 0; y < grid.side; ++y)
        for (int x = 0; x < grid.side; ++x) {
            float* to = grid.cell(x, y);
            for (int c = 0; c < last; ++c) to[c] /= std::max(to[last], kHardlyKnown);
            to[last] = 1;
        }
    grid.close_edges();
}

/// A cell's place in one camera's picture, and how it moves with inverse distance.
struct Place {
    float u = -1, v = -1, u1 = 0, u2 = 0, v1 = 0, v2 = 0, high = 0;
    float seen = 0; ///< 0 to 1: fades within a cell of the rim
};

} // namespace

struct LightBands::Impl {
    std::vector<BlendPlan::PlanCamera> cameras;
    std::vector<std::vector<Place>> places;        ///< by camera and cell
    std::vector<std::vector<SphereGrid>> supplies; ///< by camera and band, each normalised over the cameras
    int bands = 1;
    float agree = 0;
};

LightBands::~LightBands() = default;
LightBands::LightBands(LightBands&&) noexcept = default;
const std::vector<BlendPlan::PlanCamera>& LightBands::cameras() const {
    return impl_->cameras;
}

LightBands::LightBands(const PlanKey& shot_key, double widest_deg) : impl_(std::make_unique<Impl>()) {
    Impl& me = *impl_;
    PlanKey key = shot_key; // its view and how the shot is turned are of no account
    key.orientation = {};
    key.row_turn = Vec3(0, 0, 0);
    const std::vector<PlanLens> lenses = plan_lenses(key);
    const Supply supply(key, lenses);
    me.agree = float(agree_inverse_m(key));
    me.bands = std::clamp(int(std::lround(std::log2(widest_deg / kCell_deg))), 1, kMostBands);
    for (const PlanLens& lens : lenses) {
        int level = 0;
        while (lens.map.lens().focal_px / (1 << (level + 1)) * radians(kCell_deg) >= 1) ++level;
        me.cameras.push_back({lens.index, level});
    }
    me.places.assign(lenses.size(), std::vector<Place>(std::size_t(kSide) * kSide));
    std::vector<SphereGrid> finest(lenses.size(), SphereGrid(kSide, 1));
    const double nearest = 1.5 / key.flow.nearest_m;
    parallel_ranges(kSide, 4, [&](int begin, int end) {
        std::vector<Landing> at(lenses.size());
        std::vector<float> weights(lenses.size());
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < kSide; ++x) {
                const Vec3 d = finest[0].direction(x, y);
                for (std::size_t l = 0; l < lenses.size(); ++l)
                    at[l] = land(lenses[l], lenses[l].ray(d, me.agree));
                supply.weights(d, at, weights);
                for (std::size_t l = 0; l < lenses.size(); ++l) {
                    *finest[l].cell(x, y) = weights[l];
                    const LensMap& map = lenses[l].map;
                    const double scale = 1.0 / (1 << me.cameras[l].level);
                    // All that the circle shows helps, past reach and cut-outs too; for those the supply is
                    // 0.
                    const double clear = map.clearance(at[l].px) * lenses[l].rad_per_px / radians(kCell_deg);
                    Place& p = me.places[l][std::size_t(y) * kSide + std::size_t(x)];
                    const Vec3 ray = lenses[l].ray(d, me.agree);
                    if (clear <= 0 || ray.z() < lenses[l].cos_far * ray.norm()) continue;
                    p.seen = float(std::min(1.0, clear));
                    p.u = float(at[l].px.x() * scale), p.v = float(at[l].px.y() * scale);
                    if (!key.flow.on) continue;
                    double high = nearest - double(me.agree);
                    Landing near = land(lenses[l], lenses[l].ray(d, me.agree + high));
                    for (int i = 0; i < 6 && map.clearance(near.px) < 2; ++i) {
                        high *= 0.5;
                        near = land(lenses[l], lenses[l].ray(d, me.agree + high));
                    }
                    if (map.clearance(near.px) < 2 || high <= 0) continue;
                    const Landing mid = land(lenses[l], lenses[l].ray(d, me.agree + high / 2));
                    const Vec2 a = (near.px - at[l].px) * (scale / high),
                               b = (mid.px - at[l].px) * (2 * scale / high);
                    const Vec2 second = (a - b) * 2 / high, slope = a - second * high;
                    p.u1 = float(slope.x()), p.u2 = float(second.x());
                    p.v1 = float(slope.y()), p.v2 = float(second.y());
                    p.high = float(high);
                }
            }
    });
    me.supplies.resize(lenses.size());
    for (std::size_t l = 0; l < lenses.size(); ++l) {
        finest[l].close_edges();
        me.supplies[l].push_back(std::move(finest[l]));
        for (int b = 0; b < me.bands; ++b) me.supplies[l].push_back(reduced(me.supplies[l].back()));
    }
    if (lenses.empty()) return;
    constexpr float kLeast = 1e-4f; // where nobody looks everybody counts alike: only smoothness matters
    for (int b = 0; b <= me.bands; ++b)
        for (std::size_t i = 0; i < me.supplies[0][std::size_t(b)].values.size(); ++i) {
            float sum = 0;
            for (const auto& s : me.supplies) sum += s[std::size_t(b)].values[i] + kLeast;
            for (auto& s : me.supplies) {
                float& w = s[std::size_t(b)].values[i];
                w = (w + kLeast) / sum;
            }
        }
}

namespace {

/// One camera's coarse picture: R, G, B, each times how well it is known, and that.
SphereGrid coarse_picture(const Picture& source, const CameraTone& tone, const std::vector<Place>& places,
                          const SphereGrid& distances, float agree) {
    std::vector<float> pixels(std::size_t(source.width()) * std::size_t(source.height()) * 4);
    for (int y = 0; y < source.height(); ++y)
        simd::floats_from_halves(source.row(y),
                                 pixels.data() + std::size_t(y) * std::size_t(source.width()) * 4,
                                 std::size_t(source.width()) * 4);
    SphereGrid out(kSide, 4);
    for (int y = 0; y < kSide; ++y)
        for (int x = 0; x < kSide; ++x) {
            const Place& p = places[std::size_t(y) * kSide + std::size_t(x)];
            if (p.seen <= 0) continue;
            float u = p.u, v = p.v;
            if (!distances.empty()) {
                const auto rho = std::clamp(float(distances.at(out.direction(x, y))) - agree, -agree, p.high);
                u += (p.u1 + p.u2 * rho) * rho, v += (p.v1 + p.v2 * rho) * rho;
            }
            const float cu = std::clamp(u - 0.5f, 0.0f, float(source.width() - 1) - 1e-3f),
                        cv = std::clamp(v - 0.5f, 0.0f, float(source.height() - 1) - 1e-3f);
            const int iu = int(cu), iv = int(cv);
            const float fu = cu - float(iu), fv = cv - float(iv);
            const float* a = &pixels[(std::size_t(iv) * std::size_t(source.width()) + std::size_t(iu)) * 4];
            const float* b = a + std::size_t(source.width()) * 4;
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
    return out;
}

} // namespace

std::vector<SphereGrid> LightBands::find(std::span<const Picture> sources, std::span<const CameraTone> tones,
                                         const SphereGrid& distances) const {
    const Impl& me = *impl_;
    const std::size_t count = sources.size();
    std::vector<std::vector<SphereGrid>> bands(count); ///< of each camera: its picture, ever coarser
    parallel_ranges(int(count), 1, [&](int begin, int end) {
        for (int l = begin; l < end; ++l) {
            auto& mine = bands[std::size_t(l)];
            mine.push_back(coarse_picture(sources[std::size_t(l)], tones[std::size_t(l)],
                                          me.places[std::size_t(l)], distances, me.agree));
            fill_unknown(mine[0]);
            for (int b = 0; b < me.bands; ++b) mine.push_back(reduced(mine.back()));
        }
    });
    if (count == 0) return {};
    // From the widest band in: what is blended so far, plus what each band adds, from who supplies there.
    SphereGrid blended(bands[0].back().side, 4);
    for (int b = me.bands; b >= 0; --b) {
        SphereGrid next(bands[0][std::size_t(b)].side, 4);
        if (b < me.bands)
            each_expanded(blended, [&](int x, int y, const float* v) { std::copy_n(v, 4, next.cell(x, y)); });
        for (std::size_t l = 0; l < count; ++l) {
            const SphereGrid &fine = bands[l][std::size_t(b)], &share = me.supplies[l][std::size_t(b)];
            const auto add = [&](int x, int y, const float* coarser) {
                const float w = *share.cell(x, y);
                const float* f = fine.cell(x, y);
                float* to = next.cell(x, y);
                for (int c = 0; c < 3; ++c) to[c] += w * (f[c] - (coarser ? coarser[c] : 0));
            };
            if (b < me.bands)
                each_expanded(bands[l][std::size_t(b) + 1], add);
            else
                for (int y = 0; y < fine.side; ++y)
                    for (int x = 0; x < fine.side; ++x) add(x, y, nullptr);
        }
        next.close_edges();
        blended = std::move(next);
    }
    std::vector<SphereGrid> lacks(count);
    for (std::size_t l = 0; l < count; ++l) {
        lacks[l] = blended;
        for (std::size_t i = 0; i < lacks[l].values.size(); ++i) lacks[l].values[i] -= bands[l][0].values[i];
        for (std::size_t i = 3; i < lacks[l].values.size(); i += 4) lacks[l].values[i] = 0;
    }
    return lacks;
}

} // namespace porb
