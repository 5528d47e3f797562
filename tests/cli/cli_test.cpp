#include "base/file.h"
#include "base/json.h"
#include "media/still.h"
#include "media/writer.h"
#include "project/origins.h"
#include "support/support.h"

#include <nlohmann/json.hpp>

#include <fstream>

using namespace porb;
using namespace porb::test;

namespace {

struct Result {
    int status;
    std::string text;
};
Result porbit(const std::string& words) {
    Result r{};
    r.text = run(porbit_program() + " " + words, r.status);
    return r;
}
bool one_line(const std::string& text) {
    return std::count(text.begin(), text.end(), '\n') == 1;
}

/// A tiny simulated take, made once by the command itself.
const std::filesystem::path& take() {
    static const TempFolder folder;
    static const std::filesystem::path path = [] {
        const auto p = folder / "take";
        const Result r =
            porbit("simulate hall --size 96 --seconds 0.2 --rate 30 --truth-width 64 --truth-times 0 --out " +
                   p.string());
        if (r.status != 0) throw std::runtime_error(r.text);
        return p;
    }();
    return path;
}

} // namespace

TEST_CASE("the whole way: simulate, new, still, master, inspect") {
    const TempFolder folder;
    const std::string t = take().string(), f = folder.path().string();
    Result r = porbit("new " + f + "/p.porb --rig " + t + "/truth.rig.json --source A=" + t +
                      "/hall_dual.mp4 --source B=" + t + "/hall_dual.mp4");
    INFO(r.text);
    REQUIRE(r.status == 0);
    CHECK(load_project(folder / "p.porb").shots[0].timing.rate == FrameRate(30));
    CHECK(load_project(folder / "p.porb").media.size() == 1); // one file, two circles
    CHECK(porbit("--memory 0.5 still " + f + "/p.porb --time 0.1 --width 256 --out " + f + "/s.png").status ==
          0);
    for (const char* odd : {"0", "-1", "nan", "1e9", "much"})
        CHECK(
            porbit(std::string("--memory=") + odd + " still " + f + "/p.porb --out " + f + "/t.png").status ==
            2);
    CHECK(read_still(folder / "s.png").width() == 256);
    r = porbit("master " + f + "/p.porb --preset sphere-h264 --width 256 --from 0.0333 --to 0.2 --out " + f +
               "/m.mp4");
    INFO(r.text);
    REQUIRE(r.status == 0);
    r = porbit("inspect " + f + "/m.mp4 --json");
    REQUIRE(r.status == 0);
    const Json j = parse_json(r.text, "inspect");
    for (const char* key :
         {"width", "height", "projection", "stereo", "codec", "fps", "duration_s", "audio", "problems"})
        CHECK(j.contains(key));
    CHECK(j["width"] == 256);
    CHECK(j["projection"] == "equirectangular");
    CHECK(j["stereo"] == "mono");
    CHECK(j["codec"] == "h264");
    CHECK(j["fps"] == 30.0);
    CHECK(j["audio"]["channels"] == 2);
    CHECK(j["problems"].empty());
    CHECK(porbit("inspect " + f + "/m.mp4").text.find("whole sphere") != std::string::npos);
    CHECK(porbit("rig " + f + "/p.porb --out " + f + "/r.rig.json").status == 0);
    CHECK(load_rig(folder / "r.rig.json") == load_rig(take() / "truth.rig.json"));
    CHECK(porbit("rig " + f + "/p.porb").text.find("pale-orbit/rig") != std::string::npos);
}

TEST_CASE("what was decided about the shot can be changed") {
    const TempFolder folder;
    const std::string t = take().string(), p = (folder / "p.porb").string();
    REQUIRE(porbit("new " + p + " --rig " + t + "/truth.rig.json --source A=" + t +
                   "/hall_dual.mp4 --source B=" + t + "/hall_dual.mp4")
                .status == 0);
    const Result r = porbit("shot " + p +
                            " --in 1/30 --out 0.1 --yaw 30 --pitch -5 --roll 2.5 --agree 2.25 --reach A=95.5 "
                            "--feather B=2 --offset B=-0.01 --sound none");
    INFO(r.text);
    REQUIRE(r.status == 0);
    const Shot s = load_project(p).shots[0];
    CHECK(s.timing.in == Rational(1, 30));
    CHECK(s.timing.out == Rational(1, 10));
    CHECK(s.levelling.orientation == Turn{30, -5, 2.5});
    CHECK(s.seams.agree_distance_m == 2.25);
    CHECK(s.cameras[0].reach_deg == 95.5);
    CHECK(s.cameras[1].feather_deg == 2);
    CHECK(s.cameras[1].offset == Rational(-1, 100));
    CHECK(s.timing.sound.empty());
    CHECK(porbit("shot " + p + " --out 0.01").status == 1);
    CHECK(porbit("shot " + p + " --reach Z=3").text.find("no camera 'Z'") != std::string::npos);
}

TEST_CASE("exit statuses: 1 for what cannot be done, in one line; 2 for wrong words") {
    const TempFolder folder;
    const std::string f = folder.path().string(), t = take().string();
    for (const auto& words :
         {std::string("still none.porb --out x.png"), "inspect " + f + "/none.mp4",
          "new " + f + "/p.porb --rig none.json --source A=b",
          "still " + t + "/hall_dual.porb --time 99 --out " + f + "/x.png",
          "still " + t + "/hall_dual.porb --out " + f + "/x.gif",
          "master " + t + "/hall_dual.porb --preset sphere-h264 --out " + f + "/x.mov.txt",
          "new " + f + "/p.porb --rig " + t + "/truth.rig.json --source Z=" + t + "/hall_dual.mp4",
          "master " + t + "/hall_dual.porb --preset sphere-h264 --out " + f + "/none/x.mp4"}) {
        const Result r = porbit(words);
        INFO(words << "\n" << r.text);
        CHECK(r.status == 1);
        CHECK(one_line(r.text));
    }
    for (const auto& words :
         {std::string(""), std::string("fly"), std::string("still"), std::string("new p.porb"),
          std::string("master x --preset none --out y.mp4"), std::string("simulate moon --out x"),
          std::string("still p.porb --width wide --out x.png"),
          std::string("still p.porb --eye third --out x.png")}) {
        const Result r = porbit(words);
        INFO(words << "\n" << r.text);
        CHECK(r.status == 2);
    }
    CHECK(std::filesystem::is_empty(folder.path())); // nothing was left behind
}

TEST_CASE("every verb has help") {
    for (const char* verb :
         {"", "new", "rig", "shot", "still", "master", "inspect", "tag", "proxy", "simulate"}) {
        const Result r = porbit(std::string(verb) + " --help");
        CHECK(r.status == 0);
        CHECK(r.text.size() > 100);
    }
    CHECK(porbit("master --list-presets").text.find("sphere-h265") != std::string::npos);
}

TEST_CASE("porbit proxy makes, lists and removes") {
    const TempFolder folder;
    const std::string project = (source_folder() / "demo/dual/hall_dual.porb").string(),
                      words = "proxy " + project + " --folder " + (folder / "proxies").string();
    CHECK(porbit(words + " --list").text.find("none") != std::string::npos);
    CHECK(porbit(words + " --size eighth").text.find("eighth") != std::string::npos);
    CHECK(porbit(words + " --list --json").text.find("\"size\": \"eighth\"") != std::string::npos);
    CHECK(porbit(words + " --size whole").status == 2);
    CHECK(porbit(words + " --list --remove").status == 2);
    CHECK(porbit("proxy").status == 2);
    CHECK(porbit(words + " --remove").text.find("1 removed") != std::string::npos);
    CHECK(porbit(words + " --list").text.find("none") != std::string::npos);
    CHECK(porbit("proxy --remove-all --folder " + (folder / "proxies").string()).text.find("0 removed") !=
          std::string::npos);
}

TEST_CASE("a project is not overwritten unless told so") {
    const TempFolder folder;
    const std::string t = take().string(), words = "new " + (folder / "p.porb").string() + " --rig " + t +
                                                   "/truth.rig.json --source A=" + t + "/hall_dual.mp4";
    CHECK(porbit(words).status == 0);
    CHECK(porbit(words).status == 1);
    CHECK(porbit(words + " --force").status == 0);
}

TEST_CASE("lost metadata is put back without encoding") {
    const TempFolder folder;
    write_counting_movie(folder / "m.mp4", {});
    CHECK(porbit("tag " + (folder / "m.mp4").string() + " --stereo top-bottom --out " +
                 (folder / "t.mp4").string())
              .status == 0);
    CHECK(read_spherical(folder / "t.mp4").v2->stereo == StereoLayout::top_bottom);
}

TEST_CASE("an interrupt that is sent to a program and to its group is one, and leaves nothing") {
    const TempFolder folder;
    const std::string words = porbit_program() +
                              " simulate hall --size 200 --seconds 30 --truth-width 0 --out " +
                              (folder / "s").string();
    int status = 0;
    const std::string said =
        run("( " + words + " & sleep 1.5; kill -INT $!; sleep 0.002; kill -INT $!; wait $! )", status);
    INFO(said);
    CHECK(status == 1);
    CHECK(said.find("nothing was left behind") != std::string::npos);
    CHECK(std::filesystem::is_empty(folder / "s"));
}

TEST_CASE("stereo eyes and half spheres from the command line") {
    const TempFolder folder;
    const std::string f = folder.path().string();
    REQUIRE(porbit("simulate hall --rig pair-180 --size 96 --seconds 0.04 --truth-width 0 --out " + f + "/s")
                .status == 0);
    for (const char* eye : {"left", "right", "mono"})
        CHECK(porbit("still " + f + "/s/hall_pair.porb --mapping half --eye " + eye + " --width 128 --out " +
                     f + "/" + eye + ".png")
                  .status == 0);
    CHECK(read_text_file(folder / "left.png") ==
          read_text_file(folder / "mono.png")); // mono of a pair is its left eye
    CHECK(read_text_file(folder / "left.png") != read_text_file(folder / "right.png"));
    CHECK(porbit("master " + f + "/s/hall_pair.porb --preset half-stereo-h264 --width 128 --out " + f +
                 "/m.mp4")
              .status == 0);
    CHECK(porbit("inspect " + f + "/m.mp4").text.find("half-equirectangular, left-right") !=
          std::string::npos);
}

TEST_CASE("a new project says that its lenses are from the rig file") {
    const TempFolder folder;
    const std::string movie = (take() / "hall_dual.mp4").string();
    const std::string project = (folder / "n.porb").string();
    REQUIRE(porbit("new " + project + " --rig " + (take() / "nominal.rig.json").string() +
                   " --source A=" + movie + " --source B=" + movie)
                .status == 0);
    const ShotCamera b = load_project(project).shots[0].cameras[1];
    CHECK(origin_of(b, CameraValue::focal) == Origin{OriginKind::file, "nominal.rig.json"});
    CHECK(origin_of(b, CameraValue::offset).kind == OriginKind::assumed);
}

TEST_CASE("takes, circles, calibrations, profiles and motion by command") {
    const TempFolder folder;
    const std::string project = (folder / "p.porb").string();
    const Result takes = porbit("takes " + take().string() + " --json --project " + project);
    REQUIRE(takes.status == 0);
    const Json found = Json::parse(takes.text)["takes"];
    const auto movie =
        std::find_if(found.begin(), found.end(), [](const Json& t) { return t["circles_per_picture"] == 2; });
    REQUIRE(movie != found.end());
    CHECK((*movie)["reasons"].size() > 0);
    CHECK(porbit("takes " + take().string() + " --project " + project).status == 1); // not replaced unasked
    CHECK(porbit("takes " + (folder / "nowhere").string()).status == 1);

    std::filesystem::copy_file(take() / "hall_dual.porb", folder / "d.porb");
    Project fixed = load_project(take() / "hall_dual.porb");
    save_project(fixed, folder / "d.porb");
    const std::string d = (folder / "d.porb").string();
    const Result circles = porbit("circles " + d + " --json");
    REQUIRE(circles.status == 0);
    CHECK(Json::parse(circles.text)["circles"].size() == 2);
    const std::string yml = (take() / "calibration_B.yml").string();
    REQUIRE(porbit("calibration " + d + " --camera B --read " + yml).status == 0);
    CHECK(load_project(d).shots[0].rig.cameras[1].lens.circle.radius_px ==
          Approx(load_rig(take() / "truth.rig.json").cameras[1].lens.circle.radius_px));
    CHECK(porbit("calibration " + d + " --camera A --camera B --write " + (folder / "pair.xml").string())
              .status == 0);
    const Result missing = porbit("calibration " + d + " --camera Z --read " + yml);
    CHECK(missing.status == 1);
    CHECK(one_line(missing.text));
    CHECK(porbit("calibration " + d + " --camera A").status == 2);
    CHECK(porbit("profiles \"ring six 960\"").text == "built-in  ring of six, 960 px\n");
    CHECK(porbit("profiles \"two fisheyes\" --use " + d).status == 0);
    CHECK(porbit("motion " + (take() / "motion.csv").string()).text.find("gyro") != std::string::npos);
    CHECK(porbit("motion " + (take() / "hall_dual.mp4").string() + " --out " + (folder / "m.csv").string())
              .status == 0);
    CHECK(porbit("motion " + yml).status == 1);
    // One file has nothing to be aligned with.
    const Result alone = porbit("sync " + d + " --json");
    CHECK(alone.status == 1);
    CHECK(alone.text.find("single source") != std::string::npos);
}

TEST_CASE("sync finds, saves and says the offsets; silence is refused with status 1") {
    const TempFolder folder;
    const double offsets[] = {0, -0.7, 0.31337};
    Project p;
    Shot shot = shot_for_rig(nominal_rig(3, 64, 64, 1, 190), "three");
    Picture grey(64, 64);
    for (int y = 0; y < 64; ++y)
        for (int x = 0; x < 64; ++x) set_pixel(grey, x, y, {0.5f, 0.5f, 0.5f, 1});
    const auto write = [&](const std::string& name, const std::vector<float>& sound) {
        VideoFormat format;
        format.width = format.height = 64;
        format.sound = SoundFormat{48000, 1, 96000};
        VideoWriter writer(folder / name, format);
        for (int n = 0; n < 150; ++n) writer.write(grey);
        writer.write_sound(sound);
        writer.finish();
    };
    for (std::size_t i = 0; i < 3; ++i) {
        const std::string name = std::string(1, char('a' + i)) + ".mp4";
        write(name, sim::hall_sound(-offsets[i], 5 * 48000, 48000, {unsigned(i), 1, true, 10.0}));
        shot.cameras[i].media = add_media(p, media_ref_for(folder / name));
    }
    p.shots.push_back(shot);
    save_project(p, folder / "p.porb");
    const std::string project = (folder / "p.porb").string();
    REQUIRE(porbit("sync " + project + " --dry-run").status == 0);
    CHECK(load_project(project) == p);
    const Result r = porbit("sync " + project + " --json");
    REQUIRE(r.status == 0);
    const Json list = Json::parse(r.text)["offsets"];
    REQUIRE(list.size() == 3);
    for (std::size_t i = 0; i < 3; ++i) {
        CHECK(list[i]["id"] == std::string(1, char('A' + i)));
        CHECK(list[i]["offset_s"].get<double>() == Approx(offsets[i]).margin(0.05 / 30));
        CHECK(list[i]["confidence"].get<double>() > 0.5);
        CHECK(load_project(project).shots[0].cameras[i].offset.to_double() ==
              Approx(offsets[i]).margin(0.05 / 30));
    }
    write("c.mp4", std::vector<float>(std::size_t(5 * 48000), 0.0f));
    const Result silent = porbit("sync " + project);
    CHECK(silent.status == 1);
    CHECK(silent.text.find("camera C: its sound is silent") != std::string::npos);
}
