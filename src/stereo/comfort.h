#pragma once

#include "stereo/measure.h"

namespace porb {

/// Convergence and interpupillary distance that keep what was measured inside the shot's comfort budget.
struct ComfortFit {
    double ipd_m = 0.064, converge_m = 0; ///< the latter 0: infinitely far
    double nearest_deg = 0,
           farthest_deg = 0; ///< what disparities will then be, all but a hundredth either way
    bool fits = true;        ///< else the nearest is kept inside, and what is far lies past the budget
};
/// Only eyes drawn from distances change their interpupillary distance, and only to less, when the budget
/// asks for it; cameras stand where they stand. Of what may be chosen the convergence nearest to the shot's
/// own. Throws Error when nothing was measured.
ComfortFit fitted_to_comfort(const Shot& shot, std::span<const EyeMoment> moments);

/// Where both eyes' pictures would have to lie on each other so that what a place shows has so much
/// disparity. Metres; 0: infinitely far.
double converge_for(const Shot& shot, Seconds time, const EyePlace& place, double wanted_deg);

/// The disparity of what a shot shows in a direction at a moment (world axes, where the left eye sees it): of
/// the measured places within some degrees the nearest one. Nothing where both eyes do not show it alike.
std::optional<EyePlace> place_towards(const EyeMoment& moment, const Vec3& direction);

/// How far away things are in a direction (world axes), from the shot's distances where it has any, else from
/// the two eyes' pictures there. Metres; 0: infinitely far, or none is found.
double distance_towards(Composer& composer, const Project& project, const Shot& shot, Seconds time,
                        const Vec3& direction, const Cancel& cancel = {});

/// Where a shot must converge at its beginning so that a subject has the disparity that it has at the end of
/// a shot before it: no jump of depth at the cut.
struct Met {
    Seconds time{0};                    ///< of the shot, its beginning
    double before_deg = 0, was_deg = 0; ///< the subject's disparity at the end of the shot before, and here
    double converge_m = 0;
};
/// Directions in world axes of either shot. Throws Error where both eyes do not show the subject alike.
Met meeting(Composer& composer, const Project& project, const Shot& before, const Vec3& there,
            const Shot& shot, const Vec3& here, const Cancel& cancel = {});

} // namespace porb
