// How long a large project takes to save and to open, against reading its bytes alone.
//   project_table [SHOTS [POINTS]]
#include "base/file.h"
#include "project/project.h"

#include <chrono>
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <random>
#include <sys/resource.h>

using namespace porb;

int main(int argc, char** argv) {
    const int shots = argc > 1 ? std::atoi(argv[1]) : 50, points = argc > 2 ? std::atoi(argv[2]) : 20000;
    const auto file = std::filesystem::temp_directory_path() / "porb_large.porb";
    std::mt19937 random(1);
    // As solves keep them: to a ten-thousandth of a pixel.
    const auto number = [&](double most) {
        return std::round(1e4 * most * double(random()) / 4294967296.0) / 1e4;
    };
    Project p;
    for (int s = 0; s < shots; ++s) {
        Shot shot = shot_for_rig(nominal_rig(6, 1920, 1920, 1, 190), "shot");
        shot.id = "shot-" + std::to_string(s);
        ControlPoints list;
        for (int i = 0; i < points; ++i) {
            ControlPoint c;
            c.id = i, c.time = Rational(i % 40, 30), c.a = "A", c.b = "B";
            c.a_px = {number(1920), number(1920)}, c.b_px = {number(1920), number(1920)};
            c.correlation = number(1);
            if (i % 9 == 0) c.dropped = {DropReason::residual, "3.10 px"};
            list.push_back(c);
        }
        shot.calibration.points = std::move(list);
        p.shots.push_back(std::move(shot));
    }
    const auto timed = [](const char* what, const auto& work) {
        const auto begun = std::chrono::steady_clock::now();
        work();
        std::printf("%-28s %7.3f s\n", what,
                    std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count());
    };
    timed("save", [&] { save_project(p, file); });
    std::string bytes;
    timed("reading the bytes alone", [&] { bytes = read_text_file(file, std::uint64_t(1) << 30); });
    Project back;
    timed("open", [&] { back = load_project(file); });
    timed("check after an edit", [&] {
        Project next = back;
        next.shots[0].levelling.orientation.yaw_deg = 3;
        validate(next, &back);
    });
    rusage use{};
    getrusage(RUSAGE_SELF, &use);
    std::printf("%d shots of %d points, %.1f MB, the same again: %s, most memory %.2f GB\n", shots, points,
                double(bytes.size()) / 1e6, back == p ? "yes" : "NO", double(use.ru_maxrss) / 1e6);
    std::filesystem::remove(file);
    return back == p ? 0 : 1;
}
