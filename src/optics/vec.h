#pragma once

#include <Eigen/Core>

namespace porb {

using Vec2 = Eigen::Vector2d;
using Vec3 = Eigen::Vector3d; ///< x right, y down, z forward
using Mat3 = Eigen::Matrix3d;

} // namespace porb
