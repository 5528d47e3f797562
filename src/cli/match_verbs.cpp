#include "cli/project_edit.h"
#include "cli/verbs.h"

#include "base/error.h"
#include "base/file.h"
#include "match/agree.h"
#include "project/limits.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <iostream>

namespace porb::cli {

namespace {

struct MatchWords {
    std::string project, shot, report, reference;
    std::optional<int> samples;
    bool over_time = false, steady_gains = false, no_vignetting = false, vignetting = false, mean = false,
         clear = false, off = false, on = false, solve = false, dry_run = false;
    std::vector<std::string> exposure, warmth, tint;
};

nlohmann::ordered_json report_json(const Shot& shot, const MatchReport& r) {
    nlohmann::ordered_json j;
    j["before_ev"] = r.before_ev;
    j["after_ev"] = r.after_ev;
    for (const Seconds t : r.samples) j["samples_s"].push_back(t.to_double());
    j["pairs"] = nlohmann::ordered_json::array();
    for (const auto& p : r.pairs)
        j["pairs"].push_back({{"a", p.a},
                              {"b", p.b},
                              {"places", p.places},
                              {"before_ev", p.before_ev},
                              {"after_ev", p.after_ev}});
    j["cameras"] = nlohmann::ordered_json::array();
    for (const auto& c : shot.cameras) {
        nlohmann::ordered_json one = {{"camera", c.camera}, {"falloff", c.colour.vignetting}};
        one["gains_ev"] = nlohmann::ordered_json::array();
        for (const auto& k : c.colour.gains)
            one["gains_ev"].push_back({k.time.to_double(), k.ev[0], k.ev[1], k.ev[2]});
        j["cameras"].push_back(std::move(one));
    }
    j["remarks"] = r.remarks;
    return j;
}

void print(const Shot& shot, const MatchReport& r) {
    std::cout << fmt::format("overlaps differ by {:.3f} EV, as shot {:.3f} EV\n", r.after_ev, r.before_ev);
    for (const auto& p : r.pairs)
        std::cout << fmt::format("  {:>5} - {:<5} {:6} places  {:.3f} EV, as shot {:.3f} EV\n", p.a, p.b,
                                 p.places, p.after_ev, p.before_ev);
    for (const auto& c : shot.cameras)
        if (!c.colour.gains.empty()) {
            const auto& ev = c.colour.gains.front().ev;
            std::cout << fmt::format(
                "  {:>5}   red {:+.3f}  green {:+.3f}  blue {:+.3f} EV{}   rim keeps {:.0f} %\n", c.camera,
                ev[0], ev[1], ev[2], c.colour.gains.size() > 1 ? " at first" : "",
                100 * (1 + c.colour.vignetting[0] + c.colour.vignetting[1]));
        }
    for (const auto& words : r.remarks) std::cout << words << "\n";
}

void trim(Shot& shot, const std::vector<std::string>& words, const char* option,
          double CameraColour::*value) {
    for (const auto& word : words) {
        const auto [id, number] = id_and_value(word, option);
        const double ev = number_in(number, option, limits::kEv);
        bool known = false;
        for (auto& c : shot.cameras)
            if (c.camera == id || id == "all") c.colour.*value = ev, known = true;
        if (!known)
            throw Error("is not a camera of the shot", "'" + id + "'", "Use an id of its rig, or 'all'");
    }
}

void match(const MatchWords& w, const Run& run) {
    ProjectEdit edit(w.project, "match", run, !w.dry_run);
    Project& project = edit.project;
    if (!w.report.empty()) may_write(w.report, project, w.project);
    Shot& shot = chosen_shot(project, w.shot, w.project);
    MatchSettings& set = shot.colour.match;
    if (w.samples) set.samples = *w.samples;
    if (w.over_time) set.over_time = true;
    if (w.steady_gains) set.over_time = false;
    if (w.no_vignetting) set.vignetting = false;
    if (w.vignetting) set.vignetting = true;
    if (w.mean) set.reference.clear();
    if (!w.reference.empty()) {
        if (!find_camera(shot.rig, w.reference))
            throw Error("is not a camera of the shot", "--reference " + w.reference, "Use an id of its rig");
        set.reference = w.reference;
    }
    if (w.clear)
        for (auto& c : shot.cameras) c.colour = {};
    trim(shot, w.exposure, "--exposure", &CameraColour::exposure_ev);
    trim(shot, w.warmth, "--warmth", &CameraColour::warmth_ev);
    trim(shot, w.tint, "--tint", &CameraColour::tint_ev);
    const bool trims = !w.exposure.empty() || !w.warmth.empty() || !w.tint.empty();
    const bool solves = w.solve || (!w.clear && !w.off && !w.on && !trims);
    if (!solves && !w.report.empty())
        throw CLI::ValidationError("--report", "tells of a solve, and these words ask for none: add --solve");
    if (solves) {
        MediaLibrary library(run.memory);
        const Matched matched = match_shot(
            project, shot, library,
            [](const MatchProgress& p) {
                show_progress(fmt::format("{:3.0f} %  {}", 100 * p.share, p.doing), p.share >= 1);
            },
            run.cancel);
        shot = with_match(shot, matched);
        print(shot, matched.report);
        print_remarks(project, shot, library);
        if (!w.report.empty())
            write_file_atomically(w.report, report_json(shot, matched.report).dump(2) + "\n");
    }
    if (w.off) set.on = false;
    if (w.on) set.on = true;
    if (!w.dry_run) edit.save();
}

} // namespace

void add_match_verbs(CLI::App& app, const Run& run) {
    auto w = std::make_shared<MatchWords>();
    CLI::App* verb = app.add_subcommand(
        "match",
        "Bring the cameras' colours together: gains and vignetting from what overlapping lenses see alike");
    verb->add_option("PROJECT", w->project, "The project")->required();
    verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
    verb->add_option("--samples", w->samples, "Moments at which overlaps are compared")
        ->check(within(limits::kSamples));
    verb->add_option("--reference", w->reference, "The camera that stays as it is");
    verb->add_flag("--mean", w->mean, "No reference: the mean of all stays (the default)");
    verb->add_flag("--over-time", w->over_time, "Gains may change slowly through the shot");
    verb->add_flag("--steady-gains", w->steady_gains, "One gain for the whole shot (the default)");
    verb->add_flag("--no-vignetting", w->no_vignetting, "Leave the lenses' vignetting alone");
    verb->add_flag("--no-falloff", w->no_vignetting)->group(""); // its earlier spelling
    verb->add_flag("--vignetting", w->vignetting, "Solve it (the default)");
    verb->add_flag("--falloff", w->vignetting)->group("");
    verb->add_option("--exposure", w->exposure, "Trim by hand: CAMERA=EV, or all=EV; nothing is solved then");
    verb->add_option("--warmth", w->warmth, "Trim by hand: CAMERA=EV of red over blue");
    verb->add_option("--tint", w->tint, "Trim by hand: CAMERA=EV of green");
    verb->add_flag("--solve", w->solve, "Solve as well when trims are given");
    verb->add_flag("--clear", w->clear, "Clear gains, vignetting and trims");
    verb->add_flag("--off", w->off, "Show pictures as shot, but keep everything");
    verb->add_flag("--on", w->on, "Show them matched again");
    verb->add_option("--report", w->report, "Write the figures as JSON");
    verb->add_flag("--dry-run", w->dry_run, "Change nothing");
    verb->callback([w, run] { match(*w, run); });
}

} // namespace porb::cli
