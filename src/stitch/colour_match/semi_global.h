#pragma once

// Semi-global matching of two cameras' strips; for the files of strips and distances alone.
#include <opencv2/core.hpp>

namespace porb {

struct SemiGlobalSearch {
    int least = -2, disparities = 16; ///< columns: from `least` on
    double smoothness = 1;            ///< above 1: surfaces are held to be smoother
};

/// What a camera sees on a strip, 8-bit, three channels, and where it looks (255, else 0).
struct SeenStrip {
    cv::Mat colours, seen;
};

struct SemiGlobalMatch {
    cv::Mat parallax; ///< 32-bit, columns: what `b` shows at x is what `a` shows at x - parallax
    cv::Mat known;    ///< 255 where what a's place matches on its own leads back, else 0
    cv::Mat hidden;   ///< 255 where no place of a's leads to: b alone sees it
};

/// Parallax of b's places along rows, by colour. What a place costs at a parallax is how far its colour and
/// the order of brightness about it (census; Zabih and Woodfill 1994) differ, over three places each way.
/// Costs are added up along eight ways through the picture (Hirschmueller 2008), and a step costs less where
/// b's colour changes (after the same): so steps lie where the picture has an edge. Costs are then added up
/// once more by a's places and colours: beside a near thing one of the two has no match for what the other
/// does not see, and draws the thing too wide there, while the other tells its outline. Pictures half as
/// large are matched first, with dearer steps: parallax that was not found there thereabouts costs more, and
/// much more than all that was found there is not looked for. Where a camera does not look nothing is
/// matched. Both strips are of one size. Safe from any thread; takes 2 bytes for each place and parallax that
/// is looked at while it works, on two threads.
SemiGlobalMatch semi_global(const SeenStrip& a, const SeenStrip& b, const SemiGlobalSearch& search);

} // namespace porb
