#pragma once

// What two cameras see on a strip, compared; for the files of strips and distances alone.
#include "picture/yuv_picture.h"
#include "stitch/source/tone.h"

#include <opencv2/core.hpp>

#include <optional>

namespace porb {

/// What was matched on a strip, by b's places.
struct StripMatch {
    cv::Mat parallax;    ///< 32-bit, strip columns
    cv::Mat correlation; ///< 32-bit, 0 to 1: whether what was matched looks alike thereabouts
    cv::Mat same;     ///< 32-bit, 0 to 1: whether both show the same at this very place, laid on each other
    double trust = 0; ///< 0 to 1: whether the strip as a whole does
};

/// Where a camera sees a strip's places (255, else 0), and what makes means about them those of what it sees.
struct StripMask {
    cv::Mat seen, per_share;
};
StripMask strip_mask(cv::Mat seen);

/// A source's brightness as bytes, toned (its falloff left out: neighbours in a strip have nearly the same).
cv::Mat strip_bytes(const SourcePicture& source, const CameraTone& tone);
/// Its colours likewise, three channels.
cv::Mat strip_colours(const Picture& source, const CameraTone& tone);

/// How a strip is searched.
struct StripSearch {
    int disparities = 16;                 ///< columns: the most parallax that is found
    bool round = false;                   ///< it goes all the way about the baseline
    double smoothness = 1;                ///< above 1: surfaces are held to be smoother
    cv::Range columns = cv::Range::all(); ///< elsewhere all is taken to be far, and only compared
    double smoothing = 20;                ///< of parallax along edges (smooth_along_edges)
    bool to_edges = false;                ///< by colour, with steps of parallax at the picture's edges
    bool by_brightness = false;           ///< what is the same must be about as bright, too
};

/// By what a's colours are multiplied in each channel to be as bright as b's where both look: cameras whose
/// exposure or white was not matched show nothing in one colour, and would be matched nowhere. What differs
/// little is left alone (1), since parallax makes means differ, too.
cv::Scalar colour_gains(const cv::Mat& a, const cv::Mat& b, const cv::Mat& both);

/// Places that are matched (255, else 0), by either camera; empty: all. Of others nothing is told.
struct StripAsked {
    cv::Mat of_a, of_b;
    std::optional<cv::Scalar> gains; ///< colour_gains(), where what is asked for is a part of a whole
};

/// Parallax in strip columns, by b's places, and how far it is to be trusted: under a rig that was
/// not solved, rows of the two pictures do not belong together, and what was matched does not look alike.
/// Semi-global matching (Hirschmueller 2008), smoothed along edges. Pictures are 8-bit, 0 where nothing is
/// seen; of three channels where steps are brought to edges, else of one. Only then can less than all be
/// asked for.
StripMatch match_strip(const cv::Mat& a, const cv::Mat& b, const StripMask& a_mask, const StripMask& b_mask,
                       const StripSearch& search, const StripAsked& asked = {});

} // namespace porb
