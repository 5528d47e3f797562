#pragma once

#include "project/project.h"

namespace porb {

/// The turn that takes the rig's directions to the world's at a shot time: the shot's orientation or its
/// keys, after shake was taken out. A pure function of the shot.
Mat3 orientation_at(const Shot& shot, Seconds time);

/// A direction of the world in the rig's axes.
Vec3 in_rig_axes(const Shot& shot, Seconds time, const Vec3& world_direction);

/// The keyed part alone: a C1 curve through the keys (Shoemake 1985: Bezier curves on quaternions, tangents
/// from the neighbours); before the first and after the last it rests. Without keys the shot's orientation.
Mat3 keyed_orientation(const Shot& shot, double seconds);

/// The steadying part alone, in the levelled world's axes: what is left of the rig's own turning once the
/// strength, horizon and follow settings have been applied; identity without steadying.
Mat3 steadying(const Shot& shot, double seconds);

/// How the rig turned at a shot time according to the steady path: rig directions to those of the still
/// world.
Mat3 path_at(const Steady& steady, double seconds);
/// Its rate there, in the rig's axes, radians a second.
Vec3 spin_at(const Steady& steady, double seconds);

/// Whether the orientation differs between moments.
bool orientation_moves(const Shot& shot);

/// Sets the orientation as it should be at `time`: the key there (made when the shot has keys), or the shot's
/// own.
void set_orientation(Shot& shot, Seconds time, const Mat3& orientation);
/// Turns everything, keys included, by `turn` in world axes.
void turn_all(Shot& shot, const Mat3& turn);

} // namespace porb
