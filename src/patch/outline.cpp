#include "patch/outline.h"

#include <opencv2/imgproc.hpp>

namespace porb {

std::vector<std::vector<Vec2>> mask_outlines(const TileImage& mask) {
    if (mask.empty()) return {};
    constexpr int kSmall = 256;
    int level = 0;
    while (mask.width() >> level > kSmall) ++level;
    const int cell = 1 << level, side = (mask.width() + cell - 1) / cell;
    // One cell more about it, so that what touches the rim is closed as well.
    cv::Mat inside(side + 2, side + 2, CV_8U, cv::Scalar(0));
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) {
            const Tile* tile = mask.tile(x * cell / Tile::kSide, y * cell / Tile::kSide);
            if (!tile) continue;
            const int tile_side = Tile::kSide >> level;
            const Half v = tile->level(level)[(y % tile_side) * tile_side + x % tile_side];
            inside.at<std::uint8_t>(y + 1, x + 1) = float_from_half(v) > 0.5f ? 255 : 0;
        }
    std::vector<std::vector<cv::Point>> found;
    cv::findContours(inside, found, cv::RETR_LIST, cv::CHAIN_APPROX_TC89_L1);
    std::vector<std::vector<Vec2>> out;
    for (const auto& line : found) {
        auto& to = out.emplace_back();
        for (const cv::Point& p : line)
            to.push_back(
                {2 * (p.x - 0.5) * cell / mask.width() - 1, 2 * (p.y - 0.5) * cell / mask.height() - 1});
    }
    return out;
}

std::vector<float> outline_mask(std::span<const Vec2> outline, const Region& box) {
    if (outline.size() < 3) return {};
    cv::Mat inside(box.height, box.width, CV_8U, cv::Scalar(0)), out;
    std::vector<cv::Point> corners;
    constexpr int kParts = 4; // bits of a pixel's part
    for (const Vec2& p : outline)
        corners.emplace_back(int(std::lround((p.x() - box.x - 0.5) * (1 << kParts))),
                             int(std::lround((p.y() - box.y - 0.5) * (1 << kParts))));
    cv::fillPoly(inside, std::vector<std::vector<cv::Point>>{corners}, cv::Scalar(255), cv::LINE_AA, kParts);
    inside.convertTo(out, CV_32F, 1.0 / 255);
    return {out.begin<float>(), out.end<float>()};
}

} // namespace porb
