#include "stereo/comfort.h"

#include "base/angle.h"
#include "base/error.h"
#include "project/orientation.h"
#include "project/span.h"

#include <algorithm>
#include <cmath>

namespace porb {

namespace {

const EyeMeasuring kPlacesAlone{.torn = false};

constexpr double kRoom = 0.95;         ///< of the budget, that is used: other moments reach a little further
constexpr double kInfinitely_m = 1000; ///< further than that eyes are as good as parallel

double separation_m(const Shot& shot) {
    return shot.stereo.from == EyesFrom::distances ? shot.stereo.ipd_m : eye_separation_m(shot.rig);
}
/// By how much eyes that stand so far apart turn in together to converge there, and back.
double turn_for_deg(double separation, double converge_m) {
    return converge_m > 0 ? 2 * degrees(std::asin(std::clamp(separation / 2 / converge_m, 0.0, 1.0))) : 0;
}
double converge_of(double separation, double turn_deg) {
    const double metres = turn_deg > 0 ? separation / 2 / std::sin(radians(turn_deg / 2)) : 0;
    return metres < kInfinitely_m ? metres : 0;
}

} // namespace

ComfortFit fitted_to_comfort(const Shot& shot, std::span<const EyeMoment> moments) {
    double near = -1e9, far = 1e9; // as parallel eyes see it
    for (const EyeMoment& m : moments) {
        if (m.places.empty()) continue;
        const EyeSummary s = summary_of(m, shot);
        near = std::max(near, parallel_disparity_deg(shot, m.time, s.nearest_deg));
        far = std::min(far, parallel_disparity_deg(shot, m.time, s.farthest_deg));
    }
    if (near < far)
        throw Error("shows nothing that both eyes see", "shot " + shot.name,
                    "Choose where its eyes come from, then measure them");
    const ComfortBudget budget{kRoom * shot.stereo.comfort.near_deg, kRoom * shot.stereo.comfort.far_deg};
    const bool drawn = shot.stereo.from == EyesFrom::distances;
    ComfortFit out;
    double separation = separation_m(shot), share = 1;
    const double room = budget.near_deg + budget.far_deg;
    if (near - far > room) {
        if (drawn)
            share = room / (near - far);
        else
            out.fits = false;
    }
    separation *= share, near *= share, far *= share;
    const double own = turn_for_deg(separation, converge_at(shot.stereo, shot.timing.in));
    const double least = std::max(0.0, near - budget.near_deg), most = std::max(least, far + budget.far_deg);
    const double turn = std::clamp(own, least, most);
    out.ipd_m = drawn ? separation : shot.stereo.ipd_m;
    out.converge_m = converge_of(separation, turn);
    out.nearest_deg = near - turn, out.farthest_deg = far - turn;
    return out;
}

double converge_for(const Shot& shot, Seconds time, const EyePlace& place, double wanted_deg) {
    const double parallel = parallel_disparity_deg(shot, time, double(place.horizontal_deg));
    return converge_of(separation_m(shot), parallel - wanted_deg);
}

std::optional<EyePlace> place_towards(const EyeMoment& moment, const Vec3& direction) {
    constexpr double kNear_deg = 8;
    const EyePlace* nearest = nullptr;
    for (const EyePlace& p : moment.places)
        if (!nearest || p.direction.dot(direction) > nearest->direction.dot(direction)) nearest = &p;
    if (!nearest || nearest->direction.dot(direction) < std::cos(radians(kNear_deg)) * direction.norm())
        return std::nullopt;
    return *nearest;
}

double distance_towards(Composer& composer, const Project& project, const Shot& shot, Seconds time,
                        const Vec3& direction, const Cancel& cancel) {
    if (shot.stereo.from != EyesFrom::cameras || eye_separation_m(shot.rig) == 0) {
        const SphereGrid found = composer.distances(project, shot, time, Eye::mono, cancel);
        const double agree = shot.seams.agree_distance_m > 0 ? 1 / shot.seams.agree_distance_m : 0;
        const double inverse =
            found.empty() ? agree : found.at(orientation_at(shot, time).transpose() * direction);
        return inverse > 1 / kInfinitely_m ? 1 / inverse : 0;
    }
    const EyeMoment there = measure_eyes(composer, project, shot, time, kPlacesAlone, cancel);
    const auto nearest = place_towards(there, direction);
    if (!nearest) return 0;
    return converge_for(shot, time, *nearest, 0);
}

Met meeting(Composer& composer, const Project& project, const Shot& before, const Vec3& there,
            const Shot& shot, const Vec3& here, const Cancel& cancel) {
    const auto subject = [&](const Shot& of, Seconds time, const Vec3& direction) {
        const auto place =
            place_towards(measure_eyes(composer, project, of, time, kPlacesAlone, cancel), direction);
        if (!place)
            throw Error("shows both eyes nothing alike in that direction", "shot " + of.name,
                        "Choose a place with detail, and see that the shot has two eyes");
        return *place;
    };
    const Span ends = used_span(project, before, composer.library()),
               begins = used_span(project, shot, composer.library());
    Met out;
    out.time = begins.in;
    out.before_deg =
        double(subject(before, ends.out - Rational(1) / before.timing.rate, there).horizontal_deg);
    const EyePlace now = subject(shot, begins.in, here);
    out.was_deg = double(now.horizontal_deg);
    out.converge_m = converge_for(shot, begins.in, now, out.before_deg);
    return out;
}

} // namespace porb
