#include "stitch/strips/block_match.h"

#include <opencv2/calib3d.hpp>
#include <opencv2/imgproc.hpp>

#include <algorithm>
#include <cstdint>
#include <vector>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "stitch/strips/block_match.cpp"
#include <hwy/foreach_target.h>
// must come after foreach_target.h
#include <hwy/highway.h>

#ifndef PORB_BLOCK_MATCH_COMMON
#define PORB_BLOCK_MATCH_COMMON
namespace porb {

using Cost = std::uint16_t;

/// One feature of a place, and the least and most of it within half a column.
struct Between {
    const std::uint8_t *own, *least, *most;
};
/// A row of places: how slope and brightness run there. a's run backwards, so that parallax goes upwards.
struct FeatureRow {
    Between slope, brightness;
};

inline constexpr int kBandRows = 4;      ///< whose chains do not wait for each other
inline constexpr Cost kDearest = 0xffff; ///< stands at either end of a place's costs along a way
inline constexpr std::int16_t kUntold = -32768;

/// Rows that are followed together. Costs and sums are by place and parallax; what runs along a way has
/// kDearest before and behind each place's costs.
struct Band {
    int rows, width, count;
    Cost little, much; ///< what changes of one column, and of more, cost
    const Cost* costs[kBandRows];
    Cost* sums[kBandRows];
    Cost* chain[kBandRows][2]; ///< of one place each
    Cost* above[2];            ///< of a row's places; [0] is the one that came before the band
    Cost* least_above[2];
    int stride;                    ///< of `above`, from place to place
    int most_share;                ///< 96 of 100: others must cost more than the best by as much
    std::int16_t* told[kBandRows]; ///< out: 16 to a column, from the first parallax on; kUntold: none
    Cost* cost_of_a[kBandRows];    ///< out: the least that was offered to a's places ...
    std::int16_t*
        told_a[kBandRows]; ///< ... and at which parallax. A place further left for each further one.
};

inline constexpr int kMostLanes = 16; ///< parallaxes are a multiple of it

} // namespace porb
#endif

HWY_BEFORE_NAMESPACE();
namespace porb::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using D8 = hn::CappedTag<std::uint8_t, kMostLanes>;
using D16 = hn::CappedTag<std::uint16_t, kMostLanes>;
using V8 = hn::Vec<D8>;
using V16 = hn::Vec<D16>;

HWY_ATTR inline V8 Apart(const Between& a, const Between& b, std::size_t at_a, std::size_t at_b) {
    const D8 d;
    const V8 u = hn::Set(d, b.own[at_b]), u0 = hn::Set(d, b.least[at_b]), u1 = hn::Set(d, b.most[at_b]),
             v = hn::LoadU(d, a.own + at_a), v0 = hn::LoadU(d, a.least + at_a),
             v1 = hn::LoadU(d, a.most + at_a);
    const V8 to_a = hn::Max(hn::SaturatedSub(u, v1), hn::SaturatedSub(v0, u)),
             to_b = hn::Max(hn::SaturatedSub(v, u1), hn::SaturatedSub(u0, v));
    return hn::Min(to_a, to_b);
}

/// What `width` places of b cost each at `count` parallaxes: place x's first belongs to a's at_first - x.
HWY_ATTR void PlaceCostRow(const FeatureRow& a, const FeatureRow& b, int width, int count,
                           std::size_t at_first, std::uint8_t* to) {
    const D8 d;
    const hn::Repartition<std::uint16_t, D8> wide;
    const std::size_t n = hn::Lanes(d);
    const V8 quarter_mask = hn::Set(d, 0x3f);
    for (int x = 0; x < width; ++x)
        for (std::size_t k = 0; k < std::size_t(count); k += n) {
            const std::size_t at_a = at_first - std::size_t(x) + k;
            const V8 slope = Apart(a.slope, b.slope, at_a, std::size_t(x)),
                     bright = Apart(a.brightness, b.brightness, at_a, std::size_t(x));
            const V8 quarter =
                hn::And(hn::BitCast(d, hn::ShiftRight<2>(hn::BitCast(wide, bright))), quarter_mask);
            hn::StoreU(hn::Add(slope, quarter), d, to + std::size_t(x) * std::size_t(count) + k);
        }
}

/// Sums of five places beside each other, of `width` places with two more at either end.
HWY_ATTR void SumAcross(const std::uint8_t* costs, int width, int count, Cost* to) {
    const D16 d;
    const hn::Rebind<std::uint8_t, D16> d8;
    const std::size_t n = hn::Lanes(d), c = std::size_t(count);
    for (std::size_t k = 0; k < c; k += n) {
        const auto at = [&](std::size_t place)
                            HWY_ATTR { return hn::PromoteTo(d, hn::LoadU(d8, costs + place * c + k)); };
        V16 sum = hn::Add(hn::Add(at(0), at(1)), hn::Add(at(2), at(3)));
        for (std::size_t x = 0; x < std::size_t(width); ++x) {
            sum = hn::Add(sum, at(x + 4));
            hn::StoreU(sum, d, to + x * c + k);
            sum = hn::Sub(sum, at(x));
        }
    }
}

/// One place of one way, coming from `before`. Returns the least of it.
HWY_ATTR inline Cost Step(const Cost* cost, const Cost* before, Cost least_of_before, V16 little, V16 much,
                          Cost* own, int count) {
    const D16 d;
    const V16 least_before = hn::Set(d, least_of_before), most = hn::Add(least_before, much);
    V16 least = hn::Set(d, kDearest);
    for (int k = 0; k < count; k += int(hn::Lanes(d))) {
        const V16 beside = hn::Min(hn::LoadU(d, before + k - 1), hn::LoadU(d, before + k + 1));
        const V16 from = hn::Min(hn::Min(hn::LoadU(d, before + k), most), hn::SaturatedAdd(beside, little));
        const V16 value = hn::Add(hn::Sub(from, least_before), hn::LoadU(d, cost + k));
        hn::StoreU(value, d, own + k);
        least = hn::Min(least, value);
    }
    return hn::GetLane(hn::MinOfLanes(d, least));
}

HWY_ATTR inline void AddTo(const Cost* from, Cost* sums, int count) {
    const D16 d;
    for (int k = 0; k < count; k += int(hn::Lanes(d)))
        hn::StoreU(hn::Add(hn::LoadU(d, from + k), hn::LoadU(d, sums + k)), d, sums + k);
}

/// Along the rows from one end or the other, which is the first way or is added to those before.
template <bool kFromEnd>
HWY_ATTR HWY_INLINE void FollowAlong(Band& band, V16 little, V16 much) {
    const D16 d;
    const int count = band.count;
    Cost least[kBandRows] = {};
    for (int r = 0; r < band.rows; ++r)
        for (int k = 0; k < count; ++k) band.chain[r][1][k] = 0;
    for (int i = 0; i < band.width; ++i)
        for (int r = 0; r < band.rows; ++r) {
            const int x = kFromEnd ? band.width - 1 - i : i;
            Cost *const own = band.chain[r][i & 1], *const sums = band.sums[r] + x * count;
            least[r] = Step(band.costs[r] + x * count, band.chain[r][(i & 1) ^ 1], least[r], little, much,
                            own, count);
            if (kFromEnd)
                AddTo(own, sums, count);
            else
                for (int k = 0; k < count; k += int(hn::Lanes(d)))
                    hn::StoreU(hn::LoadU(d, own + k), d, sums + k);
        }
}

/// From the left, and from above: in the band's sums.
HWY_ATTR void FollowDown(Band& band) {
    const D16 d;
    const int count = band.count;
    const V16 little = hn::Set(d, band.little), much = hn::Set(d, band.much);
    FollowAlong<false>(band, little, much);
    for (int r = 0; r < band.rows; ++r) {
        const int from = r & 1, to = from ^ 1;
        for (int x = 0; x < band.width; ++x) {
            Cost* const own = band.above[to] + x * band.stride;
            band.least_above[to][x] = Step(band.costs[r] + x * count, band.above[from] + x * band.stride,
                                           band.least_above[from][x], little, much, own, count);
            AddTo(own, band.sums[r] + x * count, count);
        }
    }
}

/// What costs least, `least`, and whether others cost much more; to sixteenths of a column by a parabola
/// through three sums, or kUntold.
HWY_ATTR inline std::int16_t Told(const Cost* sums, int least, int best, int count, int most_share) {
    const D16 d;
    // Whoever costs no more than that is too cheap, but for the best and those beside it.
    const int too_cheap = least == 0 ? -1 : (least * 100 - 1) / most_share;
    if (too_cheap >= 0) {
        const V16 bound = hn::Set(d, Cost(too_cheap < 0xfffe ? too_cheap : 0xfffe));
        std::size_t cheap = 0;
        for (int k = 0; k < count; k += int(hn::Lanes(d)))
            cheap += hn::CountTrue(d, hn::Eq(hn::Min(hn::LoadU(d, sums + k), bound), hn::LoadU(d, sums + k)));
        std::size_t own = 1;
        if (best > 0) own += sums[best - 1] <= too_cheap;
        if (best < count - 1) own += sums[best + 1] <= too_cheap;
        if (cheap > own) return kUntold;
    }
    if (best == 0 || best == count - 1) return std::int16_t(16 * best);
    const int before = sums[best - 1], after = sums[best + 1], bend = before + after - 2 * least,
              over = bend > 1 ? bend : 1;
    return std::int16_t(16 * best + ((before - after) * 16 + over) / (2 * over));
}

/// From the right, and what is told then.
HWY_ATTR void FollowUp(Band& band) {
    const D16 d;
    const int count = band.count;
    FollowAlong<true>(band, hn::Set(d, band.little), hn::Set(d, band.much));
    for (int r = 0; r < band.rows; ++r)
        for (int x = 0; x < band.width; ++x) {
            const Cost* const sums = band.sums[r] + x * count;
            V16 all = hn::LoadU(d, sums);
            for (int k = int(hn::Lanes(d)); k < count; k += int(hn::Lanes(d)))
                all = hn::Min(all, hn::LoadU(d, sums + k));
            all = hn::MinOfLanes(d, all);
            const Cost cost = hn::GetLane(all);
            int best = 0;
            for (int k = 0; k < count; k += int(hn::Lanes(d)))
                if (const auto at = hn::FindFirstTrue(d, hn::Eq(hn::LoadU(d, sums + k), all)); at >= 0) {
                    best = k + int(at);
                    break;
                }
            const std::int16_t told = Told(sums, cost, best, count, band.most_share);
            band.told[r][x] = told;
            if (told == kUntold) continue;
            Cost* const of_a = band.cost_of_a[r] + (x - best);
            if (cost < *of_a) *of_a = cost, band.told_a[r][x - best] = std::int16_t(best);
        }
}

} // namespace porb::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace porb {

HWY_EXPORT(PlaceCostRow);
HWY_EXPORT(SumAcross);
HWY_EXPORT(FollowDown);
HWY_EXPORT(FollowUp);

namespace {

constexpr int kBlock = 5, kHalfBlock = kBlock / 2, kSpeckle = 60, kSpeckleRange = 2;
constexpr int kMostSlope = 31; ///< grey levels, eight to one
constexpr int kMostShare = 96; ///< of a hundred: what others must cost at least for the best to be told
constexpr int kMostBack = 2;   ///< columns between b's parallax and that of a's place it leads to
constexpr int kRoundRows = 24; ///< before the first, where rows go round
constexpr int kRoom = 8;       ///< values before and behind a place's costs along a way
constexpr double kLittle = 6 * kBlock * kBlock, kMuch = 28 * kBlock * kBlock, kMostMuch = 16000;

/// Features of a picture's columns and of `room` more on either side; past its ends it goes on as it ends.
class Features {
  public:
    Features(const cv::Mat& picture, cv::Range columns, int room, bool backwards)
        : room_(room), width_(columns.size() + 2 * room) {
        const auto size = std::size_t(width_) * std::size_t(picture.rows);
        for (int i = 0; i < 3; ++i) slope_[i].resize(size), brightness_[i].resize(size);
        const int last = picture.cols - 1;
        std::vector<std::uint8_t> bent{}, line{};
        bent.resize(std::size_t(picture.cols)), line.resize(std::size_t(width_));
        const auto put = [&](const std::uint8_t* from, std::vector<std::uint8_t>(&to)[3], int y) {
            for (int i = 0; i < width_; ++i)
                line[std::size_t(i)] = from[std::clamp(columns.start - room + i, 0, last)];
            if (backwards) std::reverse(line.begin(), line.end());
            fill(line.data(), to, y);
        };
        for (int y = 0; y < picture.rows; ++y) {
            const std::uint8_t *own = picture.ptr<std::uint8_t>(y),
                               *above = picture.ptr<std::uint8_t>(std::max(0, y - 1)),
                               *below = picture.ptr<std::uint8_t>(std::min(picture.rows - 1, y + 1));
            const auto slope_at = [&](int x, int l, int r) {
                const int rise = 2 * (own[r] - own[l]) + above[r] - above[l] + below[r] - below[l];
                bent[std::size_t(x)] = std::uint8_t(std::clamp(rise, -kMostSlope, kMostSlope) + kMostSlope);
            };
            slope_at(0, 0, std::min(1, last));
            slope_at(last, std::max(0, last - 1), last);
            for (int x = 1; x < last; ++x) slope_at(x, x - 1, x + 1);
            put(bent.data(), slope_, y);
            put(own, brightness_, y);
        }
    }
    int room() const { return room_; }
    FeatureRow row(int y) const {
        const std::size_t at = std::size_t(y) * std::size_t(width_);
        const auto of = [&](const std::vector<std::uint8_t>(&f)[3]) {
            return Between{f[0].data() + at, f[1].data() + at, f[2].data() + at};
        };
        return {of(slope_), of(brightness_)};
    }

  private:
    void fill(const std::uint8_t* from, std::vector<std::uint8_t> (&to)[3], int y) const {
        const std::size_t row = std::size_t(y) * std::size_t(width_);
        std::uint8_t *const own = to[0].data() + row, *const least = to[1].data() + row,
                            *const most = to[2].data() + row;
        std::copy_n(from, width_, own);
        least[0] = most[0] = own[0];
        least[width_ - 1] = most[width_ - 1] = own[width_ - 1];
        for (int x = 1; x < width_ - 1; ++x) {
            const std::uint8_t v = from[x], before = std::uint8_t((v + from[x - 1]) / 2),
                               after = std::uint8_t((v + from[x + 1]) / 2);
            least[x] = std::min(v, std::min(before, after));
            most[x] = std::max(v, std::max(before, after));
        }
    }

    int room_, width_;
    std::vector<std::uint8_t> slope_[3], brightness_[3]; ///< own, least, most
};

/// Costs of blocks, row after row.
class BlockCosts {
  public:
    BlockCosts(const cv::Mat& a, const cv::Mat& b, cv::Range columns, const BlockSearch& search)
        : search_(search), width_(columns.size()), rows_(b.rows),
          a_(a, columns, search.disparities + 16, true), b_(b, columns, kHalfBlock, false),
          places_(std::size_t(width_ + 2 * kHalfBlock) * std::size_t(search.disparities)) {
        for (auto& row : across_) row.resize(row_size());
        newest_.resize(row_size());
    }
    std::size_t row_size() const { return std::size_t(width_) * std::size_t(search_.disparities); }
    /// Of the blocks about row y, which may lie before the first: rows follow each other. `out` is read again
    /// for the next one.
    void next(int y, std::vector<Cost>& out) {
        if (!last_) {
            std::fill(out.begin(), out.end(), Cost(0));
            for (std::vector<Cost>& row : across_) {
                sum_row(y - kHalfBlock + int(&row - across_), row);
                for (std::size_t i = 0; i < out.size(); ++i) out[i] = Cost(out[i] + row[i]);
            }
        } else {
            sum_row(y + kHalfBlock, newest_);
            std::vector<Cost>& oldest = across_[std::size_t(oldest_)];
            const Cost *before = last_, *more = newest_.data(), *less = oldest.data();
            for (std::size_t i = 0; i < out.size(); ++i) out[i] = Cost(before[i] + more[i] - less[i]);
            oldest.swap(newest_);
            oldest_ = (oldest_ + 1) % kBlock;
        }
        last_ = out.data();
    }

  private:
    int row_of(int y) const {
        return search_.round ? ((y % rows_) + rows_) % rows_ : std::clamp(y, 0, rows_ - 1);
    }
    void sum_row(int y, std::vector<Cost>& to) {
        const int row = row_of(y), count = search_.disparities;
        // What b shows at x is what a shows at x - parallax; a's places run backwards.
        const auto at_first = std::size_t(a_.room() + width_ - 1 + kHalfBlock + search_.least);
        HWY_DYNAMIC_DISPATCH(PlaceCostRow)
        (a_.row(row), b_.row(row), width_ + 2 * kHalfBlock, count, at_first, places_.data());
        HWY_DYNAMIC_DISPATCH(SumAcross)(places_.data(), width_, count, to.data());
    }

    BlockSearch search_;
    int width_, rows_;
    Features a_, b_;
    std::vector<std::uint8_t> places_;
    std::vector<Cost> across_[kBlock], newest_; ///< of rows
    const Cost* last_ = nullptr;
    int oldest_ = 0;
};

/// Of one row: parallax of b's places by 16 to a column, what a's own best match does not lead back to taken
/// out.
void keep_what_leads_back(std::int16_t* told, const std::int16_t* told_a, int width) {
    for (int x = 0; x < width; ++x) {
        if (told[x] == kUntold) continue;
        const auto leads_back = [&](int parallax) {
            const int back = told_a[x - parallax];
            return back < 0 || std::abs(back - parallax) <= kMostBack;
        };
        if (!leads_back(told[x] >> 4) && !leads_back((told[x] + 15) >> 4)) told[x] = kUntold;
    }
}

} // namespace

BlockMatch match_blocks(const cv::Mat& a, const cv::Mat& b, cv::Range columns, const BlockSearch& search) {
    const int width = columns.size(), rows = b.rows, count = search.disparities, stride = count + 2 * kRoom;
    BlockCosts costs(a, b, columns, search);
    const std::size_t row_size = costs.row_size();
    std::vector<Cost> block[kBandRows], sums[kBandRows], chain[kBandRows], above[2], least_above[2],
        cost_of_a[kBandRows];
    std::vector<std::int16_t> told[kBandRows], told_a[kBandRows];
    Band band{};
    band.width = width, band.count = count, band.stride = stride;
    band.little = Cost(std::min(kLittle * search.smoothness, kMostMuch - 1));
    band.much = Cost(std::min(std::max(band.little + 1.0, kMuch * search.smoothness), kMostMuch));
    band.most_share = kMostShare;
    for (int r = 0; r < kBandRows; ++r) {
        const auto i = std::size_t(r);
        block[i].resize(row_size), sums[i].resize(row_size);
        chain[i].assign(std::size_t(2 * stride), kDearest);
        told[i].resize(std::size_t(width));
        cost_of_a[i].resize(std::size_t(width + count)), told_a[i].resize(std::size_t(width + count));
        band.sums[r] = sums[i].data(), band.told[r] = told[i].data();
        band.chain[r][0] = chain[i].data() + kRoom, band.chain[r][1] = chain[i].data() + stride + kRoom;
        band.cost_of_a[r] = cost_of_a[i].data() + count, band.told_a[r] = told_a[i].data() + count;
    }
    for (int i = 0; i < 2; ++i) {
        above[i].assign(std::size_t(width) * std::size_t(stride), kDearest);
        least_above[i].assign(std::size_t(width), 0);
    }
    for (int x = 0; x < width; ++x) std::fill_n(&above[0][std::size_t(x * stride + kRoom)], count, Cost(0));
    cv::Mat raw(rows, width, CV_16S);
    const auto untold = std::int16_t((search.least - 1) * 16);
    int newest = 0; // of `above`
    for (int y = search.round ? -kRoundRows : 0; y < rows; y += band.rows) {
        band.rows = std::min(kBandRows, (y < 0 ? 0 : rows) - y);
        for (int r = 0; r < band.rows; ++r) {
            const auto i = std::size_t(r);
            costs.next(y + r, block[i]);
            band.costs[r] = block[i].data();
            std::fill(cost_of_a[i].begin(), cost_of_a[i].end(), kDearest);
            std::fill(told_a[i].begin(), told_a[i].end(), std::int16_t(-1));
        }
        for (int i = 0; i < 2; ++i) {
            band.above[i] = above[newest ^ i].data() + kRoom;
            band.least_above[i] = least_above[newest ^ i].data();
        }
        HWY_DYNAMIC_DISPATCH(FollowDown)(band);
        newest ^= band.rows & 1;
        if (y < 0) continue; // only followed
        HWY_DYNAMIC_DISPATCH(FollowUp)(band);
        for (int r = 0; r < band.rows; ++r) {
            keep_what_leads_back(band.told[r], band.told_a[r], width);
            std::int16_t* const to = raw.ptr<std::int16_t>(y + r);
            for (int x = 0; x < width; ++x)
                to[x] =
                    band.told[r][x] == kUntold ? untold : std::int16_t(band.told[r][x] + 16 * search.least);
        }
    }
    cv::medianBlur(raw, raw, 3);
    cv::filterSpeckles(raw, untold, kSpeckle, 16 * kSpeckleRange);
    BlockMatch out;
    out.known = raw > untold;
    raw.convertTo(out.parallax, CV_32F, 1.0 / 16);
    return out;
}

} // namespace porb
#endif
