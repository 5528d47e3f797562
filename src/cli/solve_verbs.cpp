#include "cli/project_edit.h"
#include "cli/verbs.h"

#include "base/error.h"
#include "base/file.h"
#include "base/json.h"
#include "media/library.h"
#include "project/limits.h"
#include "solve/bundle/report.h"
#include "solve/bundle/solve_points.h"
#include "solve/calibrate.h"
#include "solve/keep_solve.h"
#include "solve/points.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <iostream>
#include <map>

namespace porb::cli {

namespace {

const std::map<std::string, Freedom> kFreedoms = {
    {"locked", Freedom::locked}, {"shared", Freedom::shared}, {"free", Freedom::free}};

struct SolveWords {
    std::string project, shot, report;
    std::vector<std::string> with;
    std::optional<int> samples;
    std::vector<std::string> times;
    bool best = false, far = false, points = false, one_moment = false, dry_run = false, json = false,
         one_distance = false, no_edges = false, no_agreement = false;
    std::string turn, position, focal, centre, distortion;
    std::optional<double> limit;
    double nearest = 0.4;
};

void set_freedoms(const SolveWords& w, const Project& project, Shot& shot, MediaLibrary& library) {
    SolveSettings& s = shot.calibration.solving;
    for (const auto& [text, to] :
         {std::pair{&w.turn, &s.turn}, std::pair{&w.position, &s.position}, std::pair{&w.focal, &s.focal},
          std::pair{&w.centre, &s.centre}, std::pair{&w.distortion, &s.distortion}})
        if (!text->empty()) *to = kFreedoms.at(*text);
    if (w.samples) s.samples = *w.samples, s.by_hand.clear();
    if (!w.times.empty()) {
        s.by_hand.clear();
        for (const auto& t : w.times) s.by_hand.push_back(moment_in(t, "--at", project, shot, library));
    }
    if (w.best) s.pick = SamplePick::best;
    if (w.limit) s.limit_px = *w.limit;
    if (w.one_distance) s.depth_per_point = false;
    if (w.no_edges) s.straight_edges = false;
    if (w.no_agreement) s.vertical_agreement = false;
}

void print_report(const SolveReport& r) {
    std::cout << fmt::format("RMS {:.3f} px, {:.2f} arcmin (before {:.2f} px); {} points used, {} left out\n",
                             r.rms.px, r.rms.arcmin, r.before.px, r.points, r.dropped);
    for (const auto& c : r.cameras)
        std::cout << fmt::format("  camera {:<4} {:>6} points  {:.3f} px\n", c.camera, c.points, c.rms_px);
    for (const auto& p : r.pairs)
        if (p.points > 0) // others see nothing in common
            std::cout << fmt::format("  {:>4} - {:<4} {:>6} points  {:.3f} px\n", p.a, p.b, p.points,
                                     p.rms_px);
    if (r.vertical_px)
        std::cout << fmt::format("  vertical residual {:.3f} px of a half sphere 2048 a side\n",
                                 *r.vertical_px);
    if (r.edges.used + r.edges.left_out > 0)
        std::cout << fmt::format(
            "  straight edges {:>4}  bend by {:.3f} px, {} that are not straight left out\n", r.edges.used,
            r.edges.rms_px, r.edges.left_out);
    for (const auto& [why, n] : r.reasons)
        std::cout << fmt::format("  left out: {:>5}  {}\n", n, words_of(why));
    for (const auto& u : r.undetermined) std::cout << u << "\n";
    for (const auto& u : r.remarks) std::cout << "Note: " << u << "\n";
}

void solve(const SolveWords& w, const Run& run) {
    ProjectEdit edit(w.project, "solve", run, !w.dry_run);
    Project& project = edit.project;
    Shot& shot = chosen_shot(project, w.shot, w.project);
    if (!w.report.empty()) may_write(w.report, project, w.project);
    MediaLibrary library(run.memory);
    set_freedoms(w, project, shot, library);
    const Rig before = shot.rig;
    SolveOptions o;
    o.from_far = w.far;
    o.find = !w.points;
    o.one_moment = w.one_moment;
    o.nearest_m = w.nearest;
    Solved solved = solve_shot(
        project, shot, library, o,
        [](const SolveProgress& p) {
            show_progress(fmt::format("{:3.0f} %  {}", 100 * p.share, p.doing), p.share >= 1);
        },
        run.cancel);
    if (!w.with.empty()) {
        // Shots of the same rig: each finds points with the first one's result, then all solve together.
        std::vector<Shot*> shots = {&shot};
        shot.calibration.points = solved.points;
        shot.calibration.lines = solved.lines;
        for (const auto& name : w.with) {
            Shot& other = chosen_shot(project, name, w.project);
            if (&other == &shot)
                throw Error("is the shot itself", "--with " + name, "Name another shot of the same rig");
            other.rig = solved.rig;
            other.calibration.points = find_points(project, other, library, o, 0.6, nullptr, run.cancel);
            shots.push_back(&other);
        }
        auto together = solve_points(std::vector<const Shot*>(shots.begin(), shots.end()), solved.rig, before,
                                     true, run.cancel);
        solved.rig = together.rig;
        solved.points = together.points[0];
        solved.lines = together.lines[0];
        solved.report = together.report;
        for (std::size_t i = 1; i < shots.size(); ++i)
            take_solve(*shots[i], solved.rig, together.points[i], together.lines[i], solved.report);
    }
    const auto agree = take_solve(shot, solved.rig, solved.points, solved.lines, solved.report);
    const std::string report = report_json(solved.report, shot.rig, solved.points);
    if (!w.report.empty()) write_file_atomically(w.report, report);
    if (w.json)
        std::cout << report;
    else
        print_report(solved.report);
    if (agree && !w.json)
        std::cout << "Note: the agree distance was never chosen; it is now "
                  << (*agree > 0 ? fmt::format("{:.2f} m, in the middle of the solved depths", *agree)
                                 : std::string("infinitely far, as what the points show is"))
                  << "\n";
    print_remarks(project, shot, library);
    if (!w.dry_run) edit.save();
}

struct PointWords {
    std::string project, shot, a, b, at = "0";
    std::vector<double> a_px, b_px;
    std::optional<double> above;
    std::vector<int> remove, restore;
    bool clear = false, json = false;
    bool changes() const { return !a.empty() || above || clear || !remove.empty() || !restore.empty(); }
};

void points(const PointWords& w, const Run& run) {
    ProjectEdit edit(w.project, "points", run, w.changes());
    Project& project = edit.project;
    Shot& shot = chosen_shot(project, w.shot, w.project);
    bool changed = true;
    if (!w.a.empty()) {
        if (w.b.empty() || w.a_px.size() != 2)
            throw CLI::ValidationError("--add", "needs --camera A --place X Y --other B");
        MediaLibrary library(run.memory);
        std::optional<Vec2> near;
        if (w.b_px.size() == 2) near = Vec2(w.b_px[0], w.b_px[1]);
        const ControlPoint p =
            propose_point(project, shot, library, moment_in(w.at, "--time", project, shot, library), w.a,
                          {w.a_px[0], w.a_px[1]}, w.b, near);
        shot.calibration.points.edit([&](ControlPoints& list) { list.push_back(p); });
        std::cout << fmt::format("point {}: {} {:.2f}, {:.2f}  {} {:.2f}, {:.2f}  alike {:.2f}\n", p.id, p.a,
                                 p.a_px.x(), p.a_px.y(), p.b, p.b_px.x(), p.b_px.y(), p.correlation);
    } else if (w.above) {
        const auto fits = measure_points(shot);
        int n = 0;
        shot.calibration.points.edit([&](ControlPoints& list) { n = drop_above(list, fits, *w.above); });
        std::cout << n << " points left out\n";
    } else if (w.clear) {
        shot.calibration.points = ControlPoints{};
    } else if (!w.remove.empty() || !w.restore.empty()) {
        shot.calibration.points.edit([&](ControlPoints& list) {
            std::erase_if(list, [&](const ControlPoint& p) {
                return std::find(w.remove.begin(), w.remove.end(), p.id) != w.remove.end();
            });
            for (auto& p : list)
                if (std::find(w.restore.begin(), w.restore.end(), p.id) != w.restore.end()) p.dropped.clear();
        });
    } else {
        changed = false;
        const auto fits = measure_points(shot);
        SolveReport r = figures_of(shot.rig, *shot.calibration.points, fits);
        if (w.json) {
            std::cout << report_json(r, shot.rig, *shot.calibration.points);
        } else {
            for (std::size_t i = 0; i < fits.size(); ++i) {
                const ControlPoint& p = (*shot.calibration.points)[i];
                std::cout << fmt::format(
                    "{:>6} {:>8.3f} s  {:<3} {:>8.2f} {:>8.2f}  {:<3} {:>8.2f} {:>8.2f}  {:>7.2f} px  {}{}\n",
                    p.id, p.time.to_double(), p.a, p.a_px.x(), p.a_px.y(), p.b, p.b_px.x(), p.b_px.y(),
                    fits[i].residual_px(), p.by_hand ? "by hand " : "", text_of(p.dropped));
            }
            std::cout << fmt::format("{} used, {} left out, RMS {:.3f} px\n", r.points, r.dropped, r.rms.px);
        }
    }
    if (changed) edit.save();
}

} // namespace

void add_solve_verbs(CLI::App& app, const Run& run) {
    {
        auto w = std::make_shared<SolveWords>();
        CLI::App* verb = app.add_subcommand(
            "solve", "Find control points, then the rig; the result is saved in the project");
        verb->add_option("PROJECT", w->project, "The project")->required();
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->add_option("--with", w->with, "Other shots of the same rig, solved together with it");
        verb->add_option("--samples", w->samples, "Moments at which points are looked for (5 unless set)")
            ->check(within(limits::kSamples));
        verb->add_option("--at", w->times, "Moments by hand, shot seconds")->delimiter(',');
        verb->add_flag("--best-moments", w->best,
                       "Choose moments for sharpness, texture and stillness; first and last always");
        verb->add_option("--report", w->report, "Write figures and all points as JSON");
        for (const auto& [name, to, what] : {std::tuple{"--turn", &w->turn, "directions"},
                                             std::tuple{"--position", &w->position, "positions"},
                                             std::tuple{"--focal", &w->focal, "focal lengths"},
                                             std::tuple{"--centre", &w->centre, "lens centres"},
                                             std::tuple{"--distortion", &w->distortion, "distortion terms"}})
            verb->add_option(name, *to,
                             std::string("What may happen to ") + what +
                                 ": locked, shared among alike lenses, free")
                ->check(CLI::IsMember(kFreedoms));
        verb->add_flag("--no-vertical-agreement", w->no_agreement,
                       "Of a pair: leave the lenses as they are where turning leaves vertical disparity");
        verb->add_flag("--no-edges", w->no_edges, "Do without long straight edges of the pictures");
        verb->add_flag("--one-distance", w->one_distance,
                       "All points at the agree distance, instead of each at its own");
        verb->add_option("--limit", w->limit, "Leave out points with a larger residual, pixels")
            ->check(within(limits::kResidualLimit_px));
        verb->add_option("--nearest", w->nearest, "Nothing is nearer to the rig, metres")
            ->check(within({0.05, 100}));
        verb->add_flag("--from-far", w->far,
                       "Cameras may be turned any way and lenses be off by several percent");
        verb->add_flag("--points-only", w->points,
                       "Solve from the points there are, without looking for new ones");
        verb->add_flag("--one-moment", w->one_moment, "A single sample of a moving shot is meant");
        verb->add_flag("--dry-run", w->dry_run, "Say it, but do not save it");
        verb->add_flag("--json", w->json, "Print the report as JSON");
        verb->callback([w, run] { solve(*w, run); });
    }
    {
        auto w = std::make_shared<PointWords>();
        CLI::App* verb = app.add_subcommand("points", "List control points, add one, leave some out");
        verb->add_option("PROJECT", w->project, "The project")->required();
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->add_option("--camera", w->a, "Add a point: the camera it is seen by");
        verb->add_option("--place", w->a_px, "and where, source pixels X Y")
            ->expected(2)
            ->check(within(limits::kPlace_px));
        verb->add_option("--other", w->b, "The other camera, in which it is looked for");
        verb->add_option("--other-place", w->b_px, "Roughly where, if known")
            ->expected(2)
            ->check(within(limits::kPlace_px));
        verb->add_option("--time", w->at, "The moment, shot seconds");
        verb->add_option("--drop-above", w->above, "Leave out all with a larger residual, pixels")
            ->check(within({0, 1e6}));
        verb->add_option("--remove", w->remove, "Remove points by number")->delimiter(',');
        verb->add_option("--restore", w->restore, "Use points again that were left out")->delimiter(',');
        verb->add_flag("--clear", w->clear, "Remove all points");
        verb->add_flag("--json", w->json, "For programs");
        verb->callback([w, run] { points(*w, run); });
    }
}

} // namespace porb::cli
