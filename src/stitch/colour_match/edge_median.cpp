#include "stitch/colour_match/edge_median.h"

#include "stitch/colour_match/alike_kernel.h"

#include <opencv2/imgproc.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <vector>

namespace porb {

namespace {

constexpr int kAcross = 6, kDown = 3; ///< columns and rows to either side: a degree
constexpr int kEvery = 2;             ///< of those columns counts, the place's own among them (Parted)
constexpr double kLevels = 5;         ///< grey levels
constexpr float kTwoThings = 1.2f;    ///< columns: less is one surface
constexpr float kBinsPerColumn = 4;
constexpr int kMostBins = 512;
static_assert(2 * kAcross / kEvery < kAlikeColumns && 2 * kDown < kAlikeRows);

/// A picture's even columns, then its odd ones, row by row, with room beside both: whoever looks at every
/// second column reads what lies side by side.
template <class T>
class Parted {
  public:
    Parted(const cv::Mat& picture, int channel)
        : half_((picture.cols + 1) / 2 + 2 * kRoom),
          values_(std::size_t(2 * half_) * std::size_t(picture.rows)) {
        const int channels = picture.channels();
        for (int y = 0; y < picture.rows; ++y) {
            const T* const from = picture.ptr<T>(y) + std::min(channel, channels - 1);
            for (int x = 0; x < picture.cols; ++x) *at(x, y) = from[x * channels];
        }
    }
    T* at(int x, int y) { return values_.data() + (2 * std::ptrdiff_t(y) + x % 2) * half_ + x / 2 + kRoom; }
    std::ptrdiff_t stride() const { return 2 * half_; }

  private:
    static constexpr int kRoom = kAcross / 2 + kAlikeRoom;
    std::ptrdiff_t half_;
    std::vector<T> values_;
};

} // namespace

void median_along_edges(const cv::Mat& guide, const cv::Mat& where, cv::Mat& parallax,
                        const cv::Mat& confidence) {
    std::array<float, 256> alike{};
    for (std::size_t i = 0; i < alike.size(); ++i) alike[i] = float(std::exp(-double(i) / kLevels)) + 1e-6f;
    const cv::Mat block = cv::Mat::ones(2 * kDown + 1, 2 * kAcross + 1, CV_8U);
    cv::Mat most, least, out = parallax.clone();
    cv::dilate(parallax, most, block);
    cv::erode(parallax, least, block);
    Parted<std::uint8_t> r(guide, 0), g(guide, 1), b(guide, 2);
    Parted<float> values(parallax, 0), weights(confidence, 0);
    constexpr int beside = kAcross / kEvery;
    for (int y = 0; y < parallax.rows; ++y) {
        const int first = std::max(0, y - kDown), end = std::min(parallax.rows, y + kDown + 1);
        for (int x = 0; x < parallax.cols; ++x) {
            const float low = least.at<float>(y, x), high = most.at<float>(y, x);
            if (high - low < kTwoThings || !where.at<std::uint8_t>(y, x)) continue;
            const int bins = std::min(kMostBins, int((high - low) * kBinsPerColumn) + 1);
            const AlikeBlock about{r.at(x, first) - beside,
                                   g.at(x, first) - beside,
                                   b.at(x, first) - beside,
                                   values.at(x, first) - beside,
                                   weights.at(x, first) - beside,
                                   r.stride(),
                                   2 * beside + 1,
                                   end - first};
            const int at = median_bin(about, {*r.at(x, y), *g.at(x, y), *b.at(x, y)}, alike.data(), low,
                                      kBinsPerColumn, bins);
            out.at<float>(y, x) = low + (float(at) + 0.5f) / kBinsPerColumn;
        }
    }
    parallax = out;
}

} // namespace porb
