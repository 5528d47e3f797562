#pragma once

#include "optics/vec.h"

namespace porb {

/// A turn in degrees; camera (or shot) directions become world directions by R = Ry(yaw) Rx(pitch) Rz(roll).
/// yaw > 0 turns right, pitch > 0 looks up, roll > 0 turns clockwise as seen from behind.
struct Turn {
    double yaw_deg = 0, pitch_deg = 0, roll_deg = 0;
    bool operator==(const Turn&) const = default;
};

struct Pose {
    Turn turn;
    Vec3 position_m{0, 0, 0}; ///< the entrance pupil, in the rig's axes
    bool operator==(const Pose&) const = default;
};

Mat3 rotation_of(const Turn& turn);
/// The angles of a rotation matrix, yaw and roll in (-180, 180], pitch in [-90, 90]; at the poles roll is 0.
Turn turn_of(const Mat3& rotation);
/// Where a turn looks, and the turn without roll that looks there (unit vectors).
Vec3 forward_of(const Turn& turn);
Turn turn_towards(const Vec3& direction);
/// Angles wrapped into the ranges of turn_of, pointing the same way.
Turn tidied(const Turn& turn);

/// `v` rotated by `angle_rad` about the unit vector `axis` (Rodrigues).
Mat3 rotation_about(const Vec3& axis, double angle_rad);
/// The smallest rotation that takes unit vector `from` to unit vector `to`.
Mat3 rotation_between(const Vec3& from, const Vec3& to);

/// Rotation vector (axis times angle) of a rotation, and back.
Vec3 rotation_vector(const Mat3& rotation);
Mat3 rotation_from_vector(const Vec3& v);
/// The rotation nearest to a matrix (Frobenius norm), by singular values.
Mat3 nearest_rotation(const Mat3& m);

} // namespace porb
