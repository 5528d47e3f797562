#pragma once

#include "base/angle.h"
#include "sim/tracer.h"

namespace porb::sim {

/// What things of the hall are made of.
enum Material {
    floor_stone,
    wall,
    dome,
    column_stone,
    brass,
    wood,
    cloth,
    skin,
    leather,
    iron,
    globe,
    book,
    rug,
    leaf,
    plaster, ///< one colour, nothing to match by
    felt,    ///< the same, dark
    planet,  ///< planet + i is the i-th
};

/// Heights are values of y, which points down: of the floor, and of the dome's foot.
constexpr float kFloor = 1.6f, kSpring = -3.4f;
constexpr float kRadius = 7.0f;
constexpr float kTurn = float(2 * kPi);

/// At a radius and an angle about the hall's axis, 0 forward.
inline Vec3f at_angle(float radius, float angle, float y) {
    return {radius * std::sin(angle), y, radius * std::cos(angle)};
}

} // namespace porb::sim
