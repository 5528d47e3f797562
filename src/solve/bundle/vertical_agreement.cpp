#include "solve/bundle/vertical_agreement.h"

#include "base/angle.h"
#include "optics/eye_pairs.h"

#include <Eigen/Dense>

#include <algorithm>
#include <array>
#include <cmath>

namespace porb {

namespace {

constexpr double kPx_rad = 180.0 / 2048 * kPi / 180; ///< one pixel of a half sphere 2048 a side
constexpr double kNeeded_px = 0.1, kTakesOff = 0.1;
constexpr std::size_t kLeastObservations = 60;
constexpr double kNoise_px = 0.3, kLoss_px = 1; ///< of an observation; beyond the latter it counts less
constexpr int kRounds = 6;
constexpr int kTurns = 3;

/// A term that moves what a lens shows up and down, by what it is held back.
struct Term {
    double sigma;
    void (*add)(NonRadial&, double);
};
/// From the broadest to the finest.
const std::array<Term, 5> kTerms{{
    {0.004, [](NonRadial& n, double v) { n.prism[2] += v; }},      // with the square of the radius
    {0.004, [](NonRadial& n, double v) { n.tangential[0] += v; }}, // and of the height
    {0.004, [](NonRadial& n, double v) { n.tangential[1] += v; }}, // with width times height
    {0.004, [](NonRadial& n, double v) { n.aspect *= 1 + v; }},    // with the height
    {0.002, [](NonRadial& n, double v) { n.prism[3] += v; }},      // with the fourth power of the radius
}};

/// Which camera is the left eye's, and which the right one's.
struct Pair {
    std::size_t left, right;
};
Pair pair_of(const Rig& rig) {
    const bool first = rig.cameras[0].eyes == Eyes::left;
    return {first ? 0u : 1u, first ? 1u : 0u};
}

/// The rig with turns (radians, about its axes) and terms, half to the right eye and half the other way to
/// the left. Nothing where a lens cannot be so.
std::optional<Rig> bent_by(const Rig& rig, const Eigen::VectorXd& by) {
    Rig out = rig;
    const Pair p = pair_of(rig);
    for (const auto& [camera, half] : {std::pair(p.left, -0.5), std::pair(p.right, 0.5)}) {
        Camera& c = out.cameras[camera];
        const Vec3 turn = half * Vec3(by[0], by[1], by[2]);
        if (turn.norm() > 0)
            c.pose.turn =
                turn_of(Mat3(Eigen::AngleAxisd(turn.norm(), turn.normalized())) * rotation_of(c.pose.turn));
        for (Eigen::Index k = kTurns; k < by.size(); ++k)
            kTerms[std::size_t(k - kTurns)].add(c.lens.non_radial, half * by[k]);
        if (fault_in(c.lens)) return std::nullopt;
    }
    return out;
}

/// Mean of what is off, pixels; of every second observation only where `half` is 0 or 1.
double mean_px(const Rig& rig, std::span<const Observation> all, int half = -1) {
    const auto misses = vertical_misses(rig, all);
    double sum = 0;
    int n = 0;
    for (std::size_t i = 0; i < misses.size(); ++i)
        if (misses[i] && (half < 0 || int(i % 2) == half)) sum += std::abs(*misses[i]) / kPx_rad, ++n;
    return n > 0 ? sum / n : 0;
}

/// Gauss-Newton with slopes by differences: the turns free, terms held near nothing.
std::optional<Rig> fitted_terms(const Rig& rig, std::span<const Observation> all, int terms, int half) {
    const Eigen::Index n = kTurns + terms;
    Eigen::VectorXd by = Eigen::VectorXd::Zero(n);
    for (int round = 0; round < kRounds; ++round) {
        const auto now = bent_by(rig, by);
        if (!now) return std::nullopt;
        const auto misses = vertical_misses(*now, all);
        std::vector<std::vector<std::optional<double>>> moved;
        std::vector<double> steps;
        for (Eigen::Index k = 0; k < n; ++k) {
            steps.push_back(k < kTurns ? 1e-5 : 1e-2 * kTerms[std::size_t(k - kTurns)].sigma);
            Eigen::VectorXd beside = by;
            beside[k] += steps.back();
            const auto there = bent_by(rig, beside);
            if (!there) return std::nullopt;
            moved.push_back(vertical_misses(*there, all));
        }
        Eigen::MatrixXd a = Eigen::MatrixXd::Zero(n, n);
        Eigen::VectorXd b = Eigen::VectorXd::Zero(n);
        for (std::size_t i = 0; i < all.size(); ++i) {
            if (half >= 0 && int(i % 2) != half) continue;
            Eigen::VectorXd slope(n);
            bool seen = misses[i].has_value();
            for (Eigen::Index k = 0; seen && k < n; ++k) {
                seen = moved[std::size_t(k)][i].has_value();
                if (seen)
                    slope[k] = (*moved[std::size_t(k)][i] - *misses[i]) / steps[std::size_t(k)] / kPx_rad;
            }
            if (!seen) continue;
            const double px = *misses[i] / kPx_rad;
            const double weight = all[i].weight * (std::abs(px) > kLoss_px ? kLoss_px / std::abs(px) : 1);
            a += weight * slope * slope.transpose();
            b -= weight * px * slope;
        }
        for (Eigen::Index k = kTurns; k < n; ++k) {
            const double held = std::pow(kNoise_px / kTerms[std::size_t(k - kTurns)].sigma, 2);
            a(k, k) += held;
            b[k] -= held * by[k];
        }
        a.diagonal().array() += 1e-9 * (1 + a.diagonal().maxCoeff());
        by += a.ldlt().solve(b);
        if (!by.allFinite()) return std::nullopt;
    }
    return bent_by(rig, by);
}

/// How far a picture moves and straight lines bend, by what one lens became.
void tell_change(const Lens& before, const Lens& after, VerticalAgreement& out) {
    constexpr double kHighest_deg = 80, kStep_deg = 10, kLine_deg = 20; // either side of a line's middle
    const LensMap from(before), to(after);
    const auto moved = [&](const Vec3& d) -> std::optional<Vec3> {
        const auto px = from.project(d);
        return px ? to.unproject(*px) : std::nullopt;
    };
    for (double theta = 0; theta <= kHighest_deg; theta += kStep_deg)
        for (double phi = 0; phi < 360; phi += kStep_deg) {
            const Vec3 d(std::sin(radians(theta)) * std::cos(radians(phi)),
                         std::sin(radians(theta)) * std::sin(radians(phi)), std::cos(radians(theta)));
            const auto there = moved(d);
            if (!there) continue;
            out.size_px = std::max(out.size_px, std::acos(std::min(1.0, d.dot(*there))) / kPx_rad);
            for (const double way_deg : {0.0, 45.0, 90.0, 135.0}) {
                const Vec3 east = std::abs(d.y()) < 0.9 ? Vec3(Vec3(0, 1, 0).cross(d).normalized())
                                                        : Vec3(1, 0, 0),
                           down = d.cross(east).normalized();
                const Vec3 along = std::cos(radians(way_deg)) * east + std::sin(radians(way_deg)) * down;
                const double c = std::cos(radians(kLine_deg)), s = std::sin(radians(kLine_deg));
                const auto one = moved(c * d - s * along), other = moved(c * d + s * along);
                if (!one || !other) continue;
                const double off = std::asin(std::abs(there->dot(one->cross(*other).normalized())));
                out.bends_px = std::max(out.bends_px, off / kPx_rad);
            }
        }
}

} // namespace

std::vector<std::optional<double>> vertical_misses(const Rig& rig,
                                                   std::span<const Observation> observations) {
    const Pair pair = pair_of(rig);
    const Camera &left = rig.cameras[pair.left], &right = rig.cameras[pair.right];
    const LensMap left_map(left.lens), right_map(right.lens);
    const Mat3 left_turn = rotation_of(left.pose.turn), right_turn = rotation_of(right.pose.turn);
    const Vec3 along = (right.pose.position_m - left.pose.position_m).normalized();
    constexpr double kLeastAcross = 0.3; // beside the baseline itself planes come together
    std::vector<std::optional<double>> out;
    for (const Observation& o : observations) {
        out.emplace_back();
        const bool a_is_left = o.a == pair.left;
        const auto l = left_map.unproject(a_is_left ? o.a_px : o.b_px),
                   r = right_map.unproject(a_is_left ? o.b_px : o.a_px);
        if (!l || !r) continue;
        const Vec3 across = along.cross(left_turn * *l);
        if (across.norm() < kLeastAcross) continue;
        out.back() = std::asin(std::clamp((right_turn * *r).dot(across.normalized()), -1.0, 1.0));
    }
    return out;
}

std::optional<VerticalAgreement> agree_vertically(Rig& rig, std::span<const Observation> observations) {
    if (!is_half_sphere_pair(rig) || observations.size() < kLeastObservations) return std::nullopt;
    if ((rig.cameras[0].pose.position_m - rig.cameras[1].pose.position_m).norm() < 1e-4) return std::nullopt;
    VerticalAgreement out;
    out.before_px = mean_px(rig, observations);
    if (out.before_px < kNeeded_px) return std::nullopt;
    // Each half judges what was fitted to the other. What turning alone would do is no reason for a term.
    const auto judged = [&](int terms) {
        double sum = 0;
        for (const int half : {0, 1}) {
            const auto there = fitted_terms(rig, observations, terms, half);
            sum += there ? mean_px(*there, observations, 1 - half) / 2 : 1e9;
        }
        return sum;
    };
    double best = judged(0);
    for (int terms = 1; terms <= int(kTerms.size()); ++terms)
        if (const double now = judged(terms); now < (1 - kTakesOff) * best) best = now, out.terms = terms;
    if (out.terms == 0) return std::nullopt;
    const auto agreed = fitted_terms(rig, observations, out.terms, -1);
    if (!agreed) return std::nullopt;
    out.after_px = mean_px(*agreed, observations);
    for (std::size_t c = 0; c < 2; ++c) tell_change(rig.cameras[c].lens, agreed->cameras[c].lens, out);
    rig = *agreed;
    return out;
}

} // namespace porb
