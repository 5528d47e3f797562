#include "stitch/strips/strip_match.h"

#include "base/parallel.h"
#include "picture/convert_simd.h"
#include "stitch/colour_match/edge_median.h"
#include "stitch/colour_match/guide.h"
#include "stitch/colour_match/semi_global.h"
#include "stitch/colour_match/unmatched_fill.h"
#include "stitch/strips/block_match.h"
#include "stitch/strips/edge_smooth.h"

#include <opencv2/imgproc.hpp>

#include <array>
#include <cmath>

namespace porb {

namespace {

constexpr int kLeastDisparity = -2; ///< a rig is never solved quite
constexpr int kRoundRows = 24, kSurroundings = 15;
constexpr double kNoTrust = 0.7,
                 kFullTrust = 0.8; ///< correlation of what was matched: 0.85 and more under a solved rig
constexpr int kAbout = 25;         ///< places: about six degrees
constexpr float kEven = 12;        ///< grey levels squared, of noise and coding
constexpr float kUnlike = 0.1f, kAlike = 0.4f;          ///< that correlation about one place
constexpr int kNearby = 11;                             ///< places: about three degrees
constexpr float kHardlySame = 0.1f, kSameEnough = 0.3f; ///< the share of what is the same nearby
constexpr int kSameBlock = 5;
constexpr float kSame = 4, kOther = 10;            ///< grey levels
constexpr float kAsBright = 16, kOtherBright = 32; ///< of surroundings; a third of a stop is about 14
constexpr double kEdge = 5, kColourEdge = 2; ///< grey levels; of colours, of the channel that differs most
constexpr int kPastRim = 13; ///< places a side about what b sees: what is read of it lies no further out
constexpr double kLeastGain = 1.06, kMostGain = 2; ///< of bytes, which are on the curve
constexpr float kUnsure = 0.02f;                   ///< what counts where nothing was matched, against 1

/// Fills what could not be matched with the farther of its neighbours in the row: mostly it is ground that a
/// nearer thing hides from one of the two.
void fill_farther(cv::Mat& parallax, const cv::Mat& known) {
    for (int y = 0; y < parallax.rows; ++y) {
        float* row = parallax.ptr<float>(y);
        const std::uint8_t* k = known.ptr<std::uint8_t>(y);
        for (int x = 0; x < parallax.cols;) {
            if (k[x]) {
                ++x;
                continue;
            }
            int end = x;
            while (end < parallax.cols && !k[end]) ++end;
            const float left = x > 0 ? row[x - 1] : 1e9f, right = end < parallax.cols ? row[end] : 1e9f;
            const float value = std::min(left, right) < 1e8f ? std::min(left, right) : 0;
            std::fill(row + x, row + end, value);
            x = end;
        }
    }
}

/// A picture less its surroundings, since bright floors and dark ceilings are alike under any rig. What lies
/// past a lens's rim is no surroundings: in narrow strips its edge would drown everything else.
cv::Mat detail_of(const cv::Mat& m, const StripMask& mask) {
    cv::Mat around, detail, out(m.size(), CV_16S, cv::Scalar(0));
    cv::boxFilter(m, around, CV_32F, cv::Size(kSurroundings, kSurroundings));
    cv::multiply(around, mask.per_share, around);
    cv::subtract(m, around, detail, cv::noArray(), CV_16S);
    detail.copyTo(out, mask.seen);
    return out;
}

/// 0 up to `none`, 1 from `all` on, evenly between.
cv::Mat ramp(const cv::Mat& values, float none, float all) {
    cv::Mat out;
    values.convertTo(out, CV_32F, 1 / double(all - none), -double(none) / double(all - none));
    cv::max(out, 0.0, out);
    cv::min(out, 1.0, out);
    return out;
}

struct Sameness {
    cv::Mat same; ///< 1 where b's detail is a's of where it was matched to, but for noise, 0 where it plainly
                  ///< is not or one of them does not look
    cv::Mat both; ///< 255 where both look, else 0
};
Sameness sameness(const cv::Mat& da, const cv::Mat& db, const StripMask& a, const StripMask& b,
                  const cv::Mat& parallax) {
    cv::Mat off(db.size(), CV_32F), both = b.seen.clone();
    for (int y = 0; y < off.rows; ++y) {
        const std::int16_t *ra = da.ptr<std::int16_t>(y), *rb = db.ptr<std::int16_t>(y);
        const std::uint8_t* seen = a.seen.ptr<std::uint8_t>(y);
        const float* p = parallax.ptr<float>(y);
        float* to = off.ptr<float>(y);
        for (int x = 0; x < off.cols; ++x) {
            const float from = std::clamp(float(x) - p[x], 0.0f, float(off.cols - 1));
            const int i = std::min(int(from), off.cols - 2);
            const float f = from - float(i);
            to[x] = std::abs((1 - f) * float(ra[i]) + f * float(ra[i + 1]) - float(rb[x]));
            if (!seen[i] || !seen[i + 1]) both.at<std::uint8_t>(y, x) = 0, to[x] = kOther;
        }
    }
    cv::Mat mean;
    cv::boxFilter(off, mean, CV_32F, cv::Size(kSameBlock, kSameBlock));
    cv::Mat out = ramp(mean, kOther, kSame);
    out.setTo(0, ~both);
    return {out, both};
}

/// 1 where both are about as bright in their surroundings too, 0 where plainly not: where pictures are mixed
/// widely, even things of several degrees would show through, which have no detail to tell them by. What
/// exposures of sources that were not matched may differ by is allowed.
cv::Mat as_bright(const cv::Mat& a, const cv::Mat& b, const cv::Mat& both, const cv::Mat& parallax) {
    cv::Mat off(b.size(), CV_32F), mean, share;
    for (int y = 0; y < off.rows; ++y) {
        const std::uint8_t *ra = a.ptr<std::uint8_t>(y), *rb = b.ptr<std::uint8_t>(y),
                           *seen = both.ptr<std::uint8_t>(y);
        const float* p = parallax.ptr<float>(y);
        float* to = off.ptr<float>(y);
        for (int x = 0; x < off.cols; ++x)
            to[x] = seen[x]
                        ? float(ra[std::clamp(int(float(x) - p[x] + 0.5f), 0, off.cols - 1)]) - float(rb[x])
                        : 0.0f;
    }
    cv::boxFilter(off, mean, CV_32F, cv::Size(kSurroundings, kSurroundings));
    cv::boxFilter(both, share, CV_32F, cv::Size(kSurroundings, kSurroundings));
    mean = cv::abs(mean) * 255 / cv::max(share, 1.0);
    return ramp(mean, kOtherBright, kAsBright);
}

/// The share of places that show the same, of those nearby at which both look.
cv::Mat same_nearby(const Sameness& where) {
    cv::Mat both, same;
    cv::boxFilter(where.both, both, CV_32F, cv::Size(kNearby, kNearby));
    cv::boxFilter(where.same, same, CV_32F, cv::Size(kNearby, kNearby));
    return same / cv::max(both / 255, 1e-3);
}

/// What b sees against what a sees where it was matched to, by their details: the correlation over all of
/// `columns`, and about each place.
struct Agreement {
    double whole = 1;
    cv::Mat about; ///< 32-bit
};
Agreement agreement(const cv::Mat& da, const cv::Mat& db, const cv::Mat& parallax, const cv::Mat& known,
                    cv::Range columns) {
    const cv::Size half(db.cols / 2, db.rows / 2); // every second place both ways tells as much
    cv::Mat aa(half, CV_32F), bb(half, CV_32F), ab(half, CV_32F);
    double saa = 0, sbb = 0, sab = 0;
    for (int y = 0; y < half.height; ++y) {
        const std::uint8_t* k = known.ptr<std::uint8_t>(2 * y);
        const float* p = parallax.ptr<float>(2 * y);
        const std::int16_t *ra = da.ptr<std::int16_t>(2 * y), *rb = db.ptr<std::int16_t>(2 * y);
        float *taa = aa.ptr<float>(y), *tbb = bb.ptr<float>(y), *tab = ab.ptr<float>(y);
        for (int x = 0; x < half.width; ++x) {
            float va = 0, vb = 0;
            if (k[2 * x]) va = ra[std::clamp(2 * x - cvRound(p[2 * x]), 0, db.cols - 1)], vb = rb[2 * x];
            taa[x] = va * va, tbb[x] = vb * vb, tab[x] = va * vb;
            if (2 * x < columns.start || 2 * x >= columns.end) continue;
            saa += double(va * va), sbb += double(vb * vb), sab += double(va * vb);
        }
    }
    Agreement out;
    if (saa * sbb > 0) out.whole = sab / std::sqrt(saa * sbb);
    for (cv::Mat* m : {&aa, &bb, &ab}) cv::blur(*m, *m, cv::Size(kAbout, kAbout));
    cv::Mat both;
    cv::multiply(aa, bb, both);
    cv::sqrt(both, both);
    cv::divide(ab + kEven, both + kEven, both); // what is even agrees with anything
    cv::resize(both, out.about, db.size(), 0, 0, cv::INTER_LINEAR);
    return out;
}

} // namespace

cv::Mat strip_bytes(const SourcePicture& source, const CameraTone& tone) {
    cv::Mat out(source.height(), source.width(), CV_8U);
    const float scale = (tone.scale[0] + 2 * tone.scale[1] + tone.scale[2]) / 4;
    parallel_ranges(source.height(), 32, [&](int begin, int end) {
        const auto width = std::size_t(source.width());
        std::vector<float> brightness(width * std::size_t(end - begin));
        brightness_rows(source, begin, end, brightness.data());
        for (int y = begin; y < end; ++y)
            simd::quantise8(brightness.data() + width * std::size_t(y - begin), source.width(), 255 * scale,
                            255 * kCurveFoot * (scale - 1), 255, out.ptr<std::uint8_t>(y));
    });
    return out;
}

cv::Mat strip_colours(const Picture& source, const CameraTone& tone) {
    cv::Mat out(source.height(), source.width(), CV_8UC3);
    parallel_ranges(source.height(), 32, [&](int begin, int end) {
        const auto width = std::size_t(source.width());
        std::array<std::vector<float>, 3> planes;
        std::array<std::vector<std::uint8_t>, 3> bytes;
        for (std::size_t c = 0; c < 3; ++c) planes[c].resize(width), bytes[c].resize(width);
        for (int y = begin; y < end; ++y) {
            simd::planes_from_rgba_row(source.row(y), source.width(), planes[0].data(), planes[1].data(),
                                       planes[2].data());
            for (std::size_t c = 0; c < 3; ++c)
                simd::quantise8(planes[c].data(), source.width(), 255 * tone.scale[c],
                                255 * kCurveFoot * (tone.scale[c] - 1), 255, bytes[c].data());
            auto* const to = out.ptr<cv::Vec3b>(y);
            for (std::size_t x = 0; x < width; ++x) to[x] = {bytes[0][x], bytes[1][x], bytes[2][x]};
        }
    });
    return out;
}

StripMask strip_mask(cv::Mat seen) {
    StripMask out{std::move(seen), {}};
    cv::Mat share;
    cv::boxFilter(out.seen, share, CV_32F, cv::Size(kSurroundings, kSurroundings));
    out.per_share = 255 / cv::max(share, 1.0);
    return out;
}

namespace {

/// A part of a strip with room beside it for what b sees up to `disparities` columns after a does. Where rows
/// go all the way round they go on at the other end.
struct Widened {
    SeenStrip a, b;
    cv::Rect inner;
};
Widened widened(const SeenStrip& a, const SeenStrip& b, const StripSearch& search) {
    Widened out{
        {}, {}, cv::Rect(search.disparities, search.round ? kRoundRows : 0, a.seen.cols, a.seen.rows)};
    const auto widen = [&](const cv::Mat& m, cv::Mat& wide) {
        cv::copyMakeBorder(m, wide, 0, 0, search.disparities, -kLeastDisparity, cv::BORDER_REPLICATE);
        if (search.round) cv::copyMakeBorder(wide, wide, kRoundRows, kRoundRows, 0, 0, cv::BORDER_WRAP);
    };
    widen(a.colours, out.a.colours);
    widen(a.seen, out.a.seen);
    widen(b.colours, out.b.colours);
    widen(b.seen, out.b.seen);
    return out;
}

/// Parallax of b's places in the columns that are searched, and where any was found.
SemiGlobalMatch matched(const SeenStrip& a, const SeenStrip& b, cv::Range columns,
                        const StripSearch& search) {
    if (!search.to_edges) {
        const BlockMatch blocks =
            match_blocks(a.colours, b.colours, columns,
                         {kLeastDisparity, search.disparities, search.round, search.smoothness});
        return {blocks.parallax, blocks.known, {}};
    }
    const Widened wide = widened({a.colours.colRange(columns), a.seen.colRange(columns)},
                                 {b.colours.colRange(columns), b.seen.colRange(columns)}, search);
    const SemiGlobalMatch all =
        semi_global(wide.a, wide.b, {kLeastDisparity, search.disparities, search.smoothness});
    return {all.parallax(wide.inner), all.known(wide.inner), all.hidden(wide.inner)};
}

} // namespace

cv::Scalar colour_gains(const cv::Mat& a, const cv::Mat& b, const cv::Mat& both) {
    const cv::Scalar of_a = cv::mean(a, both), of_b = cv::mean(b, both);
    cv::Scalar gains;
    double most = 1;
    for (int c = 0; c < 4; ++c) {
        gains[c] = std::clamp(of_b[c] / std::max(of_a[c], 1.0), 1 / kMostGain, kMostGain);
        if (c < a.channels()) most = std::max({most, gains[c], 1 / gains[c]});
    }
    return most < kLeastGain ? cv::Scalar::all(1) : gains;
}

StripMatch match_strip(const cv::Mat& a_picture, const cv::Mat& b_picture, const StripMask& a_mask,
                       const StripMask& b_mask, const StripSearch& search, const StripAsked& asked) {
    const cv::Mat a = brightness_of(a_picture), b = brightness_of(b_picture);
    const cv::Range columns = search.columns == cv::Range::all() ? cv::Range(0, a.cols) : search.columns;
    cv::Mat parallax(a.size(), CV_32F, cv::Scalar(0)), known(a.size(), CV_8U, cv::Scalar(255));
    cv::Mat hidden, a_looks, b_looks; // copies: what is assigned to a matrix may land in the mask itself
    a_mask.seen.copyTo(a_looks, asked.of_a);
    b_mask.seen.copyTo(b_looks, asked.of_b);
    if (!columns.empty()) {
        cv::Mat level_a = a_picture, bright_a;
        if (search.to_edges) {
            const cv::Scalar gains =
                asked.gains ? *asked.gains : colour_gains(a_picture, b_picture, a_mask.seen & b_mask.seen);
            cv::multiply(a_picture, gains, bright_a);
            level_a = bright_a;
        }
        const SemiGlobalMatch found = matched({level_a, a_looks}, {b_picture, b_looks}, columns, search);
        found.parallax.copyTo(parallax.colRange(columns));
        found.known.copyTo(known.colRange(columns));
        hidden = found.hidden;
    }
    known &= b_looks;
    for (int y = 0; y < parallax.rows; ++y) // where a does not look, nothing was matched
        for (int x = 0; x < parallax.cols; ++x)
            if (known.at<std::uint8_t>(y, x)) {
                const int from = int(std::lround(float(x) - parallax.at<float>(y, x)));
                if (from < 0 || from >= a.cols || !a_mask.seen.at<std::uint8_t>(y, from))
                    known.at<std::uint8_t>(y, x) = 0;
            }
    const cv::Mat da = detail_of(a, a_mask), db = detail_of(b, b_mask);
    const Agreement agrees =
        agreement(da, db, parallax, known, columns.empty() ? cv::Range(0, a.cols) : columns);
    cv::Mat searched = parallax.colRange(columns).clone(), looked_at;
    if (!columns.empty()) {
        fill_farther(searched, known.colRange(columns));
        if (search.to_edges) {
            cv::dilate(b_looks.colRange(columns), looked_at, cv::Mat::ones(kPastRim, kPastRim, CV_8U));
            fill_unmatched(b_picture.colRange(columns), known.colRange(columns), hidden, looked_at, searched);
        }
        cv::medianBlur(searched, searched, search.to_edges ? 3 : 5);
        searched.copyTo(parallax.colRange(columns));
    }
    // Smoothed along edges from where the two show the same, so that thin and round things keep their
    // outline.
    cv::Mat soft_a, soft_b; // less noise
    cv::blur(da, soft_a, cv::Size(3, 3));
    cv::blur(db, soft_b, cv::Size(3, 3));
    cv::Mat sure = sameness(soft_a, soft_b, a_mask, b_mask, parallax).same;
    // With steps at edges what one camera alone sees is told well by what is farther, and counts as it is.
    sure.setTo(search.to_edges ? 1 : 0, ~known);
    cv::add(sure, cv::Scalar(kUnsure), sure);
    if (!columns.empty()) {
        sure = sure.colRange(columns).clone();
        const cv::Mat guide = b_picture.colRange(columns);
        if (search.to_edges) median_along_edges(guide, looked_at, searched, sure);
        smooth_along_edges(guide, searched, sure, search.smoothing, search.to_edges ? kColourEdge : kEdge);
        searched.copyTo(parallax.colRange(columns));
    }
    const Sameness drawn = sameness(soft_a, soft_b, a_mask, b_mask, parallax);
    StripMatch out{parallax, ramp(agrees.about, kUnlike, kAlike), drawn.same,
                   std::clamp((agrees.whole - kNoTrust) / (kFullTrust - kNoTrust), 0.0, 1.0)};
    // Detail may correlate where two bars were taken for one: then little is the same in both nearby.
    cv::min(out.correlation, ramp(same_nearby(drawn), kHardlySame, kSameEnough), out.correlation);
    if (search.by_brightness) cv::multiply(out.same, as_bright(a, b, drawn.both, parallax), out.same);
    return out;
}

} // namespace porb
