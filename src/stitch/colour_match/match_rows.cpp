#include "stitch/colour_match/match_rows.h"

#include "stitch/colour_match/guide.h"

#include <opencv2/imgproc.hpp>

#include <algorithm>

namespace porb {

namespace {
constexpr int kMostApart = 40;                     ///< grey levels: more says no more
constexpr std::uint8_t kOutside = 90;              ///< past the end of a's row
constexpr int kCensusColumns = 2, kCensusRows = 2; ///< columns and rows from one compared place to the next
} // namespace

ComparedPicture::ComparedPicture(const cv::Mat& colours, int room)
    : room_(room), stride_(colours.cols + 2 * room) {
    for (auto& plane : planes_) plane.resize(std::size_t(stride_) * std::size_t(colours.rows));
    constexpr int across = 2 * kCensusColumns, down = 2 * kCensusRows;
    cv::Mat wide;
    cv::copyMakeBorder(brightness_of(colours), wide, down, down, across, across, cv::BORDER_REPLICATE);
    for (int y = 0; y < colours.rows; ++y) {
        const auto* const from = colours.ptr<cv::Vec3b>(y);
        for (int c = 0; c < 3; ++c) {
            std::uint8_t* const to = plane(c, y);
            for (int x = 0; x < colours.cols; ++x) to[x] = from[x][c];
            to[-1] = to[0], to[colours.cols] = to[colours.cols - 1];
        }
        const std::uint8_t* const own = wide.ptr<std::uint8_t>(y + down) + across;
        int others = 0;
        for (int j = -down; j <= down; j += kCensusRows)
            for (int i = -across; i <= across; i += kCensusColumns) {
                if (i == 0 && j == 0) continue;
                const std::uint8_t* const other = wide.ptr<std::uint8_t>(y + down + j) + across + i;
                add_order(own, other, colours.cols, plane(3 + others++ / 8, y));
            }
    }
}

ComparedPicture ComparedPicture::turned() const {
    ComparedPicture out = *this;
    for (auto& plane : out.planes_)
        for (auto row = plane.begin(); row != plane.end(); row += stride_) std::reverse(row, row + stride_);
    return out;
}

std::vector<int> most_about(const std::vector<int>& values, int across, int blocks) {
    const int down = int(values.size()) / across;
    std::vector<int> out(values.size());
    for (int y = 0; y < down; ++y)
        for (int x = 0; x < across; ++x) {
            int most = 0;
            for (int j = std::max(0, y - blocks); j <= std::min(down - 1, y + blocks); ++j)
                for (int i = std::max(0, x - blocks); i <= std::min(across - 1, x + blocks); ++i)
                    most = std::max(most, values[std::size_t(j * across + i)]);
            out[std::size_t(y * across + x)] = most;
        }
    return out;
}

Expected::Expected(const cv::Mat& seen, int count)
    : across((seen.cols + kHeldPlaces - 1) / kHeldPlaces), most(count), width_(seen.cols) {
    const int down = (seen.rows + kHeldPlaces - 1) / kHeldPlaces;
    own.assign(std::size_t(across * down), 0);
    for (int y = 0; y < seen.rows; ++y)
        for (int x = 0; x < seen.cols; ++x)
            if (seen.at<std::uint8_t>(y, x))
                own[std::size_t(y / kHeldPlaces * across + x / kHeldPlaces)] = count;
    own = most_about(own, across, 1);
    more.assign(own.size() * std::size_t(count), 0);
    settle();
}

void Expected::settle() {
    offset_.clear(), kept_from_.assign(1, 0), row_size_.clear(), columns_.clear();
    for (std::size_t row = 0; row < own.size(); row += std::size_t(across)) {
        int first = across, end = 0;
        for (int x = 0; x < across; ++x)
            if (own[row + std::size_t(x)] > 0) first = std::min(first, x), end = x + 1;
        std::size_t size = 0;
        for (int x = 0; x < across; ++x) {
            int& count = own[row + std::size_t(x)];
            if (x >= first && x < end) count = std::max(count, kMatchLanes);
            offset_.push_back(std::uint32_t(size));
            size += std::size_t(count * kHeldPlaces);
        }
        columns_.push_back(first < end ? cv::Range(first * kHeldPlaces, std::min(width_, end * kHeldPlaces))
                                       : cv::Range(0, 0));
        row_size_.push_back(size);
        kept_from_.push_back(kept_from_.back() + size * kHeldPlaces);
    }
    row_size_.push_back(0);
    const std::vector<int> reach = most_about(own, across, 1);
    own_.assign(own.begin(), own.end());
    reach_.assign(reach.begin(), reach.end());
}

CostRows::CostRows(const Compared& compared)
    : of_(compared), plain_(of_.row_size() + 2 * std::size_t(of_.count()) + kMatchRoom) {
    for (auto& row : across_) row.resize(of_.row_size());
    fill(0, across_[0]);
    across_[1] = across_[0];
}

void CostRows::next(std::uint8_t* to) {
    if (y_ + 1 < of_.height)
        fill(y_ + 1, across_[2]);
    else
        across_[2] = across_[1];
    mean_kept({across_[0].data(), across_[1].data(), across_[2].data(), of_.width, of_.count(),
               of_.expected.counts(y_)},
              to);
    across_[0].swap(across_[1]), across_[1].swap(across_[2]);
    ++y_;
}

void CostRows::fill(int y, std::vector<std::uint8_t>& to) {
    const int width = of_.width, count = of_.count();
    const RowCounts counts = of_.expected.counts(y);
    // The place that belongs to place 0's first parallax; rows that are turned run the other way.
    const int first = of_.direction > 0 ? of_.least : width - 1 + of_.least;
    std::uint8_t* const plain = plain_.data() + count; // with a place of room at each end
    row_costs({of_.own.row(y, 0), of_.other.row(y, first), width, count, of_.direction, counts, kMostApart},
              plain);
    for (int x = 0; x < width; ++x) {
        const int at = of_.direction > 0 ? x : width - 1 - x; // in the row as it is looked at
        const int begin = std::clamp(-at - of_.least, 0, count),
                  end = std::clamp(width - at - of_.least, begin, count);
        std::uint8_t* const place = plain + std::ptrdiff_t(x) * count;
        std::fill(place, place + begin, kOutside);
        std::fill(place + end, place + count, kOutside);
    }
    std::copy_n(plain, count, plain - count);
    std::copy_n(plain + of_.row_size() - count, count, plain + of_.row_size());
    mean_within_reach({plain - count, plain, plain + count, width, count, counts}, to.data());
}

} // namespace porb
