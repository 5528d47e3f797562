#include "sim/simulate.h"

#include "base/error.h"
#include "base/file.h"
#include "base/json.h"
#include "media/still.h"
#include "media/writer.h"
#include "optics/rig_json.h"
#include "optics/target.h"
#include "project/project.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace porb::sim {

namespace {

constexpr int kSoundRate = 48000;
constexpr int kSoundChannels = 2;

/// The files of a rig and which cameras each holds.
struct SourceFile {
    std::string name;
    std::vector<std::size_t> cameras;
};

std::string scene_name(const SimOptions& o) {
    return o.distant ? "hall-distant" : "hall";
}

std::vector<SourceFile> source_files(const SimOptions& o, const Rig& rig) {
    const std::string scene = scene_name(o);
    if (o.rig == SimRig::two_fisheyes) return {{scene + "_dual.mp4", {0, 1}}};
    if (o.rig == SimRig::pair_180) return {{scene + "_pair.mp4", {0, 1}}};
    std::vector<SourceFile> files;
    for (std::size_t i = 0; i < rig.cameras.size(); ++i)
        files.push_back({scene + "_ring_" + rig.cameras[i].id + ".mp4", {i}});
    return files;
}

void write_truth_json(const SimOptions& o, const Truth& truth, const std::filesystem::path& path) {
    Json j = {{"format", "pale-orbit/simulated-truth"},
              {"version", 1},
              {"scene", scene_name(o)},
              {"seed", o.seed},
              {"rate", o.rate.to_string()},
              {"cameras", Json::array()},
              {"orientation", Json::array()}};
    for (std::size_t i = 0; i < truth.cameras.size(); ++i) {
        const CameraTruth& c = truth.cameras[i];
        j["cameras"].push_back({{"id", truth.actual.cameras[i].id},
                                {"offset_s", c.offset_s},
                                {"drift_ppm", c.drift_ppm},
                                {"exposure_ev", c.exposure_ev},
                                {"red_gain", c.red_gain},
                                {"blue_gain", c.blue_gain},
                                {"vignetting", c.vignetting}});
    }
    const auto frames = std::int64_t(std::llround(o.seconds * o.rate.to_double()));
    for (std::int64_t n = 0; n < frames; ++n) {
        const double t = frame_time(n, o.rate).to_double();
        Json turn = turn_to_json(rig_turn(o, truth, t));
        turn["time_s"] = t;
        j["orientation"].push_back(turn);
        if (!o.faults.shake) break; // it never changes
    }
    write_file_atomically(path, dump_json(j));
}

void write_depth(Hall& hall, const SimOptions& o, double seconds, const std::filesystem::path& path) {
    hall.set_time(seconds);
    const int w = o.truth_width / 2, h = w / 2;
    const TargetMap map(equirect_target(w));
    std::vector<float> z(std::size_t(w) * std::size_t(h));
    for (int y = 0; y < h; ++y)
        for (int x = 0; x < w; ++x)
            z[std::size_t(y) * std::size_t(w) + std::size_t(x)] =
                hall.depth(Vec3f(0, 0, 0), map.direction(Vec2(x + 0.5, y + 0.5))->cast<float>()) *
                (o.distant ? 1000.0f : 1.0f);
    PartFile part(path);
    write_exr_depth(z, w, h, part.path());
    part.commit();
}

Project project_for(const SimOptions& o, const Truth& truth, const std::vector<SourceFile>& files,
                    const std::filesystem::path& folder) {
    Project p;
    p.name = truth.nominal.name;
    Shot shot = shot_for_rig(truth.actual, truth.nominal.name);
    shot.rate = o.rate;
    for (const auto& file : files) {
        const std::string id = add_media(p, media_ref_for(folder / file.name));
        if (shot.sound.empty()) shot.sound = id;
        for (const std::size_t c : file.cameras) {
            shot.cameras[c].media = id;
            shot.cameras[c].offset = Rational::from_double(truth.cameras[c].offset_s);
            shot.cameras[c].drift_ppm = truth.cameras[c].drift_ppm;
        }
    }
    shot.orientation = truth.tilt;
    // A pair's cameras are the eyes themselves: nothing is to be moved to agree.
    if (!o.distant && o.rig != SimRig::pair_180) shot.agree_distance_m = 3;
    Deliverable d;
    d.id = "deliverable-1";
    d.name = "preview of the take";
    d.shot = shot.id;
    d.width = 1920;
    if (o.rig == SimRig::pair_180) {
        d.mapping = SphereMapping::half_equirect;
        d.stereo = StereoLayout::left_right;
        d.width = 1440;
    }
    d.path = folder / (scene_name(o) + "_preview.mp4");
    p.deliverables.push_back(std::move(d));
    p.shots.push_back(std::move(shot));
    return p;
}

} // namespace

std::vector<std::filesystem::path> simulate(const SimOptions& o, const std::filesystem::path& folder,
                                            const std::function<void(double)>& progress,
                                            const Cancel& cancel) {
    std::error_code code;
    std::filesystem::create_directories(folder, code);
    if (!std::filesystem::is_directory(folder))
        throw Error("the folder cannot be made", folder.string(), "Choose a place that is writable");
    const auto here = std::filesystem::absolute(folder);
    const Truth truth = make_truth(o);
    const auto files = source_files(o, truth.nominal);
    const auto frames = std::int64_t(std::llround(o.seconds * o.rate.to_double()));
    if (frames < 1) throw Error("is too short for one frame", "--seconds", "Ask for more seconds");
    std::vector<std::filesystem::path> written;
    Hall hall;

    const SphereMapping mapping =
        o.rig == SimRig::pair_180 ? SphereMapping::half_equirect : SphereMapping::equirect;
    const double truth_share = o.truth_width > 0 ? 0.15 : 0;
    std::size_t done = 0;
    const std::size_t all = std::size_t(frames) * files.size();
    for (const auto& file : files) {
        PartFile part(here / file.name);
        VideoFormat format;
        format.width = truth.nominal.cameras[file.cameras.front()].lens.width;
        format.height = truth.nominal.cameras[file.cameras.front()].lens.height;
        format.rate = o.rate;
        format.crf = o.crf;
        format.sound = SoundFormat{kSoundRate, kSoundChannels, 128000};
        VideoWriter writer(part.path(), format);
        const CameraTruth& clock = truth.cameras[file.cameras.front()];
        Microphone mic{unsigned(file.cameras.front()) + o.seed * 16, 1 / (1 + clock.drift_ppm * 1e-6),
                       o.faults.microphones, o.faults.microphones ? 10.0 : 0.0};
        const auto mono =
            hall_sound(-clock.offset_s * mic.speed, std::int64_t(o.seconds * kSoundRate), kSoundRate, mic);
        std::size_t spoken = 0;
        for (std::int64_t n = 0; n < frames; ++n) {
            cancel.check();
            writer.write(render_source(hall, o, truth, file.cameras, n));
            const auto until =
                std::min(mono.size(), std::size_t(double(n + 1) / o.rate.to_double() * kSoundRate));
            std::vector<float> stereo;
            for (; spoken < until; ++spoken) stereo.insert(stereo.end(), {mono[spoken], mono[spoken]});
            writer.write_sound(stereo);
            if (progress) progress((1 - truth_share) * double(++done) / double(all));
        }
        writer.finish();
        part.commit();
        written.push_back(here / file.name);
    }

    save_rig(truth.actual, here / "truth.rig.json");
    save_rig(truth.nominal, here / "nominal.rig.json");
    write_truth_json(o, truth, here / "truth.json");
    const auto project = here / (scene_name(o) +
                                 (o.rig == SimRig::ring_of_six ? "_ring"
                                  : o.rig == SimRig::pair_180  ? "_pair"
                                                               : "_dual") +
                                 ".porb");
    save_project(project_for(o, truth, files, here), project);
    for (const char* name : {"truth.rig.json", "nominal.rig.json", "truth.json"})
        written.push_back(here / name);
    written.push_back(project);
    if (o.truth_width > 0)
        for (const double t : o.truth_times) {
            const StillOptions still{8, 95, SphericalTag{mapping, StereoLayout::mono}};
            for (const auto eye : {TruthEye::mono, TruthEye::left, TruthEye::right}) {
                cancel.check();
                const char* word = eye == TruthEye::mono ? "mono" : eye == TruthEye::left ? "left" : "right";
                const auto path = here / fmt::format("truth_{}_{:.3f}s.png", word, t);
                write_still(true_panorama(hall, o, t, mapping, o.truth_width, eye), path, still);
                written.push_back(path);
            }
            const auto depth = here / fmt::format("truth_depth_{:.3f}s.exr", t);
            write_depth(hall, o, t, depth);
            written.push_back(depth);
        }
    if (progress) progress(1);
    return written;
}

} // namespace porb::sim
