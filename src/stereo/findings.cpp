#include "stereo/findings.h"

#include "base/angle.h"
#include "optics/eye_pairs.h"
#include "stitch/plan/coverage.h"

#include <fmt/format.h>

#include <algorithm>

namespace porb {

namespace {

constexpr double kHighVertical_px = 1, kUneven_ev = 0.15, kSofter = 0.5, kMuchBeyond = 0.5,
                 kMuchOutside = 0.02, kFewTold = 0.5, kAlone = 0.02, kMuchCut = 0.1, kMuchTorn_px = 60;
constexpr double kHalf_deg = 80; ///< from the middle of a half sphere; beyond, lenses end

/// The share of directions between the merge latitudes that one lens alone sees, or none.
double seen_by_one(const Shot& shot) {
    View view;
    view.target = equirect_target(1024);
    const Coverage coverage(plan_key(shot, view, Seconds(0), Sources::all));
    int alone = 0, all = 0;
    const double highest = radians(shot.stereo.merge_to_deg);
    Vec3 ahead = Vec3::Zero(); // of a pair for half a sphere, which is judged alone
    for (const Camera& c : shot.rig.cameras)
        if (c.eyes != Eyes::both) ahead += forward_of(c.pose.turn);
    const Mat3 to_world = rotation_of(shot.levelling.orientation);
    const double least = is_half_sphere_pair(shot.rig) ? std::cos(radians(kHalf_deg)) : -2;
    constexpr int kPlaces = 1500;
    for (int i = 0; i < kPlaces; ++i) { // a spiral whose places stand for equal parts of the sphere
        const double y = 1 - 2 * (i + 0.5) / kPlaces, lon = i * 2.399963229728653;
        if (std::abs(std::asin(y)) > highest) continue;
        const double side = std::sqrt(1 - y * y);
        const Vec3 d(side * std::sin(lon), y, side * std::cos(lon));
        if (d.dot(to_world * ahead.normalized()) < least) continue;
        ++all;
        alone += coverage.lenses_at(d) < 2;
    }
    return all ? double(alone) / all : 0;
}

void check_drawn(const Shot& shot, std::vector<EyeFinding>& out) {
    if (!shot.seams.flow.on)
        out.push_back({"Flow is off: both eyes see everything at the agree distance",
                       "Switch flow on in Seams, so that distances are found",
                       false,
                       {},
                       {}});
    else if (!shot.seams.flow.everywhere)
        out.push_back({"Distances are found near seams alone: elsewhere both eyes see the agree distance",
                       "Let them be found wherever two cameras see, in Seams",
                       false,
                       {},
                       {}});
    const double widest = widest_ipd_m(shot.rig);
    if (shot.stereo.ipd_m > widest)
        out.push_back(
            {fmt::format("The interpupillary distance of {:.0f} mm is wider than the rig, whose lenses stand "
                         "at most {:.0f} mm apart: what the eyes would see was not filmed",
                         1000 * shot.stereo.ipd_m, 1000 * widest),
             widest > 0.01 ? fmt::format("Set {:.0f} mm or less", std::floor(1000 * widest))
                           : std::string("Give the cameras their positions in Rig, or leave the shot mono"),
             false,
             {},
             {}});
    if (const double alone = seen_by_one(shot); alone > kAlone)
        out.push_back(
            {fmt::format(
                 "{:.0f} % of the sphere is seen by one lens or none: it has no depth of its own there",
                 100 * alone),
             alone > 0.6 ? "Take eyes from cameras of their own, or leave the shot mono"
                         : "Widen the lenses' reach in Seams where their circles allow it",
             false,
             {},
             {}});
}

void check_cameras(const Shot& shot, std::vector<EyeFinding>& out) {
    Vec3 left = Vec3::Zero(), right = Vec3::Zero(), ahead = Vec3::Zero();
    const Mat3 to_world = rotation_of(shot.levelling.orientation); // a rig may hang upside down
    int lefts = 0, rights = 0;
    for (const Camera& c : shot.rig.cameras) {
        lefts += c.eyes == Eyes::left, rights += c.eyes == Eyes::right;
        if (c.eyes == Eyes::left) left += to_world * c.pose.position_m;
        if (c.eyes == Eyes::right) right += to_world * c.pose.position_m;
        ahead += to_world * forward_of(c.pose.turn);
    }
    if (lefts == 0 && rights == 0) {
        out.push_back({"Every camera serves both eyes: the two pictures are alike, without depth",
                       "Draw the eyes from distances, or give each camera its eye in Rig",
                       false,
                       {},
                       {}});
        return;
    }
    if (lefts == 0 || rights == 0) {
        out.push_back({fmt::format("The rig has no camera for the {} eye", lefts == 0 ? "left" : "right"),
                       "Give each camera its eye in Rig",
                       true,
                       {},
                       {}});
        return;
    }
    if (lefts != 1 || rights != 1) return;          // who stands beside whom differs from pair to pair
    const Vec3 across = Vec3(0, 1, 0).cross(ahead); // to the right, in world axes
    const double side = (right - left).dot(across.normalized()) * (shot.stereo.swap ? -1 : 1);
    if (across.norm() > 1e-6 && side < -1e-3)
        out.push_back({"The camera of the left eye stands right of the other: eyes are swapped",
                       "Swap the eyes",
                       false,
                       {},
                       {}});
}

std::string ev_words(const std::array<double, 3>& ev) {
    return fmt::format("{:+.2f} EV (red {:+.2f}, green {:+.2f}, blue {:+.2f})", ev[1], ev[0], ev[1], ev[2]);
}

} // namespace

std::vector<EyeFinding> eye_findings(const Shot& shot) {
    std::vector<EyeFinding> out;
    switch (shot.stereo.from) {
    case EyesFrom::one:
        out.push_back({"Both eyes see the one picture, without depth",
                       "Take eyes from cameras of their own, or draw them from distances",
                       false,
                       {},
                       {}});
        break;
    case EyesFrom::cameras:
        check_cameras(shot, out);
        break;
    case EyesFrom::distances:
        check_drawn(shot, out);
        break;
    }
    return out;
}

std::vector<EyeFinding> eye_findings(const Shot& shot, std::span<const EyeMoment> moments) {
    std::vector<EyeFinding> out;
    const bool drawn = shot.stereo.from == EyesFrom::distances;
    std::vector<EyeSummary> sums;
    for (const EyeMoment& m : moments) sums.push_back(summary_of(m, shot));
    struct Worst {
        const EyeMoment* moment;
        double figure;
        EyeSummary sum;
    };
    const auto worst = [&](auto figure) { // the moment at which it is largest
        Worst most{nullptr, -1e9, {}};
        for (std::size_t i = 0; i < moments.size(); ++i)
            if (const double v = figure(sums[i]); !moments[i].places.empty() && v > most.figure)
                most = {&moments[i], v, sums[i]};
        return most;
    };
    const auto place = [](const EyeMoment& m, auto figure) {
        return std::max_element(m.places.begin(), m.places.end(),
                                [&](const EyePlace& a, const EyePlace& b) { return figure(a) < figure(b); })
            ->direction;
    };
    if (const auto [m, share, sum] = worst([](const EyeSummary& s) { return s.beyond_infinity; });
        m && share > kMuchBeyond)
        out.push_back(
            {fmt::format("{:.0f} % of what both eyes show lies further away than infinity: eyes are swapped",
                         100 * share),
             "Swap the eyes",
             false,
             m->time,
             {}});
    if (const auto [m, px, sum] = worst([](const EyeSummary& s) { return s.vertical_px; });
        m && px > kHighVertical_px)
        out.push_back(
            {fmt::format(
                 "Vertical disparity of {:.1f} px ({:.1f} minutes of arc) on the mean at {:.2f} s: one "
                 "eye is turned against the other",
                 px, px * 60 * 360 / 3840, m->time.to_double()),
             drawn ? "Solve the rig again in Points" : "Solve the pair in Points", false, m->time,
             place(*m, [](const EyePlace& p) { return std::abs(p.vertical_deg); })});
    if (const auto [m, ev, sum] = worst([](const EyeSummary& s) {
            return std::max({std::abs(s.ev[0]), std::abs(s.ev[1]), std::abs(s.ev[2])});
        });
        m && ev > kUneven_ev)
        out.push_back({"The right eye differs in brightness or colour by " + ev_words(sum.ev),
                       "Match the cameras in Match",
                       false,
                       m->time,
                       {}});
    if (const auto [m, much, sum] = worst([](const EyeSummary& s) { return std::abs(s.sharper); });
        m && much > kSofter)
        out.push_back({fmt::format("The {} eye is softer: it shows {:.0f} % of the other's fine detail",
                                   sum.sharper > 0 ? "left" : "right", 100 * std::exp2(-much)),
                       "Look at the lens's focus, or sharpen that source before it is taken in",
                       false,
                       m->time,
                       {}});
    const ComfortBudget& budget = shot.stereo.comfort;
    if (const auto [m, share, sum] = worst([](const EyeSummary& s) { return s.outside; });
        m && share > kMuchOutside) {
        const bool near = sum.nearest_deg - budget.near_deg > -sum.farthest_deg - budget.far_deg;
        out.push_back(
            {fmt::format(
                 "{:.0f} % of what both eyes show is outside the comfort budget at {:.2f} s: from {:+.2f} "
                 "to {:+.2f} degrees",
                 100 * share, m->time.to_double(), sum.farthest_deg, sum.nearest_deg),
             "Fit convergence and interpupillary distance to the budget", false, m->time,
             place(*m, [near](const EyePlace& p) { return near ? p.horizontal_deg : -p.horizontal_deg; })});
    }
    if (const auto [m, share, sum] = worst([](const EyeSummary& s) { return s.cut_near; });
        m && share > kMuchCut && shot.stereo.border_deg <= 0)
        out.push_back(
            {fmt::format("{:.0f} % of what lies at the rim of the half sphere at {:.2f} s is nearer than "
                         "where both eyes converge: the rim cuts it off in front of what is behind",
                         100 * share, m->time.to_double()),
             "Let the rim fade, or converge nearer",
             false,
             m->time,
             {}});
    if (const auto [m, px, sum] = worst([](const EyeSummary& s) { return s.torn_px; });
        m && px > kMuchTorn_px) {
        const TornEdge& longest =
            *std::max_element(m->torn.begin(), m->torn.end(),
                              [](const TornEdge& a, const TornEdge& b) { return a.length_px < b.length_px; });
        out.push_back(
            {fmt::format("At {:.2f} s {:.0f} px of edges (of a picture 3840 wide) are torn in one eye alone",
                         m->time.to_double(), px),
             "Give what is there its distance in Seams, or draw a shelter about it", false, m->time,
             longest.direction});
    }
    if (const auto [m, untold, sum] = worst([](const EyeSummary& s) { return 1 - s.told; });
        m && untold > 1 - kFewTold)
        out.push_back(
            {fmt::format("At {:.2f} s the eyes show {:.0f} % of what has detail differently: torn or ghosted "
                         "in one eye, or too near to be fused",
                         m->time.to_double(), 100 * untold),
             drawn ? "Look at the distances in Seams; fine edges help" : "Look at both eyes side by side",
             false,
             m->time,
             {}});
    return out;
}

} // namespace porb
