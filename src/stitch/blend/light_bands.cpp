#include "stitch/blend/light_bands.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "stitch/blend/sphere_sampler.h"
#include "stitch/plan/supply.h"

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

} // namespace

struct LightBands::Impl {
    explicit Impl(const PlanKey& key, const std::vector<PlanLens>& lenses)
        : sampler(lenses, kSide, agree_inverse_m(key), key.flow) {}
    SphereSampler sampler;
    std::vector<std::vector<SphereGrid>> supplies; ///< by camera and band, each normalised over the cameras
    int bands = 1;
};

LightBands::~LightBands() = default;
LightBands::LightBands(LightBands&&) noexcept = default;
std::size_t LightBands::bytes() const {
    std::size_t sum = impl_->sampler.bytes();
    for (const auto& camera : impl_->supplies)
        for (const SphereGrid& band : camera) sum += band.bytes();
    return sum;
}
const std::vector<BlendPlan::PlanCamera>& LightBands::cameras() const {
    return impl_->sampler.cameras();
}

LightBands::LightBands(const PlanKey& shot_key, double widest_deg) {
    const PlanKey key = in_rig_axes(shot_key); // its view and how the shot is turned are of no account
    const std::vector<PlanLens> lenses = plan_lenses(key);
    impl_ = std::make_unique<Impl>(key, lenses);
    Impl& me = *impl_;
    const Supply supply(key, lenses);
    me.bands = std::clamp(int(std::lround(std::log2(widest_deg / kCell_deg))), 1, kMostBands);
    std::vector<SphereGrid> finest(lenses.size(), SphereGrid(kSide, 1));
    parallel_ranges(kSide, 4, [&](int begin, int end) {
        std::vector<Landing> at(lenses.size());
        std::vector<float> weights(lenses.size());
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < kSide; ++x) {
                const Vec3 d = octahedral_direction({(x + 0.5) / kSide, (y + 0.5) / kSide});
                for (std::size_t l = 0; l < lenses.size(); ++l)
                    at[l] = land(lenses[l], lenses[l].ray(d, agree_inverse_m(key)));
                supply.set_leads(d, at);
                supply.weights(d, at, weights);
                for (std::size_t l = 0; l < lenses.size(); ++l) *finest[l].cell(x, y) = weights[l];
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

std::vector<SphereGrid> LightBands::find(std::span<const Picture> sources, std::span<const CameraTone> tones,
                                         const SphereGrid& distances) const {
    const Impl& me = *impl_;
    const std::size_t count = sources.size();
    std::vector<SphereGrid> seen = me.sampler.sample(sources, tones, distances);
    std::vector<std::vector<SphereGrid>> bands(count); ///< of each camera: its picture, ever coarser
    parallel_ranges(int(count), 1, [&](int begin, int end) {
        for (int l = begin; l < end; ++l) {
            auto& mine = bands[std::size_t(l)];
            mine.push_back(std::move(seen[std::size_t(l)]));
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
