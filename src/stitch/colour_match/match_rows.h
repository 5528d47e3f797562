#pragma once

// What semi-global matching compares, row by row; for semi_global.cpp alone.
#include "stitch/colour_match/match_kernel.h"

#include <opencv2/core.hpp>

#include <array>
#include <cstddef>
#include <cstdint>
#include <vector>

namespace porb {

/// What is compared of a picture, with `room` beside each row; turned ones run from a row's end to its
/// beginning.
class ComparedPicture {
  public:
    ComparedPicture(const cv::Mat& colours, int room);
    ComparedPicture turned() const;
    /// From the place `at` on, which may lie in the room.
    MatchRow row(int y, int at) const {
        const auto of = [&](std::size_t n) {
            return planes_[n].data() + std::ptrdiff_t(y) * stride_ + room_ + at;
        };
        return {of(0), of(1), of(2), {of(3), of(4), of(5)}};
    }

  private:
    std::uint8_t* plane(int n, int y) {
        return planes_[std::size_t(n)].data() + std::ptrdiff_t(y) * stride_ + room_;
    }
    std::ptrdiff_t room_, stride_;
    std::array<std::vector<std::uint8_t>, 6> planes_; ///< red, green, blue, 24 bits of order
};

/// What is looked for about blocks of kHeldPlaces places a side.
class Expected {
  public:
    /// As many parallaxes everywhere where something is seen (255) within a block or beside it.
    Expected(const cv::Mat& seen, int count);
    int across, most;               ///< blocks; parallaxes
    std::vector<int> own;           ///< by block: how many of those
    std::vector<std::uint8_t> more; ///< by block and parallax: what it costs on top
    /// After a change of `own`.
    void settle();
    /// Columns of row y that are looked at.
    int begin(int y) const { return columns_[block_row(y)].start; }
    int end(int y) const { return columns_[block_row(y)].end; }
    RowCounts counts(int y) const {
        return {own_.data() + first(y), reach_.data() + first(y), offset_.data() + first(y)};
    }
    const std::uint8_t* more_of(int y) const { return more.data() + first(y) * std::size_t(most); }
    /// Where what is kept of row y begins; of the one past the last, how much there is.
    std::size_t kept_from(int y) const {
        return kept_from_[block_row(y)] + std::size_t(y % kHeldPlaces) * row_size_[block_row(y)];
    }

  private:
    static std::size_t block_row(int y) { return std::size_t(y / kHeldPlaces); }
    std::size_t first(int y) const { return block_row(y) * std::size_t(across); }
    int width_;
    std::vector<std::uint16_t> own_, reach_;        ///< by block
    std::vector<std::uint32_t> offset_;             ///< likewise
    std::vector<std::size_t> kept_from_, row_size_; ///< by row of blocks
    std::vector<cv::Range> columns_;                ///< likewise
};

/// By block: the most of what lies within `blocks` of it.
std::vector<int> most_about(const std::vector<int>& values, int across, int blocks);

/// Two pictures as one of them is matched against the other.
struct Compared {
    const ComparedPicture &own, &other;
    int direction; ///< of the other's places for more parallax, in its rows as they are
    int width, height, least;
    const Expected& expected;
    int count() const { return expected.most; }
    std::size_t row_size() const { return std::size_t(width) * std::size_t(count()); }
};

/// Rows of costs, each the mean over three columns and three rows.
class CostRows {
  public:
    explicit CostRows(const Compared& compared);
    /// Of row after row, from the first on.
    void next(std::uint8_t* to);

  private:
    void fill(int y, std::vector<std::uint8_t>& to);

    Compared of_;
    std::vector<std::uint8_t> plain_;
    std::array<std::vector<std::uint8_t>, 3> across_; ///< before, own, after
    int y_ = 0;
};

} // namespace porb
