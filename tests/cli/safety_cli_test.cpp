// The command line where work could be lost: odd numbers, two programs at once, interrupts, names.
#include "base/error.h"
#include "base/file.h"
#include "base/lock_file.h"
#include "cli/porbit.h"
#include "media/still.h"
#include "project/outputs.h"
#include "support/support.h"

#include <csignal>
#include <fstream>
#include <random>
#include <sys/wait.h>
#include <thread>
#include <unistd.h>

using namespace porb;
using namespace porb::test;

namespace {

int exit_status(int status) {
    return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
}
int quiet(const std::string& words) {
    return exit_status(std::system((porbit_program() + " " + words + " >/dev/null 2>&1").c_str()));
}

} // namespace

TEST_CASE("whatever is typed, a verb saves a project that can be read, or nothing") {
    const TempFolder folder;
    const std::string p = ring_project(folder);
    const std::vector<std::string> verbs = {
        "shot {} --yaw={v}",
        "shot {} --agree={v}",
        "shot {} --offset A={v}",
        "shot {} --rate={v}",
        "shot {} --in={v}",
        "shot {} --out={v}",
        "shot {} --reach A={v}",
        "shot {} --feather B={v}",
        "shot {} --flow-zone={v}",
        "grade {} --exposure={v}",
        "grade {} --lift={v}",
        "grade {} --gain=1,{v},1",
        "grade {} --pivot={v}",
        "level {} --key-yaw={v}",
        "level {} --face={v}",
        "level {} --at={v} --key-roll=2",
        "denoise {} --over-time={v}",
        "flow {} --zone={v}",
        "flow {} --key={v}=0.5",
        "flow {} --key=1={v}",
        "flow {} --seam A,B --agree={v}",
        "shelter {} --at={v},0",
        "shelter {} --at 10,0 --size={v},20",
        "shelter {} --at 10,0 --time={v}",
        "shelter {} --at 10,0 --name={v}",
        "shape {} --camera A --cut-out --corner={v},9 --corner 20,900 --corner 500,500",
        "shape {} --camera A --cut-out --corner 9,9 --corner 20,900 --corner 500,500 --name={v}",
        "match {} --exposure A={v}",
        "lines {} --ease={v}",
        "points {} --drop-above={v}"};
    const std::vector<std::string> values = {
        "nan",    "inf", "-inf",  "1e308", "-1e308", "99999999", "-99999999",
        "-3",     "0",   "0.001", "400",   "1/3",    "''",       std::string(300, 'x'),
        "1e-320", "180", "90",    "16"};
    std::mt19937 random(7);
    int saved = 0, refused = 0;
    std::string before = read_text_file(p);
    for (int i = 0; i < 120; ++i) {
        std::string words = verbs[std::size_t(i) % verbs.size()];
        words.replace(words.find("{}"), 2, p);
        words.replace(words.find("{v}"), 3, values[random() % values.size()]);
        INFO(words);
        const int status = quiet(words);
        CHECK((status == 0 || status == 1 || status == 2));
        const std::string now = read_text_file(p);
        if (status != 0) CHECK(now == before);
        const Project back = load_project(p); // throws when it cannot be read
        CHECK(project_to_text(back, p) == now);
        ++(status == 0 ? saved : refused);
        before = now;
    }
    CHECK(saved > 20);
    CHECK(refused > 40);
}

TEST_CASE("two verbs at once lose nothing, and a verb waits for another or says who has the project") {
    const TempFolder folder;
    const std::string p = ring_project(folder);
    for (int i = 0; i < 8; ++i) {
        std::thread one([&] { CHECK(quiet("shot " + p + " --yaw " + std::to_string(10 + i)) == 0); });
        CHECK(quiet("grade " + p + " --exposure " + std::to_string(0.1 * i + 0.05)) == 0);
        one.join();
        const Shot s = load_project(p).shots[0];
        CHECK(s.levelling.orientation.yaw_deg == 10 + i);
        CHECK(s.look.grade.exposure_ev == Approx(0.1 * i + 0.05));
    }
    const auto lock = LockFile::take(lock_of_project(p), "porbit solve");
    REQUIRE(lock);
    int status = 0;
    const std::string said = run(porbit_program() + " --wait 0.5 shot " + p + " --yaw 77", status);
    CHECK(status == 1);
    CHECK(said.find("is being changed by porbit solve, process") != std::string::npos);
    CHECK(load_project(p).shots[0].levelling.orientation.yaw_deg != 77);
    CHECK(quiet("rig " + p) == 0); // looking waits for nobody
}

TEST_CASE("the first interrupt ends every verb and leaves nothing") {
    const TempFolder folder;
    const std::string p = ring_project(folder), f = folder.path().string();
    const std::string before = read_text_file(p);
    int done = 0;
    for (const std::string& words :
         {"solve " + p, "master " + p + " --preset sphere-h264 --out " + f + "/m.mp4",
          "master " + p + " --preset sphere-png --out " + f + "/m.%04d.png", "crossings " + p, "lines " + p,
          "still " + p + " --width 8192 --out " + f + "/s.png", "match " + p, "level " + p + " --find",
          "denoise " + p + " --size 1200 --on --out " + f + "/n.png"}) {
        INFO(words);
        const pid_t child = ::fork();
        if (child == 0) {
            std::freopen("/dev/null", "w", stdout);
            std::freopen("/dev/null", "w", stderr);
            ::execl("/bin/sh", "sh", "-c", ("exec " + porbit_program() + " " + words).c_str(), nullptr);
            ::_exit(127);
        }
        ::usleep(350000);
        ::kill(child, SIGINT);
        int status = 0;
        pid_t ended = 0;
        for (int i = 0; i < 400 && ended == 0; ++i, ::usleep(50000))
            ended = ::waitpid(child, &status, WNOHANG);
        CHECK(ended == child);
        if (ended == 0) ::kill(child, SIGKILL), ::waitpid(child, &status, 0);
        if (WIFEXITED(status) && WEXITSTATUS(status) == 0) { // it was quicker, and has done what was asked
            ++done;
            CHECK_NOTHROW(load_project(p));
            write_file_atomically(p, before);
        }
        CHECK(read_text_file(p) == before);
        sweep_parts(folder.path());
        for (const auto& entry : std::filesystem::directory_iterator(folder.path())) {
            if (entry.path().extension() == ".png" && !entry.is_symlink()) {
                CHECK(read_still(entry.path()).width() > 0); // it was quicker: whole, then
                continue;
            }
            CHECK((entry.is_symlink() || entry.path() == p || entry.path().extension() == ".lock"));
        }
    }
    CHECK(done <= 4); // the others were under way
}

TEST_CASE("outputs never replace what a project uses, through any verb") {
    const TempFolder folder;
    const std::string p = ring_project(folder), f = folder.path().string();
    const std::string before = read_text_file(p);
    std::ofstream(folder / "look.cc") << "x";
    for (const std::string& words :
         {"rig " + p + " --out " + p, "rig " + p + " --out " + f + "/./hall_ring_A.mp4",
          "solve " + p + " --report " + f + "/hall_ring_B.mp4", "match " + p + " --report " + p,
          "grade " + p + " --write-cube " + f + "/hall_ring_F.mp4", "denoise " + p + " --out " + p,
          "master " + p + " --preset sphere-h264 --out " + f + "/hall_ring_D.mp4",
          "tag " + f + "/hall_ring_A.mp4 --out " + f + "/../" + folder.path().filename().string() +
              "/hall_ring_A.mp4"}) {
        INFO(words);
        int status = 0;
        const std::string said = run(porbit_program() + " " + words, status);
        INFO(said);
        CHECK(status == 1);
        CHECK(said.find("which would be lost") != std::string::npos);
        CHECK(read_text_file(p) == before);
    }
    for (const char camera : {'A', 'B', 'C', 'D', 'E', 'F'})
        CHECK(std::filesystem::is_symlink(folder / (std::string("hall_ring_") + camera + ".mp4")));
}

TEST_CASE("times outside the shot, and sources that cannot be read, are named") {
    const TempFolder folder;
    const std::string p = ring_project(folder), f = folder.path().string();
    const auto said = [&](const std::string& words) {
        int status = 0;
        const std::string text = run(porbit_program() + " " + words, status);
        CHECK(status == 1);
        return text;
    };
    CHECK(said("solve " + p + " --at 99").find("--at 99: is outside the shot, which lasts") !=
          std::string::npos);
    CHECK(said("master " + p + " --preset sphere-h264 --from=-1 --out " + f + "/m.mp4").find("--from") !=
          std::string::npos);
    CHECK(said("master " + p + " --preset sphere-h264 --to 99 --out " + f + "/m.mp4").find("--to 99") !=
          std::string::npos);
    CHECK(quiet("shelter " + p + " --at 1,1 --size 0,0") == 2);
    for (const char camera : {'A', 'B', 'C', 'D', 'E', 'F'})
        std::filesystem::remove(folder / (std::string("hall_ring_") + camera + ".mp4"));
    const std::string missing = said("still " + p + " --time 0.1 --out " + f + "/s.png");
    CHECK(missing.find("hall_ring_A.mp4: no such file") != std::string::npos);
}

TEST_CASE("names that are no text, or as long as names can be, survive") {
    const TempFolder folder;
    const std::string p = ring_project(folder);
    const auto odd = folder.path() / "caf\xe9 \xff.mp4";
    std::filesystem::create_symlink(source_folder() / "tests/takes/ring/hall_ring_A.mp4", odd);
    CHECK(quiet("shot '" + p + "' --source 'A=" + odd.string() + "'") == 0);
    Project back = load_project(p);
    CHECK(find_media(back, back.shots[0].cameras[0].media)->ref.path == odd);
    CHECK(quiet("shot '" + p + "' --yaw 3") == 0);
    back = load_project(p);
    CHECK(find_media(back, back.shots[0].cameras[0].media)->ref.path == odd);
    const auto longest = folder.path() / (std::string(249, 'n') + ".porb");
    std::filesystem::copy_file(p, longest);
    CHECK(quiet("shot '" + longest.string() + "' --yaw 4") == 0);
    CHECK(load_project(longest).shots[0].levelling.orientation.yaw_deg == 4);
}
