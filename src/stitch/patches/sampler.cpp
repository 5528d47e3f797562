#include "stitch/patches/sampler.h"

#include "base/parallel.h"

#include <algorithm>
#include <cmath>

namespace porb {

namespace {

/// Each half's value by its bits: several times as quick as working it out.
const float* float_of_half() {
    static const auto kTable = [] {
        std::vector<float> table(1 << 16);
        for (std::size_t i = 0; i < table.size(); ++i) table[i] = float_from_half(Half(i));
        return table;
    }();
    return kTable.data();
}

struct Weights {
    int first = 0;
    float w[4]{};
};
/// Of the four samples about a continuous place.
Weights weights(double at, bool smooth) {
    Weights out;
    const double p = at - 0.5, whole = std::floor(p);
    out.first = int(whole) - 1;
    const auto t = float(p - whole);
    const float t2 = t * t, t3 = t2 * t;
    if (smooth) {
        out.w[0] = (1 - 3 * t + 3 * t2 - t3) / 6;
        out.w[1] = (4 - 6 * t2 + 3 * t3) / 6;
        out.w[2] = (1 + 3 * t + 3 * t2 - 3 * t3) / 6;
        out.w[3] = t3 / 6;
    } else {
        out.w[0] = 0.5f * (-t + 2 * t2 - t3);
        out.w[1] = 0.5f * (2 - 5 * t2 + 3 * t3);
        out.w[2] = 0.5f * (t + 4 * t2 - 3 * t3);
        out.w[3] = 0.5f * (t3 - t2);
    }
    return out;
}

} // namespace

TileSampler::TileSampler(const TileImage& image, int level)
    : side_(Tile::kSide >> level), width_((image.width() + (1 << level) - 1) >> level),
      height_((image.height() + (1 << level) - 1) >> level), across_(image.across()),
      side_px_(double(std::max(image.width(), image.height())) / (1 << level)),
      middle_x_(image.width() / 2.0 / (1 << level)), middle_y_(image.height() / 2.0 / (1 << level)),
      tiles_(std::size_t(image.across()) * std::size_t(image.down())) {
    parallel_ranges(int(tiles_.size()), 4, [&](int begin, int end) {
        for (int i = begin; i < end; ++i)
            if (const Tile* tile = image.tile(i % across_, i / across_))
                tiles_[std::size_t(i)] = tile->level(level);
    });
}

template <int kChannels>
std::array<float, kChannels> TileSampler::at(const Vec2& pixel, bool smooth) const {
    const Weights wx = weights(pixel.x(), smooth), wy = weights(pixel.y(), smooth);
    const float* const value = float_of_half();
    std::array<float, kChannels> sum{};
    if (wx.first >= 0 && wy.first >= 0 && wx.first + 3 < width_ && wy.first + 3 < height_) {
        const int tx = wx.first / side_, ty = wy.first / side_;
        if ((wx.first + 3) / side_ == tx && (wy.first + 3) / side_ == ty) { // all in one tile
            const Half* row = tiles_[std::size_t(ty * across_ + tx)];
            if (!row) return sum;
            row += ((wy.first - ty * side_) * side_ + wx.first - tx * side_) * kChannels;
            for (int j = 0; j < 4; ++j, row += side_ * kChannels)
                for (int i = 0; i < 4; ++i) {
                    const float w = wx.w[i] * wy.w[j];
                    for (int c = 0; c < kChannels; ++c)
                        sum[std::size_t(c)] += w * value[row[i * kChannels + c]];
                }
            return sum;
        }
    }
    for (int j = 0; j < 4; ++j)
        for (int i = 0; i < 4; ++i) {
            const int px = wx.first + i, py = wy.first + j;
            if (px < 0 || py < 0 || px >= width_ || py >= height_) continue;
            const Half* tile = tiles_[std::size_t(py / side_ * across_ + px / side_)];
            if (!tile) continue;
            const Half* from = tile + ((py % side_) * side_ + px % side_) * kChannels;
            const float w = wx.w[i] * wy.w[j];
            for (int c = 0; c < kChannels; ++c) sum[std::size_t(c)] += w * value[from[c]];
        }
    return sum;
}
template std::array<float, 1> TileSampler::at<1>(const Vec2&, bool) const;
template std::array<float, 4> TileSampler::at<4>(const Vec2&, bool) const;

SoftMask::SoftMask(const TileImage& mask, double feather) {
    // A B-spline over cells of c pixels passes from 0 to 1 over about 2.5 of them.
    const double cells = std::max(1.0, feather * mask.width() / 2 / 2.5);
    const double level = std::min(std::log2(cells), Tile::kLevels - 1.0);
    const int below = int(std::floor(level));
    share_ = float(level - below);
    fine_.emplace(mask, below);
    if (share_ > 0.01f) coarse_.emplace(mask, below + 1);
}

float SoftMask::at(const Vec2& square) const {
    float v = fine_->at<1>(fine_->pixel(square), true)[0];
    if (coarse_) v += share_ * (coarse_->at<1>(coarse_->pixel(square), true)[0] - v);
    return std::clamp(v, 0.0f, 1.0f);
}

} // namespace porb
