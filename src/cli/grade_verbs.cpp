#include "cli/project_edit.h"
#include "cli/verbs.h"

#include "base/error.h"
#include "grade/exchange.h"
#include "grade/grader.h"
#include "media/curves.h"
#include "media/library.h"
#include "media/still.h"
#include "project/limits.h"
#include "project/project.h"
#include "stitch/source/noise_look.h"

#include <fmt/format.h>

#include <iostream>
#include <sstream>

namespace porb::cli {

namespace {

/// One number for all three channels, or three with commas.
std::array<double, 3> three(const std::string& text, const char* option, Range range) {
    std::array<double, 3> out{};
    std::stringstream words(text);
    std::string word;
    std::size_t n = 0;
    while (std::getline(words, word, ',') && n < 3) out[n++] = number_in(word, option, range);
    if (n == 1) out[1] = out[2] = out[0];
    if (n == 0 || n == 2 || std::getline(words, word, ','))
        throw CLI::ValidationError(option, "'" + text + "': write one number, or red,green,blue");
    return out;
}

struct GradeWords {
    std::string project, shot, lift, gamma, gain, lut, cdl, cdl_id, write_cdl, write_cube;
    std::optional<double> exposure, warmth, tint, contrast, pivot, saturation, lut_strength;
    std::vector<std::string> copy;
    bool reset = false, on = false, off = false, list = false, no_lut = false;
};

void print(const Grade& g) {
    const auto each = [](const std::array<double, 3>& v) {
        return fmt::format("{:.3f} {:.3f} {:.3f}", v[0], v[1], v[2]);
    };
    std::cout << fmt::format("grade is {}\n  exposure {:+.2f} EV, warmth {:+.2f} EV, tint {:+.2f} EV\n"
                             "  contrast {:.3f} about {:.3f}, saturation {:.3f}\n"
                             "  lift {}   gamma {}   gain {}\n",
                             !g.on           ? "passed by"
                             : is_neutral(g) ? "neutral"
                                             : "on",
                             g.exposure_ev, g.warmth_ev, g.tint_ev, g.contrast, g.pivot, g.saturation,
                             each(g.lift), each(g.gamma), each(g.gain));
    if (!g.lut.empty())
        std::cout << fmt::format("  LUT {} at {:.0f} %\n", g.lut.string(), 100 * g.lut_strength);
}

void grade(const GradeWords& w, const Run& run) {
    ProjectEdit edit(w.project, "grade", run, !w.list);
    Project& project = edit.project;
    Shot& shot = chosen_shot(project, w.shot, w.project);
    Grade& g = shot.look.grade;
    if (w.reset) g = Grade();
    if (!w.cdl.empty()) g = with_cdl(g, w.cdl, w.cdl_id);
    if (w.exposure) g.exposure_ev = *w.exposure;
    if (w.warmth) g.warmth_ev = *w.warmth;
    if (w.tint) g.tint_ev = *w.tint;
    if (w.contrast) g.contrast = *w.contrast;
    if (w.pivot) g.pivot = *w.pivot;
    if (w.saturation) g.saturation = *w.saturation;
    if (!w.lift.empty()) g.lift = three(w.lift, "--lift", limits::kLift);
    if (!w.gamma.empty()) g.gamma = three(w.gamma, "--gamma", limits::kGamma);
    if (!w.gain.empty()) g.gain = three(w.gain, "--gain", limits::kGain);
    if (!w.lut.empty()) g.lut = std::filesystem::absolute(w.lut);
    if (w.no_lut) g.lut.clear();
    if (w.lut_strength) g.lut_strength = *w.lut_strength;
    if (w.on) g.on = true;
    if (w.off) g.on = false;
    const Grader checked(g); // a LUT that is none says so before anything is saved
    for (const auto& name : w.copy) {
        if (name == "all")
            for (auto& other : project.shots) other.look.grade = g;
        else
            chosen_shot(project, name, w.project).look.grade = g;
    }
    for (const auto& out : {w.write_cdl, w.write_cube})
        if (!out.empty()) may_write(out, project, w.project, {w.cdl});
    if (!w.write_cdl.empty()) write_cdl(g, w.write_cdl, shot.name);
    if (!w.write_cube.empty()) write_cube(g, w.write_cube);
    print(g);
    if (!w.list) edit.save();
}

struct CurveWords {
    std::string project, shot, all;
    std::vector<std::string> cameras;
    bool list = false;
};

void curve(const CurveWords& w, const Run& run) {
    ProjectEdit edit(w.project, "curve", run, !w.list);
    Project& project = edit.project;
    const Shot& shot = chosen_shot(project, w.shot, w.project);
    const auto set = [&](const std::string& camera, std::string curve) {
        const ShotCamera* use = find_camera(shot, camera);
        if (!use) throw Error("is not a camera of the shot", "'" + camera + "'", "Use an id of its rig");
        const bool named = std::any_of(curve_names().begin(), curve_names().end(),
                                       [&](const CurveName& n) { return n.id == curve; });
        std::error_code none;
        if (curve == "tagged")
            curve.clear();
        else if (!named && std::filesystem::exists(curve, none))
            curve = kCurveFile + std::filesystem::absolute(curve).string();
        if (!curve.empty() && curve != "pq" && curve != "hlg")
            (void)light_of_curve(curve); // says what is wrong with it
        for (auto& m : project.media)
            if (m.id == use->media) m.ref.curve = curve;
    };
    if (!w.all.empty())
        for (const auto& c : shot.cameras) set(c.camera, w.all);
    for (const auto& word : w.cameras) {
        const auto [camera, value] = id_and_value(word, "--camera");
        set(camera, value);
    }
    MediaLibrary library(run.memory);
    for (const auto& c : shot.cameras)
        if (const Media* m = find_media(project, c.media)) {
            std::string tags;
            try {
                tags = library.info(m->ref).transfer;
            } catch (const Error&) {
                tags = "its file cannot be read";
            }
            std::cout << fmt::format("{:>5}  {}  (tagged {})\n", c.camera, curve_text(m->ref.curve), tags);
        }
    if (!w.list) edit.save();
}

struct DenoiseWords {
    std::string project, shot, camera, time = "0", out;
    std::optional<double> over_time, in_frame;
    std::vector<double> at;
    int size = 256;
    bool on = false, off = false;
};

/// Writes a part of a camera's picture as shot and cleaned beside each other.
void show_noise(const DenoiseWords& w, const Project& project, const Shot& shot, const Run& run) {
    const std::string id = w.camera.empty() && !shot.rig.cameras.empty() ? shot.rig.cameras[0].id : w.camera;
    const Camera* camera = find_camera(shot.rig, id);
    if (!camera) throw Error("is no camera of the shot's rig", id, "Name one of them with --camera");
    const Vec2 at = w.at.empty() ? camera->lens.circle.center_px : Vec2(w.at[0], w.at[1]);
    MediaLibrary library(run.memory);
    const auto look =
        look_at_noise(library, project, shot, id, moment_in(w.time, "--time", project, shot, library),
                      {int(at.x()) - w.size / 2, int(at.y()) - w.size / 2, w.size, w.size});
    if (!look) throw Error("shows nothing at that time", "camera " + id, "Choose another time or camera");
    write_still(stacked(look->as_shot, look->cleaned, true), w.out, {});
    std::cout << fmt::format("{}: noise {:.2f} % as shot, {:.2f} % without\n", w.out,
                             100 * look->noise_before, 100 * look->noise_after);
}

void denoise(const DenoiseWords& w, const Run& run) {
    ProjectEdit edit(w.project, "denoise", run);
    Project& project = edit.project;
    Shot& shot = chosen_shot(project, w.shot, w.project);
    if (w.over_time) shot.look.denoise.over_time = *w.over_time;
    if (w.in_frame) shot.look.denoise.in_frame = *w.in_frame;
    if (w.on) shot.look.denoise.on = true;
    if (w.off) shot.look.denoise.on = false;
    std::cout << fmt::format("denoising is {}: {:.0f} % over time, {:.0f} % in the frame\n",
                             shot.look.denoise.on ? "on" : "off", 100 * shot.look.denoise.over_time,
                             100 * shot.look.denoise.in_frame);
    if (!w.out.empty()) {
        may_write(w.out, project, w.project);
        show_noise(w, project, shot, run);
    }
    edit.save();
}

} // namespace

void add_grade_verbs(CLI::App& app, const Run& run) {
    {
        auto w = std::make_shared<CurveWords>();
        std::string names;
        for (const auto& n : curve_names()) names += n.id + ", ";
        CLI::App* verb = app.add_subcommand("curve", "By which curve light lies in the sources' pixels");
        verb->add_option("PROJECT", w->project, "The project")->required();
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->add_option("--all", w->all, "For every camera: " + names + "tagged, or a file with a curve");
        verb->add_option("--camera", w->cameras, "CAMERA=CURVE, for one (may be repeated)");
        verb->add_flag("--list", w->list, "Say what is set, and change nothing");
        verb->callback([w, run] { curve(*w, run); });
    }
    {
        auto w = std::make_shared<DenoiseWords>();
        CLI::App* verb =
            app.add_subcommand("denoise", "Take noise off a shot's sources before they are stitched");
        verb->add_option("PROJECT", w->project, "The project")->required();
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->add_flag("--on", w->on, "Take it off");
        verb->add_flag("--off", w->off, "Do not");
        verb->add_option("--over-time", w->over_time,
                         "How far pixels come towards their like in earlier frames, 0 to 1")
            ->check(within(limits::kShare));
        verb->add_option("--in-frame", w->in_frame, "And towards their like nearby, 0 to 1")
            ->check(within(limits::kShare));
        verb->add_option(
            "--out", w->out,
            "Write a part of a camera's picture as shot and cleaned, beside each other, to this file");
        verb->add_option("--camera", w->camera, "Whose (the first unless set)")->needs("--out");
        verb->add_option("--time", w->time, "At this shot time in seconds")->needs("--out");
        verb->add_option("--at", w->at,
                         "About this place of it, X,Y in pixels (the circle's middle unless set)")
            ->delimiter(',')
            ->expected(2)
            ->check(within(limits::kPlace_px))
            ->needs("--out");
        verb->add_option("--size", w->size, "Pixels a side")->check(within({16, 4096}))->needs("--out");
        verb->callback([w, run] { denoise(*w, run); });
    }
    auto w = std::make_shared<GradeWords>();
    CLI::App* verb = app.add_subcommand("grade", "How a shot's finished picture is to look");
    verb->add_option("PROJECT", w->project, "The project")->required();
    verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
    verb->add_option("--exposure", w->exposure, "EV, brighter above 0")->check(within(limits::kEv));
    verb->add_option("--warmth", w->warmth, "EV of red over blue")->check(within(limits::kEv));
    verb->add_option("--tint", w->tint, "EV of green")->check(within(limits::kEv));
    verb->add_option("--contrast", w->contrast, "1: as it is")->check(within(limits::kContrast));
    verb->add_option("--pivot", w->pivot, "The light that contrast leaves alone; 0.18 unless set")
        ->check(within(limits::kPivot));
    verb->add_option("--lift", w->lift, "What black becomes: one number, or red,green,blue");
    verb->add_option("--gamma", w->gamma, "Above 1: lighter in the middle; likewise");
    verb->add_option("--gain", w->gain, "What white becomes; likewise");
    verb->add_option("--saturation", w->saturation, "1: as it is, 0: grey")
        ->check(within(limits::kSaturation));
    verb->add_option("--lut", w->lut, "A .cube or CLF table, applied last");
    verb->add_option("--lut-strength", w->lut_strength, "0: without it, 1: all of it")
        ->check(within(limits::kShare));
    verb->add_flag("--no-lut", w->no_lut, "Take it off");
    verb->add_option("--cdl", w->cdl, "Read lift, gamma, gain and saturation from a .cc, .ccc or .cdl file");
    verb->add_option("--cdl-id", w->cdl_id, "The correction of that name in it; its first unless set");
    verb->add_option("--write-cdl", w->write_cdl, "Write them as a .cc file");
    verb->add_option("--write-cube", w->write_cube, "Write the whole grade as a .cube table");
    verb->add_option("--copy", w->copy, "SHOT: give that shot the same grade, or 'all' (may be repeated)");
    verb->add_flag("--reset", w->reset, "Begin from nothing");
    verb->add_flag("--off", w->off, "Bypass it, but keep it");
    verb->add_flag("--on", w->on, "Use it again");
    verb->add_flag("--list", w->list, "Say what is set, and change nothing");
    verb->callback([w, run] { grade(*w, run); });
}

} // namespace porb::cli
