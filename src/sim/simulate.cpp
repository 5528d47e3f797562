#include "sim/simulate.h"

#include "base/error.h"
#include "base/file.h"
#include "base/json.h"
#include "media/motion.h"
#include "media/still.h"
#include "media/writer.h"
#include "optics/calibration.h"
#include "optics/rig_json.h"
#include "optics/target.h"
#include "project/project.h"

#include <Eigen/Geometry>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <ctime>

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
    if (o.distant) return "hall-distant";
    for (const auto& [name, things] : things_by_scene())
        if (things == o.things) return name;
    return "hall";
}

/// What the files of a rig have in their names.
const char* rig_word(SimRig rig) {
    switch (rig) {
    case SimRig::two_fisheyes:
        return "dual";
    case SimRig::pair_180:
        return "pair";
    case SimRig::ring_of_six:
        return "ring";
    case SimRig::ring_of_four:
        return "four";
    case SimRig::ball_of_eight:
        return "ball";
    case SimRig::dome_of_five:
        return "dome";
    case SimRig::ring_of_pairs:
        return "pairs";
    }
    return "dual";
}

std::vector<SourceFile> source_files(const SimOptions& o, const Rig& rig) {
    const std::string scene = scene_name(o);
    if (o.rig == SimRig::two_fisheyes) return {{scene + "_dual.mp4", {0, 1}}};
    if (o.rig == SimRig::pair_180) return {{scene + "_pair.mp4", {0, 1}}};
    std::vector<SourceFile> files;
    for (std::size_t i = 0; i < rig.cameras.size(); ++i)
        files.push_back({scene + "_" + rig_word(o.rig) + "_" + rig.cameras[i].id + ".mp4", {i}});
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
        if (!o.faults.shake && !o.faults.drive) break; // it never changes
    }
    write_file_atomically(path, dump_json(j));
}

Rig rig_in_file(const Rig& rig, const SourceFile& file) {
    Rig part;
    part.name = rig.name;
    for (const std::size_t c : file.cameras) part.cameras.push_back(rig.cameras[c]);
    return part;
}

/// All recordings of the hall begin about ten o'clock on one made-up morning.
constexpr std::int64_t kRecordedAt = 1777629600; // 2026-05-01 10:00:00 UTC
constexpr int kTimecodeHour = 10;

std::string recording_time(double seconds_late) {
    const std::time_t t = kRecordedAt + std::int64_t(std::floor(seconds_late));
    std::tm parts{};
    ::gmtime_r(&t, &parts);
    return fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}.000000Z", parts.tm_year + 1900, parts.tm_mon + 1,
                       parts.tm_mday, parts.tm_hour, parts.tm_min, parts.tm_sec);
}

std::string timecode_at(double seconds_late, FrameRate rate) {
    const auto base = std::max<std::int64_t>(1, rate.round());
    const std::int64_t n =
        kTimecodeHour * 3600 * base + std::int64_t(std::llround(seconds_late * rate.to_double()));
    return fmt::format("{:02}:{:02}:{:02}:{:02}", n / base / 3600, n / base / 60 % 60, n / base % 60,
                       n % base);
}

/// What the first camera's sensors would record: orientation, rates and the pull of gravity, 200 a second.
MotionRecord motion_of(const SimOptions& o, const Truth& truth) {
    constexpr int kPerSecond = 200;
    constexpr double kStep = 1e-4, kGravity = 9.80665;
    MotionRecord record;
    const Mat3 mount = rotation_of(truth.actual.cameras[0].pose.turn);
    for (int i = 0; i <= int(o.seconds * kPerSecond); ++i) {
        const double t = double(i) / kPerSecond;
        const auto at = [&](double s) {
            return Mat3(rotation_of(rig_turn(o, truth, s - truth.cameras[0].offset_s)) * mount);
        };
        const Mat3 now = at(t);
        const auto axis_angle = [](const Mat3& r) {
            const Eigen::AngleAxisd a(r);
            const Vec3 v = a.axis() * a.angle();
            return std::array<double, 3>{v.x(), v.y(), v.z()};
        };
        record.orientation.push_back({t, axis_angle(now)});
        auto rate = axis_angle(at(t - kStep).transpose() * at(t + kStep));
        for (double& v : rate) v /= 2 * kStep;
        record.gyro.push_back({t, rate});
        // At rest it feels the floor pushing up; in a curve the seat pushes sideways as well.
        const double moment = t - truth.cameras[0].offset_s;
        constexpr double kSlow = 0.01;
        const Vec3 pushed =
            (rig_place(o, moment + kSlow) - 2 * rig_place(o, moment) + rig_place(o, moment - kSlow)) /
            (kSlow * kSlow);
        const Vec3 pull = now.transpose() * (pushed + Vec3(0, -kGravity, 0));
        record.acceleration.push_back({t, {pull.x(), pull.y(), pull.z()}});
    }
    return record;
}

/// Each camera as OpenCV would have calibrated it, and the first two as a pair where they share a picture.
std::vector<std::filesystem::path> write_calibrations(const Rig& rig, const std::filesystem::path& folder) {
    std::vector<std::filesystem::path> written;
    const auto write = [&](const Calibration& c, const std::string& name) {
        written.push_back(folder / name);
        save_calibration(c, written.back());
    };
    for (const auto& camera : rig.cameras)
        write(calibration_of(rig, camera.id), "calibration_" + camera.id + ".yml");
    if (rig.cameras.size() == 2)
        write(calibration_of(rig, rig.cameras[0].id, rig.cameras[1].id), "calibration_pair.xml");
    return written;
}

Project project_for(const SimOptions& o, const Truth& truth, const std::vector<SourceFile>& files,
                    const std::filesystem::path& folder) {
    Project p;
    p.name = truth.nominal.name;
    Shot shot = shot_for_rig(truth.actual, truth.nominal.name);
    shot.timing.rate = o.rate;
    for (const auto& file : files) {
        const std::string id = add_media(p, media_ref_for(folder / file.name));
        if (shot.timing.sound.empty()) shot.timing.sound = id;
        for (const std::size_t c : file.cameras) {
            shot.cameras[c].media = id;
            shot.cameras[c].offset = Rational::from_double(truth.cameras[c].offset_s);
            shot.cameras[c].drift_ppm = truth.cameras[c].drift_ppm;
        }
    }
    shot.levelling.orientation = truth.tilt;
    // A pair's cameras are the eyes themselves: nothing is to be moved to agree.
    if (!o.distant && o.rig != SimRig::pair_180) shot.seams.agree_distance_m = 3;
    Deliverable d;
    d.id = "deliverable-1";
    d.name = "preview of the take";
    d.shot = shot.id;
    d.width = 1920;
    if (o.rig == SimRig::pair_180) {
        d.mapping = SphereMapping::half_equirect;
        d.stereo = EyeLayout::left_right;
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
    Hall hall(o.things, o.things_seed);

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
        format.metadata[kRigEntry] = rig_to_text(rig_in_file(truth.actual, file));
        format.metadata["creation_time"] = recording_time(-truth.cameras[file.cameras.front()].offset_s);
        format.timecode = timecode_at(-truth.cameras[file.cameras.front()].offset_s, o.rate);
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
        if (file.cameras.front() == 0) write_camm_track(part.path(), motion_of(o, truth));
        part.commit();
        written.push_back(here / file.name);
    }
    write_file_atomically(here / "motion.csv", motion_csv(motion_of(o, truth)));
    written.push_back(here / "motion.csv");
    for (auto& path : write_calibrations(truth.actual, here)) written.push_back(std::move(path));

    save_rig(truth.actual, here / "truth.rig.json");
    save_rig(truth.nominal, here / "nominal.rig.json");
    write_truth_json(o, truth, here / "truth.json");
    const auto project = here / (scene_name(o) + "_" + rig_word(o.rig) + ".porb");
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
            PartFile part(depth);
            write_exr_depth(true_distances(hall, o, t, o.truth_width / 2), o.truth_width / 2,
                            o.truth_width / 4, part.path());
            part.commit();
            written.push_back(depth);
        }
    if (progress) progress(1);
    return written;
}

} // namespace porb::sim
