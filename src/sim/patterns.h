#pragma once

#include "sim/tracer.h"

#include <algorithm>
#include <cstdint>

namespace porb::sim {

/// A fixed value in [0, 1) for whole-number places.
inline float hash01(int x, int y = 0, int z = 0) {
    auto h = std::uint32_t(x) * 0x8da6b343u ^ std::uint32_t(y) * 0xd8163841u ^ std::uint32_t(z) * 0xcb1ab31fu;
    h ^= h >> 15;
    h *= 0x2c1b3c6du;
    h ^= h >> 12;
    h *= 0x297a2d39u;
    h ^= h >> 15;
    return float(h >> 8) / 16777216.0f;
}

inline float mix(float a, float b, float t) {
    return a + (b - a) * t;
}
inline Vec3f mix(const Vec3f& a, const Vec3f& b, float t) {
    return a + (b - a) * t;
}
inline float smooth(float low, float high, float v) {
    const float t = std::clamp((v - low) / (high - low), 0.0f, 1.0f);
    return t * t * (3 - 2 * t);
}

/// Smooth value noise in [0, 1], features about one unit wide; and four octaves of it.
inline float noise(const Vec3f& p) {
    const Vec3f f(std::floor(p.x()), std::floor(p.y()), std::floor(p.z()));
    const Vec3f t = p - f;
    const int x = int(f.x()), y = int(f.y()), z = int(f.z());
    const auto s = [](float v) { return v * v * (3 - 2 * v); };
    const float u = s(t.x()), v = s(t.y()), w = s(t.z());
    const auto edge = [&](int dy, int dz) {
        return mix(hash01(x, y + dy, z + dz), hash01(x + 1, y + dy, z + dz), u);
    };
    return mix(mix(edge(0, 0), edge(1, 0), v), mix(edge(0, 1), edge(1, 1), v), w);
}
inline float clouds(const Vec3f& p) {
    return (noise(p) * 8 + noise(p * 2.03f) * 4 + noise(p * 4.11f) * 2 + noise(p * 8.3f)) / 15;
}

/// 1 within `half_width` of a whole multiple of `period`, softly 0 outside.
inline float line(float v, float period, float half_width) {
    const float d = std::abs(v - period * std::round(v / period));
    return 1 - smooth(half_width * 0.7f, half_width * 1.3f, d);
}

} // namespace porb::sim
