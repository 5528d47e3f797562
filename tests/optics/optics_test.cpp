#include "base/angle.h"
#include "base/error.h"
#include "optics/sphere_grid.h"
#include "optics/target.h"
#include "support/support.h"

#include <random>

using namespace porb;
using namespace porb::test;

namespace {
const Projection kAll[] = {Projection::equidistant, Projection::equisolid, Projection::stereographic,
                           Projection::orthographic, Projection::rectilinear};
double fov_for(Projection p) {
    return p == Projection::rectilinear ? 110 : p == Projection::orthographic ? 170 : 200;
}
} // namespace

TEST_CASE("each base projection is its textbook formula") {
    const double t = 0.7;
    const auto r = [&](Projection p) {
        return LensMap(fisheye(2000, p == Projection::rectilinear ? 120 : 160, p)).radius(t) /
               fisheye(2000, p == Projection::rectilinear ? 120 : 160, p).focal_px;
    };
    CHECK(r(Projection::equidistant) == Approx(t));
    CHECK(r(Projection::equisolid) == Approx(2 * std::sin(t / 2)));
    CHECK(r(Projection::stereographic) == Approx(2 * std::tan(t / 2)));
    CHECK(r(Projection::orthographic) == Approx(std::sin(t)));
    CHECK(r(Projection::rectilinear) == Approx(std::tan(t)));
}

TEST_CASE("forward and inverse agree to 1e-9 rad over the whole circle") {
    std::mt19937 random(7);
    std::uniform_real_distribution<double> unit(0, 1);
    for (const Projection p : kAll)
        for (const auto& radial :
             {std::array<double, 4>{}, {0.02, -0.01, 0.002, 0}, {-0.03, 0.004, 0, 0.0001}}) {
            Lens lens = fisheye(3000, fov_for(p), p);
            lens.radial = radial;
            lens.focal_px = focal_for_field_of_view(lens, fov_for(p) * 0.93);
            if (fault_in(lens)) continue; // some of these bend back for that base
            const LensMap map(lens);
            double worst = 0;
            for (int i = 0; i < 2000; ++i) {
                const double phi = 2 * kPi * unit(random),
                             r = std::sqrt(unit(random)) * (lens.circle.radius_px - 1e-6);
                const Vec2 px = lens.circle.center_px + r * Vec2(std::cos(phi), std::sin(phi));
                const auto d = map.unproject(px);
                if (!d) continue;
                const auto back = map.project(*d);
                REQUIRE(back);
                const auto again = map.unproject(*back);
                REQUIRE(again);
                worst = std::max(worst, (*again - *d).norm());
                CHECK((*back - px).norm() < 1e-5);
            }
            CHECK(worst < 1e-9);
        }
}

TEST_CASE("the equidistant lens is the usual four-coefficient fisheye model") {
    // theta_d = theta (1 + k1 theta^2 + k2 theta^4 + k3 theta^6 + k4 theta^8), written out by hand.
    Lens lens = fisheye(2000, 160);
    lens.radial = {0.01, -0.004, 0.001, -0.0002};
    const LensMap map(lens);
    const Vec3 d = Vec3(0.4, -0.3, 0.8).normalized();
    const double t = std::acos(d.z()), t2 = t * t;
    const double td = t * (1 + lens.radial[0] * t2 + lens.radial[1] * t2 * t2 +
                           lens.radial[2] * t2 * t2 * t2 + lens.radial[3] * t2 * t2 * t2 * t2);
    const double scale = lens.focal_px * td / std::hypot(d.x(), d.y());
    const auto px = map.project(d);
    REQUIRE(px);
    CHECK(px->x() == Approx(lens.center_px.x() + scale * d.x()).margin(1e-9));
    CHECK(px->y() == Approx(lens.center_px.y() + scale * d.y()).margin(1e-9));
}

TEST_CASE("outside the circle nothing is seen, and nothing breaks") {
    for (const Projection p : kAll) {
        const LensMap map(fisheye(1000, fov_for(p), p));
        CHECK_FALSE(map.project(Vec3(0, 0, -1)));
        CHECK_FALSE(map.unproject({5, 5}));
        CHECK_FALSE(map.unproject({-100, 500}));
        CHECK_FALSE(map.unproject({std::nan(""), 500}));
        for (double t = 0; t <= kPi; t += 0.01) {
            const Vec2 px = map.project_anywhere(Vec3(std::sin(t), 0, std::cos(t)));
            CHECK(std::isfinite(px.x()));
            if (t > map.theta_max() + 1e-6) CHECK_FALSE(map.project(Vec3(std::sin(t), 0, std::cos(t))));
        }
        // The continuation past the rim is one-to-one: radii keep growing.
        double before = -1;
        for (double t = 0; t <= kPi; t += 0.02) {
            CHECK(map.radius(t) > before);
            before = map.radius(t);
        }
    }
}

TEST_CASE("field of view and focal length are two views of one value") {
    for (const Projection p : kAll) {
        Lens lens = fisheye(1500, fov_for(p), p);
        CHECK(field_of_view_deg(lens) == Approx(fov_for(p)).margin(1e-6));
        lens.focal_px = focal_for_field_of_view(lens, 90);
        CHECK(field_of_view_deg(lens) == Approx(90).margin(1e-6));
    }
}

TEST_CASE("impossible lenses are refused by name") {
    const auto member = [](auto change) {
        Lens lens = fisheye(1000, 180);
        change(lens);
        const auto fault = fault_in(lens);
        return fault ? fault->member : std::string("none");
    };
    CHECK(member([](Lens&) {}) == "none");
    CHECK(member([](Lens& l) { l.width = 0; }) == "width");
    CHECK(member([](Lens& l) { l.focal_px = -3; }) == "focal_px");
    CHECK(member([](Lens& l) { l.focal_px = std::nan(""); }) == "focal_px");
    CHECK(member([](Lens& l) { l.radial = {-0.5, 0, 0, 0}; }) == "radial"); // bends back inside the circle
    CHECK(member([](Lens& l) { l.circle.radius_px = 0; }) == "circle/radius_px");
    CHECK(member([](Lens& l) { l.circle.center_px = {5000, 0}; }) == "circle/center_px");
    CHECK(member([](Lens& l) { l.center_px = {2, 2}; }) == "center_px");
    CHECK(member([](Lens& l) {
              l.projection = Projection::orthographic;
              l.focal_px = 300;
          }) == "focal_px"); // cannot reach the rim
}

TEST_CASE("angles turn the way the conventions say") {
    const Vec3 ahead(0, 0, 1);
    CHECK((rotation_of({90, 0, 0}) * ahead - Vec3(1, 0, 0)).norm() < 1e-12);  // right
    CHECK((rotation_of({0, 90, 0}) * ahead - Vec3(0, -1, 0)).norm() < 1e-12); // up
    CHECK((rotation_of({0, 0, 90}) * Vec3(0, -1, 0) - Vec3(1, 0, 0)).norm() <
          1e-12); // its top to the right: clockwise
}

TEST_CASE("angles survive matrices, the poles too") {
    std::mt19937 random(3);
    std::uniform_real_distribution<double> angle(-179, 179);
    for (int i = 0; i < 500; ++i) {
        const Turn t{angle(random), angle(random) / 2.01, angle(random)};
        CHECK((rotation_of(turn_of(rotation_of(t))) - rotation_of(t)).norm() < 1e-9);
        CHECK(turn_of(rotation_of(t)).yaw_deg == Approx(t.yaw_deg).margin(1e-6));
    }
    for (const double pitch : {90.0, -90.0}) {
        const Mat3 r = rotation_of({30, pitch, 20});
        CHECK((rotation_of(turn_of(r)) - r).norm() < 1e-6);
    }
    CHECK(wrapped_deg(-180) == 180);
    CHECK(wrapped_deg(540) == 180);
}

TEST_CASE("equirectangular pixels follow the formulas") {
    const TargetMap map(equirect_target(400));
    CHECK((*map.direction({200, 100}) - Vec3(0, 0, 1)).norm() < 1e-12);
    CHECK((*map.direction({300, 100}) - Vec3(1, 0, 0)).norm() < 1e-12);
    CHECK((*map.direction({200, 0}) - Vec3(0, -1, 0)).norm() < 1e-12);
    CHECK((*map.direction({0, 100}) - Vec3(0, 0, -1)).norm() < 1e-12);
}

TEST_CASE("every target's pixels and directions agree both ways") {
    Target lens_target{TargetKind::lens, 300, 300, {20, 10, 5}, 90, fisheye(600, 190)};
    for (const Target& t : {equirect_target(512), half_sphere_target(256),
                            window_target(320, 200, {30, -20, 10}, 100), lens_target}) {
        const TargetMap map(t);
        for (double y = 0.5; y < t.height; y += 7)
            for (double x = 0.5; x < t.width; x += 11) {
                const auto d = map.direction({x, y});
                if (!d) continue;
                CHECK(d->norm() == Approx(1));
                const auto back = map.pixel(*d);
                REQUIRE(back);
                CHECK((*back - Vec2(x, y)).norm() < 1e-6);
            }
    }
    CHECK_FALSE(TargetMap(half_sphere_target(100)).pixel(Vec3(0, 0, -1)));
    CHECK_FALSE(TargetMap(window_target(100, 100, {}, 90)).pixel(Vec3(0, 0, -1)));
    CHECK_FALSE(TargetMap(lens_target).direction({1, 1}));
}

TEST_CASE("rig files keep everything, unknown members too") {
    const std::string text =
        R"({"format": "pale-orbit/rig", "version": 1, "name": "hall", "maker_note": {"x": [1, 2]},
        "cameras": [{"id": "A", "serial": "none", "eye": "left",
          "lens": {"projection": "equisolid", "width": 1920, "height": 1080, "focal_px": 611.25, "center_px": [960.5, 541], "radial": [0.01, 0, 0, 0],
                   "circle": {"center_px": [960, 540], "radius_px": 930}, "glass": "made up"},
          "pose": {"yaw_deg": 12.5, "pitch_deg": -3, "roll_deg": 0.25, "position_m": [0.1, 0, -0.02], "note": 5}}]})";
    const Rig rig = parse_rig(text, "r");
    CHECK(rig.cameras[0].lens.projection == Projection::equisolid);
    CHECK(rig.cameras[0].eyes == Eyes::left);
    const std::string out = rig_to_text(rig);
    for (const char* kept : {"maker_note", "serial", "glass", "note"})
        CHECK(out.find(kept) != std::string::npos);
    CHECK(parse_rig(out, "r") == rig);
    CHECK(rig_to_text(parse_rig(out, "r")) == out);
}

TEST_CASE("every missing or impossible value of a rig file is refused with its path") {
    const std::string good = rig_to_text(tiny_rig());
    const auto refused = [&](const std::string& from, const std::string& to) {
        std::string bad = good;
        const auto at = bad.find(from);
        REQUIRE(at != std::string::npos);
        bad.replace(at, from.size(), to);
        return error_of([&] { parse_rig(bad, "f.rig.json"); });
    };
    CHECK(refused("\"focal_px\": ", "\"focal_px\": -").find("/cameras/0/lens/focal_px") != std::string::npos);
    CHECK(refused("\"focal_px\"", "\"focal\"").find("'focal_px' is missing") != std::string::npos);
    CHECK(refused("\"equidistant\"", "\"flat\"").find("/cameras/0/lens/projection") != std::string::npos);
    CHECK(refused("\"yaw_deg\": 0.0", "\"yaw_deg\": \"left\"").find("/cameras/0/pose/yaw_deg") !=
          std::string::npos);
    CHECK(refused("\"id\": \"B\"", "\"id\": \"A\"").find("/cameras/1/id") != std::string::npos);
    CHECK(refused("\"version\": 1", "\"version\": 2").find("/version") != std::string::npos);
    CHECK(refused("pale-orbit/rig", "other/rig").find("/format") != std::string::npos);
    CHECK(refused("\"radius_px\": ", "\"radius_px\": -").find("/cameras/0/lens/circle/radius_px") !=
          std::string::npos);
    CHECK(error_of([] {
              parse_rig(R"({"format": "pale-orbit/rig", "version": 1, "cameras": []})", "f");
          }).find("/cameras") != std::string::npos);
}

TEST_CASE("a nominal rig of two looks both ways and shares one picture") {
    const Rig rig = nominal_rig(2, 3840, 1920, 2, 195);
    CHECK(rig.cameras[1].pose.turn.yaw_deg == 180);
    CHECK(rig.cameras[1].lens.center_px.x() == 2880);
    for (const auto& c : rig.cameras) {
        CHECK_FALSE(fault_in(c.lens));
        CHECK(field_of_view_deg(c.lens) == Approx(195).margin(1e-6));
    }
}

TEST_CASE("a hundred damaged rig files: each is refused with its place, or still a rig that can be used") {
    const std::string text = rig_to_text(tiny_rig(960));
    int refused = 0;
    for (std::size_t i = 0; i < 100; ++i) {
        std::string cut = text.substr(0, text.size() * i / 100), changed = text, swapped = text;
        changed[text.size() * i / 100] ^= 0x11;
        // A number made a word, one after the other.
        std::size_t digit = 0;
        for (std::size_t n = 0; n <= i && digit != text.npos; ++n)
            digit = text.find_first_of("0123456789", digit + 1);
        if (digit != text.npos) swapped[digit] = 'x';
        for (const auto& damaged : {cut, changed, swapped}) try {
                for (const auto& c : parse_rig(damaged, "hall.rig.json").cameras) REQUIRE(!fault_in(c.lens));
            } catch (const Error& e) {
                CHECK(e.where().find("hall.rig.json") != std::string::npos);
                CHECK(!e.what_failed().empty());
                ++refused;
            }
    }
    CHECK(refused > 150);
}

TEST_CASE("the octahedral grid has a place for every direction, and no edge shows") {
    for (int i = 0; i < 4000; ++i) { // a spiral over the sphere
        const double y = 1 - 2 * (i + 0.5) / 4000, r = std::sqrt(1 - y * y), phi = 2.399963 * i;
        const Vec3 d(r * std::cos(phi), y, r * std::sin(phi));
        const Vec2 at = octahedral_place(d);
        CHECK(at.minCoeff() >= 0);
        CHECK(at.maxCoeff() <= 1);
        CHECK((octahedral_direction(at) - d).norm() < 1e-12);
    }
    CHECK((octahedral_direction({0.5, 0.5}) - Vec3(0, 1, 0)).norm() < 1e-12);
    // A smooth function is read back everywhere, straight up and across every fold.
    SphereGrid grid(64, 2);
    const auto f = [](const Vec3& d) { return 0.3 * d.x() + 0.5 * d.y() * d.z() + 0.2 * d.y(); };
    for (int y = 0; y < 64; ++y)
        for (int x = 0; x < 64; ++x) grid.cell(x, y)[1] = float(f(grid.direction(x, y)));
    grid.close_edges();
    double worst = 0;
    for (int i = 0; i < 20000; ++i) {
        const double y = 1 - 2 * (i + 0.5) / 20000, r = std::sqrt(1 - y * y), phi = 2.399963 * i;
        const Vec3 d(r * std::cos(phi), y, r * std::sin(phi));
        worst = std::max(worst, std::abs(grid.at(d, 1) - f(d)));
    }
    CHECK(worst < 0.02); // a cell is 3 degrees
    CHECK(grid.at({0, -1, 0}, 1) == Approx(-0.2).margin(0.02));
}
