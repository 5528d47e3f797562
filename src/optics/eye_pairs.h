#pragma once

#include "optics/rig.h"

namespace porb {

/// Whether a rig is a left and a right camera and nothing else: they see half a sphere, and each eye's
/// picture comes from one of them. Rigs with such a pair for each direction see all of it.
inline bool is_half_sphere_pair(const Rig& rig) {
    return rig.cameras.size() == 2 && rig.cameras[0].eyes != Eyes::both &&
           rig.cameras[1].eyes != Eyes::both && rig.cameras[0].eyes != rig.cameras[1].eyes;
}

} // namespace porb
