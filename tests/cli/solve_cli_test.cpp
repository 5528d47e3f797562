#include "base/file.h"
#include "project/orientation.h"
#include "support/support.h"

using namespace porb;
using namespace porb::test;

namespace {
std::string porbit(const std::string& words, int expected = 0) {
    int status = -1;
    const std::string out = run(std::string(PORB_PORBIT) + " " + words + " 2>&1", status);
    INFO(words << "\n" << out);
    CHECK(status == expected);
    return out;
}
} // namespace

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
    CHECK(load_project(project).shots[0].solves.size() == 1);

    CHECK(porbit("points " + project).find("RMS") != std::string::npos);
    CHECK(porbit("points " + project + " --drop-above 0.05").find("left out") != std::string::npos);
    porbit("points " + project + " --camera A --place 128 128", 2);
    porbit("points " + project + " --clear");
    CHECK(load_project(project).shots[0].points->empty());

    write_file_atomically(
        dir + "/lines.json",
        R"({"format": "pale-orbit/lines", "lines": [{"kind": "vertical", "camera": "Z", "places_px": [[1, 2], [3, 4]]}]})");
    CHECK(porbit("level " + project + " --lines " + dir + "/lines.json", 1).find("camera 'Z'") !=
          std::string::npos);
    porbit("level " + project + " --upside-down --face 90");
    porbit("level " + project + " --at 1 --key-yaw 20");
    CHECK(load_project(project).shots[0].orientation_keys.size() == 1);
    CHECK(porbit("steady " + project + " --from record", 1).find("motion record") != std::string::npos);
    porbit("steady " + project + " --from footage --follow 2");
    const Project steadied = load_project(project);
    REQUIRE(steadied.shots[0].steady);
    CHECK(steadied.shots[0].steady->follow_s == 2);
    porbit("steady " + project + " --off");
    CHECK_FALSE(load_project(project).shots[0].steady->on);
}
