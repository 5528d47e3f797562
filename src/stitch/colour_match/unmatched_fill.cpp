#include "stitch/colour_match/unmatched_fill.h"

#include "stitch/colour_match/alike_kernel.h"

#include <opencv2/core.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <vector>

namespace porb {

namespace {

constexpr int kFillAcross = 24, kFillDown = 12; ///< columns and rows to either side
constexpr int kFillEvery = 2;                   ///< column and row of known places that is looked at
constexpr double kFillReach = 10;               ///< columns over which a place counts a third as much
constexpr double kFillColumnsOfRow = 1.5;       ///< rows are so much further apart
constexpr double kFillLevels = 3;               ///< grey levels likewise
constexpr float kFillUnlike = 1e-4f;            ///< what looks altogether different counts, against 1
constexpr int kFillAlike = 16;                  ///< levels: what differs by more counts under a hundredth
constexpr float kFillEnough = 0.5f;             ///< weight of what does not
constexpr float kOfHidden = 0.05f, kOfAstray = 0.3f; ///< quantiles
constexpr int kFillBins = 4, kFillMostBins = 512;    ///< a column; in all

/// Known places that are looked at, row by row.
struct KnownPlaces {
    std::vector<std::uint8_t> r, g, b;
    std::vector<std::int16_t> column, bin;
    std::vector<int> first; ///< by row of those and by column: the first place from there on
    int columns = 0;
    const int* row(int n) const { return first.data() + std::ptrdiff_t(n) * (columns + 1); }
    AlikePlaces places() const { return {r.data(), g.data(), b.data(), column.data(), bin.data()}; }
};
KnownPlaces known_places(const cv::Mat& guide, const cv::Mat& known, const cv::Mat& parallax, float least) {
    KnownPlaces out;
    out.columns = known.cols;
    for (int y = 0; y < known.rows; y += kFillEvery) {
        const std::uint8_t* const k = known.ptr<std::uint8_t>(y);
        const auto* const g = guide.ptr<cv::Vec3b>(y);
        const float* const p = parallax.ptr<float>(y);
        for (int x = 0; x < known.cols; ++x) {
            out.first.push_back(int(out.column.size()));
            if (!k[x] || (x + y / kFillEvery) % kFillEvery != 0) continue;
            out.r.push_back(g[x][0]), out.g.push_back(g[x][1]), out.b.push_back(g[x][2]);
            out.column.push_back(std::int16_t(x));
            out.bin.push_back(
                std::int16_t(std::min(kFillMostBins - 1, int((p[x] - least) * kFillBins + 0.5f))));
        }
        out.first.push_back(int(out.column.size()));
    }
    for (auto* plane : {&out.r, &out.g, &out.b}) plane->resize(plane->size() + kAlikeRoom);
    return out;
}

} // namespace

void fill_unmatched(const cv::Mat& guide, const cv::Mat& known, const cv::Mat& hidden, const cv::Mat& where,
                    cv::Mat& parallax) {
    std::array<float, 256> alike{};
    for (std::size_t i = 0; i < alike.size(); ++i)
        alike[i] = float(std::exp(-double(i) / kFillLevels)) + kFillUnlike;
    std::array<std::array<float, kFillAcross + 1>, kFillDown + 1> near{};
    for (std::size_t j = 0; j <= kFillDown; ++j)
        for (std::size_t i = 0; i <= kFillAcross; ++i)
            near[j][i] = float(std::exp(-std::hypot(double(i), kFillColumnsOfRow * double(j)) / kFillReach));
    double least = 0, most = 0;
    cv::minMaxLoc(parallax, &least, &most, nullptr, nullptr, known);
    const KnownPlaces told = known_places(guide, known, parallax, float(least));
    const auto bins = std::size_t(std::min<double>(kFillMostBins, (most - least) * kFillBins + 2));
    std::vector<float> weights(bins);
    std::vector<AlikeRow> rows;
    for (int y = 0; y < parallax.rows; ++y)
        for (int x = 0; x < parallax.cols; ++x) {
            if (known.at<std::uint8_t>(y, x) || !where.at<std::uint8_t>(y, x)) continue;
            const int begin = std::max(0, x - kFillAcross),
                      end = std::min(parallax.cols, x + kFillAcross + 1);
            rows.clear();
            for (int row = (std::max(0, y - kFillDown) + kFillEvery - 1) / kFillEvery;
                 row * kFillEvery <= std::min(parallax.rows - 1, y + kFillDown); ++row) {
                const int* const first = told.row(row);
                if (first[begin] < first[end])
                    rows.push_back(
                        {first[begin], first[end], near[std::size_t(std::abs(row * kFillEvery - y))].data()});
            }
            const auto here = guide.at<cv::Vec3b>(y, x);
            float all = 0;
            for (const int levels : {kFillAlike, 255}) { // mostly what looks alike says enough
                std::fill(weights.begin(), weights.end(), 0.0f);
                all = weigh_alike(told.places(), rows.data(), int(rows.size()), {here[0], here[1], here[2]},
                                  x, alike.data(), levels, weights.data());
                if (all > kFillEnough) break;
            }
            if (all <= 0) continue;
            // The least that as large a share of the weights does not exceed.
            float left = all * (hidden.at<std::uint8_t>(y, x) ? kOfHidden : kOfAstray);
            std::size_t at = 0;
            while (at + 1 < bins && (left -= weights[at]) >= 0) ++at;
            parallax.at<float>(y, x) = float(least) + float(at) / kFillBins;
        }
}

} // namespace porb
