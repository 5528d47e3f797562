#include "support/support.h"

#include "media/still.h"

#include <cstdio>
#include <cstdlib>
#include <sys/wait.h>
#include <unistd.h>

namespace porb::test {

TempFolder::TempFolder() {
    std::string name = (std::filesystem::temp_directory_path() / "porb-test-XXXXXX").string();
    if (!::mkdtemp(name.data())) throw std::runtime_error("no temporary folder");
    path_ = name;
}
TempFolder::~TempFolder() {
    std::error_code code;
    std::filesystem::remove_all(path_, code);
}

std::filesystem::path source_folder() {
    return PORB_SOURCE;
}

std::string porbit_program() {
    return PORB_PORBIT;
}

Lens fisheye(int size, double fov_deg, Projection projection) {
    Lens lens;
    lens.projection = projection;
    lens.width = lens.height = size;
    lens.center_px = {size / 2.0, size / 2.0};
    lens.circle = {lens.center_px, size * 0.495};
    lens.focal_px = focal_for_field_of_view(lens, fov_deg);
    return lens;
}

Rig tiny_rig(int size) {
    return sim::simulated_rig(sim::SimRig::two_fisheyes, size);
}

Picture gradient(int width, int height) {
    Picture p(width, height);
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x) {
            const float u = (float(x) + 0.5f) / float(width), v = (float(y) + 0.5f) / float(height);
            set_pixel(p, x, y, {0.2f + 0.6f * u, 0.2f + 0.6f * v, 0.5f + 0.3f * u * v, 1});
        }
    return p;
}

StillTake hall_still(const TempFolder& folder, const sim::SimOptions& options) {
    StillTake take{options, sim::make_truth(options), {}};
    sim::Hall hall(options.things);
    const bool one_file = !sim::has_own_files(options.rig);
    Shot shot = shot_for_rig(take.truth.actual, "still");
    for (std::size_t i = 0; i < shot.cameras.size(); ++i) {
        const auto file = folder / ("source" + std::to_string(one_file ? 0 : i) + ".png");
        if (!std::filesystem::exists(file)) {
            std::vector<std::size_t> cameras{i};
            if (one_file) cameras = {0, 1};
            write_still(sim::render_source(hall, options, take.truth, cameras, 0), file, {16, 95, {}});
        }
        shot.cameras[i].media = add_media(take.project, media_ref_for(file));
    }
    shot.levelling.orientation = take.truth.tilt;
    take.project.shots.push_back(shot);
    return take;
}

StillTake ring_still(const TempFolder& folder, int circle_size) {
    sim::SimOptions o;
    o.rig = sim::SimRig::ring_of_six;
    o.circle_size = circle_size;
    StillTake take = hall_still(folder, o);
    take.project.shots[0].seams.flow.on = true;
    return take;
}

void write_counting_movie(const std::filesystem::path& path, const CountingMovie& m) {
    VideoFormat format;
    format.width = m.width;
    format.height = m.height;
    format.rate = m.rate;
    format.codec = m.codec;
    format.depth = m.depth;
    format.crf = 4;
    format.fast = true;
    if (m.sound) format.sound = SoundFormat{48000, 2, 128000};
    VideoWriter writer(path, format);
    std::int64_t spoken = 0;
    for (int n = 0; n < m.frames; ++n) {
        Picture p(m.width, m.height);
        const float v = (float(n) + 0.5f) / float(m.frames);
        for (int y = 0; y < m.height; ++y)
            for (int x = 0; x < m.width; ++x) set_pixel(p, x, y, {v, v, v, 1});
        writer.write(p);
        if (!m.sound) continue;
        const std::int64_t until = (frame_time(n + 1, m.rate) * Rational(48000)).round();
        std::vector<float> tone;
        for (; spoken < until; ++spoken) {
            const float s = 0.5f * float(std::sin(2 * 3.14159265358979 * 1000 * double(spoken) / 48000));
            tone.insert(tone.end(), {s, s});
        }
        writer.write_sound(tone);
    }
    writer.finish();
}

int counted_frame(const Picture& picture, const CountingMovie& m) {
    const Rgba c = pixel_at(picture, picture.width() / 2, picture.height() / 2);
    return int(std::floor(c.g * float(m.frames)));
}

std::string ring_project(const TempFolder& folder) {
    const auto demo = source_folder() / "tests/takes/ring";
    for (const auto& entry : std::filesystem::directory_iterator(demo))
        if (entry.path().extension() == ".mp4")
            std::filesystem::create_symlink(entry.path(), folder.path() / entry.path().filename());
    std::filesystem::copy_file(demo / "hall_ring.porb", folder / "p.porb");
    return (folder / "p.porb").string();
}

std::string run(const std::string& command, int& status) {
    std::string text;
    FILE* pipe = ::popen((command + " 2>&1").c_str(), "r");
    if (!pipe) throw std::runtime_error("cannot run " + command);
    char buffer[4096];
    while (const std::size_t n = std::fread(buffer, 1, sizeof buffer, pipe)) text.append(buffer, n);
    const int code = ::pclose(pipe);
    status = WIFEXITED(code) ? WEXITSTATUS(code) : -1;
    return text;
}

} // namespace porb::test
