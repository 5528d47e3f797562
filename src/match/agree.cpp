#include "match/agree.h"

#include "base/error.h"
#include "solve/bundle/observations.h"
#include "solve/pictures/samples.h"

#include <ceres/ceres.h>
#include <fmt/format.h>

#include <cmath>
#include <numeric>
#include <set>

namespace porb {

namespace {

constexpr double kNoise = 0.03; ///< of one place's logarithm of light, its neighbours alike
constexpr double kGainPrior = 1.5, kVignettingPrior = 0.5,
                 kVignettingDiffers = 0.08; ///< how far from "as shot", ln and share of the light
constexpr double kDriftASecond = 0.08;      ///< how much gains may well change in a second, ln
constexpr int kCountedPlaces =
    150;                         ///< places of a pair and moment that say as much as so many independent ones
constexpr int kLeastPlaces = 12; ///< that tie a camera to the others
constexpr double kKept = 0.75;   ///< of places, in the report's figures

/// Both cameras see the same light: gains and falloffs explain what differs. Residuals: R, G, B.
struct Disagreement {
    const ColourPlace* place;
    double weight;
    template <class T>
    static T left(const T* vignetting, double q) {
        return log(T(1) + q * (vignetting[0] + q * vignetting[1]));
    }
    template <class T>
    bool operator()(const T* a, const T* b, const T* a_falloff, const T* b_falloff, T* out) const {
        const T rim = left(a_falloff, place->a_q) - left(b_falloff, place->b_q);
        for (std::size_t c = 0; c < 3; ++c)
            out[c] = weight * (place->a_light[c] + a[c] - place->b_light[c] - b[c] - rim);
        return true;
    }
};

/// Numbers near others, or near nothing at all.
template <int N>
struct Near {
    double weight;
    template <class T>
    bool operator()(const T* a, const T* b, T* out) const {
        for (int c = 0; c < N; ++c) out[c] = weight * (a[c] - b[c]);
        return true;
    }
    template <class T>
    bool operator()(const T* a, T* out) const {
        for (int c = 0; c < N; ++c) out[c] = weight * a[c];
        return true;
    }
};
template <int N>
void hold_near_none(ceres::Problem& problem, double sigma, double* a) {
    problem.AddResidualBlock(new ceres::AutoDiffCostFunction<Near<N>, N, N>(new Near<N>{1 / sigma}), nullptr,
                             a);
}
template <int N>
void hold_near(ceres::Problem& problem, double sigma, double* a, double* b) {
    problem.AddResidualBlock(new ceres::AutoDiffCostFunction<Near<N>, N, N, N>(new Near<N>{1 / sigma}),
                             nullptr, a, b);
}

using Gains = std::array<double, 3>; ///< natural logarithms

/// The unknowns: gains by moment and camera, falloffs by camera and by kind of lens.
struct Colours {
    std::vector<std::vector<Gains>> gains;
    std::vector<std::array<double, 2>> falloffs, usual;
    std::vector<int> kind; ///< by camera, into usual
};

std::vector<int> kinds_of(const Rig& rig) {
    std::vector<int> kinds = alike_numbers(rig);
    const std::set<int> known(kinds.begin(), kinds.end());
    for (int& k : kinds) k = int(std::distance(known.begin(), known.find(k)));
    return kinds;
}

void solve(const std::vector<ColourMoment>& moments, const MatchSettings& settings, Colours& x) {
    ceres::Problem problem;
    std::set<std::pair<std::size_t, std::size_t>> used; // moment and camera
    for (std::size_t m = 0; m < moments.size(); ++m) {
        const std::size_t at = settings.over_time ? m : 0;
        std::map<std::pair<std::size_t, std::size_t>, int> count;
        for (const auto& p : moments[m].places) ++count[{p.a, p.b}];
        for (const auto& p : moments[m].places) {
            const double crowd = std::sqrt(std::max(1.0, double(count[{p.a, p.b}]) / kCountedPlaces));
            auto* miss = new Disagreement{&p, 1 / (kNoise * crowd)};
            auto* loss = new ceres::CauchyLoss(1 / crowd);
            problem.AddResidualBlock(new ceres::AutoDiffCostFunction<Disagreement, 3, 3, 3, 2, 2>(miss), loss,
                                     x.gains[at][p.a].data(), x.gains[at][p.b].data(), x.falloffs[p.a].data(),
                                     x.falloffs[p.b].data());
            used.insert({at, p.a});
            used.insert({at, p.b});
        }
    }
    for (const auto& [at, c] : used) {
        hold_near_none<3>(problem, kGainPrior, x.gains[at][c].data());
        if (at == 0 || !used.contains({at - 1, c})) continue;
        const double seconds = std::max(1e-3, (moments[at].time - moments[at - 1].time).to_double());
        hold_near<3>(problem, kDriftASecond * std::sqrt(seconds), x.gains[at - 1][c].data(),
                     x.gains[at][c].data());
    }
    for (std::size_t c = 0; c < x.falloffs.size(); ++c) {
        double *own = x.falloffs[c].data(), *usual = x.usual[std::size_t(x.kind[c])].data();
        if (!problem.HasParameterBlock(own)) continue;
        if (!problem.HasParameterBlock(usual)) hold_near_none<2>(problem, kVignettingPrior, usual);
        hold_near<2>(problem, kVignettingDiffers, own, usual);
        for (int i = 0; i < 2; ++i) {
            problem.SetParameterLowerBound(own, i, -0.9);
            problem.SetParameterUpperBound(own, i, 0.9);
        }
        if (!settings.vignetting) {
            problem.SetParameterBlockConstant(own);
            problem.SetParameterBlockConstant(usual);
        }
    }
    ceres::Solver::Options o;
    o.linear_solver_type = ceres::DENSE_NORMAL_CHOLESKY;
    o.max_num_iterations = 60;
    o.logging_type = ceres::SILENT;
    ceres::Solver::Summary summary;
    ceres::Solve(o, &problem, &summary);
}

/// Only differences of gains are told: the mean of all, or of the reference, is brought to nothing.
void anchor(Colours& x, const std::vector<bool>& tied, std::optional<std::size_t> reference) {
    if (reference) {
        for (auto& at : x.gains) {
            const Gains stays = at[*reference];
            for (std::size_t c = 0; c < at.size(); ++c)
                if (tied[c])
                    for (std::size_t i = 0; i < 3; ++i) at[c][i] -= stays[i];
        }
        return;
    }
    Gains mean{};
    double n = 0;
    for (const auto& at : x.gains)
        for (std::size_t c = 0; c < at.size(); ++c)
            if (tied[c]) {
                ++n;
                for (std::size_t i = 0; i < 3; ++i) mean[i] += at[c][i];
            }
    for (auto& at : x.gains)
        for (std::size_t c = 0; c < at.size(); ++c)
            if (tied[c])
                for (std::size_t i = 0; i < 3; ++i) at[c][i] -= mean[i] / n;
}

double kept_rms(std::vector<double> differences) {
    if (differences.empty()) return 0;
    for (double& d : differences) d *= d;
    std::sort(differences.begin(), differences.end());
    differences.resize(std::max<std::size_t>(1, std::size_t(kKept * double(differences.size()))));
    return std::sqrt(std::accumulate(differences.begin(), differences.end(), 0.0) /
                     double(differences.size()));
}

} // namespace

MatchReport agreement(const Shot& shot, const std::vector<ColourMoment>& moments) {
    std::vector<CameraColour> after(shot.cameras.size());
    if (shot.colour.match.on)
        for (std::size_t c = 0; c < after.size(); ++c) after[c] = shot.cameras[c].colour;
    MatchReport report;
    const CameraColour as_shot;
    std::map<std::pair<std::size_t, std::size_t>, std::pair<std::vector<double>, std::vector<double>>> pairs;
    std::vector<double> all_before, all_after;
    for (const auto& moment : moments) {
        report.samples.push_back(moment.time);
        for (const auto& p : moment.places) {
            auto& [was, is] = pairs[{p.a, p.b}];
            was.push_back(difference_ev(p, as_shot, as_shot, moment.time));
            is.push_back(difference_ev(p, after[p.a], after[p.b], moment.time));
            all_before.push_back(was.back());
            all_after.push_back(is.back());
        }
    }
    for (const auto& [pair, differences] : pairs)
        report.pairs.push_back({shot.cameras[pair.first].camera, shot.cameras[pair.second].camera,
                                int(differences.first.size()), kept_rms(differences.first),
                                kept_rms(differences.second)});
    report.before_ev = kept_rms(all_before);
    report.after_ev = kept_rms(all_after);
    return report;
}

Matched match_places(const Shot& shot, const std::vector<ColourMoment>& moments) {
    const MatchSettings& settings = shot.colour.match;
    const std::size_t n = shot.cameras.size();
    std::vector<int> places(n, 0);
    for (const auto& m : moments)
        for (const auto& p : m.places) ++places[p.a], ++places[p.b];
    std::vector<bool> tied(n);
    for (std::size_t c = 0; c < n; ++c) tied[c] = places[c] >= kLeastPlaces;
    if (std::count(tied.begin(), tied.end(), true) < 2)
        throw Error(
            "no two cameras see enough of the same things to be compared", "shot " + shot.name,
            "Check that the rig is solved, that lenses overlap, and that their overlaps are neither black "
            "nor clipped");
    std::optional<std::size_t> reference;
    if (!settings.reference.empty()) {
        for (std::size_t c = 0; c < n; ++c)
            if (shot.cameras[c].camera == settings.reference) reference = c;
        if (!reference || !tied[*reference])
            throw Error("the reference camera " + settings.reference + " overlaps no other",
                        "shot " + shot.name, "Choose another, or none for the mean of all");
    }
    Colours x;
    x.gains.assign(settings.over_time ? moments.size() : 1, std::vector<Gains>(n, Gains{}));
    x.kind = kinds_of(shot.rig);
    x.falloffs.assign(n, {0, 0});
    x.usual.assign(n, {0, 0});
    solve(moments, settings, x);
    anchor(x, tied, reference);

    Matched out;
    for (std::size_t c = 0; c < n; ++c) {
        CameraColour colour = shot.cameras[c].colour;
        colour.gains.clear();
        colour.vignetting = {0, 0};
        if (tied[c]) {
            for (std::size_t m = 0; m < x.gains.size(); ++m) {
                GainKey key{settings.over_time ? moments[m].time : Seconds(0), {}};
                for (std::size_t i = 0; i < 3; ++i) key.ev[i] = x.gains[m][c][i] / std::log(2.0);
                colour.gains.push_back(key);
            }
            if (settings.vignetting) colour.vignetting = x.falloffs[c];
        }
        out.colours.push_back(std::move(colour));
    }
    Shot untrimmed = with_match(shot, out);
    for (auto& c : untrimmed.cameras) c.colour.exposure_ev = c.colour.warmth_ev = c.colour.tint_ev = 0;
    out.report = agreement(untrimmed, moments);
    for (std::size_t c = 0; c < n; ++c)
        if (!tied[c] && shot.cameras[c].used && !shot.cameras[c].media.empty())
            out.report.remarks.push_back(
                fmt::format("Camera {} shares too little with the others to be compared; left as shot.",
                            shot.cameras[c].camera));
    return out;
}

Matched match_shot(const Project& project, const Shot& shot, MediaLibrary& library, const TellMatch& tell,
                   const Cancel& cancel) {
    const auto say = [&](double share, const char* doing) {
        cancel.check();
        if (tell) tell({share, doing});
    };
    say(0, "Choosing samples");
    Shot sampled = shot;
    sampled.calibration.solving.samples = shot.colour.match.samples;
    sampled.calibration.solving.by_hand.clear();
    const auto times = sample_times(project, sampled, library, cancel);
    const auto moments = compare_overlaps(
        project, shot, times, library, [&](double share) { say(0.05 + 0.8 * share, "Comparing overlaps"); },
        cancel);
    say(0.88, "Solving gains");
    Matched out = match_places(shot, moments);
    out.moments = moments;
    say(1, "Matched");
    return out;
}

Shot with_match(const Shot& shot, const Matched& matched) {
    Shot out = shot;
    for (std::size_t c = 0; c < out.cameras.size(); ++c) out.cameras[c].colour = matched.colours[c];
    out.colour.match.on = true;
    out.colour.match.apart_ev = std::min(16.0, matched.report.after_ev);
    return out;
}

} // namespace porb
