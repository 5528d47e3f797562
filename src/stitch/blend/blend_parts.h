#pragma once

// What the kernel of blending and its reference have in common; for these two alone.
#include <array>
#include <cstddef>
#include <cstdint>

namespace porb {

/// Weights of four neighbours for a place `t` (0 to 1) between the middle two (Catmull and Rom 1974).
inline std::array<double, 4> catmull_rom(double t) {
    return {((-0.5 * t + 1) * t - 0.5) * t, (1.5 * t - 2.5) * t * t + 1, ((-1.5 * t + 2) * t + 0.5) * t,
            (0.5 * t - 0.5) * t * t};
}

/// The bit of a camera in FrameParts::hidden; those that have none see everything.
inline constexpr std::uint64_t hidden_bit(std::size_t camera) {
    return camera < 64 ? std::uint64_t(1) << camera : 0;
}

} // namespace porb
