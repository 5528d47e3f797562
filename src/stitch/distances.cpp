#include "stitch/distances.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "picture/convert_simd.h"

#include <opencv2/calib3d.hpp>
#include <opencv2/imgproc.hpp>

#include <cmath>

namespace porb {

namespace {

constexpr int kFieldSide = 720;           ///< cells of about 0.3 degrees
constexpr double kStripStep_rad = 0.0035; ///< 0.2 degrees
constexpr double kMargin_rad = 0.02;      ///< of strips, beside the parallax
constexpr int kRounds = 5;                ///< until direction from the centre and distance agree
constexpr int kSubPixel = 16;             ///< of the matcher's disparities
constexpr int kLeastDisparity = -2;       ///< a rig is never solved quite
constexpr double kSmallPair = 0.25;       ///< of the largest pair's directions
constexpr double kShapeClear_deg = 4;
constexpr int kRoundRows = 24, kSurroundings = 15;
constexpr double kNoTrust = 0.7,
                 kFullTrust = 0.8; ///< correlation of what was matched: 0.85 and more under a solved rig
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
    double trust = 0;
};

/// Correlation of the detail that b sees with the detail that a sees where it was matched to: both less their
/// surroundings, since bright floors and dark ceilings are alike under any rig.
double agreement(const cv::Mat& a, const cv::Mat& b, const cv::Mat& parallax, const cv::Mat& known) {
    const auto detail = [](const cv::Mat& m) {
        cv::Mat around, out;
        cv::blur(m, around, cv::Size(kSurroundings, kSurroundings));
        cv::subtract(m, around, out, cv::noArray(), CV_16S);
        return out;
    };
    const cv::Mat da = detail(a), db = detail(b);
    double saa = 0, sbb = 0, sab = 0;
    for (int y = 0; y < b.rows; y += 2)
        for (int x = 0; x < b.cols; x += 2) {
            if (!known.at<std::uint8_t>(y, x)) continue;
            const int from = int(std::lround(float(x) - parallax.at<float>(y, x)));
            const double va = da.at<std::int16_t>(y, from), vb = db.at<std::int16_t>(y, x);
            saa += va * va, sbb += vb * vb, sab += va * vb;
        }
    return saa * sbb > 0 ? sab / std::sqrt(saa * sbb) : 1;
}

/// Parallax in strip columns, by b's places, and how far it is to be trusted, 0 to 1: under a rig that was
/// not solved, rows of the two pictures do not belong together, and what was matched does not look alike.
/// Semi-global matching (Hirschmueller 2008). A `round` strip goes all the way about the baseline.
Matched match_strip(const cv::Mat& a, const cv::Mat& b, const cv::Mat& a_seen, const cv::Mat& b_seen,
                    int disparities, bool round) {
    // Things that b sees at a column a sees up to `disparities` before it: room for those at the edge.
    cv::Mat wide_a, wide_b, raw;
    cv::copyMakeBorder(a, wide_a, 0, 0, disparities, -kLeastDisparity, cv::BORDER_REPLICATE);
    cv::copyMakeBorder(b, wide_b, 0, 0, disparities, -kLeastDisparity, cv::BORDER_REPLICATE);
    if (round) { // rows go on at the other end
        cv::copyMakeBorder(wide_a, wide_a, kRoundRows, kRoundRows, 0, 0, cv::BORDER_WRAP);
        cv::copyMakeBorder(wide_b, wide_b, kRoundRows, kRoundRows, 0, 0, cv::BORDER_WRAP);
    }
    const auto matcher =
        cv::StereoSGBM::create(kLeastDisparity, disparities, kBlock, 6 * kBlock * kBlock,
                               28 * kBlock * kBlock, 2, 31, 4, kSpeckle, 2, cv::StereoSGBM::MODE_SGBM_3WAY);
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
    const double alike = agreement(a, b, parallax, known);
    fill_farther(parallax, known);
    cv::medianBlur(parallax, parallax, 5);
    cv::GaussianBlur(parallax, parallax, cv::Size(kWindow, kWindow), 1.2);
    return {parallax, std::clamp((alike - kNoTrust) / (kFullTrust - kNoTrust), 0.0, 1.0)};
}

double smooth(double t) {
    t = std::clamp(t, 0.0, 1.0);
    return t * t * (3 - 2 * t);
}

float bilinear(const cv::Mat& m, double x, double y) {
    const double cx = std::clamp(x - 0.5, 0.0, double(m.cols - 1)),
                 cy = std::clamp(y - 0.5, 0.0, double(m.rows - 1));
    const int ix = std::min(int(cx), m.cols - 2), iy = std::min(int(cy), m.rows - 2);
    const float fx = float(cx - ix), fy = float(cy - iy);
    const float *p = m.ptr<float>(iy) + ix, *q = m.ptr<float>(iy + 1) + ix;
    const float top = p[0] + fx * (p[1] - p[0]), low = q[0] + fx * (q[1] - q[0]);
    return top + fy * (low - top);
}

} // namespace

struct SeamZones::Impl {
    struct Node {
        std::int32_t strip = -1; ///< -1: not near a seam
        float share = 0;         ///< of the found distance, the rest the agree distance's
    };
    struct Pair {
        Strip strip;
        StripMap a, b;
        std::size_t a_source, b_source; ///< into cameras
        int disparities = 16;
    };
    double agree = 0, nearest = 1;
    std::vector<Node> nodes;
    std::vector<Pair> pairs;
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

SeamZones::SeamZones(const PlanKey& shot_key) : impl_(std::make_unique<Impl>()) {
    Impl& me = *impl_;
    const FlowSettings& settings = shot_key.flow;
    PlanKey key = shot_key;
    key.orientation = {};
    key.row_turn = Vec3(0, 0, 0);
    me.agree = key.agree_distance_m > 0 ? 1 / key.agree_distance_m : 0;
    me.nearest = 1 / settings.nearest_m;
    const Coverage coverage(key);
    constexpr int n = kFieldSide * kFieldSide;
    me.nodes.resize(std::size_t(n));
    std::vector<std::pair<std::int16_t, std::int16_t>> who(std::size_t(n), {-1, -1});
    parallel_ranges(n, 1024, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const auto inside = coverage.inside_deg(me.direction(i));
            int best = -1, second = -1;
            for (int c = 0; c < int(inside.size()); ++c) {
                const double v = inside[std::size_t(c)];
                if (v <= 0) continue;
                if (best < 0 || v > inside[std::size_t(best)])
                    second = best, best = c;
                else if (second < 0 || v > inside[std::size_t(second)])
                    second = c;
            }
            if (second < 0) continue;
            const double away = inside[std::size_t(best)] - inside[std::size_t(second)],
                         edge = inside[std::size_t(second)];
            // All of the found distance within a third of the zone, none at its end, nor where a lens ends.
            // And beside a cut-out or restore not at all: there the two lenses show different things.
            const double share = smooth(1.5 * (1 - away / settings.zone_deg)) * smooth(edge / 2) *
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
        p.disparities = std::max(16, int(std::ceil(most / kStripStep_rad / 16)) * 16);
        p.a_source = source_of(std::size_t(pair.first));
        p.b_source = source_of(std::size_t(pair.second));
        p.a = map_strip(p.strip, key.rig.cameras[a], me.cameras[p.a_source].level);
        p.b = map_strip(p.strip, key.rig.cameras[b], me.cameras[p.b_source].level);
        for (const int i : list) me.nodes[std::size_t(i)].strip = std::int32_t(me.pairs.size());
        me.pairs.push_back(std::move(p));
    }
}

SphereGrid SeamZones::find(std::span<const Picture> sources, std::span<const CameraTone> tones) const {
    const Impl& me = *impl_;
    SphereGrid field(kFieldSide, 1, float(me.agree));
    std::vector<Matched> matched(me.pairs.size());
    std::vector<cv::Mat> seen;
    for (std::size_t c = 0; c < sources.size(); ++c) seen.push_back(bytes_of(sources[c], tones[c]));
    parallel_ranges(int(me.pairs.size()), 1, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const Impl::Pair& p = me.pairs[std::size_t(i)];
            cv::Mat a, b;
            cv::remap(seen[p.a_source], a, p.a.place, p.a.fraction, cv::INTER_LINEAR);
            cv::remap(seen[p.b_source], b, p.b.place, p.b.fraction, cv::INTER_LINEAR);
            matched[std::size_t(i)] = match_strip(a, b, p.a.seen, p.b.seen, p.disparities,
                                                  p.strip.height * p.strip.step > 2 * kPi - p.strip.step);
        }
    });
    parallel_ranges(int(me.nodes.size()), 2048, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const Impl::Node& node = me.nodes[std::size_t(i)];
            if (node.strip < 0 || matched[std::size_t(node.strip)].trust <= 0) continue;
            const auto& [parallax, trust] = matched[std::size_t(node.strip)];
            const Strip& strip = me.pairs[std::size_t(node.strip)].strip;
            const Vec3 w = me.direction(i);
            double inverse = me.agree;
            for (int round = 0; round < kRounds; ++round) {
                const Vec3 from_b = (w - inverse * strip.b_m).normalized();
                const Vec2 at = strip.place(from_b);
                const double shift = strip.step * double(bilinear(parallax, at.x(), at.y()));
                const double far = strip.distance_from_b(strip.first_alpha + at.x() * strip.step, shift);
                const double next = far > 0 ? 1 / (strip.b_m + far * from_b).norm() : 0;
                inverse = std::clamp(next, 0.0, 1.5 * me.nearest);
            }
            *field.cell(i % kFieldSide, i / kFieldSide) =
                float(me.agree + trust * double(node.share) * (inverse - me.agree));
        }
    });
    field.close_edges();
    return field;
}

} // namespace porb
