#pragma once

// Matching of two cameras' strips by brightness; for the files of strips and distances alone.
#include <opencv2/core.hpp>

namespace porb {

struct BlockSearch {
    int least = -2;        ///< columns
    int disparities = 16;  ///< from `least` on; a multiple of 16
    bool round = false;    ///< the last row goes on in the first
    double smoothness = 1; ///< above 1: surfaces are held to be smoother
};

struct BlockMatch {
    cv::Mat parallax; ///< 32-bit, columns: what `b` shows at x is what `a` shows at x - parallax
    cv::Mat known;    ///< 255 where that is told apart from others and a's own best match leads back, else 0
};

/// Parallax of b's places along rows in those columns, by brightness. What a place costs at a parallax is how
/// far slope and brightness differ, half a column this way or that (Birchfield and Tomasi 1998), summed over
/// blocks of five by five; costs are added up along three ways through the picture, from both sides and from
/// above (semi-global matching; Hirschmueller 2008). Pictures are 8-bit, one channel, of one size; past their
/// ends they go on as they end. The match is of the columns alone. Safe from any thread; takes 2 bytes for
/// each column and parallax of some twenty rows, and 1 to 2 ns for each place and parallax.
BlockMatch match_blocks(const cv::Mat& a, const cv::Mat& b, cv::Range columns, const BlockSearch& search);

} // namespace porb
