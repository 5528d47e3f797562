#include "cli/project_edit.h"
#include "cli/verbs.h"

#include "optics/ray_error.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/utf8.h"
#include "media/library.h"
#include "project/limits.h"
#include "project/origins.h"
#include "project/project.h"
#include "project/rig_change.h"
#include "project/takes.h"

#include <iostream>

namespace porb::cli {

namespace {

namespace fs = std::filesystem;

MediaRef checked_media(const std::string& file, FrameRate rate) {
    MediaRef ref = media_ref_for(file);
    ref.path = fs::absolute(ref.path).lexically_normal();
    ref.sequence_rate = rate;
    return ref;
}

ShotCamera& shot_camera(Shot& shot, const std::string& id, const std::string& option) {
    for (auto& c : shot.cameras)
        if (c.camera == id) return c;
    std::string known;
    for (const auto& c : shot.cameras) known += (known.empty() ? "" : ", ") + c.camera;
    throw Error("the rig has no camera '" + id + "'", option, "Use one of: " + known);
}

void assign(Project& project, Shot& shot, const std::vector<std::string>& words, FrameRate rate) {
    for (const auto& word : words) {
        const auto [id, file] = id_and_value(word, "--source");
        ShotCamera& camera = shot_camera(shot, id, "--source");
        const MediaRef ref = checked_media(file, rate);
        const MediaInfo info = probe(ref);
        const Lens& lens = find_camera(shot.rig, id)->lens;
        if (info.width != lens.width || info.height != lens.height)
            throw Error("is " + std::to_string(info.width) + " x " + std::to_string(info.height) +
                            " pixels, the lens of camera " + id + " is for " + std::to_string(lens.width) +
                            " x " + std::to_string(lens.height),
                        file, "Use a rig for this size, or the right file");
        give_source(project, shot, std::size_t(&camera - shot.cameras.data()), info);
    }
}

/// Frames a second, as --rate has it.
FrameRate rate_in(const std::string& text) {
    const FrameRate rate = seconds_in(text, "--rate");
    must_hold(rate.to_double(), "--rate", limits::kRate);
    return rate;
}

const std::string& left_of(const Rig& rig) {
    return rig.cameras[rig.cameras[0].eyes == Eyes::left ? 0 : 1].id;
}

struct NewWords {
    std::string project, rig, shot = "Shot 1", rate;
    std::vector<std::string> sources;
    bool force = false;
};

void make_new(const NewWords& w, const Run& run) {
    if (!w.force && fs::exists(w.project))
        throw Error("exists already", w.project, "Choose another name, or add --force to replace it");
    Project project;
    project.name = as_utf8(fs::path(w.project).stem().string());
    const Rig rig = load_rig(w.rig);
    Shot shot = new_shot(rig, w.shot, {OriginKind::file, as_utf8(fs::path(w.rig).filename().string())});
    if (shot.rig.cameras.front().eyes != rig.cameras.front().eyes)
        std::cerr << "porbit: note: the two cameras look the same way: " << left_of(shot.rig)
                  << " is taken for the left eye\n";
    const FrameRate rate = w.rate.empty() ? shot.timing.rate : rate_in(w.rate);
    assign(project, shot, w.sources, rate);
    if (!w.rate.empty()) shot.timing.rate = rate;
    project.shots.push_back(std::move(shot));
    save_new_project(project, w.project, w.force, run);
    std::cout << w.project << "\n";
}

struct ShotWords {
    std::string project, name, in, out, rate, sound, rig;
    std::optional<double> yaw, pitch, roll, agree;
    std::vector<std::string> sources, offsets, reach, feather;
    std::optional<bool> flow;
    std::string blending;
    std::optional<double> widest_band;
    std::optional<double> flow_strength, flow_zone, flow_nearest;
};

void change_shot(const ShotWords& w, const Run& run) {
    ProjectEdit edit(w.project, "shot", run);
    Project& project = edit.project;
    Shot& chosen = chosen_shot(project, w.name, w.project);
    Shot shot = chosen;
    if (!w.rig.empty()) {
        Rig rig = load_rig(w.rig);
        if (propose_eyes(rig))
            std::cerr << "porbit: note: the two cameras look the same way: " << left_of(rig)
                      << " is taken for the left eye\n";
        for (const auto& words : change_rig(shot, rig)) std::cerr << "porbit: note: " << words << "\n";
    }
    if (!w.rate.empty()) shot.timing.rate = rate_in(w.rate);
    assign(project, shot, w.sources, shot.timing.rate);
    if (!w.in.empty()) shot.timing.in = seconds_in(w.in, "--in");
    if (w.out == "end")
        shot.timing.out.reset();
    else if (!w.out.empty())
        shot.timing.out = seconds_in(w.out, "--out");
    if (shot.timing.out && *shot.timing.out <= shot.timing.in)
        throw Error("is not after --in", "--out", "Set it later");
    if (w.yaw) shot.levelling.orientation.yaw_deg = *w.yaw;
    if (w.pitch) shot.levelling.orientation.pitch_deg = *w.pitch;
    if (w.roll) shot.levelling.orientation.roll_deg = *w.roll;
    if (w.agree) shot.seams.agree_distance_m = *w.agree, shot.seams.agree_choice = AgreeChoice::chosen;
    for (const auto& word : w.offsets) {
        const auto [id, value] = id_and_value(word, "--offset");
        shot_camera(shot, id, "--offset").offset = seconds_in(value, "--offset");
    }
    for (const auto& word : w.reach) {
        const auto [id, value] = id_and_value(word, "--reach");
        shot_camera(shot, id, "--reach").reach_deg = number_in(value, "--reach", limits::kReach_deg);
    }
    if (!w.blending.empty())
        shot.seams.blend.kind = w.blending == "hard"        ? Blending::hard
                                : w.blending == "multiband" ? Blending::multiband
                                                            : Blending::feathered;
    if (w.widest_band) shot.seams.blend.widest_deg = *w.widest_band;
    if (w.flow) shot.seams.flow.on = *w.flow;
    if (w.flow_strength) shot.seams.flow.strength = *w.flow_strength;
    if (w.flow_zone) shot.seams.flow.zone_deg = *w.flow_zone;
    if (w.flow_nearest) shot.seams.flow.nearest_m = *w.flow_nearest;
    for (const auto& word : w.feather) {
        const auto [id, value] = id_and_value(word, "--feather");
        shot_camera(shot, id, "--feather").feather_deg = number_in(value, "--feather", limits::kFeather_deg);
    }
    if (w.sound == "none")
        shot.timing.sound.clear();
    else if (!w.sound.empty())
        shot.timing.sound = shot_camera(shot, w.sound, "--sound").media;
    note_origins(chosen, shot, {w.rig.empty() ? OriginKind::hand : OriginKind::file, w.rig});
    if (const auto locked = broken_lock(chosen, shot))
        throw Error(*locked + " is locked", w.project, "Unlock it in the window first");
    chosen = std::move(shot);
    edit.save();
}

} // namespace

void add_project_verbs(CLI::App& app, const Run& run) {
    {
        auto w = std::make_shared<NewWords>();
        CLI::App* verb = app.add_subcommand("new", "Make a project from a rig and its sources");
        verb->add_option("PROJECT", w->project, "The project file to make (.porb)")->required();
        verb->add_option("--rig", w->rig, "Rig file (.rig.json)")->required();
        verb->add_option(
                "--source", w->sources,
                "ID=FILE: a video, a still or a sequence (name.%04d.exr); two cameras may share a file")
            ->required();
        verb->add_option("--shot", w->shot, "The shot's name");
        verb->add_option("--rate", w->rate,
                         "Frames a second, such as 30 or 30000/1001 (from the first video unless set)");
        verb->add_flag("--force", w->force, "Replace a project of that name");
        verb->callback([w, run] { make_new(*w, run); });
    }
    {
        auto project = std::make_shared<std::string>(), out = std::make_shared<std::string>(),
             name = std::make_shared<std::string>(), against = std::make_shared<std::string>();
        CLI::App* verb = app.add_subcommand("rig", "Write the rig as it stands");
        verb->add_option("PROJECT", *project, "The project")->required();
        verb->add_option("--out", *out, "Rig file to write; - or nothing for standard output");
        verb->add_option("--shot", *name, "Name or id of the shot (the first unless set)");
        verb->add_option("--against", *against,
                         "Say how far its viewing rays are from those of this rig file");
        verb->callback([project, out, name, against] {
            Project p = opened_project(*project);
            const Rig& rig = chosen_shot(p, *name, *project).rig;
            if (!against->empty()) {
                const Rig other = load_rig(*against);
                if (other.cameras.size() != rig.cameras.size())
                    throw Error("has another number of cameras", *against, "Name a rig file of the same rig");
                const RayError e = ray_error(rig, other);
                std::cout << fmt::format(
                    "rays differ by {:.4f} deg in the mean, {:.4f} deg for the worst camera\n", e.mean_deg,
                    e.worst_camera_deg);
                for (std::size_t c = 0; c < rig.cameras.size(); ++c)
                    std::cout << fmt::format("  camera {:<4} {:.4f} deg\n", rig.cameras[c].id,
                                             e.camera_deg[c]);
                if (out->empty()) return;
            }
            if (out->empty()) *out = "-";
            if (*out == "-") {
                std::cout << rig_to_text(rig);
            } else {
                may_write(*out, p, *project, {*against});
                save_rig(rig, *out);
            }
        });
    }
    {
        auto w = std::make_shared<ShotWords>();
        CLI::App* verb = app.add_subcommand("shot", "Change what was decided about the shot");
        verb->add_option("PROJECT", w->project, "The project")->required();
        verb->add_option("--shot", w->name, "Name or id of the shot (the first unless set)");
        verb->add_option("--in", w->in, "Start of the used part, seconds");
        verb->add_option("--out", w->out, "End of the used part, seconds, or 'end'");
        verb->add_option("--rate", w->rate, "Frames a second");
        verb->add_option("--yaw", w->yaw, "Orientation: turn right, degrees")
            ->check(within(limits::kTurn_deg));
        verb->add_option("--pitch", w->pitch, "Orientation: look up, degrees")
            ->check(within(limits::kTurn_deg));
        verb->add_option("--roll", w->roll, "Orientation: lean clockwise, degrees")
            ->check(within(limits::kTurn_deg));
        verb->add_option("--agree", w->agree, "Agree distance in metres; 0 is infinitely far")
            ->check(within(limits::kDistance_m));
        verb->add_option("--rig", w->rig, "Replace the rig by this file");
        verb->add_option("--source", w->sources, "ID=FILE: give a camera another source");
        verb->add_option("--offset", w->offsets, "ID=SECONDS: source time minus shot time");
        verb->add_option("--reach", w->reach, "ID=DEGREES: how far from its axis a lens is used");
        verb->add_option("--feather", w->feather, "ID=DEGREES: width of its transitions");
        verb->add_option(
                "--blending", w->blending,
                "hard: at the line; feathered: over the feather; multiband: detail over 1.5 degrees at most, "
                "brightness and colour over ever wider bands")
            ->check(CLI::IsMember({"hard", "feathered", "multiband"}));
        verb->add_option("--widest-band", w->widest_band,
                         "Degrees that multiband's widest band reaches from a seam")
            ->check(within(limits::kWidestBand_deg));
        verb->add_option("--flow", w->flow,
                         "on or off: close parallax where lenses meet, by distances found in each frame");
        verb->add_option("--flow-strength", w->flow_strength, "0: the agree distance, 1: the distances found")
            ->check(within(limits::kShare));
        verb->add_option("--flow-zone", w->flow_zone, "Degrees that it reaches from a seam, fading")
            ->check(within(limits::kZone_deg));
        verb->add_option("--flow-nearest", w->flow_nearest, "Metres; nearer things are taken to be there")
            ->check(within(limits::kNearest_m));
        verb->add_option("--sound", w->sound, "Camera whose source's sound is kept, or 'none'");
        verb->callback([w, run] { change_shot(*w, run); });
    }
}

} // namespace porb::cli
