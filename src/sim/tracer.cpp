#include "sim/tracer.h"

#include "base/angle.h"
#include "base/error.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cstring>
#include <embree3/rtcore.h>
#include <limits>

namespace porb::sim {

Mesh quad(const Vec3f& a, const Vec3f& u, const Vec3f& v, int material) {
    const Vec3f n = u.cross(v).normalized();
    return {{a, a + u, a + u + v, a + v}, {n, n, n, n}, {{0u, 1u, 2u}, {0u, 2u, 3u}}, material};
}

Mesh box(const Vec3f& low, const Vec3f& high, int material) {
    const Vec3f d = high - low;
    const Vec3f x(d.x(), 0, 0), y(0, d.y(), 0), z(0, 0, d.z());
    Mesh out;
    out.material = material;
    for (const Mesh& side :
         {quad(low, y, x, material), quad(low + z, x, y, material), quad(low, x, z, material),
          quad(low + y, z, x, material), quad(low, z, y, material), quad(low + x, y, z, material)}) {
        const auto base = unsigned(out.points.size());
        out.points.insert(out.points.end(), side.points.begin(), side.points.end());
        out.normals.insert(out.normals.end(), side.normals.begin(), side.normals.end());
        for (auto t : side.triangles) out.triangles.push_back({t[0] + base, t[1] + base, t[2] + base});
    }
    return out;
}

Mesh turned(std::span<const std::pair<float, float>> profile, float x, float z, int sides, int material) {
    Mesh mesh;
    mesh.material = material;
    const auto n = profile.size();
    for (std::size_t i = 0; i < n; ++i) {
        const auto [r, y] = profile[i];
        const auto& before = profile[i > 0 ? i - 1 : 0];
        const auto& after = profile[i + 1 < n ? i + 1 : n - 1];
        const float dr = after.first - before.first, dy = after.second - before.second;
        for (int s = 0; s <= sides; ++s) {
            const float a = float(2 * kPi) * float(s) / float(sides);
            mesh.points.emplace_back(x + r * std::sin(a), y, z + r * std::cos(a));
            mesh.normals.push_back(Vec3f(dy * std::sin(a), -dr, dy * std::cos(a)).normalized());
        }
    }
    const auto ring = unsigned(sides + 1);
    for (unsigned i = 0; i + 1 < n; ++i)
        for (unsigned s = 0; s < unsigned(sides); ++s) {
            const unsigned p = i * ring + s;
            mesh.triangles.push_back({p, p + 1, p + ring});
            mesh.triangles.push_back({p + 1, p + ring + 1, p + ring});
        }
    return mesh;
}

struct Tracer::Impl {
    RTCDevice device = nullptr;
    RTCScene scene = nullptr;
    std::vector<Mesh> meshes; ///< by geometry id, for normals and materials
    std::vector<Ball> balls;
    std::vector<Stick> sticks;
    unsigned balls_id = RTC_INVALID_GEOMETRY_ID, sticks_id = RTC_INVALID_GEOMETRY_ID;

    void detach(unsigned& id) {
        if (id != RTC_INVALID_GEOMETRY_ID) rtcDetachGeometry(scene, id);
        id = RTC_INVALID_GEOMETRY_ID;
    }
};

Tracer::Tracer() : impl_(std::make_unique<Impl>()) {
    impl_->device = rtcNewDevice(nullptr);
    if (!impl_->device)
        throw Error("the ray caster cannot start", "simulator", "Check the Embree installation");
    impl_->scene = rtcNewScene(impl_->device);
    rtcSetSceneFlags(impl_->scene, RTC_SCENE_FLAG_ROBUST);
}

Tracer::~Tracer() {
    rtcReleaseScene(impl_->scene);
    rtcReleaseDevice(impl_->device);
}

void Tracer::add(const Mesh& mesh) {
    RTCGeometry g = rtcNewGeometry(impl_->device, RTC_GEOMETRY_TYPE_TRIANGLE);
    auto* points = static_cast<float*>(rtcSetNewGeometryBuffer(
        g, RTC_BUFFER_TYPE_VERTEX, 0, RTC_FORMAT_FLOAT3, 3 * sizeof(float), mesh.points.size()));
    for (std::size_t i = 0; i < mesh.points.size(); ++i)
        std::memcpy(points + 3 * i, mesh.points[i].data(), 12);
    auto* triangles =
        rtcSetNewGeometryBuffer(g, RTC_BUFFER_TYPE_INDEX, 0, RTC_FORMAT_UINT3, 12, mesh.triangles.size());
    std::memcpy(triangles, mesh.triangles.data(), mesh.triangles.size() * 12);
    rtcCommitGeometry(g);
    const unsigned id = rtcAttachGeometry(impl_->scene, g);
    rtcReleaseGeometry(g);
    impl_->meshes.resize(std::max<std::size_t>(impl_->meshes.size(), id + 1));
    impl_->meshes[id] = mesh;
}

void Tracer::set_moving(std::vector<Ball> balls, std::vector<Stick> sticks) {
    impl_->detach(impl_->balls_id);
    impl_->detach(impl_->sticks_id);
    impl_->balls = std::move(balls);
    impl_->sticks = std::move(sticks);
    const auto attach = [&](RTCGeometry g) {
        rtcCommitGeometry(g);
        const unsigned id = rtcAttachGeometry(impl_->scene, g);
        rtcReleaseGeometry(g);
        return id;
    };
    if (!impl_->balls.empty()) {
        RTCGeometry g = rtcNewGeometry(impl_->device, RTC_GEOMETRY_TYPE_SPHERE_POINT);
        auto* v = static_cast<float*>(rtcSetNewGeometryBuffer(g, RTC_BUFFER_TYPE_VERTEX, 0, RTC_FORMAT_FLOAT4,
                                                              16, impl_->balls.size()));
        for (const Ball& b : impl_->balls) {
            std::memcpy(v, b.centre.data(), 12);
            v[3] = b.radius;
            v += 4;
        }
        impl_->balls_id = attach(g);
    }
    if (!impl_->sticks.empty()) {
        RTCGeometry g = rtcNewGeometry(impl_->device, RTC_GEOMETRY_TYPE_ROUND_LINEAR_CURVE);
        auto* v = static_cast<float*>(rtcSetNewGeometryBuffer(g, RTC_BUFFER_TYPE_VERTEX, 0, RTC_FORMAT_FLOAT4,
                                                              16, 2 * impl_->sticks.size()));
        auto* index = static_cast<unsigned*>(
            rtcSetNewGeometryBuffer(g, RTC_BUFFER_TYPE_INDEX, 0, RTC_FORMAT_UINT, 4, impl_->sticks.size()));
        for (std::size_t i = 0; i < impl_->sticks.size(); ++i) {
            const Stick& s = impl_->sticks[i];
            std::memcpy(v + 8 * i, s.a.data(), 12);
            v[8 * i + 3] = s.radius_a;
            std::memcpy(v + 8 * i + 4, s.b.data(), 12);
            v[8 * i + 7] = s.radius_b;
            index[i] = unsigned(2 * i);
        }
        impl_->sticks_id = attach(g);
    }
    rtcCommitScene(impl_->scene);
}

namespace {
constexpr float kNear = 1e-3f;

RTCRay ray_of(const Vec3f& o, const Vec3f& d, float far_end) {
    RTCRay r{};
    r.org_x = o.x(), r.org_y = o.y(), r.org_z = o.z();
    r.dir_x = d.x(), r.dir_y = d.y(), r.dir_z = d.z();
    r.tnear = kNear;
    r.tfar = far_end;
    r.mask = ~0u;
    return r;
}
} // namespace

bool Tracer::hit(const Vec3f& origin, const Vec3f& direction, Hit& out) const {
    RTCIntersectContext context;
    rtcInitIntersectContext(&context);
    RTCRayHit rh{};
    rh.ray = ray_of(origin, direction, std::numeric_limits<float>::infinity());
    rh.hit.geomID = RTC_INVALID_GEOMETRY_ID;
    rtcIntersect1(impl_->scene, &context, &rh);
    if (rh.hit.geomID == RTC_INVALID_GEOMETRY_ID) return false;
    out.distance = rh.ray.tfar;
    out.point = origin + rh.ray.tfar * direction;
    out.local = out.point;
    if (rh.hit.geomID == impl_->balls_id) {
        const Ball& b = impl_->balls[rh.hit.primID];
        out.local = out.point - b.centre;
        out.normal = out.local / b.radius;
        out.material = b.material;
    } else if (rh.hit.geomID == impl_->sticks_id) {
        out.normal = Vec3f(rh.hit.Ng_x, rh.hit.Ng_y, rh.hit.Ng_z).normalized();
        out.material = impl_->sticks[rh.hit.primID].material;
        out.local = out.point - impl_->sticks[rh.hit.primID].a;
    } else {
        const Mesh& m = impl_->meshes[rh.hit.geomID];
        const auto& t = m.triangles[rh.hit.primID];
        const float u = rh.hit.u, v = rh.hit.v;
        out.normal = ((1 - u - v) * m.normals[t[0]] + u * m.normals[t[1]] + v * m.normals[t[2]]).normalized();
        out.material = m.material;
    }
    if (out.normal.dot(direction) > 0) out.normal = -out.normal;
    return true;
}

bool Tracer::blocked(const Vec3f& from, const Vec3f& direction, float distance) const {
    RTCIntersectContext context;
    rtcInitIntersectContext(&context);
    RTCRay ray = ray_of(from, direction, distance);
    rtcOccluded1(impl_->scene, &context, &ray);
    return ray.tfar < 0;
}

} // namespace porb::sim
