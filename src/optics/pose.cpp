#include "optics/pose.h"

#include "base/angle.h"

#include <Eigen/Geometry>
#include <Eigen/SVD>

#include <algorithm>

namespace porb {

Mat3 rotation_of(const Turn& turn) {
    return (Eigen::AngleAxisd(radians(turn.yaw_deg), Vec3::UnitY()) *
            Eigen::AngleAxisd(radians(turn.pitch_deg), Vec3::UnitX()) *
            Eigen::AngleAxisd(radians(turn.roll_deg), Vec3::UnitZ()))
        .toRotationMatrix();
}

Turn turn_of(const Mat3& r) {
    // Third column is the forward axis: (sin yaw cos pitch, -sin pitch, cos yaw cos pitch).
    const double pitch = std::asin(std::clamp(-r(1, 2), -1.0, 1.0));
    const double level = std::hypot(r(0, 2), r(2, 2));
    double yaw, roll;
    if (level > 1e-9) {
        yaw = std::atan2(r(0, 2), r(2, 2));
        roll = std::atan2(r(1, 0), r(1, 1));
    } else {
        yaw = std::atan2(-r(2, 0), r(0, 0));
        roll = 0;
    }
    return {wrapped_deg(degrees(yaw)), degrees(pitch), wrapped_deg(degrees(roll))};
}

Vec3 forward_of(const Turn& turn) {
    return rotation_of(turn) * Vec3(0, 0, 1);
}

Turn turn_towards(const Vec3& d) {
    return {degrees(std::atan2(d.x(), d.z())), degrees(std::asin(std::clamp(-d.y(), -1.0, 1.0))), 0};
}

Turn tidied(const Turn& turn) {
    if (std::abs(turn.pitch_deg) <= 90)
        return {wrapped_deg(turn.yaw_deg), turn.pitch_deg, wrapped_deg(turn.roll_deg)};
    return turn_of(rotation_of(turn));
}

Mat3 rotation_about(const Vec3& axis, double angle_rad) {
    return Eigen::AngleAxisd(angle_rad, axis).toRotationMatrix();
}

Mat3 rotation_between(const Vec3& from, const Vec3& to) {
    return Eigen::Quaterniond::FromTwoVectors(from, to).toRotationMatrix();
}

Vec3 rotation_vector(const Mat3& rotation) {
    const Eigen::AngleAxisd a(rotation);
    return a.axis() * a.angle();
}

Mat3 rotation_from_vector(const Vec3& v) {
    const double angle = v.norm();
    if (angle < 1e-15) return Mat3::Identity();
    return rotation_about(v / angle, angle);
}

Mat3 nearest_rotation(const Mat3& m) {
    const Eigen::JacobiSVD<Mat3> svd(m, Eigen::ComputeFullU | Eigen::ComputeFullV);
    Mat3 flip = Mat3::Identity();
    flip(2, 2) = (svd.matrixU() * svd.matrixV().transpose()).determinant() < 0 ? -1 : 1;
    return svd.matrixU() * flip * svd.matrixV().transpose();
}

} // namespace porb
