#include "scenes.h"

#include "media/still.h"

#include <fmt/format.h>

#include <fstream>

namespace porb::bench {

namespace fs = std::filesystem;

std::vector<std::string> scene_names() {
    std::vector<std::string> out = {"hall-distant", "hall-scattered", "hall-visited", "hall-hung"};
    for (const auto& [name, things] : sim::things_by_scene()) out.push_back(name);
    return out;
}

sim::SimOptions options_of(const std::string& scene, const std::string& rig, unsigned seed, int size) {
    sim::SimOptions o;
    o.rig = sim::rigs_by_name().at(rig);
    o.circle_size = size;
    o.rate = FrameRate(2);
    o.seed = seed;
    o.faults.lens = o.faults.pose = o.faults.noise = true;
    o.distant = scene == "hall-distant";
    if (const auto named = sim::things_by_scene().find(scene); named != sim::things_by_scene().end())
        o.things = named->second;
    if (scene == "hall-scattered") o.things = sim::Things::clutter;
    if (scene != "hall-cluttered") o.things_seed = 1 + seed;
    o.faults.upside_down = scene == "hall-hung";
    return o;
}
std::int64_t frame_of(const std::string& scene, unsigned seed) {
    return scene == "hall-visited" ? 2 + std::int64_t(seed * 7 % 9) : 0;
}

cv::Mat bytes_of(const Picture& p) {
    cv::Mat out(p.height(), p.width(), CV_8UC3);
    for (int y = 0; y < p.height(); ++y)
        for (int x = 0; x < p.width(); ++x) {
            const Rgba c = pixel_at(p, x, y);
            const auto b = [](float v) { return std::uint8_t(std::clamp(v, 0.0f, 1.0f) * 255 + 0.5f); };
            out.at<cv::Vec3b>(y, x) = {b(c.b), b(c.g), b(c.r)};
        }
    return out;
}

Picture picture_of(const cv::Mat& m) {
    Picture out(m.cols, m.rows);
    for (int y = 0; y < m.rows; ++y)
        for (int x = 0; x < m.cols; ++x) {
            const auto& p = m.at<cv::Vec3b>(y, x);
            set_pixel(out, x, y, {float(p[2]) / 255, float(p[1]) / 255, float(p[0]) / 255, 1});
        }
    return out;
}

Take make_take(const sim::SimOptions& o, std::int64_t frame, int width, const fs::path& folder) {
    fs::create_directories(folder);
    const sim::Truth truth = sim::make_truth(o);
    std::unique_ptr<sim::Hall> hall; // made only when something is missing
    const auto room = [&]() -> sim::Hall& {
        if (!hall) hall = std::make_unique<sim::Hall>(o.things, o.things_seed);
        return *hall;
    };
    Take take;
    take.rig = truth.actual;
    Shot shot = shot_for_rig(truth.actual, "take");
    const bool shared = !sim::has_own_files(o.rig);
    for (std::size_t c = 0; c < shot.cameras.size(); ++c) {
        std::vector<std::size_t> in = {shared ? 0 : c};
        if (shared)
            for (std::size_t k = 1; k < shot.cameras.size(); ++k) in.push_back(k);
        const fs::path path = folder / fmt::format("source{}.png", in[0]);
        if (!fs::exists(path))
            write_still(sim::render_source(room(), o, truth, in, frame), path, {8, 95, {}});
        shot.cameras[c].media = add_media(take.project, media_ref_for(path));
        take.sources.push_back(bytes_of(read_still(path)));
    }
    const fs::path path = folder / fmt::format("truth{}.png", width);
    if (!fs::exists(path))
        write_still(sim::true_panorama(room(), o, double(frame) / 2, SphereMapping::equirect, width,
                                       sim::TruthEye::mono),
                    path, {8, 95, {}});
    take.truth = bytes_of(read_still(path));
    shot.levelling.orientation = sim::rig_turn(o, truth, double(frame) / 2);
    take.project.shots.push_back(std::move(shot));
    return take;
}

TrueEyes true_eyes(const sim::SimOptions& o, std::int64_t frame, int width, const fs::path& folder) {
    fs::create_directories(folder);
    std::unique_ptr<sim::Hall> hall;
    const auto eye = [&](sim::TruthEye which, const char* word) {
        const fs::path path = folder / fmt::format("truth-{}{}.png", word, width);
        if (!fs::exists(path)) {
            if (!hall) hall = std::make_unique<sim::Hall>(o.things, o.things_seed);
            write_still(sim::true_panorama(*hall, o, double(frame) / o.rate.to_double(),
                                           SphereMapping::equirect, width, which),
                        path, {8, 95, {}});
        }
        return bytes_of(read_still(path));
    };
    return {eye(sim::TruthEye::left, "left"), eye(sim::TruthEye::right, "right")};
}

cv::Mat true_inverse(const sim::SimOptions& o, std::int64_t frame, int width, const fs::path& folder) {
    const fs::path path = folder / fmt::format("inverse{}.bin", width);
    cv::Mat out(width / 2, width, CV_32F);
    const auto bytes = out.total() * out.elemSize();
    if (fs::exists(path) && fs::file_size(path) == bytes) {
        std::ifstream(path, std::ios::binary).read(reinterpret_cast<char*>(out.data), std::streamsize(bytes));
        return out;
    }
    sim::Hall hall(o.things, o.things_seed);
    const auto metres = sim::true_distances(hall, o, double(frame) / o.rate.to_double(), width);
    for (std::size_t i = 0; i < metres.size(); ++i)
        out.at<float>(int(i) / width, int(i) % width) = 1 / metres[i];
    fs::create_directories(folder);
    std::ofstream(path, std::ios::binary)
        .write(reinterpret_cast<const char*>(out.data), std::streamsize(bytes));
    return out;
}

} // namespace porb::bench
