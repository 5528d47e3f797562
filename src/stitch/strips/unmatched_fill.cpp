#include "stitch/strips/unmatched_fill.h"

#include "stitch/strips/guide.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <vector>

namespace porb {

namespace {

constexpr int kAcross = 24, kDown = 12;          ///< columns and rows to either side
constexpr int kEveryColumn = 2, kEveryRow = 2;   ///< of those that are looked at
constexpr double kReach = 10;                    ///< columns over which a place counts a third as much
constexpr double kColumnsOfRow = 1.5;            ///< rows are so much further apart
constexpr double kLevels = 3;                    ///< grey levels likewise
constexpr float kUnlike = 1e-4f;                 ///< what looks altogether different counts, against 1
constexpr float kHidden = 0.05f, kAstray = 0.3f; ///< quantiles

struct Told {
    float parallax, weight;
};

/// The least parallax that as large a share of the weights as `quantile` does not exceed.
float quantile_of(std::vector<Told>& told, float quantile) {
    float all = 0;
    for (const Told& t : told) all += t.weight;
    std::sort(told.begin(), told.end(), [](const Told& a, const Told& b) { return a.parallax < b.parallax; });
    float so_far = 0;
    std::size_t at = 0;
    while (at + 1 < told.size() && (so_far += told[at].weight) < quantile * all) ++at;
    return told[at].parallax;
}

} // namespace

void fill_unmatched(const cv::Mat& guide, const cv::Mat& known, const cv::Mat& hidden, cv::Mat& parallax) {
    std::array<float, 256> alike{};
    for (std::size_t i = 0; i < alike.size(); ++i) alike[i] = float(std::exp(-double(i) / kLevels)) + kUnlike;
    std::array<std::array<float, kAcross + 1>, kDown + 1> near{};
    for (std::size_t j = 0; j <= kDown; ++j)
        for (std::size_t i = 0; i <= kAcross; ++i)
            near[j][i] = float(std::exp(-std::hypot(double(i), kColumnsOfRow * double(j)) / kReach));
    const cv::Mat from = parallax.clone();
    const int rows = from.rows, columns = from.cols;
    std::vector<Told> told;
    for (int y = 0; y < rows; ++y)
        for (int x = 0; x < columns; ++x) {
            if (known.at<std::uint8_t>(y, x)) continue;
            told.clear();
            const auto here = guide.at<cv::Vec3b>(y, x);
            for (int j = -kDown; j <= kDown; j += kEveryRow) {
                if (y + j < 0 || y + j >= rows) continue;
                const std::uint8_t* const k = known.ptr<std::uint8_t>(y + j);
                const auto* const g = guide.ptr<cv::Vec3b>(y + j);
                const float* const p = from.ptr<float>(y + j);
                for (int i = -kAcross; i <= kAcross; i += kEveryColumn) {
                    const int at = x + i;
                    if (at < 0 || at >= columns || !k[at]) continue;
                    told.push_back({p[at], near[std::size_t(std::abs(j))][std::size_t(std::abs(i))] *
                                               alike[std::size_t(levels_between(g[at], here))]});
                }
            }
            if (!told.empty())
                parallax.at<float>(y, x) =
                    quantile_of(told, hidden.at<std::uint8_t>(y, x) ? kHidden : kAstray);
        }
}

} // namespace porb
