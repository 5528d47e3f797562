#include "stitch/colour_match/semi_global.h"

#include "base/parallel.h"
#include "stitch/colour_match/match_rows.h"

#include <opencv2/calib3d.hpp>
#include <opencv2/imgproc.hpp>

#include <algorithm>
#include <array>
#include <limits>
#include <memory>
#include <vector>

namespace porb {

namespace {

using Cost = MatchCost;
constexpr int kLittle = 20;              ///< what a change of one column costs
constexpr int kMuch = 300, kAtEdge = 25; ///< a step, where the picture is even and where it has an edge
constexpr int kCoarseAtEdge = 100;       ///< the same of the coarse match, which holds more together
constexpr int kBesideCoarse = 2;         ///< columns to either side of it
constexpr int kUnlikely = 8;             ///< what any other parallax costs on top
constexpr int kOddPlaces = 3;      ///< coarse ones of a block's 16: fewer do not say how near something is
constexpr int kNearestAbout = 2;   ///< blocks to either side of one ...
constexpr int kNearer = 6;         ///< ... and columns more than the most parallax there are looked at
constexpr float kLeadsBack = 0.8f; ///< columns
constexpr int kLeastPatch = 80;    ///< places
constexpr int kOfAColumn = 16;
constexpr float kNotLooked = -10000; ///< columns: leads nowhere

/// Room for a row along three ways, and for a place along its row; places that are not looked at cost
/// nothing.
class WayRoom {
  public:
    WayRoom(int width, int count)
        : stride_(std::size_t(count + kMatchPad)), least_(4 * std::size_t(width + 2), 0) {
        for (auto& way : values_) {
            way.assign(std::size_t(width + 2) * stride_, 0);
            bound(way, count);
        }
        along_.assign(std::size_t(count + 2 * kMatchLanes), kOutOfReach);
    }
    /// Before columns are written: what lay beside them no longer does.
    void take(int begin, int end) {
        for (int x = begin_; x < end_; ++x) {
            if (x >= begin && x < end) continue;
            for (auto& way : values_)
                std::fill_n(way.begin() + std::ptrdiff_t(std::size_t(x + 1) * stride_ + kMatchPad / 2),
                            stride_ - kMatchPad, Cost(0));
            std::fill_n(least_.begin() + 4 * (x + 1), 4, Cost(0));
        }
        begin_ = begin, end_ = end;
    }
    WayRows rows() { return {{values_[0].data(), values_[1].data(), values_[2].data()}, least_.data()}; }
    MatchCost* along() { return along_.data() + kMatchLanes; }

  private:
    void bound(std::vector<MatchCost>& places, int count) const {
        for (auto place = places.begin(); place != places.end(); place += std::ptrdiff_t(stride_)) {
            std::fill_n(place, kMatchPad / 2, kOutOfReach);
            std::fill_n(place + kMatchPad / 2 + count, kMatchPad / 2, kOutOfReach);
        }
    }
    std::size_t stride_;
    std::array<std::vector<MatchCost>, 3> values_;
    std::vector<MatchCost> least_, along_;
    int begin_ = 0, end_ = 0; ///< columns that hold something
};

/// What a step costs by how many levels the guide changes along the way.
std::array<Cost, 256> step_costs(double smoothness, int at_edge) {
    std::array<Cost, 256> out{};
    for (int i = 0; i < 256; ++i)
        out[std::size_t(i)] = Cost(std::min(4000.0, std::max(at_edge, kMuch / (1 + i)) * smoothness));
    return out;
}

/// What a step costs at each place of row y by way, coming from row `before`.
class StepCosts {
  public:
    StepCosts(const ComparedPicture& guide, int width, double smoothness, int at_edge)
        : guide_(guide), much_(step_costs(smoothness, at_edge)), levels_(std::size_t(width)) {
        for (auto& way : by_way_) way.resize(std::size_t(width));
    }
    void look(int y, int before, bool forward) {
        const MatchRow here = guide_.row(y, 0);
        for (int way = 0; way < 3; ++way) put(way, here, guide_.row(before, way - 1));
        put(3, here, guide_.row(y, forward ? -1 : 1));
    }
    const Cost* way(int n) const { return by_way_[std::size_t(n)].data(); }

  private:
    void put(int way, const MatchRow& here, const MatchRow& there) {
        row_levels(here, there, int(levels_.size()), levels_.data());
        Cost* const to = by_way_[std::size_t(way)].data();
        for (std::size_t x = 0; x < levels_.size(); ++x) to[x] = much_[levels_[x]];
    }
    const ComparedPicture& guide_;
    std::array<Cost, 256> much_;
    std::vector<std::uint8_t> levels_;
    std::array<std::vector<Cost>, 4> by_way_;
};

/// Costs along eight ways, and the best parallax of each place: four ways come from above and from one end of
/// the row, four from below and from the other.
cv::Mat best_parallaxes(const Compared& compared, double smoothness, int at_edge) {
    const int width = compared.width, height = compared.height, count = compared.count();
    const Expected& expected = compared.expected;
    CostRows rows(compared);
    const auto costs = std::make_unique_for_overwrite<std::uint8_t[]>(expected.kept_from(height));
    const auto sums = std::make_unique_for_overwrite<std::uint8_t[]>(expected.kept_from(height));
    StepCosts steps(compared.own, width, smoothness, at_edge);
    std::vector<Cost> all(std::size_t(count) + kMatchPad);
    cv::Mat out(height, width, CV_32F, cv::Scalar(kNotLooked));
    for (const bool down : {true, false}) {
        std::array<WayRoom, 2> room{WayRoom(width, count), WayRoom(width, count)};
        for (int i = 0; i < height; ++i) {
            const int y = down ? i : height - 1 - i, before = i == 0 ? y : down ? y - 1 : y + 1;
            WayRoom &from = room[std::size_t(i % 2)], &own = room[std::size_t(1 - i % 2)];
            std::uint8_t* const here = costs.get() + expected.kept_from(y);
            if (down) rows.next(here);
            steps.look(y, before, down);
            const int begin = expected.begin(y), end = expected.end(y);
            own.take(begin, end);
            const RowOfWays row{begin,
                                end,
                                count,
                                expected.counts(y),
                                here,
                                expected.more_of(y),
                                sums.get() + expected.kept_from(y),
                                from.rows(),
                                own.rows(),
                                {room[0].along(), room[1].along()},
                                all.data(),
                                {steps.way(0), steps.way(1), steps.way(2), steps.way(3)},
                                Cost(std::min(2000.0, kLittle * smoothness))};
            if (down) {
                add_row_forward(row);
                continue;
            }
            add_row_back(row, out.ptr<float>(y));
            for (int x = begin; x < end; ++x) out.at<float>(y, x) += float(compared.least);
        }
    }
    return out;
}

/// What is known in patches of fewer than kLeastPatch places is not.
void leave_out_speckles(SemiGlobalMatch& match) {
    constexpr std::int16_t none = std::numeric_limits<std::int16_t>::min();
    cv::Mat patches;
    match.parallax.convertTo(patches, CV_16S, kOfAColumn);
    patches.setTo(none, ~match.known);
    cv::filterSpeckles(patches, none, kLeastPatch, 2 * kOfAColumn);
    match.known.setTo(0, patches == none);
}

/// The best parallax by b's places and by a's.
struct BothWays {
    cv::Mat of_b, of_a;
};

/// What the coarse match (of pictures half as large) lets expect. Parallax that it found about a block of
/// places costs what it costs; any other costs more, so that what repeats, as bars of a window do, is not
/// taken for its neighbour. And nothing is looked for that is much nearer than all that either camera's
/// places told for several blocks about.
Expected expected_after(const BothWays& coarse, bool by_b, const cv::Mat& seen, int least, int parallaxes) {
    Expected out(seen, parallaxes);
    const int across = out.across;
    const auto count = std::size_t(parallaxes), blocks = out.own.size();
    std::vector<std::uint8_t> found(blocks * count, 0);
    std::vector<std::uint8_t> told_at(blocks * count, 0); ///< places that both directions tell
    const cv::Mat& own = by_b ? coarse.of_b : coarse.of_a;
    constexpr int coarse_places = kHeldPlaces / 2;
    for (int y = 0; y < own.rows; ++y) {
        const float *of_b = coarse.of_b.ptr<float>(y), *of_a = coarse.of_a.ptr<float>(y),
                    *told = by_b ? of_b : of_a, *back = by_b ? of_a : of_b;
        for (int x = 0; x < own.cols; ++x) {
            const int k = cvRound(2 * told[x]) - least, there = x + (by_b ? -1 : 1) * cvRound(told[x]);
            const std::size_t block =
                std::size_t(y / coarse_places) * std::size_t(across) + std::size_t(x / coarse_places);
            for (int i = std::max(0, k - kBesideCoarse); i <= std::min(parallaxes - 1, k + kBesideCoarse);
                 ++i)
                found[block * count + std::size_t(i)] = 1;
            if (there >= 0 && there < own.cols && std::abs(back[there] - told[x]) <= kLeadsBack)
                ++told_at[block * count + std::size_t(std::clamp(k, 0, parallaxes - 1))];
        }
    }
    std::vector<int> nearest(blocks, 0); ///< past `least`
    for (std::size_t i = 0; i < blocks; ++i)
        for (int k = parallaxes - 1, n = 0; k > 0 && (n += told_at[i * count + std::size_t(k)]) < kOddPlaces;
             --k)
            nearest[i] = k;
    const std::vector<int> about = most_about(nearest, across, kNearestAbout);
    for (std::size_t i = 0; i < blocks; ++i)
        out.own[i] = std::min(out.own[i], (about[i] + kNearer + kMatchLanes) / kMatchLanes * kMatchLanes);
    out.settle();
    std::fill(out.more.begin(), out.more.end(), std::uint8_t(kUnlikely));
    const int down = int(blocks) / across;
    for (int by = 0; by < down; ++by)
        for (int bx = 0; bx < across; ++bx) {
            std::uint8_t* const more = out.more.data() + std::size_t(by * across + bx) * count;
            for (int j = std::max(0, by - 1); j <= std::min(down - 1, by + 1); ++j)
                for (int i = std::max(0, bx - 1); i <= std::min(across - 1, bx + 1); ++i) {
                    const std::uint8_t* const f = found.data() + std::size_t(j * across + i) * count;
                    for (std::size_t k = 0; k < count; ++k) more[k] = f[k] ? 0 : more[k];
                }
        }
    return out;
}

/// Each after what the coarse match found, if there was one.
BothWays matched_both_ways(const SeenStrip& a, const SeenStrip& b, const SemiGlobalSearch& search,
                           int at_edge, const BothWays* coarse) {
    const int least = search.least, width = b.colours.cols, height = b.colours.rows,
              count = (search.disparities - least + kMatchLanes - 1) / kMatchLanes * kMatchLanes;
    const int room = count + std::abs(least) + kMatchRoom;
    const ComparedPicture of_a(a.colours, room), of_b(b.colours, room), turned_a = of_a.turned();
    BothWays out;
    parallel_ranges(2, 1, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const bool by_b = i == 0;
            const cv::Mat& seen = by_b ? b.seen : a.seen;
            const Expected expected =
                coarse ? expected_after(*coarse, by_b, seen, least, count) : Expected(seen, count);
            (by_b ? out.of_b : out.of_a) = best_parallaxes(
                {by_b ? of_b : of_a, by_b ? turned_a : of_b, by_b ? -1 : 1, width, height, least, expected},
                search.smoothness, at_edge);
        }
    });
    return out;
}

SeenStrip halved(const SeenStrip& strip) {
    SeenStrip out;
    const cv::Size half((strip.colours.cols + 1) / 2, (strip.colours.rows + 1) / 2);
    cv::resize(strip.colours, out.colours, half, 0, 0, cv::INTER_AREA);
    cv::resize(strip.seen, out.seen, half, 0, 0, cv::INTER_AREA);
    return out;
}

/// Which of b's places a's lead back to, and which none leads to.
SemiGlobalMatch compared(const BothWays& ways) {
    const cv::Mat& of_a = ways.of_a;
    const int width = of_a.cols;
    SemiGlobalMatch match{ways.of_b, {}, {}};
    match.known = cv::Mat(of_a.size(), CV_8U, cv::Scalar(0));
    match.hidden = cv::Mat(of_a.size(), CV_8U, cv::Scalar(255));
    for (int y = 0; y < of_a.rows; ++y) {
        const float *a = of_a.ptr<float>(y), *b = match.parallax.ptr<float>(y);
        std::uint8_t *known = match.known.ptr<std::uint8_t>(y), *hidden = match.hidden.ptr<std::uint8_t>(y);
        for (int x = 0; x < width; ++x) {
            const int from = int(std::lround(float(x) - b[x])), to = int(std::lround(float(x) + a[x]));
            if (from >= 0 && from < width && std::abs(a[from] - b[x]) <= kLeadsBack) known[x] = 255;
            if (to >= 0 && to < width) hidden[to] = 0;
        }
    }
    return match;
}

} // namespace

SemiGlobalMatch semi_global(const SeenStrip& a, const SeenStrip& b, const SemiGlobalSearch& search) {
    CV_Assert(a.colours.type() == CV_8UC3 && b.colours.type() == CV_8UC3 &&
              a.colours.size() == b.colours.size());
    CV_Assert(a.seen.type() == CV_8U && a.seen.size() == a.colours.size() && b.seen.size() == a.seen.size());
    const SemiGlobalSearch half{search.least / 2, search.disparities / 2, search.smoothness};
    const BothWays coarse = matched_both_ways(halved(a), halved(b), half, kCoarseAtEdge, nullptr);
    const BothWays fine = matched_both_ways(a, b, search, kAtEdge, &coarse);
    SemiGlobalMatch out = compared(fine);
    leave_out_speckles(out);
    return out;
}

} // namespace porb
