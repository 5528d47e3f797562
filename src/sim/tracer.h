// sim: made-up footage with known truth. A ray-traced hall (tracer, patterns, hall), rigs that look at it
// through the lens models of optics with faults switched on at will, speech-like sound, and the truth written
// beside it all.
#pragma once

#include "optics/vec.h"

#include <memory>
#include <span>
#include <vector>

namespace porb::sim {

using Vec3f = Eigen::Vector3f;

/// What a ray met. `material` is what the caller gave the shape.
struct Hit {
    float distance = 0;
    Vec3f point, normal; ///< normal faces the ray's origin
    int material = 0;
    Vec3f local; ///< point minus the shape's own anchor (planets' centres), for textures that travel along
};

/// A ball, and a stick with round ends (two radii).
struct Ball {
    Vec3f centre;
    float radius;
    int material;
};
struct Stick {
    Vec3f a, b;
    float radius_a, radius_b;
    int material;
};

/// Triangles with smooth normals.
struct Mesh {
    std::vector<Vec3f> points, normals;
    std::vector<std::array<unsigned, 3>> triangles;
    int material = 0;
};

/// A flat quad a, a+u, a+u+v, a+v with the normal u x v.
Mesh quad(const Vec3f& a, const Vec3f& u, const Vec3f& v, int material);
/// A box between two corners.
Mesh box(const Vec3f& low, const Vec3f& high, int material);
/// A profile of (radius, y) turned round the vertical axis through (x, z).
Mesh turned(std::span<const std::pair<float, float>> profile, float x, float z, int sides, int material);

/// Ray casting on Embree. Shapes that stay are added once; those that move are replaced for each moment.
class Tracer {
  public:
    Tracer();
    ~Tracer();
    void add(const Mesh& mesh);
    void set_moving(std::vector<Ball> balls, std::vector<Stick> sticks);
    bool hit(const Vec3f& origin, const Vec3f& direction, Hit& out) const;
    bool blocked(const Vec3f& from, const Vec3f& direction, float distance) const;

  private:
    struct Impl;
    std::unique_ptr<Impl> impl_;
};

} // namespace porb::sim
