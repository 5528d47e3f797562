#include "takes.h"

#include "base/error.h"
#include "media/library.h"
#include "project/project.h"
#include "project/rig_change.h"

#include <fmt/format.h>

#include <cstdlib>
#include <unistd.h>

namespace porb {

namespace fs = std::filesystem;

namespace {
void run(const std::string& words) {
    if (std::system(words.c_str()) != 0) throw Error("failed", words, "");
}
} // namespace

fs::path enlarged_take(const std::string& demo, int scale, int rate, const fs::path& folder) {
    const fs::path own = folder / fmt::format("{}_{}_{}_true", demo, scale, rate),
                   file = own / (demo + ".porb");
    if (fs::exists(file)) return file;
    fs::create_directories(own);
    Project project = load_project(fs::path(PORB_SOURCE) / "demo" / demo / ("hall_" + demo + ".porb"));
    for (Media& media : project.media) {
        const fs::path to = own / media.ref.path.filename();
        const MediaInfo info = probe(media.ref);
        run(fmt::format("ffmpeg -v error -nostdin -y -stream_loop 3 -i {} -an -vf "
                        "scale={}:{}:flags=bicubic,setpts=N/{}/TB -r {} -c:v libx264 -preset veryfast -crf "
                        "23 -bf 2 -g {} {}",
                        media.ref.path.string(), info.width * scale, info.height * scale, rate, rate, rate,
                        to.string()));
        media.ref.path = to;
    }
    const Rig solved = load_rig(fs::path(PORB_SOURCE) / "demo" / demo / "truth.rig.json");
    for (Shot& shot : project.shots) {
        change_rig(shot, solved);
        shot.timing.rate = FrameRate(rate);
        shot.timing.in = Seconds(0);
        shot.timing.out = {};
        for (Camera& c : shot.rig.cameras) {
            Lens& l = c.lens;
            l.width *= scale, l.height *= scale, l.focal_px *= scale, l.center_px *= scale;
            l.circle.center_px *= scale, l.circle.radius_px *= scale;
        }
    }
    project.deliverables.clear();
    save_project(project, file);
    return file;
}

TakesFolder takes_folder() {
    const char* const kept = std::getenv("PORB_BENCH_TAKES");
    if (kept) return {kept, true};
    return {fs::temp_directory_path() / fmt::format("porb-bench-{}", getpid()), false};
}

} // namespace porb
