#include "sim/simulate.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "optics/eye_rays.h"
#include "optics/target.h"
#include "picture/transfer.h"
#include "sim/patterns.h"

namespace porb::sim {

namespace {

constexpr double kDistant = 1000;
constexpr double kHalfEye = 0.032;
constexpr double kDriveTurn = 0.35; // radians a second

/// Mean light over one pixel: four rays, and nine more where they differ. `ray(dx, dy)` gives origin and
/// direction for a place inside the pixel, or false outside the lens.
template <class RayAt>
Vec3f pixel_light(const Hall& hall, int x, int y, const RayAt& ray_at, float& covered) {
    Vec3f sum(0, 0, 0), low(1e9f, 1e9f, 1e9f), high(0, 0, 0);
    int hits = 0, rays = 0;
    const auto grid = [&](int n, int salt) {
        for (int j = 0; j < n; ++j)
            for (int i = 0; i < n; ++i) {
                const float jx = hash01(x * 4 + i, y * 4 + j, salt),
                            jy = hash01(x * 4 + i, y * 4 + j, salt + 1);
                Vec3f origin, direction;
                ++rays;
                if (!ray_at((float(i) + jx) / float(n), (float(j) + jy) / float(n), origin, direction))
                    continue;
                const Vec3f light = hall.light(origin, direction).cwiseMin(4.0f);
                sum += light;
                low = low.cwiseMin(light);
                high = high.cwiseMax(light);
                ++hits;
            }
    };
    grid(2, 11);
    if (hits > 0 && hits < rays)
        grid(3, 23);
    else if (hits > 0) {
        const float lo = std::sqrt(low.sum()), hi = std::sqrt(high.sum());
        if (hi - lo > 0.09f) grid(3, 23);
    }
    covered = float(hits) / float(rays);
    return hits ? Vec3f(sum / float(hits)) : Vec3f(0, 0, 0);
}

double centred(unsigned seed, std::size_t camera, int what) {
    return 2.0 * hash01(int(seed), int(camera), what) - 1.0;
}

/// A lamp just outside what a lens sees: light scattered in the glass, falling off from a place on the rim,
/// and two ghosts on the line through the centre.
struct Lamp {
    Vec2 at, centre;
    double radius;
    float light(const Vec2& p) const {
        const double d = (p - at).norm() / radius;
        double v = 0.5 * std::exp(-d * d / 0.03) + 0.05 * std::exp(-d / 0.35);
        for (const auto& [along, size, strength] : {std::array{1.04, 0.05, 0.12}, {-0.55, 0.09, 0.05}}) {
            const Vec2 ghost = centre + along * (at - centre);
            if ((p - ghost).norm() < size * radius) v += strength;
        }
        return float(v);
    }
};
Lamp lamp_at(const ImageCircle& circle, std::size_t camera) {
    const double a = 0.9 + 2.1 * double(camera);
    return {circle.center_px + circle.radius_px * Vec2(std::cos(a), std::sin(a)), circle.center_px,
            circle.radius_px};
}

/// Directions at the corners of a row's pixels. Inside a pixel they are bilinear to a millionth of a radian,
/// and the inverse of a lens is slow.
class CornerRow {
  public:
    CornerRow(const LensMap& map, int x0, int x1) : map_(&map), x0_(x0), at_(std::size_t(x1 - x0 + 1)) {}
    void look(int y) {
        for (std::size_t i = 0; i < at_.size(); ++i) at_[i] = map_->unproject(Vec2(x0_ + double(i), y));
    }
    const std::optional<Vec3>& operator[](int x) const { return at_[std::size_t(x - x0_)]; }

  private:
    const LensMap* map_;
    int x0_;
    std::vector<std::optional<Vec3>> at_;
};

/// The direction at (x + dx, y + dy), from the corners above and below; exactly where the rim crosses the
/// pixel.
std::optional<Vec3> direction_in_pixel(const LensMap& map, const CornerRow& above, const CornerRow& below,
                                       int x, int y, double dx, double dy) {
    if (!above[x] || !above[x + 1] || !below[x] || !below[x + 1]) return map.unproject(Vec2(x + dx, y + dy));
    return Vec3((1 - dy) * ((1 - dx) * *above[x] + dx * *above[x + 1]) +
                dy * ((1 - dx) * *below[x] + dx * *below[x + 1]))
        .normalized();
}

float gaussian(int x, int y, int z) {
    const float u = std::max(hash01(x, y, z), 1e-6f), v = hash01(x, y, z + 7919);
    return std::sqrt(-2 * std::log(u)) * std::cos(float(2 * kPi) * v);
}

} // namespace

Rig simulated_rig(SimRig kind, int circle_size) {
    const int s = circle_size;
    Rig rig;
    const auto stand_out = [](Camera& c, double m) {
        c.pose.position_m = m * (rotation_of(c.pose.turn) * Vec3(0, 0, 1));
    };
    if (kind == SimRig::ring_of_four) {
        rig = nominal_rig(4, s, s, 1, 200);
        rig.name = "hall ring of four";
        for (auto& c : rig.cameras) stand_out(c, 0.11);
        return rig;
    }
    if (kind == SimRig::ring_of_pairs) {
        rig = nominal_rig(8, s, s, 1, 170);
        rig.name = "hall ring of pairs";
        for (std::size_t i = 0; i < 8; ++i) {
            Camera& c = rig.cameras[i];
            c.eyes = i % 2 ? Eyes::right : Eyes::left;
            c.pose.turn = {wrapped_deg(90.0 * double(i / 2)), 0, 0};
            c.pose.position_m = rotation_of(c.pose.turn) * Vec3(i % 2 ? kHalfEye : -kHalfEye, 0, 0.06);
        }
        return rig;
    }
    if (kind == SimRig::ball_of_eight) {
        rig = nominal_rig(8, s, s, 1, 180);
        rig.name = "hall ball of eight";
        for (std::size_t i = 0; i < 8; ++i) {
            Camera& c = rig.cameras[i];
            c.lens.projection = Projection::stereographic;
            c.lens.focal_px = focal_for_field_of_view(c.lens, 180);
            c.pose.turn = {wrapped_deg(45.0 * double(i)), i % 2 ? -35.0 : 35.0, 0};
            stand_out(c, 0.09);
        }
        return rig;
    }
    if (kind == SimRig::dome_of_five) {
        rig = nominal_rig(5, s, s, 1, 185);
        rig.name = "hall dome of five";
        for (std::size_t i = 0; i < 5; ++i) {
            Camera& c = rig.cameras[i];
            c.pose.turn = i < 4 ? Turn{wrapped_deg(90.0 * double(i)), 12, 0} : Turn{0, 90, 0};
            stand_out(c, 0.08);
        }
        return rig;
    }
    if (kind == SimRig::ring_of_six) {
        rig = nominal_rig(6, s, s, 1, 190);
        rig.name = "hall ring of six";
        for (auto& c : rig.cameras) {
            c.lens.projection = Projection::equisolid;
            c.lens.focal_px = focal_for_field_of_view(c.lens, 190);
            const double a = radians(c.pose.turn.yaw_deg);
            c.pose.position_m = Vec3(0.075 * std::sin(a), 0, 0.075 * std::cos(a));
        }
        return rig;
    }
    rig = nominal_rig(2, 2 * s, s, 2, 200);
    if (kind == SimRig::two_fisheyes) {
        rig.name = "hall two fisheyes";
        rig.cameras[0].pose.position_m = Vec3(0, 0, 0.012);
        rig.cameras[1].pose.position_m = Vec3(0, 0, -0.012);
    } else {
        rig.name = "hall pair for 180";
        rig.cameras[0].pose = {{0, 0, 0}, Vec3(-kHalfEye, 0, 0)};
        rig.cameras[1].pose = {{0, 0, 0}, Vec3(kHalfEye, 0, 0)};
        rig.cameras[0].eyes = Eyes::left;
        rig.cameras[1].eyes = Eyes::right;
    }
    return rig;
}

bool has_own_files(SimRig rig) {
    return rig != SimRig::two_fisheyes && rig != SimRig::pair_180;
}

const std::map<std::string, SimRig>& rigs_by_name() {
    static const std::map<std::string, SimRig> rigs = {
        {"two-fisheyes", SimRig::two_fisheyes},  {"ring-of-four", SimRig::ring_of_four},
        {"ring-of-six", SimRig::ring_of_six},    {"ball-of-eight", SimRig::ball_of_eight},
        {"dome-of-five", SimRig::dome_of_five},  {"pair-180", SimRig::pair_180},
        {"ring-of-pairs", SimRig::ring_of_pairs}};
    return rigs;
}

Truth make_truth(const SimOptions& o) {
    Truth truth;
    truth.nominal = simulated_rig(o.rig, o.circle_size);
    truth.actual = truth.nominal;
    truth.actual.name += " (true)";
    const double px = o.circle_size / 1920.0;
    if (o.faults.cropped)
        for (Rig* rig : {&truth.nominal, &truth.actual})
            for (auto& c : rig->cameras) {
                const int lower = c.lens.height * 4 / 5 / 2 * 2;
                const Vec2 up(0, (c.lens.height - lower) / 2.0);
                c.lens.center_px -= up;
                c.lens.circle.center_px -= up;
                c.lens.height = lower;
            }
    for (std::size_t i = 0; i < truth.actual.cameras.size(); ++i) {
        Camera& c = truth.actual.cameras[i];
        const auto r = [&](int what) { return centred(o.seed, i, what); };
        if (o.faults.lens) {
            c.lens.focal_px *= 1 + 0.015 * r(1);
            const Vec2 shift(6 * px * r(2), 6 * px * r(3));
            c.lens.center_px += shift;
            c.lens.circle.center_px += shift;
            c.lens.circle.radius_px -= 6 * px;
        }
        if (o.faults.distortion) c.lens.radial = {0.004 * r(4), -0.002 * std::abs(r(5)), 0, 0};
        if (o.faults.pose) {
            c.pose.turn.yaw_deg += 1.5 * r(6);
            c.pose.turn.pitch_deg += 1.5 * r(7);
            c.pose.turn.roll_deg += 1.5 * r(8);
        }
        CameraTruth t;
        if (o.faults.exposure) t.exposure_ev = 0.5 * r(9);
        if (o.faults.white_balance) {
            t.red_gain = 1 + 0.08 * r(10);
            t.blue_gain = 1 + 0.08 * r(11);
        }
        if (o.faults.vignetting) t.vignetting = 0.2 + 0.2 * std::abs(r(12));
        if (o.faults.offsets && has_own_files(o.rig) && i > 0) t.offset_s = 0.7 * r(13);
        if (o.faults.dark) t.exposure_ev -= 5;
        if (o.faults.drift && has_own_files(o.rig) && i > 0) t.drift_ppm = 60 * r(14);
        if (!o.offsets_s.empty() && has_own_files(o.rig)) t.offset_s = o.offsets_s[i % o.offsets_s.size()];
        truth.cameras.push_back(t);
    }
    if (o.faults.tilt) truth.tilt = {0, 9.0, -8.0};
    if (o.faults.upside_down) truth.tilt = turn_of(rotation_of({0, 0, 180}) * rotation_of(truth.tilt));
    return truth;
}

double light_gain(const SimOptions& o, double t) {
    return std::exp2(o.light_change_ev * std::clamp(t / o.seconds, 0.0, 1.0));
}

namespace {
void set_hall(Hall& hall, const SimOptions& o, double t) {
    const double scale = o.distant ? kDistant : 1;
    hall.place_stand(o.stand ? std::optional<Vec3f>((o.place_m / scale).cast<float>()) : std::nullopt);
    hall.set_time(t);
}
} // namespace

Vec3 rig_place(const SimOptions& o, double t) {
    if (!o.faults.drive) return o.place_m;
    const double a = kDriveTurn * t; // a circle of 1.1 m, driven at a walking pace
    return 1.1 * Vec3(1 - std::cos(a), 0, std::sin(a)) - Vec3(0.2, 0, 0.5);
}

Vec3 truth_place(const SimOptions& o, double seconds) {
    return (rig_place(o, seconds) + o.truth_place_m) / (o.distant ? kDistant : 1);
}

double readout_s(const SimOptions& o) {
    return o.faults.rolling ? 0.02 : 0;
}

Turn rig_turn(const SimOptions& o, const Truth& truth, double t) {
    const Mat3 lean = o.faults.drive
                          ? Mat3(rotation_about(Vec3(0, 1, 0), kDriveTurn * t) * rotation_of(truth.tilt))
                          : rotation_of(truth.tilt);
    if (!o.faults.shake) return turn_of(lean);
    const double s = double(o.seed);
    const Turn shake{0.8 * std::sin(7.3 * t + s) + 0.4 * std::sin(19.1 * t),
                     0.7 * std::sin(9.1 * t + 2 * s) + 0.3 * std::sin(23.7 * t),
                     0.6 * std::sin(8.3 * t + 3 * s)};
    return turn_of(lean * rotation_of(shake));
}

Picture render_source(Hall& hall, const SimOptions& o, const Truth& truth,
                      const std::vector<std::size_t>& cameras, std::int64_t frame) {
    const Lens& first = truth.actual.cameras[cameras.front()].lens;
    Picture out(first.width, first.height);
    for (int y = 0; y < out.height(); ++y)
        for (int x = 0; x < out.width(); ++x) set_pixel(out, x, y, {0, 0, 0, 1});
    for (const std::size_t index : cameras) {
        const Camera& camera = truth.actual.cameras[index];
        const CameraTruth& faults = truth.cameras[index];
        const double shot_time =
            (frame_time(frame, o.rate).to_double() - faults.offset_s) / (1 + faults.drift_ppm * 1e-6);
        set_hall(hall, o, shot_time);
        const LensMap map(camera.lens);
        const Mat3 mount = rotation_of(camera.pose.turn);
        const double readout = readout_s(o);
        // With a rolling shutter each row has a moment, and so a pose, of its own.
        struct RowPose {
            Mat3 turn;
            Vec3f origin;
        };
        const auto pose_at = [&](double seconds) {
            const Mat3 lean = rotation_of(rig_turn(o, truth, seconds));
            const Vec3 place =
                (lean * camera.pose.position_m + rig_place(o, seconds)) / (o.distant ? kDistant : 1);
            return RowPose{lean * mount, place.cast<float>()};
        };
        std::vector<RowPose> poses;
        for (int y = 0; y < (readout > 0 ? out.height() : 1); ++y)
            poses.push_back(pose_at(shot_time + readout * ((y + 0.5) / out.height() - 0.5) * (readout > 0)));
        const double gain = std::exp2(faults.exposure_ev) * light_gain(o, shot_time);
        const Vec3f gains(float(gain * faults.red_gain), float(gain), float(gain * faults.blue_gain));
        const auto& circle = camera.lens.circle;
        const Lamp lamp = lamp_at(circle, index);
        // Flare goes past the rim, but never into the other circle's half.
        const double beyond = o.faults.flare ? o.circle_size / 2.0 - circle.radius_px : 0;
        const double reach = circle.radius_px + beyond;
        const int x0 = std::max(0, int(circle.center_px.x() - reach) - 1),
                  x1 = std::min(out.width(), int(circle.center_px.x() + reach) + 2);
        const int y0 = std::max(0, int(circle.center_px.y() - reach) - 1),
                  y1 = std::min(out.height(), int(circle.center_px.y() + reach) + 2);
        parallel_ranges(y1 - y0, 8, [&](int begin, int end) {
            CornerRow above(map, x0, x1), below(map, x0, x1);
            below.look(y0 + begin);
            for (int y = y0 + begin; y < y0 + end; ++y) {
                std::swap(above, below);
                below.look(y + 1);
                const RowPose& pose = poses[poses.size() > 1 ? std::size_t(y) : 0];
                for (int x = x0; x < x1; ++x) {
                    float covered = 0;
                    Vec3f light = pixel_light(
                        hall, x, y,
                        [&](float dx, float dy, Vec3f& from, Vec3f& direction) {
                            const auto d = direction_in_pixel(map, above, below, x, y, dx, dy);
                            if (!d) return false;
                            from = pose.origin;
                            direction = (pose.turn * *d).cast<float>();
                            return true;
                        },
                        covered);
                    if (covered <= 0 && !o.faults.flare) continue;
                    const double r =
                        (Vec2(x + 0.5, y + 0.5) - camera.lens.center_px).norm() / circle.radius_px;
                    light =
                        light.cwiseProduct(gains) * float((1 - faults.vignetting * r * r * r * r) * covered);
                    if (o.faults.flare)
                        light += Vec3f(1.0f, 0.9f, 0.75f) * lamp.light(Vec2(x + 0.5, y + 0.5));
                    float encoded[3];
                    for (int c = 0; c < 3; ++c) {
                        float v = encoded_from_linear(light[c]);
                        if (o.faults.noise)
                            v += 0.01f * gaussian(x, y, int(frame * 3 + c) + int(o.seed) * 977);
                        encoded[c] = std::clamp(v, 0.0f, 1.0f);
                    }
                    set_pixel(out, x, y, {encoded[0], encoded[1], encoded[2], 1});
                }
            }
        });
    }
    return out;
}

Picture true_panorama(Hall& hall, const SimOptions& o, double seconds, SphereMapping mapping, int width,
                      TruthEye eye) {
    set_hall(hall, o, seconds);
    const bool half = mapping == SphereMapping::half_equirect;
    const TargetMap map(half ? half_sphere_target(width) : equirect_target(width));
    Picture out(map.target().width, map.target().height);
    const Vec3 middle = truth_place(o, seconds);
    const double side = eye == TruthEye::mono   ? 0
                        : eye == TruthEye::left ? -1
                                                : 1,
                 scale = o.distant ? kDistant : 1;
    EyeRays rays;
    if (!half)
        rays = converged({0.5 * side * o.truth_ipd_m, 0, o.truth_merge_from_deg, o.truth_merge_to_deg},
                         o.truth_converge_m);
    const auto gain = float(light_gain(o, seconds));
    const Vec3 lens = half ? Vec3(side * kHalfEye, 0, 0) : Vec3(Vec3::Zero());
    parallel_ranges(out.height(), 8, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < out.width(); ++x) {
                float covered;
                const Vec3f light =
                    gain * pixel_light(
                               hall, x, y,
                               [&](float dx, float dy, Vec3f& from, Vec3f& direction) {
                                   const Vec3 d = rays.looks(*map.direction(Vec2(x + dx, y + dy)));
                                   from = (middle + (lens + rays.origin_m(d)) / scale).cast<float>();
                                   direction = d.cast<float>();
                                   return true;
                               },
                               covered);
                set_pixel(out, x, y,
                          {encoded_from_linear(light.x()), encoded_from_linear(light.y()),
                           encoded_from_linear(light.z()), 1});
            }
    });
    return out;
}

std::vector<float> true_distances(Hall& hall, const SimOptions& o, double seconds, int width) {
    set_hall(hall, o, seconds);
    const TargetMap map(equirect_target(width));
    const Vec3f from = truth_place(o, seconds).cast<float>();
    const float scale = o.distant ? float(kDistant) : 1.0f;
    const auto across = std::size_t(width);
    std::vector<float> metres(across * (across / 2));
    parallel_ranges(width / 2, 8, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < width; ++x)
                metres[std::size_t(y) * across + std::size_t(x)] =
                    scale * hall.depth(from, map.direction(Vec2(x + 0.5, y + 0.5))->cast<float>());
    });
    return metres;
}

} // namespace porb::sim
