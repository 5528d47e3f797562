#pragma once

#include "base/progress.h"
#include "patch/plates.h"

namespace porb {

struct FillSettings {
    unsigned seed = 1;  ///< another one makes another variant
    bool turned = true; ///< pieces may be turned and scaled a little, as floors laid in rings ask for
    double reach = 1.0; ///< how far from the hole pieces are taken, as a share of the square's side
};

/// Completes a picture: where `hole` is above a half (row by row), pixels are made from pieces of what lies
/// around, so that every piece of the result looks like some piece of the surroundings. PatchMatch (Barnes,
/// Shechtman, Finkelstein, Goldman 2009) with turned pieces (Barnes et al. 2010) finds them, from coarse to
/// fine; pixels are voted for as by Wexler, Shechtman, Irani 2007. `source`, of the same form, says where
/// pieces may come from; empty: anywhere outside the hole where alpha is 1. The same seed gives the same
/// picture on every machine with the same arithmetic. About 3 s for a hole of 100000 pixels on two cores.
/// Throws Error when there is no surrounding to take pieces from, and Cancelled.
Picture completed(const Picture& picture, const std::vector<float>& hole, const std::vector<float>& source,
                  const FillSettings& settings = {}, const TellShare& tell = {}, const Cancel& cancel = {});

/// For scratches and cables a few pixels wide: carries edges on across them (Telea 2004, OpenCV's).
Picture inpainted(const Picture& picture, const std::vector<float>& hole, double radius_px = 5);

/// Brings one picture's brightness and colour to another's inside `hole` by what differs along its edge,
/// passing smoothly through it: a membrane (Perez, Gangnet, Blake 2003: seamless cloning, with the pasted
/// picture's own gradients). Outside the hole `around` is returned.
Picture healed(const Picture& inside, const Picture& around, const std::vector<float>& hole);

} // namespace porb
