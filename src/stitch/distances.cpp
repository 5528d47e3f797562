#include "stitch/distances.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "base/smooth.h"
#include "picture/convert_simd.h"
#include "stitch/line_field.h"

#include <opencv2/calib3d.hpp>
#include <opencv2/imgproc.hpp>

#include <cmath>

namespace porb {

namespace {

constexpr int kFieldSide = 576;           ///< cells of about 0.3 degrees
constexpr double kStripStep_rad = 0.0044; ///< a quarter of a degree
constexpr double kMargin_rad = 0.02;      ///< of strips, beside the parallax
constexpr int kRounds = 5;                ///< until direction from the centre and distance agree
constexpr int kSubPixel = 16;             ///< of the matcher's disparities
constexpr int kLeastDisparity = -2;       ///< a rig is never solved quite
constexpr double kSmallPair = 0.25;       ///< of the largest pair's directions
constexpr double kShapeClear_deg = 4;
constexpr int kRoundRows = 24, kSurroundings = 15;
constexpr double kNoTrust = 0.7,
                 kFullTrust = 0.8; ///< correlation of what was matched: 0.85 and more under a solved rig
constexpr int kAbout = 25;         ///< places: about six degrees
constexpr float kEven = 12;        ///< grey levels squared, of noise and coding
constexpr float kUnlike = 0.1f, kAlike = 0.4f;   ///< that correlation about one place
constexpr int kBorder = 3;                       ///< cells
constexpr int kStillBlock = 5, kStillLevels = 3; ///< grey levels that noise and coding leave
constexpr float kLeastShift = 1e-6f;             ///< radians: less is infinitely far
constexpr int kBlock = 5, kSpeckle = 60, kWindow = 7;

/// Where one camera sees each place of a strip, as OpenCV's remap wants it, and whether it does (255).
struct StripMap {
    cv::Mat place, fraction, seen;
};
StripMap map_strip(const Strip& strip, const Camera& camera, int level) {
    const LensMap map(camera.lens);
    const Mat3 from_rig = rotation_of(camera.pose.turn).transpose();
    cv::Mat u(strip.height, strip.width, CV_32F), v(strip.height, strip.width, CV_32F);
    StripMap out;
    out.seen.create(strip.height, strip.width, CV_8U);
    parallel_ranges(strip.height, 8, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < strip.width; ++x) {
                const Vec2 px = map.project_anywhere(from_rig * strip.direction(x + 0.5, y + 0.5));
                const bool seen = map.clearance(px) > (2 << level);
                u.at<float>(y, x) = seen ? float(px.x() / (1 << level) - 0.5) : -9.0f;
                v.at<float>(y, x) = seen ? float(px.y() / (1 << level) - 0.5) : -9.0f;
                out.seen.at<std::uint8_t>(y, x) = seen ? 255 : 0;
            }
    });
    cv::convertMaps(u, v, out.place, out.fraction, CV_16SC2);
    return out;
}

/// A source's brightness as bytes, toned (its falloff left out: neighbours in a strip have nearly the same).
cv::Mat bytes_of(const Picture& source, const CameraTone& tone) {
    cv::Mat out(source.height(), source.width(), CV_8U);
    const float scale = (tone.scale[0] + 2 * tone.scale[1] + tone.scale[2]) / 4;
    parallel_ranges(source.height(), 32, [&](int begin, int end) {
        std::vector<float> row(std::size_t(source.width()) * 4);
        for (int y = begin; y < end; ++y) {
            simd::floats_from_halves(source.row(y), row.data(), row.size());
            std::uint8_t* to = out.ptr<std::uint8_t>(y);
            for (int x = 0; x < source.width(); ++x) {
                const float* p = row.data() + 4 * std::size_t(x);
                const float e = (0.25f * p[0] + 0.5f * p[1] + 0.25f * p[2] + kCurveFoot) * scale - kCurveFoot;
                to[x] = std::uint8_t(std::clamp(e, 0.0f, 1.0f) * 255 + 0.5f);
            }
        }
    });
    return out;
}

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

struct Matched {
    cv::Mat parallax;
    cv::Mat alike;    ///< 0 to 1 by place: whether what was matched looks alike thereabouts
    double trust = 0; ///< the same of the whole
};

/// What b sees against what a sees where it was matched to, both less their surroundings, since bright floors
/// and dark ceilings are alike under any rig: their correlation over the whole, and about each place.
struct Agreement {
    double whole = 1;
    cv::Mat about; ///< 32-bit
};
Agreement agreement(const cv::Mat& a, const cv::Mat& b, const cv::Mat& parallax, const cv::Mat& known) {
    const auto detail = [](const cv::Mat& m) {
        cv::Mat around, out;
        cv::blur(m, around, cv::Size(kSurroundings, kSurroundings));
        cv::subtract(m, around, out, cv::noArray(), CV_16S);
        return out;
    };
    const cv::Mat da = detail(a), db = detail(b);
    const cv::Size half(b.cols / 2, b.rows / 2); // every second place both ways tells as much
    cv::Mat aa(half, CV_32F), bb(half, CV_32F), ab(half, CV_32F);
    double saa = 0, sbb = 0, sab = 0;
    for (int y = 0; y < half.height; ++y) {
        const std::uint8_t* k = known.ptr<std::uint8_t>(2 * y);
        const float* p = parallax.ptr<float>(2 * y);
        const std::int16_t *ra = da.ptr<std::int16_t>(2 * y), *rb = db.ptr<std::int16_t>(2 * y);
        float *taa = aa.ptr<float>(y), *tbb = bb.ptr<float>(y), *tab = ab.ptr<float>(y);
        for (int x = 0; x < half.width; ++x) {
            float va = 0, vb = 0;
            if (k[2 * x]) va = ra[std::clamp(2 * x - cvRound(p[2 * x]), 0, b.cols - 1)], vb = rb[2 * x];
            taa[x] = va * va, tbb[x] = vb * vb, tab[x] = va * vb;
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
    cv::resize(both, out.about, b.size(), 0, 0, cv::INTER_LINEAR);
    return out;
}

/// Parallax in strip columns, by b's places, and how far it is to be trusted, 0 to 1: under a rig that was
/// not solved, rows of the two pictures do not belong together, and what was matched does not look alike.
/// Semi-global matching (Hirschmueller 2008). A `round` strip goes all the way about the baseline.
Matched match_strip(const cv::Mat& a, const cv::Mat& b, const cv::Mat& a_seen, const cv::Mat& b_seen,
                    int disparities, bool round, double smoothness) {
    // Things that b sees at a column a sees up to `disparities` before it: room for those at the edge.
    cv::Mat wide_a, wide_b, raw;
    cv::copyMakeBorder(a, wide_a, 0, 0, disparities, -kLeastDisparity, cv::BORDER_REPLICATE);
    cv::copyMakeBorder(b, wide_b, 0, 0, disparities, -kLeastDisparity, cv::BORDER_REPLICATE);
    if (round) { // rows go on at the other end
        cv::copyMakeBorder(wide_a, wide_a, kRoundRows, kRoundRows, 0, 0, cv::BORDER_WRAP);
        cv::copyMakeBorder(wide_b, wide_b, kRoundRows, kRoundRows, 0, 0, cv::BORDER_WRAP);
    }
    const int little = int(6 * kBlock * kBlock * smoothness), much = int(28 * kBlock * kBlock * smoothness);
    const auto matcher =
        cv::StereoSGBM::create(kLeastDisparity, disparities, kBlock, little, std::max(little + 1, much), 2,
                               31, 4, kSpeckle, 2, cv::StereoSGBM::MODE_SGBM_3WAY);
    matcher->compute(wide_b, wide_a, raw);
    raw = raw(cv::Rect(disparities, round ? kRoundRows : 0, a.cols, a.rows)).clone();
    cv::Mat known = raw > (kLeastDisparity - 1) * kSubPixel;
    known &= b_seen;
    cv::Mat parallax;
    raw.convertTo(parallax, CV_32F, 1.0 / kSubPixel);
    for (int y = 0; y < parallax.rows; ++y) // where a does not look, nothing was matched
        for (int x = 0; x < parallax.cols; ++x)
            if (known.at<std::uint8_t>(y, x)) {
                const int from = int(std::lround(float(x) - parallax.at<float>(y, x)));
                if (from < 0 || from >= a.cols || !a_seen.at<std::uint8_t>(y, from))
                    known.at<std::uint8_t>(y, x) = 0;
            }
    const Agreement agrees = agreement(a, b, parallax, known);
    fill_farther(parallax, known);
    cv::medianBlur(parallax, parallax, 5);
    cv::GaussianBlur(parallax, parallax, cv::Size(kWindow, kWindow), 1.2);
    Matched out{parallax, {}, std::clamp((agrees.whole - kNoTrust) / (kFullTrust - kNoTrust), 0.0, 1.0)};
    agrees.about.convertTo(out.alike, CV_32F, 1 / (kAlike - kUnlike), -kUnlike / (kAlike - kUnlike));
    out.alike = cv::min(cv::max(out.alike, 0.0), 1.0);
    return out;
}

float bilinear(const cv::Mat& m, float x, float y) {
    const float cx = std::clamp(x - 0.5f, 0.0f, float(m.cols - 1)),
                cy = std::clamp(y - 0.5f, 0.0f, float(m.rows - 1));
    const int ix = std::min(int(cx), m.cols - 2), iy = std::min(int(cy), m.rows - 2);
    const float fx = cx - float(ix), fy = cy - float(iy);
    const float *p = m.ptr<float>(iy) + ix, *q = m.ptr<float>(iy + 1) + ix;
    const float top = p[0] + fx * (p[1] - p[0]), low = q[0] + fx * (q[1] - q[0]);
    return top + fy * (low - top);
}

} // namespace

namespace {
std::size_t line_cell(const Vec3& direction) {
    const Vec2 p = octahedral_place(direction) * SeamLines::kSide;
    const auto whole = [](double v) { return std::size_t(std::clamp(int(v), 0, SeamLines::kSide - 1)); };
    return whole(p.y()) * SeamLines::kSide + whole(p.x());
}
} // namespace

struct SeamZones::Impl {
    struct Node {
        std::int32_t strip = -1; ///< -1: not near a seam
        float share = 0;         ///< of the found distance, the rest the agree distance's
        /// Where b sees the direction on the strip at inverse distance rho: x[0] + (x[1] + x[2] rho) rho. The
        /// place bends so little that a parabola through three distances is it.
        float x[3] = {}, y[3] = {};
        float along_b = 0; ///< of the direction, metres: b's entrance pupil projected on it
    };
    struct Pair {
        Strip strip;
        StripMap a, b;
        std::size_t a_source, b_source; ///< into cameras
        int disparities = 16;
        double smoothness = 1;
        float strength = 1, agree = 0; ///< 1/m
    };
    double agree = 0, nearest = 1;
    std::vector<Node> nodes;
    std::vector<Pair> pairs;
    std::vector<int> borders; ///< nodes near others that belong to another pair
    std::vector<BlendPlan::PlanCamera> cameras;

    static Vec3 direction(int i) {
        return octahedral_direction(
            {(i % kFieldSide + 0.5) / kFieldSide, (i / kFieldSide + 0.5) / kFieldSide});
    }
};

namespace {
/// Where many lenses see nearly alike (straight up in a ring, say) every pair has a few directions. They are
/// given to the pairs that have many, since each pair costs time.
template <class Zones>
void give_small_pairs_away(const Coverage& coverage, const Zones& zones,
                           std::map<std::pair<int, int>, std::vector<int>>& by_pair) {
    std::size_t largest = 0;
    for (const auto& [pair, list] : by_pair) largest = std::max(largest, list.size());
    std::vector<int> homeless;
    for (auto it = by_pair.begin(); it != by_pair.end();) {
        if (double(it->second.size()) >= kSmallPair * double(largest)) {
            ++it;
            continue;
        }
        homeless.insert(homeless.end(), it->second.begin(), it->second.end());
        it = by_pair.erase(it);
    }
    for (const int i : homeless) {
        const auto inside = coverage.inside_deg(zones.direction(i));
        std::vector<int>* best = nullptr;
        double most = 0;
        for (auto& [pair, list] : by_pair)
            if (const double both =
                    std::min(inside[std::size_t(pair.first)], inside[std::size_t(pair.second)]);
                both > most)
                most = both, best = &list;
        if (best) best->push_back(i);
    }
}
} // namespace

SeamZones::SeamZones(SeamZones&&) noexcept = default;
SeamZones::~SeamZones() = default;
const std::vector<BlendPlan::PlanCamera>& SeamZones::cameras() const {
    return impl_->cameras;
}

namespace {
/// Nodes within kBorder cells of one of another pair: their pairs tell distances a little apart.
template <class Nodes>
std::vector<int> pair_borders(const Nodes& nodes) {
    std::vector<int> out;
    for (int y = 0; y < kFieldSide; ++y)
        for (int x = 0; x < kFieldSide; ++x) {
            const int own = nodes[std::size_t(y) * kFieldSide + std::size_t(x)].strip;
            bool other = false;
            for (int j = std::max(0, y - kBorder);
                 own >= 0 && !other && j <= std::min(kFieldSide - 1, y + kBorder); ++j)
                for (int i = std::max(0, x - kBorder); i <= std::min(kFieldSide - 1, x + kBorder); ++i) {
                    const int strip = nodes[std::size_t(j) * kFieldSide + std::size_t(i)].strip;
                    other = other || (strip >= 0 && strip != own);
                }
            if (other) out.push_back(y * kFieldSide + x);
        }
    return out;
}

/// Those nodes take the mean of what lies about them, so that nothing breaks where one pair hands over to the
/// next.
void smooth_borders(SphereGrid& field, const std::vector<int>& borders) {
    for (int pass = 0; pass < 2; ++pass) {
        field.close_edges();
        const SphereGrid before = field;
        for (const int i : borders) {
            const int x = i % kFieldSide, y = i / kFieldSide;
            float sum = 0;
            int n = 0;
            for (int j = std::max(-1, y - kBorder); j <= std::min(kFieldSide, y + kBorder); ++j)
                for (int k = std::max(-1, x - kBorder); k <= std::min(kFieldSide, x + kBorder); ++k, ++n)
                    sum += *before.cell(k, j);
            *field.cell(x, y) = sum / float(n);
        }
    }
}
} // namespace

SeamZones::SeamZones(const PlanKey& shot_key) : impl_(std::make_unique<Impl>()) {
    Impl& me = *impl_;
    const FlowSettings& settings = shot_key.flow;
    PlanKey key = shot_key;
    key.orientation = {};
    key.row_turn = Vec3(0, 0, 0);
    me.agree = key.agree_distance_m > 0 ? 1 / key.agree_distance_m : 0;
    me.nearest = 1 / settings.nearest_m;
    const Coverage coverage(key);
    const auto lines = key.lines->keys.empty() ? std::nullopt : std::optional(lines_ever(*key.lines));
    constexpr int n = kFieldSide * kFieldSide;
    me.nodes.resize(std::size_t(n));
    std::vector<std::pair<std::int16_t, std::int16_t>> who(std::size_t(n), {-1, -1});
    parallel_ranges(n, 1024, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const auto inside = coverage.inside_deg(me.direction(i));
            int best = -1, second = -1;
            double away = 0;
            if (lines) { // near where one passes at any time
                const auto& met = lines->who[line_cell(me.direction(i))];
                best = met[0], second = met[1];
                if (best < 0 || inside[std::size_t(best)] <= 0 || inside[std::size_t(second)] <= 0) continue;
                away = 2 * lines->away_deg.at(me.direction(i));
            } else {
                for (int c = 0; c < int(inside.size()); ++c) {
                    const double v = inside[std::size_t(c)];
                    if (v <= 0) continue;
                    if (best < 0 || v > inside[std::size_t(best)])
                        second = best, best = c;
                    else if (second < 0 || v > inside[std::size_t(second)])
                        second = c;
                }
                if (second < 0) continue;
                away = inside[std::size_t(best)] - inside[std::size_t(second)];
            }
            const SeamFlow* seam = find_seam(settings, key.cameras[std::size_t(best)].camera,
                                             key.cameras[std::size_t(second)].camera);
            const double zone = seam ? seam->zone_deg : settings.zone_deg,
                         edge = std::min(inside[std::size_t(best)], inside[std::size_t(second)]);
            // All of the found distance within a third of the zone, none at its end, nor where a lens ends.
            // And beside a cut-out or restore not at all: there the two lenses show different things.
            const double share = smooth(1.5 * (1 - away / zone)) * smooth(edge / 2) *
                                 smooth(coverage.clear_of_shapes_deg(me.direction(i)) / kShapeClear_deg);
            if (share <= 0) continue;
            me.nodes[std::size_t(i)].share = float(share);
            who[std::size_t(i)] = {std::int16_t(std::min(best, second)),
                                   std::int16_t(std::max(best, second))};
        }
    });
    std::map<std::pair<int, int>, std::vector<int>> by_pair;
    for (int i = 0; i < n; ++i)
        if (who[std::size_t(i)].first >= 0) by_pair[who[std::size_t(i)]].push_back(i);
    give_small_pairs_away(coverage, me, by_pair);
    const auto source_of = [&](std::size_t camera) {
        for (std::size_t s = 0; s < me.cameras.size(); ++s)
            if (me.cameras[s].index == camera) return s;
        int level = 0;
        while (find_camera(key.rig, key.cameras[camera].camera)->lens.focal_px / (1 << (level + 1)) *
                   kStripStep_rad >=
               0.9)
            ++level;
        me.cameras.push_back({camera, level});
        return me.cameras.size() - 1;
    };
    for (const auto& [pair, list] : by_pair) {
        const std::size_t a = index_of(key.rig, key.cameras[std::size_t(pair.first)].camera),
                          b = index_of(key.rig, key.cameras[std::size_t(pair.second)].camera);
        std::vector<Vec3> directions;
        for (const int i : list) directions.push_back(me.direction(i));
        const double most =
            (key.rig.cameras[a].pose.position_m - key.rig.cameras[b].pose.position_m).norm() * me.nearest;
        Impl::Pair p;
        p.strip = strip_about(key.rig, a, b, directions, most + kMargin_rad, kStripStep_rad);
        if (p.strip.width < 32 || p.strip.height < 16) continue; // no baseline, no parallax
        const SeamFlow* seam = find_seam(settings, key.cameras[std::size_t(pair.first)].camera,
                                         key.cameras[std::size_t(pair.second)].camera);
        p.smoothness = seam ? seam->smoothness : settings.smoothness;
        p.strength = seam ? float(seam->strength) : 1;
        p.agree = float(me.agree);
        if (seam && seam->agree_distance_m)
            p.agree = *seam->agree_distance_m > 0 ? float(1 / *seam->agree_distance_m) : 0;
        p.disparities = std::max(16, int(std::ceil(most / kStripStep_rad / 16)) * 16);
        p.a_source = source_of(std::size_t(pair.first));
        p.b_source = source_of(std::size_t(pair.second));
        p.a = map_strip(p.strip, key.rig.cameras[a], me.cameras[p.a_source].level);
        p.b = map_strip(p.strip, key.rig.cameras[b], me.cameras[p.b_source].level);
        for (const int i : list) {
            Impl::Node& node = me.nodes[std::size_t(i)];
            node.strip = std::int32_t(me.pairs.size());
            const Vec3 w = me.direction(i);
            const double most_inverse = 1.5 * me.nearest;
            const auto at = [&](double rho) { return p.strip.place((w - rho * p.strip.b_m).normalized()); };
            const Vec2 far = at(0), mid = (at(most_inverse / 2) - far) * 2 / most_inverse,
                       near = (at(most_inverse) - far) / most_inverse;
            const Vec2 second = (near - mid) * 2 / most_inverse, slope = mid - second * (most_inverse / 2);
            for (int k = 0; k < 2; ++k) {
                float* to = k == 0 ? node.x : node.y;
                to[0] = float(far[k]), to[1] = float(slope[k]), to[2] = float(second[k]);
            }
            node.along_b = float(w.dot(p.strip.b_m));
        }
        me.pairs.push_back(std::move(p));
    }
    me.borders = pair_borders(me.nodes);
}

struct SeamZones::Glimpse {
    struct Seen {
        Matched matched;
        cv::Mat a, b; ///< the strip's pictures
    };
    std::vector<Seen> pairs;
};

SeamZones::GlimpsePtr SeamZones::glimpse(std::span<const Picture> sources,
                                         std::span<const CameraTone> tones) const {
    const Impl& me = *impl_;
    auto out = std::make_shared<Glimpse>();
    out->pairs.resize(me.pairs.size());
    std::vector<cv::Mat> seen;
    for (std::size_t c = 0; c < sources.size(); ++c) seen.push_back(bytes_of(sources[c], tones[c]));
    parallel_ranges(int(me.pairs.size()), 1, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const Impl::Pair& p = me.pairs[std::size_t(i)];
            Glimpse::Seen& mine = out->pairs[std::size_t(i)];
            cv::remap(seen[p.a_source], mine.a, p.a.place, p.a.fraction, cv::INTER_LINEAR);
            cv::remap(seen[p.b_source], mine.b, p.b.place, p.b.fraction, cv::INTER_LINEAR);
            mine.matched = match_strip(mine.a, mine.b, p.a.seen, p.b.seen, p.disparities,
                                       p.strip.height * p.strip.step > 2 * kPi - p.strip.step, p.smoothness);
        }
    });
    return out;
}

namespace {
/// 255 where two moments of a strip's picture look alike.
cv::Mat stood_still(const cv::Mat& now, const cv::Mat& before) {
    cv::Mat off, mean;
    cv::absdiff(now, before, off);
    cv::blur(off, mean, cv::Size(kStillBlock, kStillBlock));
    return mean <= kStillLevels;
}

/// The parallax of the latest moment, steadied by those before it as far back as both pictures stood still:
/// the mean without the least and the largest once there are enough.
template <class Seen>
cv::Mat steadied(const std::vector<const Seen*>& moments) {
    const Seen& now = *moments[0];
    cv::Mat out = now.matched.parallax.clone();
    if (moments.size() < 2) return out;
    std::vector<cv::Mat> a_still, b_still;
    for (std::size_t m = 1; m < moments.size(); ++m) {
        a_still.push_back(stood_still(now.a, moments[m]->a));
        b_still.push_back(stood_still(now.b, moments[m]->b));
    }
    for (int y = 0; y < out.rows; ++y)
        for (int x = 0; x < out.cols; ++x) {
            float values[SeamZones::kMoments];
            const float own = now.matched.parallax.template at<float>(y, x);
            const int from = std::clamp(int(std::lround(float(x) - own)), 0, out.cols - 1);
            std::size_t n = 0;
            values[n++] = own;
            while (n < moments.size() && b_still[n - 1].at<std::uint8_t>(y, x) &&
                   a_still[n - 1].at<std::uint8_t>(y, from)) {
                values[n] = moments[n]->matched.parallax.template at<float>(y, x);
                ++n;
            }
            float sum = 0, least = own, largest = own;
            for (std::size_t i = 0; i < n; ++i) {
                sum += values[i];
                least = std::min(least, values[i]), largest = std::max(largest, values[i]);
            }
            out.at<float>(y, x) = n < 3 ? sum / float(n) : (sum - least - largest) / float(n - 2);
        }
    return out;
}
} // namespace

/// What the moments together say of one pair.
struct SeamZones::Told {
    cv::Mat parallax, alike;
    double trust = 0;
};

std::vector<SeamZones::Told> SeamZones::told(std::span<const GlimpsePtr> glimpses) const {
    std::vector<Told> out(impl_->pairs.size());
    parallel_ranges(int(out.size()), 1, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            Told& mine = out[std::size_t(i)];
            std::vector<const Glimpse::Seen*> moments;
            for (const GlimpsePtr& g : glimpses) {
                const Glimpse::Seen& seen = g->pairs[std::size_t(i)];
                moments.push_back(&seen);
                mine.trust += seen.matched.trust / double(glimpses.size());
                if (mine.alike.empty())
                    mine.alike = seen.matched.alike.clone();
                else
                    mine.alike += seen.matched.alike;
            }
            mine.alike *= 1.0 / double(glimpses.size());
            mine.parallax = steadied(moments);
        }
    });
    return out;
}

SphereGrid SeamZones::confidence(std::span<const GlimpsePtr> glimpses) const {
    const Impl& me = *impl_;
    SphereGrid out(kFieldSide, 1, -1);
    const std::vector<Told> pairs = told(glimpses);
    for (int i = 0; i < int(me.nodes.size()); ++i)
        if (const Impl::Node& node = me.nodes[std::size_t(i)]; node.strip >= 0) {
            const Told& pair = pairs[std::size_t(node.strip)];
            *out.cell(i % kFieldSide, i / kFieldSide) =
                float(pair.trust) * bilinear(pair.alike, node.x[0], node.y[0]);
        }
    out.close_edges();
    return out;
}

SphereGrid SeamZones::field(std::span<const GlimpsePtr> glimpses, double strength) const {
    const Impl& me = *impl_;
    SphereGrid field(kFieldSide, 1, float(me.agree));
    const std::vector<Told> pairs = told(glimpses);
    const auto agree = float(me.agree), most = float(1.5 * me.nearest);
    parallel_ranges(int(me.nodes.size()), 2048, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const Impl::Node& node = me.nodes[std::size_t(i)];
            if (node.strip < 0) continue;
            const Impl::Pair& pair = me.pairs[std::size_t(node.strip)];
            const Told& says = pairs[std::size_t(node.strip)];
            float& to = *field.cell(i % kFieldSide, i / kFieldSide);
            to = agree + node.share * (pair.agree - agree);
            const float share = float(strength * says.trust) * pair.strength * node.share;
            if (share <= 0) continue;
            const Strip& strip = pair.strip;
            const auto step = float(strip.step), first = float(strip.first_alpha),
                       base = float(strip.baseline_m());
            const auto b2 = float(strip.b_m.squaredNorm());
            float rho = agree, x = 0, y = 0;
            for (int round = 0; round < kRounds; ++round) {
                x = node.x[0] + (node.x[1] + node.x[2] * rho) * rho;
                y = node.y[0] + (node.y[1] + node.y[2] * rho) * rho;
                const float shift = step * bilinear(says.parallax, x, y);
                float next = 0;
                if (shift > kLeastShift) {
                    // As far from b as the triangle of a, b and the thing says, and so from the centre.
                    const float far =
                        base * std::sin(std::max(0.0f, first + x * step - shift)) / std::sin(shift);
                    const float under = node.along_b * node.along_b + far * far - b2;
                    const float from_centre = node.along_b + std::sqrt(std::max(0.0f, under));
                    next = from_centre > 1 / most ? 1 / from_centre : most;
                }
                rho = next;
            }
            to += share * bilinear(says.alike, x, y) * (rho - pair.agree);
        }
    });
    smooth_borders(field, me.borders);
    field.close_edges();
    return field;
}

} // namespace porb
