#include "solve/bundle/bundle.h"

#include "base/error.h"
#include "solve/bundle/bundle_state.h"

#include <fmt/format.h>

namespace porb {

namespace {
constexpr double kDistortionTells =
    0.87; ///< residuals must shrink to this share before distortion is believed
constexpr double kDistortionStraightens =
    0.5; ///< or lines bend less, to this share, while the points say nothing against it
constexpr double kPositionsTell = 0.6; ///< and to this share before other places of the cameras are
constexpr double kFarNoise = 1.25,
                 kFarSlackPx = 0.04; ///< no parallax is visible when residuals grow by less without it

constexpr double kWideLossPx = 12, kFirstLossPx = 4,
                 kLossPx = 1; ///< where points begin to count less, stage by stage
constexpr std::size_t kFewObservations = 20;
constexpr int kSteps = 60, kWarmSteps = 20;

/// Solves with everything that may change, and again while the spread of distances still settles. In the last
/// rounds points that miss by a few times the noise count less: edges of things, where two lenses see
/// different grounds behind, would pull otherwise. Returns the cost that is left.
double settle(Bundle& bundle, bool positions, bool rough) {
    double cost = bundle.solve(true, positions, rough ? kFirstLossPx : kLossPx);
    for (int round = 0; round < 3 && bundle.draw_distances(); ++round)
        cost = bundle.solve(true, positions, rough ? kFirstLossPx : bundle.tight_loss_px());
    return cost;
}

/// A few steps from where the last solve ended, with what it decided.
void settle_warm(Bundle& bundle, const BundleProblem& problem) {
    const Decided& w = *problem.warm;
    bundle.hold_distortion(!w.distortion);
    bundle.hold_positions(!w.positions);
    if (w.far) bundle.set_far();
    bundle.limit_steps(problem.last ? kSteps : kWarmSteps);
    bundle.draw_distances();
    bundle.solve(true, w.positions, kTightLoss * std::max(kLeastNoisePx, w.noise_px));
    if (!problem.last) return; // enough to see which points are wrong
    bundle.draw_distances();
    bundle.solve(true, w.positions, bundle.tight_loss_px());
}

/// Turns and lenses. A wider view, more distortion and nearer things look much alike, and the valley between
/// them is long: it is entered from both ends, everything infinitely far and distances free, and the lower
/// end kept. Returns whether everything is far.
bool enter_valley(Bundle& bundle, const BundleProblem& problem) {
    bundle.solve(false, false, kWideLossPx);
    if (!problem.settings.depth_per_point || problem.observations.size() < kFewObservations) {
        bundle.solve(true, false, kFirstLossPx);
        settle(bundle, false, problem.rough);
        return false;
    }
    const auto begin = bundle.remember();
    bundle.set_far();
    bundle.solve(true, false, kFirstLossPx);
    if (!problem.rough) bundle.solve(true, false, kLossPx);
    const auto far = bundle.remember();
    const double far_noise = bundle.noise();
    bundle.go_back(far);
    const double from_far = settle(bundle, false, problem.rough);
    // Without visible parallax, distances are not left free to hide what is wrong with a lens. A lens that
    // came out impossible is no such sign.
    if (far_noise < kImpossiblePx && far_noise < kFarNoise * bundle.noise() + kFarSlackPx) {
        bundle.go_back(far, true);
        return true;
    }
    if (problem.rough) return false;
    const auto one = bundle.remember();
    const bool possible = bundle.noise() < kImpossiblePx;
    bundle.go_back(begin);
    bundle.solve(true, false, kFirstLossPx);
    if (settle(bundle, false, false) > from_far && possible) bundle.go_back(one);
    return false;
}

/// Distortion only where the points speak for it: near a rim alone it can hardly be told from the focal
/// length.
bool believes_distortion(Bundle& bundle, const BundleProblem& problem, bool far) {
    if (problem.settings.distortion == Freedom::locked) return false;
    const auto with = bundle.remember();
    const double bent_noise = bundle.noise(), bent_lines = bundle.line_noise();
    bundle.hold_distortion(true);
    if (far)
        bundle.solve(true, false, bundle.tight_loss_px());
    else
        settle(bundle, false, false);
    const bool points_tell = bent_noise < kDistortionTells * bundle.noise();
    const bool lines_tell =
        bent_lines < kDistortionStraightens * bundle.line_noise() && bent_noise <= bundle.noise();
    if (!points_tell && !lines_tell) return false;
    bundle.hold_distortion(false);
    bundle.go_back(with, far);
    return true;
}

/// Places last, and only where they make residuals clearly smaller: with them free a wider view, nearer
/// things and cameras a little farther out all fit almost alike.
bool believes_positions(Bundle& bundle, const BundleProblem& problem, bool far) {
    if (far || !problem.settings.depth_per_point || problem.settings.position == Freedom::locked)
        return false;
    const auto without = bundle.remember();
    const double held_noise = bundle.noise();
    settle(bundle, true, false);
    if (bundle.noise() <= kPositionsTell * held_noise) return true;
    bundle.go_back(without);
    return false;
}

Error impossible_lens(const std::string& camera, const LensFault& fault) {
    return Error(fmt::format("the points ask for an impossible lens: {} {}", fault.member, fault.what),
                 "camera " + camera, "Lock its lens, or drop the points that are wrong");
}

/// Uncertainties; what cannot be told is put back and the rest solved again, impossible lenses go back to
/// where they began.
std::vector<ValueFigure> judge_and_mend(Bundle& bundle) {
    std::vector<ValueFigure> known;
    for (int round = 0; round < 4; ++round) {
        const Rig rig = bundle.rig();
        bool again = false;
        for (std::size_t c = 0; c < rig.cameras.size(); ++c)
            if (const auto fault = fault_in(rig.cameras[c].lens)) {
                if (!bundle.put_back(c)) throw impossible_lens(rig.cameras[c].id, *fault);
                again = true;
            }
        if (!again) {
            std::vector<ValueFigure> values;
            again = bundle.judge(bundle.noise(), values);
            // What was put back in an earlier round keeps its place in the list.
            for (const auto& old : known)
                if (!old.determined && std::none_of(values.begin(), values.end(), [&](const ValueFigure& v) {
                        return v.camera == old.camera && v.name == old.name;
                    }))
                    values.push_back(old);
            known = std::move(values);
        }
        if (!again) break;
        bundle.solve(true, true, bundle.tight_loss_px()); // what is held stays held
    }
    for (const auto& c : bundle.rig().cameras)
        if (const auto fault = fault_in(c.lens)) throw impossible_lens(c.id, *fault);
    return known;
}

} // namespace

BundleSolution solve_bundle(const BundleProblem& problem, const Cancel& cancel) {
    if (problem.observations.empty() && problem.lines.empty())
        throw Error("there is nothing to solve from", "the shot's points",
                    "Find points, or set some by hand");
    Bundle bundle(problem, cancel);
    BundleSolution out;
    if (problem.warm) {
        settle_warm(bundle, problem);
        out.decided = *problem.warm;
        // Wrong points may have asked for distortion; they are left out by now.
        if (problem.last && out.decided.distortion)
            out.decided.distortion = believes_distortion(bundle, problem, out.decided.far);
    } else {
        out.decided.far = enter_valley(bundle, problem);
        if (!problem.rough) {
            out.decided.distortion = believes_distortion(bundle, problem, out.decided.far);
            out.decided.positions = believes_positions(bundle, problem, out.decided.far);
            bundle.hold_positions(!out.decided.positions);
        }
    }
    if (problem.last && !problem.rough) out.values = judge_and_mend(bundle);
    out.joint_residuals_px = bundle.joint_residuals(bundle.rig());
    out.rig = bundle.rig_in_place();
    if (problem.rough || !problem.last) // not the end yet: a lens that is impossible now may not stay so
        for (std::size_t c = 0; c < out.rig.cameras.size(); ++c)
            if (fault_in(out.rig.cameras[c].lens)) out.rig.cameras[c].lens = problem.start.cameras[c].lens;
    out.decided.noise_px = bundle.noise();
    return out;
}

} // namespace porb
