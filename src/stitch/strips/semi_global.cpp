#include "stitch/strips/semi_global.h"

#include "stitch/strips/guide.h"
#include "stitch/strips/match_kernel.h"

#include <opencv2/calib3d.hpp>
#include <opencv2/imgproc.hpp>

#include <array>
#include <limits>
#include <vector>

namespace porb {

namespace {

using Cost = MatchCost;
constexpr Cost kOutOfReach = 0x4000;               ///< more than any sum along a way
constexpr int kLanes = 16;                         ///< parallax is searched in multiples of it
constexpr int kMostApart = 40;                     ///< grey levels: more says no more
constexpr std::uint8_t kOutside = 90;              ///< past the end of a's row
constexpr int kCensusColumns = 2, kCensusRows = 2; ///< columns and rows from one compared place to the next
constexpr int kLittle = 20;                        ///< what a change of one column costs
constexpr int kMuch = 300, kAtEdge = 25; ///< a step, where the picture is even and where it has an edge
constexpr int kCoarseAtEdge = 100;       ///< the same of the coarse match, which holds more together
constexpr int kCoarseBlock = 8;          ///< places a side, about which coarse parallax counts
constexpr int kBesideCoarse = 2;         ///< columns to either side of it
constexpr int kUnlikely = 8;             ///< what any other parallax costs on top
constexpr float kLeadsBack = 0.8f;       ///< columns
constexpr int kLeastPatch = 80;          ///< places
constexpr int kOfAColumn = 16;

/// By place: a bit for each of 24 others about it, set where it is darker than that.
std::vector<std::uint32_t> census(const cv::Mat& colours) {
    constexpr int across = 2 * kCensusColumns, down = 2 * kCensusRows;
    cv::Mat wide;
    cv::copyMakeBorder(brightness_of(colours), wide, down, down, across, across, cv::BORDER_REPLICATE);
    std::vector<std::uint32_t> out(colours.total(), 0);
    for (int y = 0; y < colours.rows; ++y) {
        std::uint32_t* const to = out.data() + std::size_t(y) * std::size_t(colours.cols);
        const std::uint8_t* const own = wide.ptr<std::uint8_t>(y + down) + across;
        for (int j = -down; j <= down; j += kCensusRows)
            for (int i = -across; i <= across; i += kCensusColumns) {
                if (i == 0 && j == 0) continue;
                const std::uint8_t* const other = wide.ptr<std::uint8_t>(y + down + j) + across + i;
                for (int x = 0; x < colours.cols; ++x)
                    to[x] = (to[x] << 1) | std::uint32_t(own[x] < other[x]);
            }
    }
    return out;
}

/// By row, column and parallax.
struct Volume {
    int width = 0, height = 0, count = 0;
    std::vector<std::uint8_t> costs;
    std::vector<Cost> sums;
    std::size_t at(int x, int y) const {
        return (std::size_t(y) * std::size_t(width) + std::size_t(x)) * std::size_t(count);
    }
    std::size_t row() const { return std::size_t(width) * std::size_t(count); }
};

/// a's row from its end to its beginning, with room at both, so that parallax runs forward.
struct TurnedRow {
    std::vector<std::uint8_t> r, g, b;
    std::vector<std::uint32_t> order;
    TurnedRow(int width, int room) {
        const auto n = std::size_t(width + 2 * room);
        r.resize(n), g.resize(n), b.resize(n), order.resize(n);
    }
    void fill(const cv::Vec3b* colours, const std::uint32_t* orders, int width, int room) {
        for (int x = 0; x < width; ++x) {
            const auto to = std::size_t(width - 1 - x + room);
            r[to] = colours[x][0], g[to] = colours[x][1], b[to] = colours[x][2], order[to] = orders[x];
        }
    }
};

void fill_costs(const cv::Mat& a, const cv::Mat& b, int least, Volume& v) {
    const std::vector<std::uint32_t> orders_a = census(a), orders_b = census(b);
    const int room = v.count + std::abs(least);
    TurnedRow turned(v.width, room);
    for (int y = 0; y < v.height; ++y) {
        const std::size_t row = std::size_t(y) * std::size_t(v.width);
        turned.fill(a.ptr<cv::Vec3b>(y), orders_a.data() + row, v.width, room);
        const auto* const own = b.ptr<cv::Vec3b>(y);
        for (int x = 0; x < v.width; ++x) {
            const auto first = std::size_t(v.width - 1 - x + least + room);
            std::uint8_t* const to = v.costs.data() + v.at(x, y);
            place_costs({turned.r.data() + first, turned.g.data() + first, turned.b.data() + first,
                         turned.order.data() + first, own[x][0], own[x][1], own[x][2],
                         orders_b[row + std::size_t(x)], kMostApart, v.count},
                        to);
            for (int k = 0; k < v.count && x - least - k >= v.width; ++k) to[k] = kOutside;
            for (int k = std::max(0, x - least + 1); k < v.count; ++k) to[k] = kOutside;
        }
    }
}

/// Means over three columns and three rows.
void gather_costs(Volume& v) {
    const std::size_t row = v.row(), n = std::size_t(v.count);
    std::vector<std::uint8_t> across(row);
    for (int y = 0; y < v.height; ++y) {
        std::uint8_t* const own = v.costs.data() + v.at(0, y);
        if (v.width > 2) mean_of_three(own, own + n, own + 2 * n, row - 2 * n, across.data() + n);
        std::copy_n(own, n, across.data());
        std::copy_n(own + row - n, n, across.data() + row - n);
        std::copy(across.begin(), across.end(), own);
    }
    std::vector<std::uint8_t> before(row), own(row);
    for (int y = 0; y < v.height; ++y) {
        std::uint8_t* const here = v.costs.data() + v.at(0, y);
        std::copy_n(here, row, own.data());
        mean_of_three(y > 0 ? before.data() : own.data(), own.data(),
                      y + 1 < v.height ? here + row : own.data(), row, here);
        std::swap(before, own);
    }
}

/// Room for a row along one way; places beside the row cost nothing.
class WayRoom {
  public:
    WayRoom(int width, int count)
        : values_(std::size_t(width + 2) * std::size_t(count + 2), 0), least_(std::size_t(width + 2), 0) {
        for (std::size_t x = 0; x < least_.size(); ++x)
            values_[x * std::size_t(count + 2)] = values_[(x + 1) * std::size_t(count + 2) - 1] = kOutOfReach;
    }
    WayRow row() { return {values_.data(), least_.data()}; }

  private:
    std::vector<Cost> values_, least_;
};

/// What a step costs by how many levels the guide changes along the way.
std::array<Cost, 256> step_costs(double smoothness, int at_edge) {
    std::array<Cost, 256> out{};
    for (int i = 0; i < 256; ++i)
        out[std::size_t(i)] = Cost(std::min(4000.0, std::max(at_edge, kMuch / (1 + i)) * smoothness));
    return out;
}

/// Sums costs along eight ways: four come from above and from one end of the row, four from below and from
/// the other.
void add_up(const cv::Mat& guide, double smoothness, int at_edge, Volume& v) {
    const auto little = Cost(std::min(2000.0, kLittle * smoothness));
    const std::array<Cost, 256> much = step_costs(smoothness, at_edge);
    std::array<std::vector<Cost>, 4> steps;
    for (auto& way : steps) way.resize(std::size_t(v.width));
    for (const bool down : {true, false}) {
        std::vector<WayRoom> room(7, WayRoom(v.width, v.count));
        RowOfWays all{};
        all.width = v.width, all.count = v.count, all.forward = down, all.little = little;
        for (std::size_t way = 0; way < 3; ++way)
            all.before[way] = room[way].row(), all.own[way] = room[3 + way].row();
        for (std::size_t way = 0; way < 4; ++way) all.step_costs[way] = steps[way].data();
        for (int row = 0; row < v.height; ++row) {
            const int y = down ? row : v.height - 1 - row;
            const auto* const here = guide.ptr<cv::Vec3b>(y);
            const auto* const there = row == 0 ? here : guide.ptr<cv::Vec3b>(down ? y - 1 : y + 1);
            const auto inside = [&](int x) { return std::clamp(x, 0, v.width - 1); };
            for (int x = 0; x < v.width; ++x) {
                for (int way = 0; way < 3; ++way)
                    steps[std::size_t(way)][std::size_t(x)] =
                        much[std::size_t(levels_between(here[x], there[inside(x + way - 1)]))];
                steps[3][std::size_t(x)] =
                    much[std::size_t(levels_between(here[x], here[inside(down ? x - 1 : x + 1)]))];
            }
            all.along = room[6].row(); // which is left alone past its ends: nothing comes from there
            all.costs = v.costs.data() + v.at(0, y), all.sums = v.sums.data() + v.at(0, y);
            add_row(all);
            std::swap(all.before, all.own);
        }
    }
}

/// The place of the least between its neighbours, by a parabola.
float between(Cost before, Cost least, Cost after) {
    const float bend = float(before) - 2 * float(least) + float(after);
    return bend > 0 ? std::clamp((float(before) - float(after)) / (2 * bend), -0.5f, 0.5f) : 0.0f;
}

/// The best parallax of each place.
cv::Mat best_of(const Volume& v, int least) {
    cv::Mat out(v.height, v.width, CV_32F);
    for (int y = 0; y < v.height; ++y) {
        auto* const to = out.ptr<float>(y);
        for (int x = 0; x < v.width; ++x) {
            const Cost* const sums = v.sums.data() + v.at(x, y);
            const int k = best_parallax(sums, v.count);
            to[x] = float(k + least);
            if (k > 0 && k + 1 < v.count) to[x] += between(sums[k - 1], sums[k], sums[k + 1]);
        }
    }
    return out;
}

/// Costs by b's places become costs by a's: what b shows at x and a at x - parallax are one pair.
void turn_to_a(int least, Volume& v) {
    std::vector<std::uint8_t> by_b(v.row());
    for (int y = 0; y < v.height; ++y) {
        std::uint8_t* const row = v.costs.data() + v.at(0, y);
        std::copy_n(row, by_b.size(), by_b.data());
        for (int x = 0; x < v.width; ++x) {
            std::uint8_t* const to = row + v.at(x, 0);
            const int first = std::clamp(-x - least, 0, v.count),
                      end = std::clamp(v.width - x - least, first, v.count);
            std::fill(to, to + first, kOutside);
            for (int k = first; k < end; ++k) to[k] = by_b[v.at(x + least + k, 0) + std::size_t(k)];
            std::fill(to + end, to + v.count, kOutside);
        }
    }
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

/// Parallax that the coarse match (of pictures half as large) found about a block of places costs what it
/// costs; any other costs more, or again what it did when that is let go (bytes wrap around, so adding undoes
/// it). What repeats, as bars of a window do, is not taken for its neighbour.
void hold_to(const cv::Mat& coarse, int least, bool hold, Volume& v) {
    const int across = (v.width + kCoarseBlock - 1) / kCoarseBlock,
              down = (v.height + kCoarseBlock - 1) / kCoarseBlock;
    const auto count = std::size_t(v.count);
    std::vector<std::uint8_t> found(std::size_t(across * down) * count, 0), about(count);
    for (int y = 0; y < v.height; ++y)
        for (int x = 0; x < v.width; ++x) {
            const float p =
                2 * coarse.at<float>(std::min(y / 2, coarse.rows - 1), std::min(x / 2, coarse.cols - 1));
            const int k = int(std::lround(p)) - least;
            std::uint8_t* const to =
                found.data() + std::size_t(y / kCoarseBlock * across + x / kCoarseBlock) * count;
            for (int i = std::max(0, k - kBesideCoarse); i <= std::min(v.count - 1, k + kBesideCoarse); ++i)
                to[i] = 1;
        }
    for (int by = 0; by < down; ++by)
        for (int bx = 0; bx < across; ++bx) {
            std::fill(about.begin(), about.end(), std::uint8_t(hold ? kUnlikely : -kUnlikely));
            for (int j = std::max(0, by - 1); j <= std::min(down - 1, by + 1); ++j)
                for (int i = std::max(0, bx - 1); i <= std::min(across - 1, bx + 1); ++i) {
                    const std::uint8_t* const f = found.data() + std::size_t(j * across + i) * count;
                    for (std::size_t k = 0; k < count; ++k) about[k] = f[k] ? 0 : about[k];
                }
            for (int y = by * kCoarseBlock; y < std::min(v.height, (by + 1) * kCoarseBlock); ++y)
                for (int x = bx * kCoarseBlock; x < std::min(v.width, (bx + 1) * kCoarseBlock); ++x) {
                    std::uint8_t* const to = v.costs.data() + v.at(x, y);
                    for (std::size_t k = 0; k < count; ++k) to[k] = std::uint8_t(to[k] + about[k]);
                }
        }
}

/// What each pair of places costs, by b's.
Volume costs_of(const cv::Mat& a, const cv::Mat& b, const SemiGlobalSearch& search) {
    Volume v;
    v.width = b.cols, v.height = b.rows;
    v.count = (search.disparities - search.least + kLanes - 1) / kLanes * kLanes;
    v.costs.resize(v.row() * std::size_t(v.height));
    v.sums.assign(v.costs.size(), 0);
    fill_costs(a, b, search.least, v);
    gather_costs(v);
    return v;
}

/// The best parallax by b's places and by a's.
struct BothWays {
    cv::Mat of_b, of_a;
};

/// Adds costs up by b's places, then by a's, each held to what the coarse match found, if any. Uses `v` up.
BothWays added_both_ways(const cv::Mat& a, const cv::Mat& b, const SemiGlobalSearch& search, int at_edge,
                         const BothWays* coarse, Volume& v) {
    BothWays out;
    if (coarse) hold_to(coarse->of_b, search.least, true, v);
    add_up(b, search.smoothness, at_edge, v);
    out.of_b = best_of(v, search.least);
    if (coarse) hold_to(coarse->of_b, search.least, false, v);
    turn_to_a(search.least, v);
    if (coarse) hold_to(coarse->of_a, search.least, true, v);
    std::fill(v.sums.begin(), v.sums.end(), Cost(0));
    add_up(a, search.smoothness, at_edge, v);
    out.of_a = best_of(v, search.least);
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

SemiGlobalMatch semi_global(const cv::Mat& a, const cv::Mat& b, const SemiGlobalSearch& search) {
    CV_Assert(a.type() == CV_8UC3 && b.type() == CV_8UC3 && a.size() == b.size());
    cv::Mat half_a, half_b;
    cv::resize(a, half_a, cv::Size((a.cols + 1) / 2, (a.rows + 1) / 2), 0, 0, cv::INTER_AREA);
    cv::resize(b, half_b, half_a.size(), 0, 0, cv::INTER_AREA);
    const SemiGlobalSearch half{search.least / 2, search.disparities / 2, search.smoothness};
    Volume v = costs_of(half_a, half_b, half);
    const BothWays coarse = added_both_ways(half_a, half_b, half, kCoarseAtEdge, nullptr, v);
    v = costs_of(a, b, search);
    const BothWays fine = added_both_ways(a, b, search, kAtEdge, &coarse, v);
    SemiGlobalMatch out = compared(fine);
    leave_out_speckles(out);
    return out;
}

} // namespace porb
