#include "solve/finding.h"

#include "base/error.h"
#include "solve/bundle/observations.h"
#include "solve/points.h"

namespace porb {

namespace {

constexpr int kPointsASample = 1500; ///< wanted from all pairs together
constexpr double kBlackMean = 0.015, kBlackSpread = 0.006;
constexpr int kSmallPx = 960; ///< pictures kept of every sample are no wider
constexpr double kStillLike = 0.6;

/// Small pictures of a sample, kept to see what stays where it is.
struct SmallMoment {
    std::vector<std::shared_ptr<const Grey>> seen;
    std::vector<double> scale;
};
SmallMoment small_of(const Moment& m) {
    SmallMoment s;
    for (const auto& p : m.seen) {
        s.seen.emplace_back();
        s.scale.push_back(1);
        if (!p) continue;
        std::size_t level = 0;
        while (level + 1 < p->levels.size() && p->levels[level].width > kSmallPx) ++level;
        s.seen.back() = std::make_shared<const Grey>(p->levels[level]);
        s.scale.back() = 1.0 / double(1 << level);
    }
    return s;
}
std::vector<float> window_at(const Grey& g, const Vec2& at) {
    constexpr int kHalf = 4;
    std::vector<float> v;
    for (int y = -kHalf; y <= kHalf; ++y)
        for (int x = -kHalf; x <= kHalf; ++x) v.push_back(g.sample(at.x() + x, at.y() + y));
    return v;
}

/// Drops what no other sample shows at its place, provided the rig stands still (most points are seen again).
void drop_moving(ControlPoints& points, const std::vector<Seconds>& times,
                 const std::vector<SmallMoment>& small, const Rig& rig, std::vector<std::string>& remarks) {
    if (small.size() < 2) return;
    std::vector<double> again(points.size(), 1);
    double kept = 0, all = 0;
    for (std::size_t i = 0; i < points.size(); ++i) {
        const ControlPoint& p = points[i];
        if (p.by_hand) continue;
        const auto own = std::size_t(std::find(times.begin(), times.end(), p.time) - times.begin());
        const std::size_t c = index_of(rig, p.a);
        if (own >= small.size() || !small[own].seen[c]) continue;
        const auto here = window_at(*small[own].seen[c], p.a_px * small[own].scale[c]);
        int same = 0, others = 0;
        for (std::size_t s = 0; s < small.size(); ++s) {
            if (s == own || !small[s].seen[c]) continue;
            ++others;
            same += correlation(here, window_at(*small[s].seen[c], p.a_px * small[s].scale[c])) > kStillLike;
        }
        again[i] = others ? double(same) / others : 1;
        kept += again[i] > 0;
        ++all;
    }
    if (all < 1 || kept < 0.5 * all) {
        remarks.push_back("The rig moves between samples, so moving things cannot be told from still ones by "
                          "comparing them.");
        return;
    }
    for (std::size_t i = 0; i < points.size(); ++i)
        if (again[i] <= 0) points[i].dropped = {DropReason::moves, "no other sample shows it at its place"};
}

} // namespace

void refuse_black(const std::vector<Moment>& moments, const Rig& rig, const std::vector<bool>& in_use) {
    for (std::size_t c = 0; c < rig.cameras.size(); ++c) {
        if (!in_use[c]) continue;
        bool black = true, flat = true, any = false;
        for (const auto& m : moments) {
            if (!m.seen[c]) continue;
            any = true;
            const Grey& g = m.seen[c]->levels.back();
            const double scale = double(g.width) / rig.cameras[c].lens.width;
            const Vec2 centre = rig.cameras[c].lens.circle.center_px * scale;
            const double radius = 0.9 * rig.cameras[c].lens.circle.radius_px * scale;
            double sum = 0, squares = 0;
            int n = 0;
            for (int y = 0; y < g.height; ++y)
                for (int x = 0; x < g.width; ++x)
                    if ((Vec2(x + 0.5, y + 0.5) - centre).norm() < radius) {
                        const double v = double(g.at(x, y));
                        sum += v, squares += v * v, ++n;
                    }
            const double mean = sum / std::max(1, n),
                         spread = std::sqrt(std::max(0.0, squares / std::max(1, n) - mean * mean));
            if (mean > kBlackMean) black = false;
            if (spread > kBlackSpread) flat = false;
        }
        const std::string where = "camera " + rig.cameras[c].id;
        if (!any)
            throw Error("has no picture at any sample", where,
                        "Check its time offset, or set in and out to where it runs");
        if (black && flat)
            throw Error("its picture is black at every sample", where,
                        "Check the file, or choose other samples");
        if (flat)
            throw Error("its picture shows nothing but one tone at every sample", where,
                        "Check the file, or choose other samples");
    }
}

void refuse_unlinked(const Rig& rig, const std::vector<bool>& in_use, const std::vector<Overlap>& pairs) {
    for (std::size_t c = 0; c < rig.cameras.size(); ++c) {
        if (!in_use[c]) continue;
        if (std::none_of(pairs.begin(), pairs.end(), [&](const Overlap& p) { return p.a == c || p.b == c; }))
            throw Error("sees nothing that another camera sees: there is no overlap to find points in",
                        "camera " + rig.cameras[c].id,
                        "Correct its direction, field of view or image circle in Rig, or solve from far");
    }
}

void match_moment(const Shot& shot, const Rig& rig, const Moment& moment, const std::vector<Overlap>& pairs,
                  const MatchOptions& options, bool swap_sides, ControlPoints& out, const Cancel& cancel) {
    const auto eyes = eyepieces(rig, moment);
    std::vector<std::vector<Corner>> corners(eyes.size());
    for (std::size_t c = 0; c < eyes.size(); ++c)
        if (eyes[c] &&
            std::any_of(pairs.begin(), pairs.end(), [&](const Overlap& p) { return p.a == c || p.b == c; })) {
            cancel.check();
            corners[c] = corners_of(*eyes[c]);
        }
    for (const auto& pair : pairs) {
        auto [a, b] = std::pair(pair.a, pair.b);
        if (swap_sides) std::swap(a, b);
        if (!eyes[a] || !eyes[b]) continue;
        const std::string &id_a = rig.cameras[a].id, &id_b = rig.cameras[b].id;
        const auto allowed = [&](const Corner& c) {
            return regions_allow(shot.calibration.regions, id_a, c.px, c.direction);
        };
        for (const auto& m : match_pair(*eyes[a], *eyes[b], corners[a], options, allowed, cancel)) {
            const auto d = eyes[b]->direction(m.b_px);
            if (!d || !regions_allow(shot.calibration.regions, id_b, m.b_px, *d)) continue;
            ControlPoint p;
            p.time = moment.time;
            p.a = id_a, p.b = id_b;
            p.a_px = m.a_px, p.b_px = m.b_px;
            p.correlation = std::min(1.0, m.correlation);
            out.push_back(std::move(p));
        }
    }
}

Found find_at_samples(const Project& project, const Shot& shot, const Rig& rig,
                      const std::vector<Seconds>& times, MediaLibrary& library, const SolveOptions& options,
                      double margin_deg, const std::function<void(double)>& progress, const Cancel& cancel) {
    Found found;
    const auto pairs = overlapping_pairs(rig, cameras_with_sources(project, shot));
    MatchOptions match;
    match.margin_deg = margin_deg;
    match.nearest_m = options.nearest_m;
    match.wanted = std::clamp(kPointsASample / int(std::max<std::size_t>(1, pairs.size())),
                              options.points_a_pair / 3, options.points_a_pair);
    std::vector<SmallMoment> small;
    for (std::size_t s = 0; s < times.size(); ++s) {
        cancel.check();
        const Moment moment = read_moment(project, shot, times[s], library);
        match_moment(shot, rig, moment, pairs, match, s % 2 == 1, found.points, cancel);
        small.push_back(small_of(moment));
        if (progress) progress(double(s + 1) / double(times.size()));
    }
    drop_moving(found.points, times, small, rig, found.remarks);
    return found;
}

ControlPoints with_those_by_hand(ControlPoints found, const Shot& shot) {
    int id = free_point_id(shot);
    for (auto& p : found) p.id = id++;
    for (const auto& p : *shot.calibration.points)
        if (p.by_hand) found.push_back(p);
    return found;
}

} // namespace porb
