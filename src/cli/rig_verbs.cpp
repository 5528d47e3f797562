// Verbs of gathering and of the rig: takes, sync, circles, profiles, calibrations, motion records.
#include "align/offsets.h"
#include "base/error.h"
#include "base/file.h"
#include "base/json.h"
#include "base/utf8.h"
#include "cli/project_edit.h"
#include "cli/verbs.h"
#include "media/motion.h"
#include "project/camera_edits.h"
#include "project/origins.h"
#include "project/takes.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <iostream>

namespace porb::cli {

namespace {

struct SyncWords {
    std::string project, shot, method = "sound", from, to;
    double apart = 30;
    bool json = false, no_drift = false, dry_run = false;
};

void sync(const SyncWords& w, const Run& run) {
    ProjectEdit edit(w.project, "sync", run, !w.dry_run);
    Project& project = edit.project;
    Shot& shot = chosen_shot(project, w.shot, w.project);
    AlignOptions o;
    o.method = w.method == "sound"      ? AlignMethod::sound
               : w.method == "timecode" ? AlignMethod::timecode
                                        : AlignMethod::motion;
    o.most_offset_s = w.apart;
    o.find_drift = !w.no_drift;
    MediaLibrary library(run.memory);
    if (!w.from.empty()) o.from = seconds_in(w.from, "--from");
    if (!w.to.empty()) o.to = seconds_in(w.to, "--to");
    const auto found = find_offsets(
        project, shot, library, o,
        [](double share) { show_progress(fmt::format("{:.0f} % compared", 100 * share), share >= 1); },
        run.cancel);
    const Shot next = aligned(shot, found, !w.no_drift);
    std::string refused;
    Json offsets = Json::array();
    for (const auto& f : found) {
        if (!f.found) {
            refused += (refused.empty() ? "camera " : "; camera ") + f.camera + ": " + f.why_not;
            continue;
        }
        const ShotCamera& c = *find_camera(next, f.camera);
        offsets.push_back({{"id", f.camera},
                           {"offset_s", c.offset.to_double()},
                           {"confidence", f.confidence},
                           {"method", f.method},
                           {"drift_ppm", c.drift_ppm}});
        if (!w.json)
            std::cout << fmt::format(
                "{:<8} {:+10.4f} s  {:+8.2f} frames  {:3.0f} %  {}{}\n", f.camera, c.offset.to_double(),
                c.offset.to_double() * shot.timing.rate.to_double(), 100 * f.confidence, f.method,
                c.drift_ppm != 0 ? fmt::format("  its clock drifts by {:+.1f} ppm", c.drift_ppm) : "");
    }
    if (w.json) {
        Json document = {{"offsets", offsets}, {"refused", Json::array()}};
        for (const auto& f : found)
            if (!f.found)
                document["refused"].push_back({{"id", f.camera}, {"why", f.why_not}, {"mend", f.mend}});
        std::cout << dump_json(document);
    }
    const bool any = std::any_of(found.begin(), found.end(), [](const FoundOffset& f) { return f.found; });
    if (any && !w.dry_run) {
        shot = next;
        edit.save();
    }
    if (!refused.empty())
        throw Error("not aligned: " + refused, w.project, "Try another --method, or porbit shot --offset");
}

void print_takes(const std::vector<Take>& takes, const std::vector<FoundFile>& files, bool json) {
    Json out = Json::array();
    for (const auto& t : takes) {
        Json names = Json::array(), remarks = Json::array();
        for (const std::size_t f : t.files) names.push_back(files[f].info.ref.path.string());
        for (const auto& r : t.remarks) remarks.push_back(r.text);
        out.push_back({{"name", t.name},
                       {"files", names},
                       {"circles_per_picture", t.circles_per_picture},
                       {"reasons", t.reasons},
                       {"remarks", remarks}});
        if (json) continue;
        std::cout << t.name << "\n";
        for (const std::size_t f : t.files) std::cout << "  " << files[f].info.ref.path.string() << "\n";
        for (const auto& r : t.reasons) std::cout << "  because " << r << "\n";
        for (const auto& r : t.remarks) std::cout << "  note: " << r.text << "\n";
    }
    if (json) std::cout << dump_json({{"takes", out}});
}

void gather(const std::vector<std::string>& from, const std::string& project_file, bool json, bool force,
            const Run& run) {
    std::vector<std::filesystem::path> paths;
    for (const auto& f : from)
        if (std::filesystem::is_directory(f)) {
            const auto inside = media_files_in(f);
            paths.insert(paths.end(), inside.begin(), inside.end());
        } else {
            paths.push_back(f);
        }
    std::vector<FoundFile> files;
    for (const auto& p : paths) try {
            run.cancel.check();
            files.push_back(look_at(p));
        } catch (const Error& e) {
            std::cerr << "porbit: note: " << e.message() << "\n";
        }
    if (files.empty())
        throw Error("no pictures or video were found", from.front(),
                    "Name a folder or files that can be read");
    const auto takes = propose_takes(files);
    print_takes(takes, files, json);
    if (project_file.empty()) return;
    Project project;
    project.name = as_utf8(std::filesystem::path(project_file).stem().string());
    const auto profiles = all_profiles();
    for (const auto& t : takes) add_take(project, t, files, profiles);
    save_new_project(project, project_file, force, run);
}

void circles(const std::string& file, const std::string& shot_name, bool json, const Run& run) {
    ProjectEdit edit(file, "circles", run);
    Project& project = edit.project;
    Shot& shot = chosen_shot(project, shot_name, file);
    MediaLibrary library(run.memory);
    Json out = Json::array();
    std::string refused;
    std::vector<std::string> done;
    for (const auto& use : std::vector<ShotCamera>(shot.cameras)) {
        if (use.media.empty() || std::find(done.begin(), done.end(), use.media) != done.end()) continue;
        done.push_back(use.media);
        const CircleSearch found = find_shot_circles(project, shot, use.media, library, run.cancel);
        if (found.circles.empty())
            refused += (refused.empty() ? "" : "; ") + use.media + ": " + found.why_not;
        take_circles(shot, use.media, found);
        for (const auto& c : found.circles) {
            out.push_back({{"media", use.media},
                           {"center_px", {c.circle.center_px.x(), c.circle.center_px.y()}},
                           {"radius_px", c.circle.radius_px},
                           {"confidence", c.confidence}});
            if (!json)
                std::cout << fmt::format("{:<24} centre {:.1f}, {:.1f}  radius {:.1f} px  {:.0f} %\n",
                                         use.media, c.circle.center_px.x(), c.circle.center_px.y(),
                                         c.circle.radius_px, 100 * c.confidence);
        }
    }
    if (json) std::cout << dump_json({{"circles", out}});
    edit.save();
    if (!refused.empty())
        throw Error("no circle was found: " + refused, file, "Set it by hand in the window's lens view");
}

struct CalibrationWords {
    std::string project, shot, file, out;
    std::vector<std::string> cameras;
    bool pinhole = false;
};
void calibrate(const CalibrationWords& w, const Run& run) {
    ProjectEdit edit(w.project, "calibration", run, w.out.empty());
    Project& project = edit.project;
    Shot& shot = chosen_shot(project, w.shot, w.project);
    if (!w.out.empty()) {
        may_write(w.out, project, w.project, {w.file});
        save_calibration(calibration_of(shot.rig, w.cameras.at(0), w.cameras.size() > 1 ? w.cameras[1] : ""),
                         w.out);
        std::cout << w.out << "\n";
        return;
    }
    if (w.file.empty()) throw CLI::ValidationError("calibration", "needs --read FILE or --write FILE");
    const Camera* camera = find_camera(shot.rig, w.cameras.at(0));
    if (!camera)
        throw Error("the rig has no camera '" + w.cameras[0] + "'", "--camera", "Use one of its ids");
    const Calibration c = load_calibration(w.file, {camera->lens.width, camera->lens.height, !w.pinhole});
    take_calibration(shot, w.cameras, c,
                     {OriginKind::file, std::filesystem::path(w.file).filename().string()});
    for (const auto& r : c.remarks) std::cerr << "porbit: note: " << r << "\n";
    edit.save();
}

void use_profile(const std::string& file, const std::string& shot_name, const std::string& words,
                 const Run& run) {
    ProjectEdit edit(file, "profiles", run);
    Project& project = edit.project;
    Shot& shot = chosen_shot(project, shot_name, file);
    const Lens& lens = shot.rig.cameras.front().lens;
    const bool shared = shot.cameras.size() == 2 && !shot.cameras[0].media.empty() &&
                        shot.cameras[0].media == shot.cameras[1].media;
    const auto fitting = matching(search(all_profiles(), words),
                                  {int(shot.rig.cameras.size()), lens.width, lens.height, shared ? 2 : 1});
    if (fitting.empty())
        throw Error(fmt::format("no profile of that name fits {} cameras of {} x {}", shot.rig.cameras.size(),
                                lens.width, lens.height),
                    words, "See porbit profiles");
    for (const auto& told : start_from(shot, scaled(fitting.front().rig, lens.width, lens.height),
                                       {OriginKind::profile, fitting.front().name()}))
        std::cerr << "porbit: note: " << told << "\n";
    edit.save();
    std::cout << fitting.front().name() << "\n";
}

} // namespace

void add_rig_verbs(CLI::App& app, const Run& run) {
    {
        auto w = std::make_shared<SyncWords>();
        CLI::App* verb = app.add_subcommand("sync", "Find time offsets between the sources");
        verb->add_option("PROJECT", w->project, "The project; offsets are saved in it")->required();
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->add_option("--method", w->method, "sound, timecode or motion")
            ->check(CLI::IsMember({"sound", "timecode", "motion"}));
        verb->add_option("--from", w->from, "Compare from this shot time on, seconds");
        verb->add_option("--to", w->to, "Compare up to this shot time, seconds");
        verb->add_option("--apart", w->apart, "How far apart the sources may have begun, seconds")
            ->check(within({0.1, 3600}));
        verb->add_flag("--no-drift", w->no_drift, "Leave clocks as they are");
        verb->add_flag("--dry-run", w->dry_run, "Say it, but do not save it");
        verb->add_flag("--json", w->json, "For programs");
        verb->callback([w, run] { sync(*w, run); });
    }
    {
        struct Words {
            std::vector<std::string> from;
            std::string project;
            bool json = false, force = false;
        };
        auto w = std::make_shared<Words>();
        CLI::App* verb = app.add_subcommand("takes", "Propose which files belong together, and why");
        verb->add_option("FOLDER", w->from, "Folders or files")->required();
        verb->add_option("--project", w->project, "Make a project with a shot for each take (.porb)");
        verb->add_flag("--force", w->force, "Replace a project of that name");
        verb->add_flag("--json", w->json, "For programs");
        verb->callback([w, run] { gather(w->from, w->project, w->json, w->force, run); });
    }
    {
        struct Words {
            std::string project, shot;
            bool json = false;
        };
        auto w = std::make_shared<Words>();
        CLI::App* verb = app.add_subcommand("circles", "Find the image circles in the sources");
        verb->add_option("PROJECT", w->project, "The project; circles are saved in it")->required();
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->add_flag("--json", w->json, "For programs");
        verb->callback([w, run] { circles(w->project, w->shot, w->json, run); });
    }
    {
        struct Words {
            std::string words, save, project, shot;
        };
        auto w = std::make_shared<Words>();
        CLI::App* verb = app.add_subcommand("profiles", "List, search, use and save rig profiles");
        verb->add_option("WORDS", w->words, "Show those in which all these words occur");
        verb->add_option("--use", w->project, "Start the rig of this project from the best that fits");
        verb->add_option("--shot", w->shot, "Name or id of its shot (the first unless set)");
        verb->add_option("--save", w->save, "Keep the project's rig as a profile of this name");
        verb->callback([w, run] {
            if (!w->save.empty()) {
                if (w->project.empty())
                    throw CLI::ValidationError("--save", "needs --use PROJECT to say whose rig");
                Project p = opened_project(w->project);
                std::cout << save_profile(chosen_shot(p, w->shot, w->project).rig, w->save,
                                          profile_folders().front())
                                 .file.string()
                          << "\n";
            } else if (!w->project.empty()) {
                use_profile(w->project, w->shot, w->words, run);
            } else {
                for (const auto& p : search(all_profiles(), w->words))
                    std::cout << fmt::format("{:<10}{}\n", p.built_in ? "built-in" : "saved", p.name());
            }
        });
    }
    {
        auto w = std::make_shared<CalibrationWords>();
        CLI::App* verb = app.add_subcommand(
            "calibration", "Read a lens calibration into the rig, or write one (OpenCV's YAML, XML or JSON)");
        verb->add_option("PROJECT", w->project, "The project")->required();
        verb->add_option("--camera", w->cameras, "The camera; twice for a stereo pair")
            ->required()
            ->expected(1, 2);
        verb->add_option("--read", w->file, "Calibration to put into the rig");
        verb->add_option("--write", w->out, "Calibration to write");
        verb->add_flag("--pinhole", w->pinhole,
                       "Four unnamed terms are the pinhole model's, not the fisheye's");
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->callback([w, run] { calibrate(*w, run); });
    }
    {
        struct Words {
            std::string file, out;
        };
        auto w = std::make_shared<Words>();
        CLI::App* verb =
            app.add_subcommand("motion", "What a motion record holds (a CAMM track or a CSV table)");
        verb->add_option("FILE", w->file, "A movie with a motion track, or a table")->required();
        verb->add_option("--out", w->out, "Write it as a table (.csv)");
        verb->callback([w] {
            const MotionRecord r = load_motion(w->file);
            if (!w->out.empty()) {
                may_write(w->out, Project(), {}, {w->file});
                write_file_atomically(w->out, motion_csv(r));
            }
            const auto line = [](const char* name, const std::vector<MotionSample>& list) {
                if (list.empty()) return;
                const double span = list.back().time_s - list.front().time_s;
                std::cout << fmt::format("{:<14}{:>8} samples, {:.3f} to {:.3f} s, {:.1f} a second\n", name,
                                         list.size(), list.front().time_s, list.back().time_s,
                                         span > 0 ? double(list.size() - 1) / span : 0);
            };
            line("orientation", r.orientation), line("gyro", r.gyro), line("acceleration", r.acceleration);
            line("position", r.position), line("magnetic", r.magnetic), line("place", r.place);
        });
    }
}

} // namespace porb::cli
