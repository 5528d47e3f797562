#include "base/file.h"
#include "base/json.h"
#include "cli/porbit.h"
#include "media/still.h"
#include "picture/compare.h"
#include "project/orientation.h"

#include <nlohmann/json.hpp>

using namespace porb;
using namespace porb::test;

TEST_CASE("the command line solves, lists, leaves out, levels and steadies") {
    const TempFolder folder;
    const std::string dir = folder.path().string(), project = dir + "/hall-distant_four.porb";
    porbit("simulate hall-distant --rig ring-of-four --size 256 --seconds 3 --rate 1 --crf 12 --faults "
           "pose,tilt --seed 3 --truth-width 0 --out " +
           dir);
    porbit("shot " + project + " --rig " + dir + "/nominal.rig.json --yaw 0 --pitch 0 --roll 0");
    const std::string before = read_text_file(project);

    CHECK(porbit("solve " + project + " --samples 1", 1).find("one sample only") != std::string::npos);
    CHECK(read_text_file(project) == before); // the rig is as it was
    CHECK(porbit("solve " + project + " --samples 3 --report " + dir + "/r.json").find("RMS") !=
          std::string::npos);
    const std::string report = read_text_file(dir + "/r.json");
    for (const char* key : {"rms_px", "points", "dropped", "cameras", "pairs", "undetermined"})
        CHECK(report.find("\"" + std::string(key) + "\"") != std::string::npos);
    const std::string against = porbit("rig " + project + " --against " + dir + "/truth.rig.json");
    double mean = 9;
    REQUIRE(std::sscanf(against.c_str(), "rays differ by %lf", &mean) == 1);
    CHECK(mean < 0.15);
    CHECK(load_project(project).shots[0].calibration.solves.size() == 1);

    CHECK(porbit("points " + project).find("RMS") != std::string::npos);
    CHECK(porbit("points " + project + " --drop-above 0.05").find("left out") != std::string::npos);
    porbit("points " + project + " --camera A --place 128 128", 2);
    porbit("points " + project + " --clear");
    CHECK(load_project(project).shots[0].calibration.points->empty());

    write_file_atomically(
        dir + "/lines.json",
        R"({"format": "pale-orbit/lines", "lines": [{"kind": "vertical", "camera": "Z", "places_px": [[1, 2], [3, 4]]}]})");
    CHECK(porbit("level " + project + " --lines " + dir + "/lines.json", 1).find("camera 'Z'") !=
          std::string::npos);
    porbit("level " + project + " --upside-down --face 90");
    porbit("level " + project + " --at 1 --key-yaw 20");
    CHECK(load_project(project).shots[0].levelling.orientation_keys.size() == 1);
    CHECK(porbit("steady " + project + " --from record", 1).find("motion record") != std::string::npos);
    porbit("steady " + project + " --from footage --follow 2");
    const Project steadied = load_project(project);
    REQUIRE(steadied.shots[0].levelling.steady);
    CHECK(steadied.shots[0].levelling.steady->follow_s == 2);
    porbit("steady " + project + " --off");
    CHECK_FALSE(load_project(project).shots[0].levelling.steady->on);
}

TEST_CASE("the report's RMS is what anyone computes from its points and the rig") {
    const TempFolder folder;
    const std::string dir = folder.path().string(), project = dir + "/hall-distant_four.porb";
    porbit("simulate hall-distant --rig ring-of-four --size 256 --seconds 2 --rate 1 --crf 12 --faults "
           "pose,lens,noise --seed 6 --truth-width 0 --out " +
           dir);
    porbit("shot " + project + " --rig " + dir + "/nominal.rig.json");
    const std::string before = read_text_file(project);
    const std::string dry = porbit("solve " + project + " --samples 2 --dry-run --no-edges");
    CHECK(dry.find("straight edges") == std::string::npos);
    CHECK(read_text_file(project) == before);

    porbit("solve " + project + " --samples 2 --report " + dir +
           "/r.json --focal shared --distortion locked");
    porbit("rig " + project + " --out " + dir + "/solved.rig.json");
    const auto report = nlohmann::json::parse(read_text_file(dir + "/r.json"));
    const Rig rig = load_rig(dir + "/solved.rig.json"), nominal = load_rig(dir + "/nominal.rig.json");
    double squares = 0;
    int used = 0;
    std::map<std::string, std::pair<double, int>> by_camera;
    for (const auto& p : report["point_list"]) {
        if (!p["used"]) continue;
        ++used;
        const Vec3 direction(p["direction"][0], p["direction"][1], p["direction"][2]);
        for (const char* end : {"a", "b"}) {
            const std::string id = p[end];
            const Camera& camera = *find_camera(rig, id);
            const auto& px = p[std::string(end) + "_px"];
            const Vec3 seen = rotation_of(camera.pose.turn).transpose() *
                              (direction - double(p["inverse_m"]) * camera.pose.position_m);
            const double residual =
                (LensMap(camera.lens).project_anywhere(seen) - Vec2(px[0], px[1])).squaredNorm();
            squares += residual;
            by_camera[id].first += residual;
            ++by_camera[id].second;
        }
    }
    CHECK(used == int(report["points"]));
    CHECK(used + int(report["dropped"]) == int(report["point_list"].size()));
    CHECK(double(report["rms_px"]) == Approx(std::sqrt(squares / (2.0 * used))).epsilon(0.01));
    for (const auto& c : report["cameras"]) {
        const auto& [sum, n] = by_camera[c["id"]];
        CHECK(int(c["points"]) == n);
        CHECK(double(c["rms_px"]) == Approx(std::sqrt(sum / n)).epsilon(0.01));
    }
    CHECK(double(report["rms_before_px"]) > 3 * double(report["rms_px"]));
    // What was to be shared is, what was to be locked is.
    const double ratio = rig.cameras[0].lens.focal_px / nominal.cameras[0].lens.focal_px;
    for (std::size_t c = 0; c < rig.cameras.size(); ++c) {
        CHECK(rig.cameras[c].lens.focal_px / nominal.cameras[c].lens.focal_px == Approx(ratio).epsilon(1e-9));
        CHECK(rig.cameras[c].lens.radial == nominal.cameras[c].lens.radial);
    }
    int told = 0;
    for (const auto& v : report["values"]) told += v["name"] == "focal length";
    CHECK(told == 1);
}

TEST_CASE("levelling by command: upside down, facing, keys, drawn lines") {
    const TempFolder folder;
    const std::string dir = folder.path().string(), project = dir + "/p.porb";
    porbit("simulate hall --size 96 --seconds 0.2 --truth-width 0 --out " + dir);
    porbit("new " + project + " --rig " + dir + "/truth.rig.json --source A=" + dir +
           "/hall_dual.mp4 --source B=" + dir + "/hall_dual.mp4");
    const auto up = [&] {
        return Vec3(orientation_at(load_project(project).shots[0], Seconds(0)) * Vec3(0, -1, 0));
    };
    porbit("level " + project + " --upside-down");
    CHECK(up().y() == Approx(1));
    porbit("level " + project + " --upside-down");
    CHECK(up().y() == Approx(-1));
    porbit("level " + project + " --face 90");
    CHECK(
        (orientation_at(load_project(project).shots[0], Seconds(0)) * Vec3(1, 0, 0) - Vec3(0, 0, 1)).norm() <
        1e-6);
    porbit("level " + project + " --at 0 --key-roll 12");
    porbit("level " + project + " --at 0.1 --key-roll 0");
    const Shot keyed = load_project(project).shots[0];
    REQUIRE(keyed.levelling.orientation_keys.size() == 2);
    CHECK(turn_of(orientation_at(keyed, Rational(1, 20))).roll_deg > 1);
    CHECK(turn_of(orientation_at(keyed, Rational(1, 20))).roll_deg < 11);
    porbit("level " + project + " --clear-keys --reset");
    CHECK(load_project(project).shots[0].levelling.orientation_keys.empty());
    CHECK(load_project(project).shots[0].levelling.orientation == Turn{});

    // Upright lines as a rig that leans by a known turn sees them.
    const Project plain = load_project(project);
    const Mat3 lean = rotation_of({0, 7, -4});
    nlohmann::json lines = {{"format", "pale-orbit/lines"}, {"lines", nlohmann::json::array()}};
    for (const double yaw : {-50.0, -10.0, 35.0, 60.0}) {
        const Camera& camera = plain.shots[0].rig.cameras[0];
        nlohmann::json places = nlohmann::json::array();
        for (const double height : {-0.3, -0.1, 0.1, 0.3}) {
            const Vec3 world = rotation_of({yaw, 0, 0}) * Vec3(0, 0, 1) + Vec3(0, height, 0);
            const Vec2 px =
                LensMap(camera.lens)
                    .project_anywhere(rotation_of(camera.pose.turn).transpose() * lean.transpose() * world);
            places.push_back({px.x(), px.y()});
        }
        lines["lines"].push_back({{"kind", "vertical"}, {"camera", camera.id}, {"places_px", places}});
    }
    write_file_atomically(dir + "/lines.json", lines.dump());
    CHECK(porbit("level " + project + " --lines " + dir + "/lines.json").find("lines") != std::string::npos);
    CHECK((lean.transpose() * Vec3(0, -1, 0) -
           orientation_at(load_project(project).shots[0], Seconds(0)).transpose() * Vec3(0, -1, 0))
              .norm() < 1e-3);
}

TEST_CASE("the command line matches colours, trims them and shows them as shot") {
    const TempFolder folder;
    const std::string dir = folder.path().string(), project = dir + "/hall_ring.porb";
    porbit("simulate hall --rig ring-of-six --size 160 --seconds 2 --rate 1 --crf 12 --faults "
           "exposure,white-balance,vignetting --seed 5 --truth-width 0 --out " +
           dir);
    const std::string said = porbit("match " + project + " --samples 2 --report " + dir + "/m.json");
    CHECK(said.find("overlaps differ by") != std::string::npos);
    const Json report = parse_json(read_text_file(dir + "/m.json"), "m.json");
    const JsonPlace root(report, "m.json");
    CHECK(root.at("after_ev").number(0, 9) < 0.4 * root.at("before_ev").number(0, 9));
    CHECK(root.at("cameras").size() == 6);
    const Shot matched = load_project(project).shots[0];
    CHECK(matched.colour.match.apart_ev);
    CHECK(matched.cameras[3].colour.gains.size() == 1);

    porbit("match " + project + " --exposure B=0.5 --warmth all=-0.1");
    const Shot trimmed = load_project(project).shots[0];
    CHECK(trimmed.cameras[1].colour.exposure_ev == 0.5);
    CHECK(trimmed.cameras[5].colour.warmth_ev == -0.1);
    CHECK(trimmed.cameras[1].colour.gains == matched.cameras[1].colour.gains); // nothing was solved
    porbit("match " + project + " --off");
    CHECK_FALSE(load_project(project).shots[0].colour.match.on);
    porbit("match " + project + " --clear");
    CHECK(load_project(project).shots[0].cameras[1].colour == CameraColour{});

    // Flow: the ring's cameras stand 75 mm apart, so that the seams of a room change visibly.
    porbit("shot " + project + " --flow off");
    porbit("still " + project + " --width 512 --out " + dir + "/off.png");
    porbit("shot " + project + " --flow on --flow-zone 20 --flow-nearest 1");
    const Shot flowing = load_project(project).shots[0];
    FlowSettings wanted;
    wanted.on = wanted.everywhere = true, wanted.zone_deg = 20, wanted.nearest_m = 1;
    CHECK(flowing.seams.flow == wanted);
    porbit("still " + project + " --width 512 --out " + dir + "/on.png");
    const double alike = psnr_db(read_still(dir + "/off.png"), read_still(dir + "/on.png"));
    CHECK(alike < 40);
    CHECK(alike > 18);
    porbit("shot " + project + " --flow off");
    porbit("shot " + project + " --flow-zone 400", 2);

    const std::string before = read_text_file(project);
    CHECK(porbit("match " + project + " --reference Z", 1).find("Z") != std::string::npos);
    CHECK(porbit("match " + project + " --exposure Z=1", 1).find("not a camera") != std::string::npos);
    porbit("match " + project + " --exposure A=bright", 2);
    porbit("match " + project + " --off --report " + dir + "/none.json", 2);
    CHECK(read_text_file(project) == before);
}
