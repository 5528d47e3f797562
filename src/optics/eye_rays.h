#pragma once

#include "optics/vec.h"

namespace porb {

/// The rays that an eye's picture of a whole sphere is made of: each touches the viewing circle, on which the
/// eyes move as a head turns (omnidirectional stereo; Ishiguro, Yamamoto, Tsuji 1992; Peleg, Ben-Ezra, Pritch
/// 2001). Towards the poles eyes come together, so that zenith and nadir are the same to both. A thing is at
/// the same latitude to both eyes, whatever its distance. World axes, levelled.
struct EyeRays {
    double offset_m = 0; ///< of the eye from the circle's middle: right > 0; 0: every ray from the middle
    double turn_deg = 0; ///< convergence: by how much rays look further right than their pixel lies
    double merge_from_deg = 55,
           merge_to_deg = 80; ///< latitudes, either side, between which both shrink to nothing
    bool operator==(const EyeRays&) const = default;

    bool moves() const { return offset_m != 0; }
    /// 1 about the horizon, 0 about the poles. `direction` of any length.
    double share(const Vec3& direction) const;
    /// Where the ray that looks in a unit direction begins.
    Vec3 origin_m(const Vec3& looks) const;
    /// In which direction the ray of a picture's direction looks, and back.
    Vec3 looks(const Vec3& shown) const;
    Vec3 shown(const Vec3& looks) const;
};

/// The rays of an eye `offset_m` right of the middle (left < 0) whose picture lies on the other eye's for
/// things at `converge_m` (0: infinitely far). Nearer ones than the offset itself are taken to be there.
EyeRays converged(EyeRays rays, double converge_m);

/// The same in a rig's axes.
struct RigEyeRays {
    EyeRays rays;
    Mat3 to_world = Mat3::Identity(); ///< rig directions become world directions by it
    bool operator==(const RigEyeRays&) const = default;
    Vec3 origin_m(const Vec3& rig_looks) const {
        return to_world.transpose() * rays.origin_m(to_world * rig_looks);
    }
};

} // namespace porb
