#include "solve/calibrate.h"

#include "base/error.h"
#include "base/range.h"
#include "optics/eye_pairs.h"
#include "solve/bundle/observations.h"
#include "solve/bundle/solve_points.h"
#include "solve/finding.h"
#include "solve/pictures/centres.h"
#include "solve/pictures/edges.h"
#include "solve/pictures/rough.h"
#include "solve/points.h"

#include <fmt/format.h>

#include <numeric>

namespace porb {

namespace {

constexpr Range kNearest_m{0.05, 100};

constexpr double kMostOffDeg =
    12; ///< a camera farther than this from the rig's word is trouble, unless from far
constexpr int kTrustedLandmarks = 20; ///< agreeing on a camera's turn
constexpr double kFirstMarginDeg = 3.5, kFarMarginDeg = 6, kSecondMarginDeg = 1.5, kLastMarginDeg = 0.6;
constexpr int kFirstPoints = 70;
constexpr int kLeastLinks = 12; ///< points that tie a camera to the others
constexpr int kJudgedPx = 240;  ///< pictures are looked through for black ones at about this width

constexpr double kFarTurnDeg = 5, kFarFocalPercent = 6; ///< how far off values may be when solving from far

using Say = std::function<void(double share, const char* doing)>;

Error too_few_links(const std::string& camera, int points) {
    return Error(fmt::format("only {} points tie it to the other cameras", points), "camera " + camera,
                 "Choose samples with more to see in its overlaps, set points by hand, or check its file");
}

void refuse_one_moment(const Project& project, const Shot& shot, const std::vector<Seconds>& times,
                       MediaLibrary& library, const SolveOptions& options) {
    const bool moves = std::any_of(shot.cameras.begin(), shot.cameras.end(), [&](const ShotCamera& c) {
        const Media* m = find_media(project, c.media);
        return m && m->ref.kind != MediaKind::still && library.info(m->ref).frames > 1;
    });
    if (times.size() == 1 && moves && !options.one_moment)
        throw Error("there is one sample only: what moves cannot be told from what stands still",
                    "shot " + shot.name, "Take three samples or more, or say that one moment is meant");
}

std::vector<Moment> small_moments(const Project& project, const Shot& shot, const std::vector<Seconds>& times,
                                  MediaLibrary& library) {
    int level = 0;
    for (const auto& c : shot.rig.cameras)
        while (c.lens.width >> (level + 1) >= kJudgedPx) ++level;
    std::vector<Moment> moments;
    for (const Seconds t : times) moments.push_back(read_moment(project, shot, t, library, level));
    return moments;
}

/// How the cameras stand, roughly, whatever the rig says, from the sample that links most of them.
struct RoughStart {
    RoughRig rough;
    Moment moment; ///< the middle sample, at which first points are looked for
};
RoughStart rough_start(const Project& project, const Shot& shot, const std::vector<Seconds>& times,
                       const std::vector<bool>& in_use, MediaLibrary& library, const Say& say,
                       const Cancel& cancel) {
    std::vector<Mat3> nominal;
    for (const auto& c : shot.rig.cameras) nominal.push_back(rotation_of(c.pose.turn));
    const auto linked = [&](const RoughRig& r) {
        int n = 0;
        for (std::size_t c = 0; c < in_use.size(); ++c) n += in_use[c] && r.placed[c];
        return n;
    };
    const auto all = std::count(in_use.begin(), in_use.end(), true);
    std::optional<RoughStart> best;
    for (const std::size_t s : {times.size() / 2, std::size_t(0), times.size() - 1}) {
        if (best && (linked(best->rough) == all || times[s] == best->moment.time)) continue;
        say(0.06, "Looking for landmarks");
        Moment moment = read_moment(project, shot, times[s], library);
        std::vector<Landmarks> marks(shot.rig.cameras.size());
        for (std::size_t c = 0; c < marks.size(); ++c) {
            cancel.check();
            if (moment.seen[c]) marks[c] = landmarks_of(shot.rig.cameras[c].lens, *moment.seen[c]);
        }
        RoughRig now = rough_rig(marks, nominal, cancel);
        if (!best)
            best = RoughStart{std::move(now), std::move(moment)};
        else if (linked(now) > linked(best->rough))
            best->rough = std::move(now);
    }
    return std::move(*best);
}

/// The rig with the turns that landmarks gave, where enough of them agree.
Rig turned_by_landmarks(const Rig& rig, const RoughRig& rough, const std::vector<bool>& in_use,
                        bool from_far) {
    Rig out = rig;
    for (std::size_t c = 0; c < rig.cameras.size(); ++c) {
        int agreeing = 0;
        for (const auto& l : rough.links)
            if (l.sure && (l.a == c || l.b == c)) agreeing += l.agreeing;
        if (!rough.placed[c] || !in_use[c] || agreeing < kTrustedLandmarks) continue;
        if (!from_far && rough.off_deg[c] > kMostOffDeg) continue;
        // A camera that was turned far takes its place along: rigs are built round their cameras.
        const Mat3 nominal = rotation_of(rig.cameras[c].pose.turn);
        const Vec3 p = rig.cameras[c].pose.position_m;
        if (rough.off_deg[c] > kMostOffDeg && p.norm() > 1e-6 && p.normalized().dot(nominal.col(2)) > 0.9)
            out.cameras[c].pose.position_m = rough.turns[c] * nominal.transpose() * p;
        out.cameras[c].pose.turn = turn_of(rough.turns[c]);
    }
    return out;
}

/// Points at one moment and a first solve from them. Throws Error when a camera is not tied to the others.
/// `agreed` gets the number of points kept.
Rig first_solve(Shot& first, const Rig& start, const Moment& moment, const std::vector<bool>& in_use,
                double margin_deg, const SolveOptions& options, const Cancel& cancel, int* agreed = nullptr) {
    MatchOptions match;
    match.margin_deg = margin_deg;
    match.nearest_m = std::max(0.8, options.nearest_m);
    match.wanted = kFirstPoints;
    ControlPoints points, by_hand;
    for (const auto& p : *first.calibration.points)
        if (p.by_hand && p.dropped.empty()) by_hand.push_back(p);
    match_moment(first, start, moment, overlapping_pairs(start, in_use), match, false, points, cancel);
    points.insert(points.end(), by_hand.begin(), by_hand.end());
    const std::size_t n = start.cameras.size();
    std::vector<int> links(n, 0), kept(n, 0);
    for (const auto& p : points) ++links[index_of(start, p.a)], ++links[index_of(start, p.b)];
    for (std::size_t c = 0; c < n; ++c)
        if (in_use[c] && links[c] < kLeastLinks) throw too_few_links(start.cameras[c].id, links[c]);
    first.calibration.points = std::move(points);
    const auto solved = solve_points({&first}, start, start, true, cancel, true);
    for (const auto& p : solved.points[0])
        if (p.dropped.empty()) ++kept[index_of(start, p.a)], ++kept[index_of(start, p.b)];
    first.calibration.points = by_hand;
    if (agreed) *agreed = std::accumulate(kept.begin(), kept.end(), 0) / 2;
    for (std::size_t c = 0; c < n; ++c)
        if (in_use[c] && (kept[c] < kLeastLinks || kept[c] < 0.25 * links[c]))
            throw Error(
                fmt::format("its points agree with no place in this rig ({} of {} kept)", kept[c], links[c]),
                "camera " + start.cameras[c].id,
                "Check that its file belongs to this take and that its lens and time offset are right");
    return solved.rig;
}

/// A rig that is nearly right, from few points with a wide margin at one moment. It begins with the turns
/// that landmarks gave, then with the rig's own, then more widely, until every camera is tied to the others.
/// Throws Error with what is plainly wrong.
Rig first_rig(const Shot& shot, const RoughStart& start, const std::vector<bool>& in_use,
              const SolveOptions& options, const Say& say, const Cancel& cancel) {
    RoughRig judged = start.rough;
    bool lost = false;
    for (std::size_t c = 0; c < judged.placed.size(); ++c) {
        if (!in_use[c]) judged.placed[c] = true; // a camera without a source is nowhere, which is no trouble
        lost = lost || !judged.placed[c];
    }
    const auto trouble =
        trouble_in(judged, shot.rig, alike_numbers(shot.rig), options.from_far ? 181 : kMostOffDeg);
    const auto told = [&] { return Error(trouble->what, trouble->where, trouble->mend); };
    if (trouble && options.from_far) throw told();

    Shot first = shot;
    first.calibration.lines.clear();
    first.calibration.solving.position = Freedom::locked;
    first.calibration.solving.limit_px = 8;
    if (options.from_far) {
        first.calibration.solving.turn_sigma_deg =
            std::max(kFarTurnDeg, first.calibration.solving.turn_sigma_deg);
        first.calibration.solving.focal_sigma_percent =
            std::max(kFarFocalPercent, first.calibration.solving.focal_sigma_percent);
    }
    const auto solved_once = [&](const Rig& rig, double margin_deg, int* agreed = nullptr) {
        refuse_unlinked(rig, in_use, overlapping_pairs(rig, in_use));
        return first_solve(first, rig, start.moment, in_use, margin_deg, options, cancel, agreed);
    };
    const auto solved_from = [&](const Rig& rig, double margin_deg) {
        return solved_once(solved_once(rig, margin_deg), kSecondMarginDeg);
    };
    if (trouble && !lost) {
        // Halls repeat themselves, and landmarks may agree on a turn from bay to bay: the rig's own word
        // stands when more points agree with it than with what the landmarks say, for as much overlap.
        say(0.12, "Comparing arrangements");
        struct Tried {
            double support = 0;
            Rig rig;
        };
        const auto tried = [&](const Rig& rig) {
            Tried t;
            int agreed = 0;
            double overlap = 1e-9;
            for (const auto& pair : overlapping_pairs(rig, in_use)) overlap += pair.share;
            try {
                t.rig = solved_once(rig, kFirstMarginDeg, &agreed);
                t.support = agreed / overlap;
            } catch (const Error&) { // it supports nothing
            }
            return t;
        };
        const Tried own = tried(shot.rig);
        if (own.support <= tried(turned_by_landmarks(shot.rig, start.rough, in_use, true)).support)
            throw told();
        return solved_once(own.rig, kSecondMarginDeg);
    }
    struct Attempt {
        bool by_landmarks;
        double margin_deg;
    };
    std::vector<Attempt> attempts = {
        {true, kFirstMarginDeg}, {false, kFirstMarginDeg}, {true, kFarMarginDeg}};
    if (options.from_far) attempts = {{true, kFarMarginDeg}};
    for (std::size_t n = 0;; ++n) {
        say(0.15 + 0.04 * double(n), "First points");
        try {
            return solved_from(attempts[n].by_landmarks
                                   ? turned_by_landmarks(shot.rig, start.rough, in_use, options.from_far)
                                   : shot.rig,
                               attempts[n].margin_deg);
        } catch (const Error&) {
            if (n + 1 < attempts.size()) continue;
            if (trouble) throw told();
            throw;
        }
    }
}

} // namespace

namespace {

/// What turning leaves of vertical disparity between a pair's eyes, and figures of the rig as it is then.
void let_eyes_agree(const Shot& shot, Solved& solved) {
    const auto is_locked = [](const ShotCamera& c) { return c.lens_locked; };
    const SolveSettings& set = shot.calibration.solving;
    if (!set.vertical_agreement || set.distortion != Freedom::free || !is_half_sphere_pair(solved.rig) ||
        std::any_of(shot.cameras.begin(), shot.cameras.end(), is_locked))
        return;
    ControlPoints used;
    for (const ControlPoint& p : solved.points)
        if (p.dropped.empty()) used.push_back(p);
    SolveReport& report = solved.report;
    report.agreement = agree_vertically(solved.rig, observations_of(solved.rig, used));
    if (!report.agreement) return;
    const auto fits = fit_points(solved.rig, observations_of(solved.rig, solved.points));
    const SolveReport now = figures_of(solved.rig, solved.points, fits);
    report.rms = now.rms, report.vertical_px = now.vertical_px;
    report.cameras = now.cameras, report.pairs = now.pairs;
    report.remarks.push_back(fmt::format(
        "turning alone left {:.2f} px of vertical disparity between the eyes; both lenses were bent for "
        "{:.2f}: each "
        "eye's picture by {:.1f} px at most, straight lines by {:.1f} (of a half sphere 2048 a side)",
        report.agreement->before_px, report.agreement->after_px, report.agreement->size_px,
        report.agreement->bends_px));
}

} // namespace

ControlPoints find_points(const Project& project, const Shot& shot, MediaLibrary& library,
                          const SolveOptions& options, double margin_deg, const TellSolve& tell,
                          const Cancel& cancel) {
    const auto in_use = cameras_with_sources(project, shot);
    refuse_unlinked(shot.rig, in_use, overlapping_pairs(shot.rig, in_use));
    const auto times = sample_times(project, shot, library, cancel);
    auto found = find_at_samples(
        project, shot, shot.rig, times, library, options, margin_deg,
        [&](double share) {
            if (tell) tell({share, "Finding points"});
        },
        cancel);
    return with_those_by_hand(std::move(found.points), shot);
}

Solved solve_shot(const Project& project, const Shot& given, MediaLibrary& library,
                  const SolveOptions& options, const TellSolve& tell, const Cancel& cancel) {
    const Say say = [&](double share, const char* doing) {
        cancel.check();
        if (tell) tell({share, doing});
    };
    if (!kNearest_m.holds(options.nearest_m))
        throw Error("is " + number_text(options.nearest_m), "the nearest distance",
                    "It must be " + text_of(kNearest_m) + " metres");
    if (!options.find) {
        say(0.1, "Solving");
        Shot with = given;
        if (!given.calibration.solving.straight_edges) std::erase_if(with.calibration.lines, is_solve_edge);
        auto together = solve_points({&with}, given.rig, given.rig, true, cancel);
        Solved solved{together.rig, together.points[0], together.lines[0], std::move(together.report)};
        let_eyes_agree(given, solved);
        say(1, "Solved");
        return solved;
    }
    const auto in_use = cameras_with_sources(project, given);
    if (std::count(in_use.begin(), in_use.end(), true) < 2)
        throw Error("a rig needs at least two cameras with sources to be solved", "shot " + given.name,
                    "Assign sources in Gather");
    if (!options.from_far) refuse_unlinked(given.rig, in_use, overlapping_pairs(given.rig, in_use));
    say(0, "Choosing samples");
    const Shot shot = with_centres_seen(project, given, library, cancel);
    const auto times = sample_times(project, shot, library, cancel);
    refuse_one_moment(project, shot, times, library, options);
    say(0.03, "Reading samples");
    refuse_black(small_moments(project, shot, times, library), shot.rig, in_use);
    const RoughStart rough = rough_start(project, shot, times, in_use, library, say, cancel);
    const Rig start = first_rig(shot, rough, in_use, options, say, cancel);
    auto found = find_at_samples(
        project, shot, start, times, library, options, kLastMarginDeg,
        [&](double share) { say(0.28 + 0.6 * share, "Finding points"); }, cancel);

    Shot with = shot;
    with.calibration.points = with_those_by_hand(std::move(found.points), shot);
    if (!with.calibration.profile)
        with.calibration.profile = shot.rig; // priors are those of the rig as it was, not of the first solve
    if (options.from_far)
        with.calibration.solving.focal_sigma_percent =
            std::max(kFarFocalPercent, with.calibration.solving.focal_sigma_percent);
    std::erase_if(with.calibration.lines, is_solve_edge);
    if (shot.calibration.solving.straight_edges) {
        say(0.88, "Following straight edges");
        for (auto& edge : find_straight_edges(start, rough.moment, free_point_id(with), cancel))
            with.calibration.lines.push_back(std::move(edge));
    }
    say(0.9, "Solving");
    auto together = solve_points({&with}, start, given.rig, true, cancel);
    Solved solved{together.rig, together.points[0], together.lines[0], std::move(together.report)};
    let_eyes_agree(given, solved);
    solved.report.samples = times;
    for (auto& r : found.remarks) solved.report.remarks.push_back(std::move(r));
    for (const auto& c : solved.report.cameras)
        if (c.points < kLeastLinks && in_use[index_of(shot.rig, c.camera)])
            throw too_few_links(c.camera, c.points);
    say(1, "Solved");
    return solved;
}

} // namespace porb
