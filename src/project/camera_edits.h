#pragma once

#include "base/progress.h"
#include "media/library.h"
#include "optics/calibration.h"
#include "optics/circle_finder.h"
#include "project/project.h"

namespace porb {

/// Cameras of the shot's rig whose lenses are like that of `camera` (itself included): same kind and size of
/// picture.
std::vector<std::string> alike_cameras(const Rig& rig, std::string_view camera);

/// The lens of `from` with its places moved to where `onto` has its circle: a lens is pasted onto a picture,
/// whose circle stays where the light is. Sizes may differ.
Lens pasted_lens(const Lens& from, const Lens& onto);

/// Moves and sizes a circle as an artist means it: the lens centre goes along, the field of view stays.
void set_circle(Lens& lens, const ImageCircle& circle);

/// Looks for the circles of one medium at a few moments of the used part. Cameras that share it are found
/// together. Throws Error when it cannot be read.
CircleSearch find_shot_circles(const Project& project, const Shot& shot, std::string_view media,
                               MediaLibrary& library, const Cancel& cancel);
/// Puts found circles into the cameras of that medium, each into the camera whose circle lies nearest, marked
/// as found. Locked lenses stay. Returns how many were set.
int take_circles(Shot& shot, std::string_view media, const CircleSearch& found);

/// The calibration's lenses for the given cameras (one, or two for a pair), marked with `origin`; sizes of
/// the same shape are scaled. A pair's second camera is placed against the first. Throws Error when it does
/// not fit.
void take_calibration(Shot& shot, const std::vector<std::string>& cameras, const Calibration& calibration,
                      const Origin& origin);

/// Rigs found inside the videos of a shot, joined in its cameras' order; nothing when a camera has none.
std::optional<Rig> embedded_rig(const Project& project, const Shot& shot, MediaLibrary& library);

/// The camera's lens, or pose, as the profile has it; nothing without one.
const Camera* profile_camera(const Shot& shot, std::string_view camera);

} // namespace porb
