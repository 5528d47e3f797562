// Strips: what is matched on them, smoothed, and brought together over time.
#include "stitch/colour_match/guide.h"
#include "stitch/colour_match/match_kernel.h"
#include "stitch/colour_match/semi_global.h"
#include "stitch/colour_match/unmatched_fill.h"
#include "stitch/distances/follow_distance.h"
#include "stitch/plan/plan.h"
#include "stitch/strips/block_match.h"
#include "stitch/strips/changed_match.h"
#include "stitch/strips/edge_smooth.h"
#include "stitch/strips/steadying.h"
#include "support/support.h"

#include <Eigen/Dense>
#include <opencv2/calib3d.hpp>
#include <opencv2/imgproc.hpp>

#include <random>

using namespace porb;
using namespace porb::test;

namespace {

/// Smooth noise, so that every place looks different.
cv::Mat texture(int rows, int columns, unsigned seed) {
    cv::RNG random(seed);
    cv::Mat out(rows, columns, CV_8U);
    random.fill(out, cv::RNG::UNIFORM, 0, 255);
    cv::GaussianBlur(out, out, cv::Size(7, 7), 1.5);
    cv::normalize(out, out, 40, 210, cv::NORM_MINMAX);
    return out;
}

/// What b sees of a thing `parallax` columns further on than a does.
cv::Mat shifted(const cv::Mat& a, int parallax) {
    cv::Mat out(a.size(), CV_8U, cv::Scalar(0));
    a.colRange(0, a.cols - parallax).copyTo(out.colRange(parallax, a.cols));
    return out;
}

cv::Mat all_seen(const cv::Mat& m) {
    return {m.size(), CV_8U, cv::Scalar(255)};
}

double median(const cv::Mat& m) {
    std::vector<float> v(m.begin<float>(), m.end<float>());
    std::nth_element(v.begin(), v.begin() + std::ptrdiff_t(v.size() / 2), v.end());
    return double(v[v.size() / 2]);
}

StripMoment moment_of(const cv::Mat& picture, float parallax, float same = 1) {
    const auto all = [&](float v) { return cv::Mat(picture.size(), CV_32F, cv::Scalar(double(v))); };
    return strip_moment(picture, picture, {all(parallax), all(1), all(same), 1});
}

} // namespace

TEST_CASE("steps of parallax lie at edges of colour that brightness hardly shows") {
    constexpr int rows = 120, columns = 200, ground = 3, thing = 18, from = 90, to = 120;
    cv::RNG random(5);
    const cv::Mat detail = texture(rows, columns + ground, 6), bar = texture(rows, to - from, 7);
    // Brown ground and a bluish bar with a seventh of that detail, as a and b see them, with noise.
    const auto view = [&](int bar_from, int shift) {
        cv::Mat out(rows, columns, CV_8UC3), noise(rows, columns, CV_16SC3);
        for (int y = 0; y < rows; ++y)
            for (int x = 0; x < columns; ++x) {
                const bool on_bar = x >= bar_from && x < bar_from + to - from;
                const int level = (on_bar ? bar.at<std::uint8_t>(y, x - bar_from)
                                          : detail.at<std::uint8_t>(y, x + ground - shift)) /
                                  7;
                out.at<cv::Vec3b>(y, x) =
                    on_bar ? cv::Vec3b(std::uint8_t(85 + level), std::uint8_t(102 + level),
                                       std::uint8_t(118 + level))
                           : cv::Vec3b(std::uint8_t(120 + level), std::uint8_t(100 + level),
                                       std::uint8_t(80 + level));
            }
        random.fill(noise, cv::RNG::NORMAL, 0, 2);
        cv::add(out, noise, out, cv::noArray(), CV_8U);
        return out;
    };
    const cv::Mat a = view(from - thing, 0), b = view(from, ground);
    const StripMask whole = strip_mask(all_seen(brightness_of(a)));
    const auto wrong = [&](const StripMatch& match, int begin, int end) {
        int off = 0;
        for (int y = 10; y < rows - 10; ++y)
            for (int x = begin; x < end; ++x)
                off += std::abs(match.parallax.at<float>(y, x) -
                                float(x >= from && x < to ? thing : ground)) > 1.5f;
        return double(off) / ((rows - 20) * (end - begin));
    };
    StripSearch search;
    search.disparities = 32;
    const StripMatch plain = match_strip(brightness_of(a), brightness_of(b), whole, whole, search);
    search.to_edges = true;
    search.smoothing = 1;
    const StripMatch fine = match_strip(a, b, whole, whole, search);
    // To either side of the bar, what a does not see (before it) and what both see.
    CHECK(wrong(fine, from - 15, from + 8) < 0.02);
    CHECK(wrong(fine, to - 8, to + 15) < 0.02);
    CHECK(wrong(fine, from - 15, to + 15) < 0.1 * wrong(plain, from - 15, to + 15));
    CHECK(wrong(fine, 60, 70) < 0.02);
    CHECK(fine.trust > 0.9);
}

TEST_CASE("what a does not see beside a thing is told from it, though both have one colour") {
    constexpr int rows = 120, columns = 220, ground = 2, thing = 22, from = 100, to = 130;
    cv::RNG random(11);
    const cv::Mat detail = texture(rows, columns + ground, 12), bar = texture(rows, to - from, 13);
    const auto view = [&](int bar_from, int shift) { // grey, as a stone column before a stone wall
        cv::Mat grey(rows, columns, CV_8U), out, noise(rows, columns, CV_8UC3);
        for (int y = 0; y < rows; ++y)
            for (int x = 0; x < columns; ++x)
                grey.at<std::uint8_t>(y, x) =
                    std::uint8_t(100 + (x >= bar_from && x < bar_from + to - from
                                            ? bar.at<std::uint8_t>(y, x - bar_from)
                                            : detail.at<std::uint8_t>(y, x + ground - shift)) /
                                           5);
        cv::cvtColor(grey, out, cv::COLOR_GRAY2BGR);
        random.fill(noise, cv::RNG::NORMAL, 0, 2);
        cv::add(out, noise, out);
        return out;
    };
    const cv::Mat a = view(from - thing, 0), b = view(from, ground);
    const cv::Mat all(rows, columns, CV_8U, cv::Scalar(255));
    SemiGlobalMatch match = semi_global({a, all}, {b, all}, {-2, 32, 1});
    const cv::Rect beside(from - thing + ground, 10, thing - ground, rows - 20); // b alone sees it
    const auto share = [&](const cv::Mat& m) { return cv::countNonZero(m(beside)) / double(beside.area()); };
    CHECK(share(match.hidden) > 0.8);
    CHECK(share(match.known) < 0.25);
    int known = 0, wrong = 0, shown_wrong = 0;
    fill_unmatched(b, match.known, match.hidden, all, match.parallax);
    for (int y = 10; y < rows - 10; ++y)
        for (int x = 40; x < columns - 10; ++x) {
            const bool off =
                std::abs(match.parallax.at<float>(y, x) - float(x >= from && x < to ? thing : ground)) > 1.5f;
            shown_wrong += off;
            if (match.known.at<std::uint8_t>(y, x)) ++known, wrong += off;
        }
    CHECK(known > 0.7 * (rows - 20) * (columns - 50));
    CHECK(wrong < 0.02 * known);
    CHECK(shown_wrong < 0.05 * (rows - 20) * (columns - 50));
}

TEST_CASE(
    "what was not matched takes the parallax of what looks like it, hidden ground that of the farther") {
    constexpr int rows = 40, columns = 90;
    cv::Mat guide(rows, columns, CV_8UC3, cv::Scalar(60, 60, 60)),
        hidden(rows, columns, CV_8U, cv::Scalar(0));
    cv::Mat parallax(rows, columns, CV_32F, cv::Scalar(5)), known(rows, columns, CV_8U, cv::Scalar(255));
    guide.colRange(30, columns).setTo(cv::Scalar(120, 90, 60)); // ground, then two things of one colour
    parallax.colRange(30, 50).setTo(12);
    parallax.colRange(50, columns).setTo(20);
    const cv::Range of_ground(20, 30), of_thing(66, 72), between(46, 54);
    for (const cv::Range& r : {of_ground, of_thing, between})
        known.colRange(r).setTo(0), parallax.colRange(r).setTo(33);
    hidden.colRange(between).setTo(255);
    const cv::Mat all(rows, columns, CV_8U, cv::Scalar(255)), untouched = parallax.clone();
    fill_unmatched(guide, known, hidden, ~all, parallax);
    CHECK(cv::countNonZero(parallax != untouched) == 0);
    fill_unmatched(guide, known, hidden, all, parallax);
    CHECK(cv::countNonZero(cv::abs(parallax.colRange(of_ground) - 5) > 0.5) == 0);
    CHECK(cv::countNonZero(cv::abs(parallax.colRange(of_thing) - 20) > 0.5) == 0);
    CHECK(cv::countNonZero(cv::abs(parallax.colRange(between) - 12) > 0.5) == 0);
    // With nothing known within reach it stays.
    known.setTo(0);
    const cv::Mat before = parallax.clone();
    fill_unmatched(guide, known, hidden, all, parallax);
    CHECK(cv::countNonZero(parallax != before) == 0);
}

TEST_CASE("costs are added up along eight ways as plainly written, however many parallaxes are looked at") {
    constexpr int width = 43, height = 21, most = 48, little = 7, pad = kMatchPad / 2;
    constexpr int across = (width + kHeldPlaces - 1) / kHeldPlaces, stride = most + kMatchPad;
    cv::RNG random(3);
    std::vector<std::uint16_t> own;
    const std::vector<std::uint16_t> reach(across, most);
    std::vector<std::uint32_t> offset;
    int kept = 0;
    for (int block = 0; block < across; ++block) {
        own.push_back(std::uint16_t(kMatchLanes * (1 + random.uniform(0, 3))));
        offset.push_back(std::uint32_t(kept));
        kept += own.back() * kHeldPlaces;
    }
    const RowCounts counts{own.data(), reach.data(), offset.data()};
    const auto count = [&](int x) { return int(own[std::size_t(x / kHeldPlaces)]); };
    std::vector<std::uint8_t> costs(std::size_t(kept * height)), sums(costs.size()),
        held(std::size_t(across * most));
    for (auto& c : costs) c = std::uint8_t(random.uniform(0, 80));
    for (auto& h : held) h = std::uint8_t(random.uniform(0, 9));
    std::vector<MatchCost> much(std::size_t(width * height * 4));
    for (auto& m : much) m = MatchCost(random.uniform(20, 90));
    const auto much_of = [&](int x, int y, int way) { return much[std::size_t((y * 4 + way) * width + x)]; };
    // Plainly: what each place costs along one way after the other.
    using Place = std::vector<int>;
    std::vector<Place> all(std::size_t(width * height), Place(most, 0));
    for (const bool down : {true, false})
        for (int way = 0; way < 4; ++way) {
            std::vector<Place> along(all.size(), Place(most, kOutOfReach));
            for (int i = 0; i < width * height; ++i) {
                const int at = down ? i : width * height - 1 - i, x = at % width, y = at / width;
                const int from_x = way == 3 ? x + (down ? -1 : 1) : x + way - 1,
                          from_y = way == 3 ? y : y + (down ? -1 : 1);
                Place from(most, 0);
                if (from_x >= 0 && from_x < width && from_y >= 0 && from_y < height)
                    from = along[std::size_t(from_y * width + from_x)];
                const int least = *std::min_element(from.begin(), from.end());
                for (int k = 0; k < count(x); ++k) {
                    int cheapest = std::min(from[std::size_t(k)], least + much_of(x, y, way));
                    if (k > 0) cheapest = std::min(cheapest, from[std::size_t(k) - 1] + little);
                    if (k + 1 < most) cheapest = std::min(cheapest, from[std::size_t(k) + 1] + little);
                    const int own_cost = costs[std::size_t(y * kept) + std::size_t(counts.at(x) + k)] +
                                         held[std::size_t(x / kHeldPlaces * most + k)];
                    along[std::size_t(at)][std::size_t(k)] = cheapest - least + own_cost;
                    all[std::size_t(at)][std::size_t(k)] += cheapest - least + own_cost;
                }
            }
        }
    std::vector<float> best(std::size_t(width * height));
    for (const bool down : {true, false}) {
        std::vector<MatchCost> values[2][3], least[2], one[2], place(most);
        for (int n = 0; n < 2; ++n) {
            for (auto& v : values[n]) {
                v.assign(std::size_t((width + 2) * stride), kOutOfReach);
                for (int x = 0; x < width + 2; ++x)
                    std::fill_n(v.begin() + x * stride + pad, most, MatchCost(0));
            }
            least[n].assign(std::size_t(4 * (width + 2)), 0);
            one[n].assign(std::size_t(most + 2 * kMatchLanes), kOutOfReach);
        }
        for (int i = 0; i < height; ++i) {
            const int y = down ? i : height - 1 - i, from = i % 2, to = 1 - from;
            const auto rows = [&](int n) {
                return WayRows{{values[n][0].data(), values[n][1].data(), values[n][2].data()},
                               least[n].data()};
            };
            const MatchCost* const m = much.data() + std::ptrdiff_t(y) * 4 * width;
            const RowOfWays row{0,
                                width,
                                most,
                                counts,
                                costs.data() + std::ptrdiff_t(y) * kept,
                                held.data(),
                                sums.data() + std::ptrdiff_t(y) * kept,
                                rows(from),
                                rows(to),
                                {one[0].data() + kMatchLanes, one[1].data() + kMatchLanes},
                                place.data(),
                                {m, m + width, m + 2 * width, m + 3 * width},
                                little};
            if (down)
                add_row_forward(row);
            else
                add_row_back(row, best.data() + std::ptrdiff_t(y) * width);
        }
    }
    for (std::size_t i = 0; i < best.size(); ++i) {
        const Place& sum = all[i];
        const int x = int(i) % width, told = int(std::lround(best[i])),
                  cheapest = *std::min_element(sum.begin(), sum.begin() + count(x));
        REQUIRE(told < count(x));
        // Half of the ways is kept in steps of kSumUnit; a parabola may pass to the next parallax.
        const int about = std::min({sum[std::size_t(told)], told > 0 ? sum[std::size_t(told) - 1] : 0xffff,
                                    told + 1 < count(x) ? sum[std::size_t(told) + 1] : 0xffff});
        CHECK(about < cheapest + kSumUnit);
    }
}

TEST_CASE("nothing is matched where a camera does not look, and near things are found beside far ground") {
    constexpr int rows = 96, columns = 260, ground = 3, thing = 52, from = 150, to = 158, rim = 60;
    const cv::Mat detail = texture(rows, columns + 60, 21);
    const auto view = [&](int at, int shift) {
        cv::Mat grey(rows, columns, CV_8U), out;
        for (int y = 0; y < rows; ++y)
            for (int x = 0; x < columns; ++x)
                grey.at<std::uint8_t>(y, x) = x >= at && x < at + to - from
                                                  ? std::uint8_t(230 - detail.at<std::uint8_t>(y, x - at) / 8)
                                                  : detail.at<std::uint8_t>(y, x + 10 - shift);
        cv::cvtColor(grey, out, cv::COLOR_GRAY2BGR);
        return out;
    };
    SeenStrip a{view(from - thing, 0), cv::Mat(rows, columns, CV_8U, cv::Scalar(255))},
        b{view(from, ground), a.seen.clone()};
    b.seen.colRange(columns - rim, columns).setTo(0);
    b.seen.rowRange(0, 8).setTo(0);
    const SemiGlobalMatch match = semi_global(a, b, {-2, 62, 1});
    CHECK(cv::countNonZero(match.known.colRange(columns - rim + 2 * kHeldPlaces, columns)) == 0);
    const cv::Mat rod = match.parallax(cv::Rect(from + 1, 24, to - from - 2, rows - 32)),
                  far = match.parallax(cv::Rect(to + 12, 24, columns - rim - to - 14, rows - 32));
    CHECK(cv::countNonZero(cv::abs(rod - thing) > 1) < 0.05 * double(rod.total()));
    CHECK(cv::countNonZero(cv::abs(far - ground) > 1) < 0.02 * double(far.total()));
}

TEST_CASE("blocks are matched as a plain matcher of the same kind does, wherever the strip is cut") {
    // Ground that recedes behind a nearer thing, under noise; another exposure in one of them.
    constexpr int rows = 130, columns = 210, room = 40;
    cv::RNG random(GENERATE(2u, 9u));
    const int disparities = GENERATE(16, 48);
    const cv::Mat ground = texture(rows, columns + room, 21), thing = texture(60, 50, 22);
    const int least_shift = 1, far = disparities / 4, near = disparities / 2 + 3;
    cv::Mat a(rows, columns, CV_8U), b = a.clone();
    for (int y = 0; y < rows; ++y)
        for (int x = 0; x < columns; ++x) {
            const int shift = least_shift + far * y / rows;
            const bool before_a = y >= 30 && y < 90 && x >= 90 - near && x < 140 - near,
                       before_b = y >= 30 && y < 90 && x >= 90 && x < 140;
            a.at<std::uint8_t>(y, x) = before_a ? thing.at<std::uint8_t>(y - 30, x - 90 + near)
                                                : ground.at<std::uint8_t>(y, x + room / 2);
            b.at<std::uint8_t>(y, x) = before_b ? thing.at<std::uint8_t>(y - 30, x - 90)
                                                : ground.at<std::uint8_t>(y, x + room / 2 - shift);
        }
    for (cv::Mat* m : {&a, &b}) {
        cv::Mat noise(m->size(), CV_16S);
        random.fill(noise, cv::RNG::NORMAL, m == &b ? 4 : 0, 3);
        cv::add(*m, noise, *m, cv::noArray(), CV_8U);
    }
    const BlockMatch own = match_blocks(a, b, cv::Range(0, columns), {-2, disparities, false, 1});
    cv::Mat wide_a, wide_b, raw;
    cv::copyMakeBorder(a, wide_a, 0, 0, disparities, 2, cv::BORDER_REPLICATE);
    cv::copyMakeBorder(b, wide_b, 0, 0, disparities, 2, cv::BORDER_REPLICATE);
    cv::StereoSGBM::create(-2, disparities, 5, 150, 700, 2, 31, 4, 60, 2, cv::StereoSGBM::MODE_SGBM_3WAY)
        ->compute(wide_b, wide_a, raw);
    // Ours follows all rows from above, the plain one begins anew every so often: so they are held against
    // the truth, and against each other as far as that goes.
    int both = 0, alike = 0, told = 0, right = 0, plain_right = 0;
    for (int y = 0; y < rows; ++y)
        for (int x = disparities; x < columns; ++x) {
            const float parallax = own.parallax.at<float>(y, x),
                        plain = float(raw.at<std::int16_t>(y, x + disparities)) / 16;
            const bool known = own.known.at<std::uint8_t>(y, x), plain_known = plain > -3,
                       on_thing = y >= 30 && y < 90 && x >= 90 && x < 140;
            const auto truth = float(on_thing ? near : least_shift + far * y / rows);
            told += known;
            right += known && std::abs(parallax - truth) < 1;
            plain_right += plain_known && std::abs(plain - truth) < 1;
            both += known && plain_known;
            alike += known && plain_known && std::abs(parallax - plain) < 0.25f;
        }
    INFO(told << " told, " << right << " right; the plain one " << plain_right << "; both " << both
              << ", alike " << alike);
    CHECK(right > 0.985 * told);
    CHECK(right > 0.995 * plain_right);
    CHECK(alike > 0.98 * both);

    // A part of the columns is the same but for where its ways begin, and what goes round has no first row.
    const cv::Range part(70, 170);
    const BlockMatch cut = match_blocks(a, b, part, {-2, disparities, false, 1});
    REQUIRE(cut.parallax.cols == part.size());
    int off = 0;
    for (int y = 0; y < rows; ++y)
        for (int x = 20; x < part.size() - 20; ++x)
            off += std::abs(cut.parallax.at<float>(y, x) - own.parallax.at<float>(y, x + part.start)) > 0.25f;
    CHECK(off < 0.01 * rows * part.size());
    cv::Mat turned_a, turned_b; // the same strip, begun elsewhere
    cv::vconcat(a.rowRange(50, rows), a.rowRange(0, 50), turned_a);
    cv::vconcat(b.rowRange(50, rows), b.rowRange(0, 50), turned_b);
    const BlockMatch round = match_blocks(a, b, cv::Range(0, columns), {-2, disparities, true, 1}),
                     turned =
                         match_blocks(turned_a, turned_b, cv::Range(0, columns), {-2, disparities, true, 1});
    int elsewhere = 0;
    for (int y = 0; y < rows; ++y)
        for (int x = disparities; x < columns; ++x)
            elsewhere += std::abs(round.parallax.at<float>(y, x) -
                                  turned.parallax.at<float>((y + rows - 50) % rows, x)) > 0.25f;
    CHECK(elsewhere < 0.01 * rows * columns);
}

TEST_CASE("what repeats is not taken for its neighbour: bars of a window before a white sky") {
    constexpr int rows = 120, columns = 220, behind = 2, from = 60, to = 170, apart = 16, bar = 2;
    cv::RNG random(GENERATE(1u, 4u, 5u));
    cv::Mat wall(rows, columns + behind, CV_8U);
    random.fill(wall, cv::RNG::UNIFORM, 90, 150);
    cv::GaussianBlur(wall, wall, cv::Size(5, 5), 1.2);
    // Bars are about a pixel wide: each lens shows each piece of them lighter or darker than the other does.
    const auto view = [&](int shift, double gain) {
        cv::Mat pieces(rows / 12, columns / apart + 1, CV_8U), out(rows, columns, CV_8UC3),
            noise(rows, columns, CV_16SC3);
        random.fill(pieces, cv::RNG::UNIFORM, 40, 200);
        random.fill(noise, cv::RNG::NORMAL, 0, 3);
        for (int y = 0; y < rows; ++y)
            for (int x = 0; x < columns; ++x) {
                const int w = x - shift + behind, along = w - from;
                const bool pane = w >= from && w < to && y > 20 && y < 100;
                const int level = !pane                 ? wall.at<std::uint8_t>(y, w)
                                  : along % apart < bar ? pieces.at<std::uint8_t>(y / 12, along / apart)
                                                        : 250;
                out.at<cv::Vec3b>(y, x) = cv::Vec3b::all(std::uint8_t(level * gain));
            }
        cv::add(out, noise, out, cv::noArray(), CV_8U);
        return out;
    };
    const cv::Mat all(rows, columns, CV_8U, cv::Scalar(255));
    const SemiGlobalMatch match = semi_global({view(0, 1), all}, {view(behind, 0.9), all}, {-2, 48, 1});
    int wrong = 0, count = 0;
    for (int y = 10; y < rows - 10; ++y)
        for (int x = from; x < to + behind; ++x, ++count)
            wrong += std::abs(match.parallax.at<float>(y, x) - float(behind)) > 1.5f;
    CHECK(wrong < 0.1 * count); // a third and more without the match of strips half as large
}

TEST_CASE("parallax of a strip is found, trusted, and seen to be the same") {
    const cv::Mat a = texture(120, 160, 3), b = shifted(a, 9);
    const StripMask whole = strip_mask(all_seen(a));
    const StripMatch match = match_strip(a, b, whole, whole, {32});
    CHECK(match.trust == 1);
    const cv::Rect middle(60, 20, 70, 80);
    CHECK(median(match.parallax(middle)) == Approx(9).margin(0.1));
    CHECK(cv::mean(match.same(middle))[0] > 0.95);
    CHECK(cv::mean(match.correlation(middle))[0] > 0.95);

    // Rows that do not belong together: matched all the same, but neither trusted nor the same.
    cv::Mat off;
    cv::warpAffine(b, off, cv::Mat(cv::Matx23d(1, 0, 0, 0, 1, 5)), b.size(), cv::INTER_LINEAR,
                   cv::BORDER_REFLECT);
    const StripMatch wrong = match_strip(a, off, whole, whole, {32});
    CHECK(wrong.trust < 0.2);
    CHECK(cv::mean(wrong.same(middle))[0] < 0.4);
}

TEST_CASE("what lies past a lens's rim is not taken for detail: narrow strips are trusted as wide ones are") {
    cv::Mat a = texture(300, 60, 5), b = shifted(a, 2);
    cv::Mat a_seen = all_seen(a), b_seen = all_seen(b);
    a_seen.colRange(0, 8).setTo(0), b_seen.colRange(50, 60).setTo(0); // each ends on another side
    a.setTo(0, ~a_seen), b.setTo(0, ~b_seen);
    const StripMatch match = match_strip(a, b, strip_mask(a_seen), strip_mask(b_seen), {16});
    CHECK(match.trust == 1);
    CHECK(cv::mean(match.same.colRange(14, 46))[0] > 0.9);
    CHECK(cv::countNonZero(match.same.colRange(50, 60)) == 0); // where one does not look, nothing is
}

TEST_CASE("a ghost is told from what both show") {
    const cv::Mat a = texture(120, 160, 7);
    cv::Mat b = shifted(a, 6);
    cv::rectangle(b, cv::Rect(90, 50, 14, 20), cv::Scalar(255), cv::FILLED); // b alone sees it
    const StripMask whole = strip_mask(all_seen(a));
    const StripMatch match = match_strip(a, b, whole, whole, {16});
    CHECK(cv::mean(match.same(cv::Rect(92, 52, 10, 16)))[0] < 0.3);
    CHECK(cv::mean(match.same(cv::Rect(40, 20, 40, 80)))[0] > 0.9);
    CHECK(match.trust == 1);
}

TEST_CASE("where nothing belongs together, distances are not followed, however alike its surroundings") {
    const cv::Mat a = texture(140, 200, 11);
    cv::Mat b = shifted(a, 7);
    texture(60, 50, 12).copyTo(b(cv::Rect(90, 40, 50, 60))); // what a does not show at all
    const StripMask whole = strip_mask(all_seen(a));
    const StripMatch match = match_strip(a, b, whole, whole, {32});
    CHECK(match.trust > 0.5); // the rig is right for all that
    CHECK(cv::mean(match.correlation(cv::Rect(105, 55, 20, 30)))[0] < 0.2);
    CHECK(cv::mean(match.correlation(cv::Rect(30, 20, 30, 100)))[0] > 0.95);
    // The end of what both see is no reason for doubt.
    cv::Mat seen = all_seen(a);
    seen.colRange(0, 40).setTo(0);
    cv::Mat ends = a.clone();
    ends.setTo(0, ~seen);
    const cv::Mat plain = shifted(a, 7);
    const StripMatch narrow = match_strip(ends, plain, strip_mask(seen), whole, {32});
    CHECK(cv::mean(narrow.correlation(cv::Rect(49, 20, 8, 100)))[0] > 0.95);
}

TEST_CASE("beside the columns that are searched all is taken to be far, and compared as it lies") {
    const cv::Mat left = texture(120, 100, 3), middle = texture(120, 120, 4), right = texture(120, 100, 5);
    cv::Mat a, b, parts_a[] = {left, middle, right}, parts_b[] = {left, shifted(middle, 6), right};
    cv::hconcat(parts_a, 3, a);
    cv::hconcat(parts_b, 3, b);
    texture(120, 30, 9).copyTo(b.colRange(270, 300)); // and something that a does not show
    const StripMask whole = strip_mask(all_seen(a));
    StripSearch search;
    search.columns = cv::Range(100, 220);
    const StripMatch match = match_strip(a, b, whole, whole, search);
    CHECK(match.parallax.size() == a.size());
    CHECK(median(match.parallax.colRange(115, 210).clone()) == Approx(6).margin(0.3));
    CHECK(cv::countNonZero(match.parallax.colRange(0, 100)) == 0);
    CHECK(cv::countNonZero(match.parallax.colRange(220, 320)) == 0);
    CHECK(median(match.same.colRange(10, 90).clone()) > 0.95);
    CHECK(median(match.same.colRange(230, 260).clone()) > 0.95);
    CHECK(median(match.same.colRange(278, 296).clone()) < 0.05);
    CHECK(match.trust > 0.9); // of what was searched
    // Something large and even before something even: only its brightness tells.
    search.by_brightness = true;
    cv::Mat even_a = a.clone(), even_b = b.clone();
    even_a.colRange(230, 320).setTo(90);
    even_b.colRange(230, 320).setTo(140);
    CHECK(median(match_strip(even_a, even_b, whole, whole, search).same.colRange(260, 290).clone()) < 0.05);
    even_b.colRange(230, 320).setTo(100); // another exposure
    CHECK(median(match_strip(even_a, even_b, whole, whole, search).same.colRange(260, 290).clone()) > 0.95);
    search.columns = cv::Range(0, 0);
    const StripMatch none = match_strip(a, b, whole, whole, search);
    CHECK(cv::countNonZero(none.parallax) == 0);
    CHECK(none.trust < 0.9); // the middle does not lie on itself
}

TEST_CASE("smoothing along edges is the least-squares solution, one row after the other") {
    constexpr int n = 40;
    std::mt19937 random(2);
    std::uniform_real_distribution<float> value(0, 10);
    cv::Mat guide = texture(1, n, 4), values(1, n, CV_32F), confidence(1, n, CV_32F);
    Eigen::VectorXd weighed(n), share(n);
    for (int i = 0; i < n; ++i) {
        values.at<float>(0, i) = value(random);
        confidence.at<float>(0, i) = 0.1f + value(random) / 10;
        share[i] = double(confidence.at<float>(0, i));
        weighed[i] = double(values.at<float>(0, i)) * share[i];
    }
    double strength = 7;
    for (int round = 0; round < 3; ++round, strength /= 4) {
        Eigen::MatrixXd m = Eigen::MatrixXd::Identity(n, n);
        for (int i = 0; i + 1 < n; ++i) {
            const double link =
                strength *
                std::exp(-std::abs(double(guide.at<std::uint8_t>(0, i)) - guide.at<std::uint8_t>(0, i + 1)) /
                         5);
            m(i, i) += link, m(i + 1, i + 1) += link, m(i, i + 1) -= link, m(i + 1, i) -= link;
        }
        weighed = m.lu().solve(weighed).eval();
        share = m.lu().solve(share).eval();
    }
    smooth_along_edges(guide, values, confidence, 7, 5);
    for (int i = 0; i < n; ++i) {
        CHECK(double(values.at<float>(0, i)) == Approx(weighed[i] / share[i]).epsilon(1e-4));
        CHECK(double(confidence.at<float>(0, i)) == Approx(share[i]).epsilon(1e-4));
    }
}

TEST_CASE("smoothing does not pass over an edge of the guide, and fills what nothing is known of") {
    cv::Mat guide(40, 60, CV_8U, cv::Scalar(60)), values(40, 60, CV_32F, cv::Scalar(2)),
        confidence(40, 60, CV_32F, cv::Scalar(1));
    guide.colRange(30, 60).setTo(200);
    values.colRange(30, 60).setTo(9);
    const cv::Rect unknown(10, 10, 8, 8);
    values(unknown).setTo(50), confidence(unknown).setTo(1e-3);
    smooth_along_edges(guide, values, confidence, 20, 5);
    CHECK(values.at<float>(20, 29) == Approx(2).margin(0.02));
    CHECK(values.at<float>(20, 30) == Approx(9).margin(0.02));
    CHECK(values.at<float>(14, 14) == Approx(2).margin(0.3));
}

TEST_CASE("cameras that expose differently are matched by colour all the same") {
    constexpr int rows = 100, columns = 260, ground = 6;
    cv::Mat wall(rows, columns + ground, CV_8UC3);
    for (int c = 0; c < 3; ++c) {
        const cv::Mat channel = texture(rows, columns + ground, unsigned(40 + c)) / 8 + 150;
        cv::insertChannel(channel, wall, c);
    }
    const cv::Mat a = wall.colRange(ground, columns + ground).clone();
    cv::Mat b;
    cv::multiply(wall.colRange(0, columns), cv::Scalar(0.7, 0.75, 0.66), b); // half a stop and more
    cv::RNG random(44);
    for (const cv::Mat& m : {a, b}) {
        cv::Mat grain(m.size(), CV_8UC3), own = m;
        random.fill(grain, cv::RNG::NORMAL, 0, 6);
        cv::add(own, grain, own);
    }
    const StripMask whole = strip_mask(cv::Mat(rows, columns, CV_8U, cv::Scalar(255)));
    StripSearch search{32};
    search.to_edges = true, search.smoothing = 0.1;
    const StripMatch match = match_strip(a, b, whole, whole, search);
    const cv::Mat inner = match.parallax(cv::Rect(40, 4, columns - 50, rows - 8));
    // Nearly twice as much without colours that were made alike, of which order alone is left.
    CHECK(cv::countNonZero(cv::abs(inner - ground) > 0.5) / double(inner.total()) < 0.09);
}

TEST_CASE("what did not change since a moment before is kept, what did is matched anew") {
    constexpr int rows = 120, columns = 560, ground = 4, thing = 24, wide = 30;
    const int second = GENERATE(0, 250); // a thing moves, or two so far apart that each is matched by itself
    const cv::Mat detail = texture(rows, columns + 40, 31) / 3, moving = texture(rows, wide, 32) / 3 + 100;
    cv::RNG random(5);
    const auto view = [&](int at, int shift, double noise) {
        cv::Mat grey(rows, columns, CV_8U), out, grain(rows, columns, CV_8UC3);
        for (int y = 0; y < rows; ++y)
            for (int x = 0; x < columns; ++x)
                grey.at<std::uint8_t>(y, x) =
                    ((x >= at && x < at + wide) || (x >= at + second && x < at + second + wide)) && y > 40 &&
                            y < 90
                        ? moving.at<std::uint8_t>(y, (x - at) % std::max(wide, second))
                        : detail.at<std::uint8_t>(y, x + 10 - shift);
        cv::cvtColor(grey, out, cv::COLOR_GRAY2BGR);
        random.fill(grain, cv::RNG::NORMAL, 0, noise);
        cv::add(out, grain, out);
        return out;
    };
    const StripMask whole = strip_mask(cv::Mat(rows, columns, CV_8U, cv::Scalar(255)));
    StripSearch search{32};
    search.to_edges = true, search.smoothing = 0.1;
    const auto moment = [&](int at) { return std::pair(view(at - thing, 0, 1.5), view(at, ground, 1.5)); };
    const auto [a, b] = moment(120);
    const StripMoment before =
        strip_moment(brightness_of(a), brightness_of(b), match_strip(a, b, whole, whole, search));

    const auto [later_a, later_b] = moment(150);
    const StripUpdate update = changed_since(before, later_a, later_b);
    REQUIRE(update.before);
    CHECK(cv::countNonZero(update.of_b) < 0.5 * double(update.of_b.total()));
    const StripMatch anew = match_changed(later_a, later_b, whole, whole, search, update),
                     all = match_strip(later_a, later_b, whole, whole, search);
    cv::Mat of_before;
    before.parallax.convertTo(of_before, CV_32F, 1.0 / 64);
    CHECK(cv::countNonZero((anew.parallax != of_before) & ~update.of_b) == 0);
    const cv::Rect where(150, 42, wide, 46), was(122, 42, 24, 46), inner(40, 4, columns - 50, rows - 8);
    CHECK(cv::countNonZero(cv::abs(anew.parallax(where) - thing) > 1) < 0.05 * where.area());
    CHECK(cv::countNonZero(cv::abs(anew.parallax(was) - ground) > 1) < 0.1 * was.area());
    CHECK(cv::countNonZero(cv::abs(anew.parallax(where + cv::Point(second, 0)) - thing) > 1) <
          0.05 * where.area());
    const auto wrong = [&](const StripMatch& m) {
        cv::Mat truth(rows, columns, CV_32F, cv::Scalar(ground));
        truth(cv::Rect(150, 41, wide, 49)).setTo(thing);
        truth(cv::Rect(150 + second, 41, wide, 49)).setTo(thing);
        return cv::countNonZero(cv::abs(m.parallax(inner) - truth(inner)) > 1) / double(inner.area());
    };
    CHECK(wrong(anew) < wrong(all) + 0.005);
    CHECK(anew.trust > 0.9);

    const auto [still_a, still_b] = moment(120); // but for noise
    CHECK(cv::countNonZero(changed_since(before, still_a, still_b).of_b) == 0);
    const StripMatch kept =
        match_changed(still_a, still_b, whole, whole, search, changed_since(before, still_a, still_b));
    CHECK(cv::countNonZero(kept.parallax != of_before) == 0);
    CHECK(std::abs(cv::mean(kept.same)[0] - cv::mean(all.same)[0]) < 0.05);
    CHECK(cv::mean(kept.same)[0] > 0.5);
    const cv::Mat other = texture(rows, columns, 33);
    cv::Mat elsewhere;
    cv::cvtColor(other, elsewhere, cv::COLOR_GRAY2BGR);
    CHECK(!changed_since(before, elsewhere, elsewhere).before);
}

TEST_CASE("what differs about a place is the mean of a block, up to the strip's ends") {
    for (const cv::Size size : {cv::Size(36, 19), cv::Size(131, 40)}) {
        const cv::Mat now = texture(size.height, size.width, 9), then = texture(size.height, size.width, 10);
        cv::Mat off;
        cv::absdiff(now, then, off);
        cv::blur(off, off, cv::Size(5, 5));
        CHECK(cv::countNonZero(difference_about(now, then) != off) == 0);
    }
}

TEST_CASE("moments are brought together where pictures stood still, and only there") {
    const cv::Mat still = texture(30, 40, 9);
    const StripMoment now = moment_of(still, 4.0f, 0.6f), then = moment_of(still, 4.6f),
                      odd = moment_of(still, 12);
    const StripMatch both = steadied(std::vector<WeighedMoment>{{&then, 3}, {&now, 1}});
    CHECK(both.parallax.at<float>(10, 20) == Approx(4.45).margin(0.05));
    CHECK(both.same.at<float>(10, 20) == Approx((3 + 0.6) / 4));
    CHECK(both.trust == Approx(1));

    // One that is far off what the others say hardly counts.
    const StripMatch three = steadied(std::vector<WeighedMoment>{{&odd, 1}, {&then, 3}, {&now, 1}});
    CHECK(three.parallax.at<float>(10, 20) == Approx(4.5).margin(0.2));

    // Where parallax steps, a place is of one thing or the other: of what most moments say, not in between.
    const StripMoment far = moment_of(still, 4), near = moment_of(still, 12),
                      nearer = moment_of(still, 12.2f);
    for (const float share : {1.4f, 1.6f}) { // of 2.9 and 3.1
        const std::vector<WeighedMoment> seen = {{&far, share}, {&near, 1}, {&nearer, 0.5f}};
        for (const int column : {0, 20, 39}) // in the midst of vectors and where the last one ends
            CHECK(double(steadied(seen, true).parallax.at<float>(10, column)) ==
                  Approx(share < 1.5f ? 12.1 : 4.1).margin(0.2));
    }

    // Where the picture changed, its own counts alone; elsewhere nothing changes.
    StripMoment moved = now;
    moved.a = still.clone(), moved.b = still.clone();
    moved.a.colRange(0, 20) += 30, moved.b.colRange(0, 20) += 30;
    const StripMatch part = steadied(std::vector<WeighedMoment>{{&then, 3}, {&moved, 1}});
    CHECK(part.parallax.at<float>(10, 8) == Approx(4));
    CHECK(part.parallax.at<float>(10, 34) == Approx(4.45).margin(0.05));
}

TEST_CASE("moments are brought together side by side as one by one, on strips of any width") {
    const int columns = GENERATE(5, 16, 37);
    constexpr int rows = 6;
    const bool steps = GENERATE(false, true);
    cv::RNG random(3);
    const cv::Mat still = texture(rows, columns, 9);
    const auto any = [&](double least, double most) {
        cv::Mat m(rows, columns, CV_32F);
        random.fill(m, cv::RNG::UNIFORM, least, most);
        return m;
    };
    std::vector<StripMoment> moments;
    for (int m = 0; m < 5; ++m)
        moments.push_back(strip_moment(still, still, {any(0, 9), any(0, 1), any(0, 1), 1}));
    const double weights[] = {0.4, 1.1, 0.9, 0.5, 0.25};
    std::vector<WeighedMoment> weighed;
    for (std::size_t m = 0; m < moments.size(); ++m) weighed.push_back({&moments[m], float(weights[m])});
    const StripMatch got = steadied(weighed, steps);

    double off = 0, off_same = 0;
    for (int y = 0; y < rows; ++y)
        for (int x = 0; x < columns; ++x) {
            std::vector<std::pair<double, double>> values; // and their weights, from the least on
            double total = 0, same = 0, mean = 0;
            for (std::size_t m = 0; m < moments.size(); ++m) {
                const double v = moments[m].parallax.at<std::int16_t>(y, x) / StripMoment::kOfColumn;
                values.push_back({v, weights[m]});
                total += weights[m], mean += weights[m] * v;
                same += weights[m] * moments[m].same.at<std::uint8_t>(y, x) / 255;
            }
            std::sort(values.begin(), values.end());
            mean /= total;
            double below = 0;
            for (std::size_t i = 0; steps && below < total / 2; ++i)
                mean = values[i].first, below += values[i].second;
            for (int round = 0; round < 2; ++round) {
                double top = 0, low = 0;
                for (const auto& [v, w] : values) {
                    const double k = w / (1 + (v - mean) * (v - mean) / (0.7 * 0.7));
                    top += k * v, low += k;
                }
                mean = top / low;
            }
            off = std::max(off, std::abs(mean - double(got.parallax.at<float>(y, x))));
            off_same = std::max(off_same, std::abs(same / total - double(got.same.at<float>(y, x))));
        }
    INFO(columns << " columns, steps " << steps);
    CHECK(off < 1e-3);
    CHECK(off_same < 1e-5);
}

TEST_CASE("distances are followed side by side as one by one") {
    std::vector<Vec3> directions;
    for (int i = 0; i < 400; ++i)
        directions.push_back(Vec3(0.02 * (i % 20) - 0.2, 0.01 * (i / 20), 1).normalized());
    const Strip strip = strip_about({-0.06, 0, 0.01}, {0.06, 0, 0.01}, directions, 1, 0.05, 0.0044, 0.0075);
    REQUIRE(strip.width > 60);
    // Things at several distances, some infinitely far, with a step between them.
    StripMatch says{cv::Mat(strip.height, strip.width, CV_32F), {}, {}, 1};
    says.correlation = says.parallax.clone(), says.same = says.parallax.clone();
    for (int y = 0; y < strip.height; ++y)
        for (int x = 0; x < strip.width; ++x) {
            const bool near = x > strip.width / 2;
            says.parallax.at<float>(y, x) = y < 12 ? 0.0f
                                            : near ? 9 + 0.01f * float(x)
                                                   : 3 + 0.02f * float(y);
            says.correlation.at<float>(y, x) = near ? 0.25f : 0.75f;
            says.same.at<float>(y, x) = float(y) / float(strip.height);
        }
    StripNodes nodes;
    for (std::size_t i = 0; i < directions.size(); ++i) nodes.add(strip, int(i), directions[i], 1.5, {});
    const std::size_t first = 3; // neither the begin nor the count is one of whole vectors
    const std::vector<float> from(directions.size() - first, 0.25f);
    std::vector<DistanceSample> told(from.size());
    follow_distances(strip, says, nodes, first, from, 1.5, told);
    float nearest = 0;
    int far = 0;
    for (std::size_t i = 0; i < told.size(); ++i) {
        const DistanceSample one = follow_distance(strip, says, nodes, first + i, from[i], 1.5);
        // Beside the step rounds run out before it settles, and rounding tells.
        CHECK(double(told[i].inverse_m) == Approx(double(one.inverse_m)).margin(2e-4));
        CHECK(double(told[i].correlation) == Approx(double(one.correlation)).margin(2e-3));
        CHECK(double(told[i].same) == Approx(double(one.same)).margin(2e-3));
        nearest = std::max(nearest, told[i].inverse_m), far += told[i].inverse_m == 0;
    }
    CHECK(nearest > 0.3);
    CHECK(far > 5);
    CHECK(far < 200);
}

TEST_CASE("weights are narrowed where pictures differ, and their sum stays") {
    const int feather_power = power_for_feather(10, 4);
    CHECK(feather_power > 1);
    CHECK(power_for_feather(4, 4) == 1);
    for (const double away : {0.0, 1.0, 2.0, 3.0, 6.0}) {
        const auto wide = float(blend_weight(40, 20 - away, 20, 4, 10)),
                   narrow = float(blend_weight(40, 20 - away, 20, 4, 4));
        std::vector<float> w = {1 / (1 + wide), wide / (1 + wide)};
        std::vector<float> agreement = w;
        narrow_weights(agreement, 1, feather_power);
        CHECK(agreement == w);
        narrow_weights(w, 0, feather_power);
        CHECK(w[0] + w[1] == Approx(1));
        CHECK(w[1] / w[0] ==
              Approx(narrow).margin(0.12)); // about that of a transition as wide as the feather
    }
    std::vector<float> fading = {0.3f, 0.1f}; // where the last lens fades at its reach
    narrow_weights(fading, 0.5f, feather_power);
    CHECK(fading[0] + fading[1] == Approx(0.4));
    CHECK(fading[1] < 0.1f);
    std::vector<float> nobody = {0, 0};
    narrow_weights(nobody, 0, feather_power);
    CHECK(nobody == std::vector<float>{0, 0});
}
