#include "cli/project_edit.h"
#include "cli/verbs.h"

#include "base/error.h"
#include "base/file.h"
#include "project/limits.h"
#include "project/orientation.h"
#include "project/span.h"
#include "solve/level.h"
#include "steady/track.h"

#include <fmt/format.h>

#include <iostream>

namespace porb::cli {

namespace {

struct LevelWords {
    std::string project, shot, at = "0", lines;
    bool found = false, gravity = false, upside_down = false, reset = false, clear_keys = false,
         dry_run = false, at_given = false;
    std::optional<double> face, key_yaw, key_pitch, key_roll;
};

void print_upright(const Shot& shot, Seconds at, const Upright& u, const char* from) {
    std::cout << fmt::format(
        "up from {}: leant by {:.2f} deg; {} of {} agree, to {:.3f} deg; sure to {:.3f} deg\n", from,
        lean_deg(shot, at, u.up), std::count(u.agrees.begin(), u.agrees.end(), true), u.agrees.size(),
        u.error_deg, u.sure_deg);
}

void level(const LevelWords& w, const Run& run) {
    ProjectEdit edit(w.project, "level", run, !w.dry_run);
    Project& project = edit.project;
    Shot& shot = chosen_shot(project, w.shot, w.project);
    MediaLibrary library(run.memory);
    const Seconds at = w.found ? moment_in(w.at, "--at", project, shot, library) : seconds_in(w.at, "--at");
    if (w.clear_keys) {
        const Mat3 now = orientation_at(shot, at);
        shot.levelling.orientation_keys.clear();
        set_orientation(shot, at, now);
    }
    if (w.reset) shot.levelling.orientation = {}, shot.levelling.orientation_keys.clear();
    const Vec3 up = orientation_at(shot, at).transpose() * Vec3(0, -1, 0);
    if (!w.lines.empty()) {
        auto drawn = parse_lines(read_text_file(w.lines), w.lines);
        for (const auto& l : drawn)
            if (!find_camera(shot.rig, l.camera))
                throw Error("names camera '" + l.camera + "', which the rig has not", w.lines,
                            "Use an id of the rig");
        std::erase_if(shot.calibration.lines, [](const LineMark& l) { return !is_solve_edge(l); });
        shot.calibration.lines.insert(shot.calibration.lines.end(), drawn.begin(), drawn.end());
        const Upright u = upright_from_lines(line_senses(shot), up);
        print_upright(shot, at, u, "lines");
        set_upright(shot, at, u.up);
    }
    if (w.found) {
        const auto times = w.at_given ? std::vector{at} : upright_times(project, shot, library);
        const FoundUpright found = find_upright(
            project, shot, times, library,
            [](double share) {
                show_progress(fmt::format("{:3.0f} %  finding edges", 100 * share), share >= 1);
            },
            run.cancel);
        std::erase_if(shot.calibration.lines, is_upright_edge);
        print_upright(shot, times.front(), found.upright, "edges");
        if (found.turned_over)
            std::cout << "the rig hung from above: it is turned over (the sky is on the other side)\n";
        else if (!found.end_told)
            std::cout << "no sky tells which end is up: the end nearer to the present up was taken "
                         "(--upside-down turns it over)\n";
        shot.calibration.lines.insert(shot.calibration.lines.end(), found.lines.begin(), found.lines.end());
        set_upright(shot, times.front(), found.upright.up);
    }
    if (w.gravity) {
        if (!shot.calibration.motion)
            throw Error("has no motion record", "shot " + shot.name, "Read one in the window's Rig station");
        const Span used = used_span(project, shot, library);
        const Upright u = upright_from_record(shot, load_motion(shot.calibration.motion->path),
                                              used.in.to_double(), used.out.to_double());
        print_upright(shot, at, u, "gravity");
        set_upright(shot, at, u.up);
    }
    if (w.upside_down) turn_all(shot, rotation_of({0, 0, 180}));
    if (w.face) turn_all(shot, rotation_of({-*w.face, 0, 0}));
    if (w.key_yaw || w.key_pitch || w.key_roll) {
        Turn t = turn_of(orientation_at(shot, at));
        if (w.key_yaw) t.yaw_deg = *w.key_yaw;
        if (w.key_pitch) t.pitch_deg = *w.key_pitch;
        if (w.key_roll) t.roll_deg = *w.key_roll;
        if (shot.levelling.orientation_keys.empty())
            shot.levelling.orientation_keys.push_back({at, turn_of(keyed_orientation(shot, at.to_double()))});
        set_orientation(shot, at, rotation_of(t));
    }
    const Turn now = turn_of(orientation_at(shot, at));
    std::cout << fmt::format("yaw {:.3f}  pitch {:.3f}  roll {:.3f}\n", now.yaw_deg, now.pitch_deg,
                             now.roll_deg);
    if (!w.dry_run) edit.save();
}

struct SteadyWords {
    std::string project, shot, from = "footage", record, camera;
    std::optional<double> strength, follow, readout, record_offset;
    bool fit = false, off = false, no_horizon = false, horizon = false, dry_run = false;
};

void steady(const SteadyWords& w, const Run& run) {
    ProjectEdit edit(w.project, "steady", run, !w.dry_run);
    Project& project = edit.project;
    Shot& shot = chosen_shot(project, w.shot, w.project);
    if (w.off) {
        if (shot.levelling.steady) shot.levelling.steady->on = false;
        if (!w.dry_run) edit.save();
        return;
    }
    if (!w.record.empty()) {
        load_motion(w.record); // refused now rather than later
        shot.calibration.motion =
            MotionSource{std::filesystem::absolute(w.record).lexically_normal(),
                         shot.calibration.motion ? shot.calibration.motion->offset : Seconds(0), w.camera};
    }
    if (shot.calibration.motion && w.record_offset)
        shot.calibration.motion->offset = Rational::from_double(*w.record_offset);
    MediaLibrary library(run.memory);
    const std::string words = steady_shot(
        project, shot, w.from == "record" ? SteadySource::record : SteadySource::footage, w.fit, library,
        [](double share) { show_progress(fmt::format("{:3.0f} % followed", 100 * share), share >= 1); },
        run.cancel);
    Steady& s = *shot.levelling.steady;
    if (w.strength) s.strength = *w.strength;
    if (w.follow) s.follow_s = *w.follow;
    if (w.readout) s.readout_s = *w.readout * 1e-3;
    if (w.no_horizon) s.keep_horizon = false;
    if (w.horizon) s.keep_horizon = true;
    std::cout << words << "\n";
    if (!w.dry_run) edit.save();
}

} // namespace

void add_level_verbs(CLI::App& app, const Run& run) {
    {
        auto w = std::make_shared<LevelWords>();
        CLI::App* verb = app.add_subcommand("level", "Set a shot upright and facing what matters");
        verb->add_option("PROJECT", w->project, "The project")->required();
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->add_option("--at", w->at,
                         "The moment, shot seconds (--find looks at several unless it is set)");
        verb->add_option("--lines", w->lines, "Upright from a file of drawn lines (docs/project-file.md)");
        verb->add_flag("--find", w->found, "Upright from edges found in the pictures");
        verb->add_flag("--gravity", w->gravity, "Upright from the motion record's acceleration");
        verb->add_flag("--upside-down", w->upside_down, "Turn over: the rig hung from above");
        verb->add_option("--face", w->face, "Degrees to the right of the present front that become the front")
            ->check(within(limits::kTurn_deg));
        verb->add_option("--key-yaw", w->key_yaw, "Set an orientation key at that moment: yaw, degrees")
            ->check(within(limits::kTurn_deg));
        verb->add_option("--key-pitch", w->key_pitch, "its pitch")->check(within(limits::kTurn_deg));
        verb->add_option("--key-roll", w->key_roll, "its roll")->check(within(limits::kTurn_deg));
        verb->add_flag("--clear-keys", w->clear_keys,
                       "Remove all keys; the orientation at that moment stays");
        verb->add_flag("--reset", w->reset, "As the rig stood");
        verb->add_flag("--dry-run", w->dry_run, "Say it, but do not save it");
        verb->callback([w, run, verb] {
            w->at_given = verb->count("--at") > 0;
            level(*w, run);
        });
    }
    {
        auto w = std::make_shared<SteadyWords>();
        CLI::App* verb = app.add_subcommand("steady", "Take a shot's shake out");
        verb->add_option("PROJECT", w->project, "The project")->required();
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->add_option("--from", w->from, "footage, or record (the camera's own motion record)")
            ->check(CLI::IsMember({"footage", "record"}));
        verb->add_option("--record", w->record, "The motion record: a movie with a motion track, or a table");
        verb->add_option("--record-camera", w->camera,
                         "The camera in whose axes it is; the rig's unless set");
        verb->add_option("--record-offset", w->record_offset, "Record time minus shot time, seconds")
            ->check(within(limits::kTime_s));
        verb->add_flag("--fit", w->fit, "Find the record's offset and axes by comparing it with the footage");
        verb->add_option("--strength", w->strength, "0 to 1")->check(within(limits::kShare));
        verb->add_option("--follow", w->follow,
                         "Follow turns slower than so many seconds; 0 locks the direction")
            ->check(within(limits::kFollow_s));
        verb->add_flag("--keep-horizon", w->horizon, "Follow headings only (so unless changed)");
        verb->add_flag("--no-horizon", w->no_horizon, "Follow leaning too");
        verb->add_option("--readout-ms", w->readout,
                         "Milliseconds from the first row's moment to the last's, for rolling shutters")
            ->check(within(limits::kReadout_s.times(1e3)));
        verb->add_flag("--off", w->off, "Leave the shake in; the analysis is kept");
        verb->add_flag("--dry-run", w->dry_run, "Say it, but do not save it");
        verb->callback([w, run] { steady(*w, run); });
    }
}

} // namespace porb::cli
