#include "stitch/strips/unmatched_fill.h"

#include "stitch/strips/guide.h"

#include <opencv2/core.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <span>
#include <vector>

namespace porb {

namespace {

constexpr int kFillAcross = 24, kFillDown = 12;      ///< columns and rows to either side
constexpr int kFillEvery = 2;                        ///< column and row of known places that is looked at
constexpr double kFillReach = 10;                    ///< columns over which a place counts a third as much
constexpr double kFillColumnsOfRow = 1.5;            ///< rows are so much further apart
constexpr double kFillLevels = 3;                    ///< grey levels likewise
constexpr float kFillUnlike = 1e-4f;                 ///< what looks altogether different counts, against 1
constexpr float kOfHidden = 0.05f, kOfAstray = 0.3f; ///< quantiles
constexpr int kFillBins = 4, kFillMostBins = 512;    ///< a column; in all

/// Known places that are looked at, row by row.
struct KnownPlace {
    int x, bin;
    cv::Vec3b colour;
};
struct KnownPlaces {
    std::vector<KnownPlace> places;
    std::vector<int> first; ///< by row of those and by column: the first place from there on
    int columns = 0;
    std::span<const KnownPlace> between(int row, int begin, int end) const {
        const int* const at = first.data() + std::ptrdiff_t(row) * (columns + 1);
        return std::span(places).subspan(std::size_t(at[begin]), std::size_t(at[end] - at[begin]));
    }
};
KnownPlaces known_places(const cv::Mat& guide, const cv::Mat& known, const cv::Mat& parallax, float least) {
    KnownPlaces out;
    out.columns = known.cols;
    for (int y = 0; y < known.rows; y += kFillEvery) {
        const std::uint8_t* const k = known.ptr<std::uint8_t>(y);
        const auto* const g = guide.ptr<cv::Vec3b>(y);
        const float* const p = parallax.ptr<float>(y);
        for (int x = 0; x < known.cols; ++x) {
            out.first.push_back(int(out.places.size()));
            if (k[x] && (x + y / kFillEvery) % kFillEvery == 0)
                out.places.push_back(
                    {x, std::min(kFillMostBins - 1, int((p[x] - least) * kFillBins + 0.5f)), g[x]});
        }
        out.first.push_back(int(out.places.size()));
    }
    return out;
}

} // namespace

void fill_unmatched(const cv::Mat& guide, const cv::Mat& known, const cv::Mat& hidden, cv::Mat& parallax) {
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
    for (int y = 0; y < parallax.rows; ++y)
        for (int x = 0; x < parallax.cols; ++x) {
            if (known.at<std::uint8_t>(y, x)) continue;
            std::fill(weights.begin(), weights.end(), 0.0f);
            const auto here = guide.at<cv::Vec3b>(y, x);
            const int begin = std::max(0, x - kFillAcross),
                      end = std::min(parallax.cols, x + kFillAcross + 1);
            float all = 0;
            for (int row = (std::max(0, y - kFillDown) + kFillEvery - 1) / kFillEvery;
                 row * kFillEvery <= std::min(parallax.rows - 1, y + kFillDown); ++row) {
                const float* const across = near[std::size_t(std::abs(row * kFillEvery - y))].data();
                for (const KnownPlace& k : told.between(row, begin, end)) {
                    const float w =
                        across[std::abs(k.x - x)] * alike[std::size_t(levels_between(k.colour, here))];
                    weights[std::size_t(k.bin)] += w, all += w;
                }
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
