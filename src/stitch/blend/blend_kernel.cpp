#include "stitch/blend/blend_kernel.h"

#include "base/angle.h"
#include "picture/transfer.h"
#include "stitch/blend/blend_parts.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "stitch/blend/blend_kernel.cpp"
#include <hwy/foreach_target.h>
// must come after foreach_target.h
#include <hwy/highway.h>
// in this order, once for each kind of processor
#include "stitch/blend/blend_sample-inl.h"

HWY_BEFORE_NAMESPACE();
namespace porb::HWY_NAMESPACE {

template <Filter filter>
class Blender {
  public:
    Blender(const BlendPlan& plan, const FrameParts& frame) : plan_(plan), frame_(frame) {
        for (std::size_t i = 0; i < frame.sources.size(); ++i) {
            Pixels pixels;
            pixels.planes = frame.sources[i].yuv();
            if (const Picture* p = frame.sources[i].picture()) {
                pixels.base = p->row(0);
                pixels.width = p->width(), pixels.height = p->height();
                pixels.stride = std::ptrdiff_t(p->width()) * 4;
            }
            if (!frame.tones.empty()) pixels.tone = frame.tones[i];
            sources_.push_back(pixels);
        }
        if (frame.distances) distance_places_ = places_for(plan, *frame.distances);
        if (!frame.lights.empty()) light_places_ = places_for(plan, frame.lights[0]);
    }

    /// The pixels of a segment, of which `count` are in the picture.
    HWY_ATTR void segment(std::size_t index, int count, Channels& to) {
        const Segment& segment = plan_.segments[index];
        if (segment.count == 0) {
            to = {};
            return;
        }
        directions_ = plan_.directions.empty() ? nullptr : &plan_.directions[index];
        const Contribution* c = plan_.contributions.data() + segment.first;
        const float* nearer = nullptr;
        const std::uint32_t all = segment.count + segment.reserves;
        const bool moves =
            frame_.distances && directions_ &&
            std::any_of(c, c + all, [](const Contribution& k) { return k.parallax != Contribution::kNone; });
        if (moves) {
            find_nearer();
            nearer = nearer_;
        } else {
            least_alike_ = 0; // nothing is laid on each other
            std::fill(agreement_, agreement_ + kSegment, 0.0f);
        }
        beside_outline_ = moves && lies_beside_outline();
        if (beside_outline_ && frame_.silhouettes && !frame_.silhouettes->empty() && find_sides())
            both_sides(c, segment, count, to);
        else
            one_side(c, segment, nearer, to);
    }

  private:
    /// At the distances of nearer_; of what is hidden on that side.
    HWY_ATTR void one_side(const Contribution* c, const Segment& segment, const float* nearer, Channels& to) {
        const bool hides =
            beside_outline_ && !frame_.hidden.empty() && find_visible(c, segment.count + segment.reserves);
        if (segment.count == 1 && c->full && frame_.lights.empty() && !hides)
            alone(*c, nearer, to);
        else
            shared(c, segment.count, hides ? segment.reserves : 0, hides, nearer, to);
    }

    /// What lies behind and what stands near, each by its own distances, mixed as find_sides() says.
    HWY_ATTR void both_sides(const Contribution* c, const Segment& segment, int count, Channels& to) {
        constexpr float kNothing = 1.0f / 512;
        const auto [least, most] = std::minmax_element(near_share_, near_share_ + count);
        if (*least > 1 - kNothing || *most < kNothing) {
            side_ = *least > 1 - kNothing ? Side::near : Side::far;
            std::copy_n(side_ == Side::near ? near_ : far_, kSegment, nearer_);
            one_side(c, segment, nearer_, to);
        } else {
            Channels behind;
            side_ = Side::far;
            std::copy_n(far_, kSegment, nearer_);
            one_side(c, segment, nearer_, behind);
            side_ = Side::near;
            std::copy_n(near_, kSegment, nearer_);
            one_side(c, segment, nearer_, to);
            const DS d;
            for (std::size_t i = 0; i < kSegment; i += hn::Lanes(d)) {
                const VS share = hn::LoadU(d, near_share_ + i);
                const auto mix = [&](float* near, const float* far) HWY_ATTR {
                    const VS f = hn::Load(d, far + i);
                    hn::Store(hn::MulAdd(share, hn::Sub(hn::Load(d, near + i), f), f), d, near + i);
                };
                mix(to.r, behind.r);
                mix(to.g, behind.g);
                mix(to.b, behind.b);
                mix(to.a, behind.a);
            }
        }
        side_ = Side::whole;
    }

    /// How often a segment places at a grid: at every pixel, or, where it is coarse enough, at eight places
    /// that are a little more than two pixels apart.
    static int places_for(const BlendPlan& plan, const SphereGrid& grid) {
        constexpr double kApart_px = double(kSegment - 1) / (kFewPlaces - 1), kMost_cells = 1.2;
        return kApart_px * plan.pixel_angle * grid.side / kPi < kMost_cells ? kFewPlaces : kSegment;
    }

    /// The cells of a grid (optics/sphere_grid.h) at or before where a segment places, and how far past their
    /// middles that is. Its directions follow a parabola through its nodes.
    struct GridPlaces {
        std::int32_t cell[kSegment];  ///< cells past the first of those around the grid
        std::int32_t block[kSegment]; ///< OutlineBlocks
        float fx[kSegment], fy[kSegment];
    };
    HWY_ATTR void find_grid_places(const SphereGrid& grid, int count, GridPlaces& to) const {
        const hn::CappedTag<float, kFewPlaces> d;
        const hn::RebindToSigned<decltype(d)> di;
        const auto one = hn::Set(d, 1.0f), half = hn::Set(d, 0.5f), two = hn::Set(d, 2.0f);
        const auto half_side = hn::Set(d, 0.5f * float(grid.side));
        const auto last = hn::Set(di, grid.side), row = hn::Set(di, grid.side + 2),
                   blocks = hn::Set(di, OutlineBlocks::blocks_along(grid.side));
        for (int i = 0; i < count; i += int(hn::Lanes(d))) {
            const auto t = hn::Mul(hn::Iota(d, float(i)), hn::Set(d, 1.0f / float(count - 1)));
            const auto t2 = hn::Mul(two, t), w0 = hn::Mul(hn::Sub(t2, one), hn::Sub(t, one)),
                       w1 = hn::Mul(hn::Mul(two, t2), hn::Sub(one, t)), w2 = hn::Mul(t, hn::Sub(t2, one));
            const auto along = [&](std::size_t k) HWY_ATTR {
                return hn::MulAdd(w0, hn::Set(d, (*directions_)[0][k]),
                                  hn::MulAdd(w1, hn::Set(d, (*directions_)[1][k]),
                                             hn::Mul(w2, hn::Set(d, (*directions_)[2][k]))));
            };
            const auto x = along(0), y = along(1), z = along(2);
            const auto scale = hn::Div(one, hn::Add(hn::Add(hn::Abs(x), hn::Abs(y)), hn::Abs(z)));
            auto p = hn::Mul(x, scale), q = hn::Mul(z, scale);
            const auto under = hn::Lt(y, hn::Zero(d));
            const auto folded = hn::CopySign(hn::Sub(one, hn::Abs(q)), p);
            q = hn::IfThenElse(under, hn::CopySign(hn::Sub(one, hn::Abs(p)), q), q);
            p = hn::IfThenElse(under, folded, p);
            // In cells, counted from the middle of the one before the first; between 0.5 and side + 0.5.
            const auto u = hn::Max(hn::MulAdd(half_side, hn::Add(p, one), half), hn::Zero(d)),
                       v = hn::Max(hn::MulAdd(half_side, hn::Add(q, one), half), hn::Zero(d));
            const auto iu = hn::Min(hn::ConvertTo(di, u), last), iv = hn::Min(hn::ConvertTo(di, v), last);
            hn::StoreU(hn::Sub(u, hn::ConvertTo(d, iu)), d, to.fx + i);
            hn::StoreU(hn::Sub(v, hn::ConvertTo(d, iv)), d, to.fy + i);
            hn::StoreU(hn::Add(hn::Mul(iv, row), iu), di, to.cell + i);
            hn::StoreU(hn::Add(hn::Mul(hn::ShiftRight<OutlineBlocks::kShift>(iv), blocks),
                               hn::ShiftRight<OutlineBlocks::kShift>(iu)),
                       di, to.block + i);
        }
    }

    /// Of few places: the one before a pixel, and how far the pixel is on the way to the next.
    struct Between {
        int look;
        float share;
    };
    static constexpr Between between(int pixel) {
        const int look = std::min(pixel * (kFewPlaces - 1) / (kSegment - 1), kFewPlaces - 2);
        return {look, float(pixel * (kFewPlaces - 1)) / (kSegment - 1) - float(look)};
    }

    /// What the distances say at a segment's pixels. Both channels of two cells are read at once; gathers
    /// are slower.
    HWY_ATTR void find_nearer() {
        constexpr float kNearlyAlike = 0.002f;
        const D4 d;
        const SphereGrid& grid = *frame_.distances;
        const int count = distance_places_, row = 2 * (grid.side + 2);
        const float agree = float(plan_.agree_inverse_m);
        GridPlaces& places = distance_at_;
        find_grid_places(grid, count, places);
        alignas(16) float both[kSegment + 1][2] = {}; // distance, alike; what is stored reaches past the last
        float least = 1;
        for (int i = 0; i < count; ++i) {
            const float* const p = grid.cell(-1, -1) + 2 * places.cell[i];
            const auto upper = hn::LoadU(d, p), lower = hn::LoadU(d, p + row);
            const auto here = hn::MulAdd(hn::Set(d, places.fy[i]), hn::Sub(lower, upper), upper);
            const auto next = hn::CombineShiftRightBytes<8>(d, here, here);
            hn::StoreU(hn::MulAdd(hn::Set(d, places.fx[i]), hn::Sub(next, here), here), d, both[i]);
            least = std::min(least, both[i][1]);
        }
        least_alike_ = least + kNearlyAlike;
        for (int i = 0; i < kSegment; ++i) {
            float here[2] = {both[i][0], both[i][1]};
            if (count == kFewPlaces) {
                const auto [n, f] = between(i);
                for (int c = 0; c < 2; ++c) here[c] = both[n][c] + f * (both[n + 1][c] - both[n][c]);
            }
            nearer_[i] = here[0] - agree, agreement_[i] = here[1];
        }
    }

    /// Whether there is anything for find_sides() or find_visible(): mostly not, and what they would look at
    /// is large. After find_nearer().
    bool lies_beside_outline() const {
        if (!frame_.outlines || frame_.outlines->beside.empty()) return true;
        std::uint8_t any = 0;
        for (int i = 0; i < distance_places_; ++i)
            any |= frame_.outlines->beside[std::size_t(distance_at_.block[i])];
        return any != 0;
    }

    /// Both sides of what the field steps between at a segment's pixels; false where it does not. After
    /// find_nearer().
    bool find_sides() {
        const Silhouettes& silhouettes = *frame_.silhouettes;
        const SphereGrid& grid = *frame_.distances;
        const int places = distance_places_;
        bool touches[kSegment], any = false;
        for (int i = 0; i < places; ++i)
            any |= touches[i] = silhouettes.touches(distance_at_.cell[i], grid.side);
        if (!any) return false;
        const float agree = float(plan_.agree_inverse_m);
        SidesThere there[kSegment];
        for (int i = 0; i < places; ++i)
            there[i] = sides_between(silhouettes, grid, distance_at_.cell[i], distance_at_.fx[i],
                                     distance_at_.fy[i]);
        // What has one side alone is on that of the place beside it.
        const auto follow = [&](int i, int beside) {
            if (touches[i] || !touches[beside]) return;
            there[i].share = there[beside].share > 0.5f ? 1.0f : 0.0f;
            touches[i] = true;
        };
        for (int i = 1; i < places; ++i) follow(i, i - 1);
        for (int i = places - 2; i >= 0; --i) follow(i, i + 1);
        for (int i = 0; i < kSegment; ++i) {
            SidesThere here = there[std::min(i, places - 1)];
            if (places == kFewPlaces) {
                const auto [n, f] = between(i);
                const auto mixed = [&](float SidesThere::*what) {
                    return there[n].*what + f * (there[n + 1].*what - there[n].*what);
                };
                here = {mixed(&SidesThere::near_inverse_m), mixed(&SidesThere::far_inverse_m),
                        mixed(&SidesThere::share)};
            }
            near_[i] = here.near_inverse_m - agree, far_[i] = here.far_inverse_m - agree;
            near_share_[i] = here.share;
        }
        return true;
    }

    /// What is hidden at a cell, on the side that is drawn.
    std::uint64_t hidden_at(std::int32_t cell) const {
        if (side_ != Side::whole)
            if (const std::int32_t n = frame_.silhouettes->at[std::size_t(cell)]; n >= 0) {
                const Silhouettes::Cell& sides = frame_.silhouettes->cells[std::size_t(n)];
                return (side_ == Side::near ? sides.near : sides.far).hidden;
            }
        return frame_.hidden[std::size_t(cell)];
    }

    /// How far each of so many cameras sees what is at a segment's pixels; false where all of them see it
    /// all. After find_nearer().
    bool find_visible(const Contribution* c, std::uint32_t contributions) {
        const int row = frame_.distances->side + 2, places = distance_places_;
        std::uint64_t masks[kSegment][4], any = 0, mine = 0;
        for (int i = 0; i < places; ++i) {
            const std::int32_t cell = distance_at_.cell[i];
            const std::int32_t about[4] = {cell, cell + 1, cell + row, cell + row + 1};
            for (int k = 0; k < 4; ++k) any |= masks[i][k] = hidden_at(about[k]);
        }
        for (std::uint32_t k = 0; any && k < contributions; ++k)
            mine |= hidden_bit(plan_.cameras[c[k].camera].index);
        if (!(any & mine)) return false;
        visible_.resize(std::size_t(contributions) * kSegment);
        for (std::uint32_t k = 0; k < contributions; ++k) {
            const std::uint64_t bit = hidden_bit(plan_.cameras[c[k].camera].index);
            float* const to = visible_.data() + k * kSegment;
            if (!(any & bit)) {
                std::fill(to, to + kSegment, 1.0f);
                continue;
            }
            float at[kSegment + 1];
            for (int i = 0; i < places; ++i) {
                const auto sees = [&](int which) { return (masks[i][which] & bit) == 0 ? 1.0f : 0.0f; };
                const float fx = distance_at_.fx[i], upper = sees(0) + fx * (sees(1) - sees(0)),
                            lower = sees(2) + fx * (sees(3) - sees(2));
                at[i] = upper + distance_at_.fy[i] * (lower - upper);
            }
            for (int i = 0; i < kSegment; ++i) {
                if (places == kSegment) {
                    to[i] = at[i];
                } else {
                    const auto [n, f] = between(i);
                    to[i] = at[n] + f * (at[n + 1] - at[n]);
                }
            }
        }
        return true;
    }

    /// Takes weight from those that do not see: share_out_hidden() for all of a segment's pixels side by
    /// side.
    HWY_ATTR void share_out(std::uint32_t count, std::uint32_t contributions) {
        const hn::CappedTag<float, kSegment> d;
        const std::uint32_t n = std::min<std::uint32_t>(contributions, kMostShared);
        const auto one = hn::Set(d, 1.0f), zero = hn::Zero(d);
        for (std::size_t i = 0; i < kSegment; i += hn::Lanes(d)) {
            float* const weights = weights_.data() + i;
            const float* const visible = visible_.data() + i;
            const auto claim = [&](std::uint32_t k) HWY_ATTR {
                const auto w = hn::LoadU(d, weights + k * kSegment), v = hn::LoadU(d, visible + k * kSegment),
                           square = hn::Mul(v, v),
                           counts = hn::Add(w, hn::Set(d, k <= count ? kFirstClaim : kOtherClaim));
                return hn::MulAdd(counts, hn::Mul(square, square), hn::Mul(w, hn::Set(d, kUnseenClaim)));
            };
            auto missing = zero, claims = zero;
            for (std::uint32_t k = 0; k < n; ++k) {
                missing = hn::MulAdd(hn::LoadU(d, weights + k * kSegment),
                                     hn::Sub(one, hn::LoadU(d, visible + k * kSegment)), missing);
                claims = hn::Add(claims, claim(k));
            }
            const auto shared_out = hn::And(hn::Gt(missing, zero), hn::Gt(claims, zero));
            if (hn::AllFalse(d, shared_out)) continue;
            const auto for_each = hn::Div(missing, hn::IfThenElse(shared_out, claims, one));
            for (std::uint32_t k = 0; k < n; ++k) {
                const auto w = hn::LoadU(d, weights + k * kSegment);
                const auto seen = hn::Mul(w, hn::LoadU(d, visible + k * kSegment));
                hn::StoreU(hn::IfThenElse(shared_out, hn::MulAdd(for_each, claim(k), seen), w), d,
                           weights + k * kSegment);
            }
        }
    }

    /// The weights of a segment's contributions as planned, then of reserves, which have none.
    void take_weights(const Contribution* c, std::uint32_t contributions, std::uint32_t reserves) {
        weights_.assign(std::size_t(contributions + reserves) * kSegment, 0.0f);
        for (std::uint32_t k = 0; k < contributions; ++k) {
            float* to = weights_.data() + k * kSegment;
            if (c[k].full)
                std::fill(to, to + kSegment, 1.0f);
            else
                std::copy_n(plan_.weights.data() + c[k].weights, kSegment, to);
        }
    }

    /// Narrows those weights where pictures differ: narrow_weights() for all of a segment's pixels side by
    /// side.
    HWY_ATTR void narrowed(std::uint32_t contributions) {
        constexpr float kNothing = 1.0f / 512;
        const hn::CappedTag<float, kSegment> d;
        for (std::size_t i = 0; i < kSegment; i += hn::Lanes(d)) {
            float* const first = weights_.data() + i;
            auto most = hn::Set(d, 1e-9f), sum = hn::Zero(d), narrow_sum = hn::Set(d, 1e-9f);
            for (std::uint32_t k = 0; k < contributions; ++k) {
                const auto w = hn::LoadU(d, first + k * kSegment);
                most = hn::Max(most, w), sum = hn::Add(sum, w);
            }
            const auto agreement =
                hn::Min(hn::Max(hn::Load(d, agreement_ + i), hn::Zero(d)), hn::Set(d, 1.0f));
            const auto scale = hn::Div(hn::Set(d, 1.0f), most);
            for (std::uint32_t k = 0; k < contributions; ++k) {
                const auto share = hn::Mul(hn::LoadU(d, first + k * kSegment), scale);
                auto power = hn::Set(d, 1.0f), square = share;
                for (int n = plan_.feather_power; n > 0; n >>= 1, square = hn::Mul(square, square))
                    if (n & 1) power = hn::Mul(power, square);
                auto w = hn::MulAdd(agreement, hn::Sub(share, power), power);
                w = hn::IfThenElseZero(hn::Gt(w, hn::Set(d, kNothing)), w); // not worth looking there
                hn::StoreU(w, d, first + k * kSegment);
                narrow_sum = hn::Add(narrow_sum, w);
            }
            const auto again = hn::Div(sum, narrow_sum);
            for (std::uint32_t k = 0; k < contributions; ++k)
                hn::StoreU(hn::Mul(hn::LoadU(d, first + k * kSegment), again), d, first + k * kSegment);
        }
    }

    /// The light that a camera's pixels lack, at each of them.
    HWY_ATTR void find_light(const SphereGrid& grid, const GridPlaces& places) {
        const D4 d;
        alignas(16) float found[kSegment * 4];
        for (int i = 0; i < light_places_; ++i) {
            const float *p = grid.cell(-1, -1) + 4 * places.cell[i], *q = p + 4 * (grid.side + 2);
            const V4 fx = hn::Set(d, places.fx[i]), p0 = hn::LoadU(d, p), q0 = hn::LoadU(d, q);
            const V4 top = hn::MulAdd(fx, hn::Sub(hn::LoadU(d, p + 4), p0), p0),
                     low = hn::MulAdd(fx, hn::Sub(hn::LoadU(d, q + 4), q0), q0);
            hn::Store(hn::MulAdd(hn::Set(d, places.fy[i]), hn::Sub(low, top), top), d, found + 4 * i);
        }
        for (int i = 0; i < kSegment; ++i) {
            V4 here = hn::Load(d, found + 4 * std::min(i, light_places_ - 1));
            if (light_places_ == kFewPlaces) {
                const auto [n, f] = between(i);
                const V4 a = hn::Load(d, found + 4 * n), b = hn::Load(d, found + 4 * n + 4);
                here = hn::MulAdd(hn::Set(d, f), hn::Sub(b, a), a);
            }
            hn::Store(here, d, light_ + 4 * i);
        }
    }

    /// A segment's pixels of one source as they are, toned; of the working format only those with a weight.
    HWY_ATTR HWY_INLINE void sample_segment(const Pixels& source, const float* weights, Channels& to) {
        if (const YuvPicture* planes = source.planes) {
            if (planes->sample_bytes == 1)
                sample_planes<filter, 1>(*planes, spots_, to);
            else
                sample_planes<filter, 2>(*planes, spots_, to);
        } else {
            const D4 d4;
            alignas(64) float pixels[kSegment * 4];
            find_taps<filter>(spots_, source.width, source.height, taps_);
            for (int i = 0; i < kSegment; ++i)
                hn::Store(!weights || weights[i] > 0 ? at(source, i) : hn::Zero(d4), d4, pixels + 4 * i);
            const DS d;
            for (std::size_t i = 0; i < kSegment; i += hn::Lanes(d)) {
                VS r, g, b, a;
                hn::LoadInterleaved4(d, pixels + 4 * i, r, g, b, a);
                hn::Store(r, d, to.r + i);
                hn::Store(g, d, to.g + i);
                hn::Store(b, d, to.b + i);
                hn::Store(a, d, to.a + i);
            }
        }
        if (!source.tone.plain) tone_channels(source.tone, spots_.rim, to);
    }

    HWY_ATTR void alone(const Contribution& c, const float* nearer, Channels& to) {
        const Pixels& source = sources_[c.camera];
        find_spots(plan_, c, nearer, source.tone, spots_);
        sample_segment(source, nullptr, to);
    }

    /// The least and the most that a narrowed contribution weighs in a segment.
    HWY_ATTR std::pair<float, float> span_of(std::uint32_t contribution) const {
        const hn::CappedTag<float, kSegment> d;
        const float* from = weights_.data() + contribution * kSegment;
        auto least = hn::LoadU(d, from), most = least;
        for (std::size_t i = hn::Lanes(d); i < kSegment; i += hn::Lanes(d)) {
            const auto w = hn::LoadU(d, from + i);
            least = hn::Min(least, w), most = hn::Max(most, w);
        }
        return {hn::GetLane(hn::MinOfLanes(d, least)), hn::GetLane(hn::MaxOfLanes(d, most))};
    }

    HWY_ATTR void shared(const Contribution* c, std::uint32_t contributions, std::uint32_t reserves,
                         bool hides, const float* nearer, Channels& sum) {
        constexpr float kAll = 0.9995f;
        const DS d;
        sum = {};
        const bool lit = !frame_.lights.empty() && directions_;
        const bool narrow = plan_.feather_power > 1 && contributions > 1 && least_alike_ < 1;
        const bool changed = narrow || hides; // from the plan's weights
        if (changed) take_weights(c, contributions, reserves);
        for (std::size_t i = 0; hides && i < std::size_t(contributions) * kSegment; ++i)
            if (weights_[i] < kSupplies) visible_[i] = 0;
        if (narrow) narrowed(contributions);
        if (hides) share_out(contributions, contributions + reserves);
        GridPlaces lights; // one place for the light of all cameras
        if (lit) find_grid_places(frame_.lights[0], light_places_, lights);
        const float* own = weights_.data();
        for (std::uint32_t k = 0; k < contributions + reserves; ++k, ++c, own += kSegment) {
            if (changed) {
                const auto [least, most] = span_of(k);
                if (most <= 0) continue;
                if (least > kAll && !lit) return alone(*c, nearer, sum);
            }
            const Pixels& source = sources_[c->camera];
            find_spots(plan_, *c, nearer, source.tone, spots_);
            if (lit) find_light(frame_.lights[c->camera], lights);
            const float* weights = c->full && !changed ? all_.data()
                                   : changed           ? own
                                                       : plan_.weights.data() + c->weights;
            sample_segment(source, weights, sampled_);
            for (std::size_t i = 0; i < kSegment; i += hn::Lanes(d)) {
                VS light[4] = {hn::Zero(d), hn::Zero(d), hn::Zero(d), hn::Zero(d)};
                if (lit) hn::LoadInterleaved4(d, light_ + 4 * i, light[0], light[1], light[2], light[3]);
                const VS w = hn::LoadU(d, weights + i);
                const auto counts = hn::Gt(w, hn::Zero(d));
                const auto add = [&](const float* from, VS more, float* to_sum) HWY_ATTR {
                    const VS v = hn::IfThenElseZero(counts, hn::Add(hn::Load(d, from + i), more));
                    hn::Store(hn::MulAdd(v, w, hn::Load(d, to_sum + i)), d, to_sum + i);
                };
                add(sampled_.r, light[0], sum.r);
                add(sampled_.g, light[1], sum.g);
                add(sampled_.b, light[2], sum.b);
                add(sampled_.a, hn::Zero(d), sum.a);
            }
        }
    }

    HWY_ATTR HWY_INLINE V4 at(const Pixels& source, int i) const {
        return sample<filter>(source.base, source.stride, taps_, i, cubic_, linear_);
    }

    const BlendPlan& plan_;
    const FrameParts& frame_;
    const SegmentDirections* directions_ = nullptr;
    static constexpr int kFewPlaces = 8;
    int distance_places_ = kSegment, light_places_ = kSegment;
    alignas(64) float nearer_[kSegment], agreement_[kSegment] = {}, light_[kSegment * 4];
    float least_alike_ = 0;
    enum class Side { whole, near, far } side_ = Side::whole;
    bool beside_outline_ = false;                                 ///< of lies_beside_outline()
    float near_[kSegment], far_[kSegment], near_share_[kSegment]; ///< of find_sides()
    GridPlaces distance_at_;                                      ///< of find_nearer()
    std::vector<float> weights_, visible_;
    std::vector<Pixels> sources_;
    const Taps4* cubic_ = cubic_taps();
    const Taps2* linear_ = linear_taps();
    Spots spots_;
    Taps taps_;
    Channels sampled_;
    static constexpr auto all_ = [] {
        std::array<float, kSegment> ones{};
        ones.fill(1);
        return ones;
    }();
};

/// Follows rows segment by segment; `store(channels, y, x, count)` takes what they are. Pixels of the working
/// format are so large that rows are followed in narrow columns: what neighbouring rows share stays in the
/// nearest cache. Planes are small enough, and the plan is then read in its own order.
template <Filter filter, class Store>
HWY_ATTR HWY_INLINE void follow(const BlendPlan& plan, const FrameParts& frame, int begin, int end,
                                const Store& store) {
    Blender<filter> blender(plan, frame);
    Channels channels;
    const bool planes = std::all_of(frame.sources.begin(), frame.sources.end(),
                                    [](const SourcePicture& p) { return p.yuv() != nullptr; });
    const int column = planes ? plan.segments_per_row : 8;
    for (int first = 0; first < plan.segments_per_row; first += column)
        for (int y = begin; y < end; ++y) {
            const std::size_t row = std::size_t(y) * std::size_t(plan.segments_per_row);
            for (int s = first; s < std::min(first + column, plan.segments_per_row); ++s) {
                const int count = std::min(kSegment, plan.width - s * kSegment);
                blender.segment(row + std::size_t(s), count, channels);
                store(channels, y, s * kSegment, count);
            }
        }
}

template <Filter filter>
HWY_ATTR void blend(const BlendPlan& plan, const FrameParts& frame, int begin, int end, Picture& out) {
    follow<filter>(plan, frame, begin, end, [&](const Channels& c, int y, int x, int count) HWY_ATTR {
        store_channels(c, count, out.row(y) + std::size_t(x) * 4);
    });
}

template <Filter filter>
HWY_ATTR void blend_floats(const BlendPlan& plan, const FrameParts& frame, int begin, int end,
                           const FloatRows& out) {
    follow<filter>(plan, frame, begin, end, [&](const Channels& c, int y, int x, int) HWY_ATTR {
        const DS d;
        const std::ptrdiff_t at = (y - begin) * out.stride + x; // rows reach past the picture
        for (std::size_t i = 0; i < kSegment; i += hn::Lanes(d)) {
            hn::StoreU(hn::Load(d, c.r + i), d, out.r + at + i);
            hn::StoreU(hn::Load(d, c.g + i), d, out.g + at + i);
            hn::StoreU(hn::Load(d, c.b + i), d, out.b + at + i);
        }
    });
}

HWY_ATTR void BlendLinear(const BlendPlan& plan, const FrameParts& frame, int begin, int end, Picture& out) {
    blend<Filter::linear>(plan, frame, begin, end, out);
}
HWY_ATTR void BlendCubic(const BlendPlan& plan, const FrameParts& frame, int begin, int end, Picture& out) {
    blend<Filter::cubic>(plan, frame, begin, end, out);
}
HWY_ATTR void FloatsLinear(const BlendPlan& plan, const FrameParts& frame, int begin, int end,
                           const FloatRows& out) {
    blend_floats<Filter::linear>(plan, frame, begin, end, out);
}
HWY_ATTR void FloatsCubic(const BlendPlan& plan, const FrameParts& frame, int begin, int end,
                          const FloatRows& out) {
    blend_floats<Filter::cubic>(plan, frame, begin, end, out);
}

} // namespace porb::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace porb {
HWY_EXPORT(BlendLinear);
HWY_EXPORT(BlendCubic);
HWY_EXPORT(FloatsLinear);
HWY_EXPORT(FloatsCubic);

void blend_rows(const BlendPlan& plan, const FrameParts& frame, int begin, int end, Picture& out) {
    if (frame.filter == Filter::linear)
        HWY_DYNAMIC_DISPATCH(BlendLinear)(plan, frame, begin, end, out);
    else
        HWY_DYNAMIC_DISPATCH(BlendCubic)(plan, frame, begin, end, out);
}

void blend_rows(const BlendPlan& plan, const FrameParts& frame, int begin, int end, const FloatRows& out) {
    if (frame.filter == Filter::linear)
        HWY_DYNAMIC_DISPATCH(FloatsLinear)(plan, frame, begin, end, out);
    else
        HWY_DYNAMIC_DISPATCH(FloatsCubic)(plan, frame, begin, end, out);
}

} // namespace porb
#endif
