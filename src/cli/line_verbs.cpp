#include "cli/project_edit.h"
#include "cli/verbs.h"

#include "base/error.h"
#include "project/limits.h"
#include "seams/crossings.h"
#include "seams/find_lines.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <iostream>

namespace porb::cli {

namespace {

struct LineWords {
    std::string project, shot;
    double every = LineSearch().every_s;
    std::optional<double> ease;
    bool find = false, on = false, off = false, remove = false, list = false, json = false;
};

void list_lines(const Shot& shot, bool json) {
    const SeamLines& lines = *shot.seams.seam_lines;
    nlohmann::ordered_json all = nlohmann::ordered_json::array();
    for (std::size_t k = 0; k < lines.keys.size(); ++k) {
        std::size_t changes = 0;
        for (std::size_t c = 0; k > 0 && c < lines.keys[k].who->size(); ++c)
            changes += (*lines.keys[k].who)[c] != (*lines.keys[k - 1].who)[c];
        const double share = 100.0 * double(changes) / double(SeamLines::kSide * SeamLines::kSide);
        all.push_back({{"time_s", lines.keys[k].time.to_double()}, {"changes_percent", share}});
        if (!json)
            std::cout << fmt::format("{:8.2f} s  {}\n", lines.keys[k].time.to_double(),
                                     k == 0 ? "lines found"
                                            : fmt::format("{:.2f} % of the sphere changes hands", share));
    }
    if (json)
        std::cout
            << nlohmann::ordered_json({{"on", lines.on}, {"ease_s", lines.ease_s}, {"keys", all}}).dump(2)
            << "\n";
    else if (lines.keys.empty())
        std::cout << "no lines were found yet: cameras meet where both are equally far inside their reach\n";
    else if (!lines.on)
        std::cout << "they are off: cameras meet where both are equally far inside their reach\n";
}

void lines(const LineWords& w, const Run& run) {
    ProjectEdit edit(w.project, "lines", run, !w.list);
    Project& project = edit.project;
    Shot& shot = chosen_shot(project, w.shot, w.project);
    if (w.list) return list_lines(shot, w.json);
    if (w.remove) shot.seams.seam_lines = SeamLines();
    if (w.find || (!w.on && !w.off && !w.remove && !w.ease)) {
        Composer composer(std::make_shared<MediaLibrary>(run.memory));
        shot.seams.seam_lines = find_lines(
            project, shot, composer, {w.every},
            [](double share) {
                show_progress(fmt::format("{:3.0f} %  finding lines", 100 * share), share >= 1);
            },
            run.cancel);
        print_remarks(project, shot, composer.library());
    }
    shot.seams.seam_lines.edit([&](SeamLines& l) {
        if (w.on) l.on = true;
        if (w.off) l.on = false;
        if (w.ease) l.ease_s = *w.ease;
    });
    edit.save();
    list_lines(shot, false);
}

struct CrossingWords {
    std::string project, shot;
    ScanSettings scan;
    std::vector<std::string> only, leave, reopen;
    bool look = false, solve = false, measure = false, json = false, no_flow = false, no_lines = false,
         no_shelter = false, dry_run = false;
};

const char* word_of(CrossingResolution resolution) {
    switch (resolution) {
    case CrossingResolution::line:
        return "line";
    case CrossingResolution::flow:
        return "flow";
    case CrossingResolution::shelter:
        return "shelter";
    case CrossingResolution::hand:
        return "hand";
    case CrossingResolution::none:
        break;
    }
    return "";
}

void list_crossings(const Shot& shot, bool json) {
    const CrossingScan& scan = **shot.seams.crossings;
    nlohmann::ordered_json all = nlohmann::ordered_json::array();
    int open = 0;
    for (const Crossing& c : scan.crossings) {
        open += is_open(c);
        const ShelterKey& at = c.path[c.path.size() / 2];
        all.push_back({{"id", c.id},
                       {"a", c.a},
                       {"b", c.b},
                       {"from_s", c.from.to_double()},
                       {"to_s", c.to.to_double()},
                       {"yaw_deg", at.yaw_deg},
                       {"pitch_deg", at.pitch_deg},
                       {"width_deg", at.width_deg},
                       {"height_deg", at.height_deg},
                       {"apart_px", c.apart_px},
                       {"damage_px", c.visible_parallax_px},
                       {"torn_px", c.torn_px},
                       {"open", is_open(c)},
                       {"cure", word_of(c.resolution)},
                       {"dismissed", c.dismissed}});
        if (!json)
            std::cout << fmt::format(
                "{:>3}  {:>4} - {:<4} {:7.2f} to {:7.2f} s  at {:6.1f} {:5.1f} deg  {:4.0f} px apart, "
                "{:4.0f} px show, {:4.0f} px torn{}{}\n",
                c.id, c.a, c.b, c.from.to_double(), c.to.to_double(), at.yaw_deg, at.pitch_deg, c.apart_px,
                c.visible_parallax_px, c.torn_px,
                c.resolution == CrossingResolution::none
                    ? ""
                    : fmt::format("  closed by {}", word_of(c.resolution)),
                c.dismissed ? "  left as it is" : "");
    }
    if (json)
        std::cout << nlohmann::ordered_json({{"from_s", scan.from.to_double()},
                                             {"to_s", scan.to.to_double()},
                                             {"open", open},
                                             {"crossings", all}})
                         .dump(2)
                  << "\n";
    else
        std::cout << fmt::format("{} crossings, {} open\n", scan.crossings.size(), open);
}

void crossings(const CrossingWords& w, const Run& run) {
    ProjectEdit edit(w.project, "crossings", run, !w.dry_run);
    Project& project = edit.project;
    Shot& shot = chosen_shot(project, w.shot, w.project);
    Composer composer(std::make_shared<MediaLibrary>(run.memory));
    const auto show = [](double share, const std::string& doing) {
        show_progress(fmt::format("{:3.0f} %  {}", 100 * share, doing), share >= 1);
    };
    const bool changes = !w.leave.empty() || !w.reopen.empty();
    if (w.look || (!shot.seams.crossings && !changes))
        shot.seams.crossings = Shared(scan_crossings(
            project, shot, composer, w.scan, [&](double share) { show(share, "looking for crossings"); },
            run.cancel));
    if (!shot.seams.crossings)
        throw Error("was not looked through for crossings yet", "shot " + shot.name,
                    "Use porbit crossings " + w.project);
    const auto mark = [&](const std::vector<std::string>& ids, bool dismissed) {
        for (const std::string& id : ids) {
            CrossingScan scan = **shot.seams.crossings;
            const auto it = std::find_if(scan.crossings.begin(), scan.crossings.end(),
                                         [&](const Crossing& c) { return c.id == id; });
            if (it == scan.crossings.end())
                throw Error("is not a crossing of the shot", "'" + id + "'", "See porbit crossings PROJECT");
            it->dismissed = dismissed;
            shot.seams.crossings = Shared(std::move(scan));
        }
    };
    mark(w.leave, true);
    mark(w.reopen, false);
    if (w.measure)
        shot.seams.crossings = Shared(measured_again(
            project, shot, composer, [&](double share) { show(share, "measuring"); }, run.cancel));
    std::vector<std::string> remarks;
    if (w.solve) {
        ClosedCrossings closed = close_crossings(
            project, shot, composer, {!w.no_flow, !w.no_lines, !w.no_shelter, w.only}, show, run.cancel);
        shot = closed.shot;
        remarks = closed.remarks;
    }
    print_remarks(project, shot, composer.library());
    list_crossings(shot, w.json);
    if (!w.json)
        for (const auto& words : remarks) std::cout << words << "\n";
    if (!w.dry_run) edit.save();
}

struct FlowWords {
    std::string project, shot, seam, agree;
    bool on = false, off = false, clear_keys = false, remove_seam = false, list = false, everywhere = false,
         near_seams = false, fine_edges = false, plain_edges = false;
    std::optional<double> strength, zone, smoothness, nearest;
    std::vector<std::string> keys;
};

/// SECONDS=STRENGTH[,ZONE[,SMOOTHNESS]]; what is left out is as it is at that moment.
template <class Flow>
void set_flow_key(const std::string& word, Flow& f) {
    const auto [time, text] = id_and_value(word, "--key");
    const Seconds t = seconds_in(time, "--key");
    struct Value {
        double FlowKey::*where;
        Range range;
        const char* name;
    };
    constexpr Value values[] = {{&FlowKey::strength, limits::kShare, "strength"},
                                {&FlowKey::zone_deg, limits::kZone_deg, "the zone"},
                                {&FlowKey::smoothness, limits::kSmoothness, "smoothness"}};
    std::vector<double> numbers;
    std::stringstream words(text);
    for (std::string one; std::getline(words, one, ',');) numbers.push_back(number_in(one, "--key"));
    if (numbers.empty() || numbers.size() > std::size(values))
        throw CLI::ValidationError(
            "--key", "'" + word + "': write SECONDS=STRENGTH,ZONE,SMOOTHNESS, the first at least");
    for (std::size_t i = 0; i < numbers.size(); ++i)
        if (!values[i].range.holds(numbers[i]))
            throw CLI::ValidationError("--key",
                                       fmt::format("{} lies {}", values[i].name, text_of(values[i].range)));
    if (std::none_of(f.keys.begin(), f.keys.end(), [&](const FlowKey& k) { return k.time == t; }))
        toggle_key(f, t);
    for (std::size_t i = 0; i < numbers.size(); ++i) set_value(f, t, values[i].where, numbers[i]);
}

/// Of the shot, or of one seam.
template <class Flow>
void set_flow(const FlowWords& w, Flow& f) {
    if (w.clear_keys) f.keys.clear();
    if (w.strength) f.strength = *w.strength;
    if (w.zone) f.zone_deg = *w.zone;
    if (w.smoothness) f.smoothness = *w.smoothness;
    for (const auto& word : w.keys) set_flow_key(word, f);
}

std::string told_keys(const std::vector<FlowKey>& keys) {
    std::string out;
    for (const FlowKey& k : keys)
        out += fmt::format("    at {:.2f} s: strength {:.2f}, {:.0f} deg wide, smoothness {:.1f}\n",
                           k.time.to_double(), k.strength, k.zone_deg, k.smoothness);
    return out;
}

void flow(const FlowWords& w, const Run& run) {
    ProjectEdit edit(w.project, "flow", run, !w.list);
    Project& project = edit.project;
    Shot& shot = chosen_shot(project, w.shot, w.project);
    FlowSettings& f = shot.seams.flow;
    if (w.on) f.on = true;
    if (w.off) f.on = false;
    if (w.nearest) f.nearest_m = *w.nearest;
    if (w.everywhere) f.everywhere = true;
    if (w.near_seams) f.everywhere = false;
    if (w.fine_edges) f.fine_edges = true;
    if (w.plain_edges) f.fine_edges = false;
    if (w.seam.empty()) {
        if (!w.agree.empty())
            throw CLI::ValidationError("--agree", "is of one seam: say which with --seam A,B");
        set_flow(w, f);
    } else {
        const auto comma = w.seam.find(',');
        const std::string a = w.seam.substr(0, comma),
                          b = comma == std::string::npos ? "" : w.seam.substr(comma + 1);
        if (!find_camera(shot.rig, a) || !find_camera(shot.rig, b) || a == b)
            throw Error("does not name two cameras of the shot", "'" + w.seam + "'",
                        "Write --seam A,B with ids of its rig");
        SeamFlow seam = seam_flow(f, a, b);
        if (const SeamFlow* known = find_seam(f, a, b))
            f.seams.erase(f.seams.begin() + (known - f.seams.data()));
        set_flow(w, seam);
        if (w.agree == "rig")
            seam.agree_distance_m.reset();
        else if (w.agree == "found") {
            Composer composer(std::make_shared<MediaLibrary>(run.memory));
            const auto found = seam_distance_m(project, shot, composer, a, b, shot.timing.in);
            if (!found)
                throw Error("shows no distance that could be told", "the seam of " + a + " and " + b,
                            "Give --agree a distance in metres");
            seam.agree_distance_m = *found;
            std::cout << fmt::format("{} and {} agree best at {:.2f} m\n", a, b, *found);
        } else if (!w.agree.empty())
            seam.agree_distance_m = number_in(w.agree, "--agree", limits::kDistance_m);
        if (!w.remove_seam) f.seams.push_back(seam);
    }
    std::cout
        << fmt::format(
               "flow is {}{}{}: strength {:.2f}{}, {:.0f} deg wide, smoothness {:.1f}, nearest {:.2f} m\n",
               f.on ? "on" : "off", f.everywhere ? ", everywhere" : "",
               f.fine_edges ? ", with fine edges" : "", f.strength,
               f.keys.empty() ? "" : fmt::format(" ({} keys)", f.keys.size()), f.zone_deg, f.smoothness,
               f.nearest_m)
        << told_keys(f.keys);
    for (const SeamFlow& s : f.seams)
        std::cout << fmt::format("  {} and {}: strength {:.2f}, {:.0f} deg wide, smoothness {:.1f}{}\n", s.a,
                                 s.b, s.strength, s.zone_deg, s.smoothness,
                                 s.agree_distance_m ? fmt::format(", agrees at {:.2f} m", *s.agree_distance_m)
                                                    : "")
                  << told_keys(s.keys);
    if (!w.list) edit.save();
}

} // namespace

void add_line_verbs(CLI::App& app, const Run& run) {
    {
        auto w = std::make_shared<LineWords>();
        CLI::App* verb =
            app.add_subcommand("lines", "Find where neighbouring cameras best pass into each other");
        verb->add_option("PROJECT", w->project, "The project")->required();
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->add_flag("--find", w->find, "Find lines (the default without other words)");
        verb->add_option("--every", w->every, "Seconds after which a line may take another place")
            ->check(within({0.1, 60}));
        verb->add_option("--ease", w->ease, "Seconds in which a line moves over")
            ->check(within(limits::kEase_s));
        verb->add_flag("--on", w->on, "Use the lines that were found");
        verb->add_flag("--off", w->off, "Leave them out, but keep them");
        verb->add_flag("--remove", w->remove, "Clear them");
        verb->add_flag("--list", w->list, "Say what lines there are, and change nothing");
        verb->add_flag("--json", w->json, "With --list: as JSON");
        verb->callback([w, run] { lines(*w, run); });
    }
    {
        auto w = std::make_shared<CrossingWords>();
        CLI::App* verb = app.add_subcommand(
            "crossings", "Find subjects that pass seams, measure what shows of it, and close them");
        verb->add_option("PROJECT", w->project, "The project")->required();
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->add_flag("--scan", w->look, "Look through the shot (done by itself the first time)");
        verb->add_option("--step", w->scan.step_s, "Seconds between looks")->check(within({0.02, 10}));
        verb->add_option("--least", w->scan.least_px,
                         "Pixels of 3840 that a subject's two pictures are apart at least")
            ->check(within({0.5, 500}));
        verb->add_flag("--solve", w->solve, "Close what is open: by flow, by lines, by shelters");
        verb->add_option("--only", w->only, "ID: close this one (may be repeated)");
        verb->add_flag("--no-flow", w->no_flow, "Do not switch flow on");
        verb->add_flag("--no-lines", w->no_lines, "Do not look for other lines");
        verb->add_flag("--no-shelter", w->no_shelter, "Do not make shelters");
        verb->add_flag("--measure", w->measure, "Measure again what shows, as the shot is now");
        verb->add_option("--leave", w->leave, "ID: leave it as it is (may be repeated)");
        verb->add_option("--reopen", w->reopen, "ID: do not leave it");
        verb->add_flag("--json", w->json, "Print as JSON");
        verb->add_flag("--dry-run", w->dry_run, "Change nothing");
        verb->callback([w, run] { crossings(*w, run); });
    }
    {
        auto w = std::make_shared<FlowWords>();
        CLI::App* verb =
            app.add_subcommand("flow", "How parallax is closed near seams, for all of them or for one");
        verb->add_option("PROJECT", w->project, "The project")->required();
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->add_flag("--on", w->on, "Close it");
        verb->add_flag("--off", w->off, "Do not");
        verb->add_option("--seam", w->seam, "A,B: what follows is for these two cameras alone");
        verb->add_option("--strength", w->strength, "0: the agree distance, 1: the distances found")
            ->check(within(limits::kShare));
        verb->add_option(
            "--key", w->keys,
            "SECONDS=STRENGTH[,ZONE[,SMOOTHNESS]]: how it is at a moment; evenly from key to key");
        verb->add_flag("--clear-keys", w->clear_keys, "The same all through the shot again");
        verb->add_option("--zone", w->zone, "Degrees of the zone about a seam")
            ->check(within(limits::kZone_deg));
        verb->add_option("--smoothness", w->smoothness,
                         "How much neighbouring distances are held together; 1: the usual")
            ->check(within(limits::kSmoothness));
        verb->add_flag("--everywhere", w->everywhere,
                       "Use distances wherever two cameras see: nothing bends where a zone ends");
        verb->add_flag("--near-seams", w->near_seams, "Use them in the zones of seams alone");
        verb->add_flag("--fine-edges", w->fine_edges,
                       "Let distances step where near things end, and draw what these hide from one camera "
                       "from another");
        verb->add_flag("--plain-edges", w->plain_edges, "Leave that, which is quicker");
        verb->add_option("--nearest", w->nearest, "Metres: nearer things are taken to be there")
            ->check(within(limits::kNearest_m));
        verb->add_option(
            "--agree", w->agree,
            "With --seam: metres at which these two agree, 'found' for the middle of what is there, "
            "or 'rig'");
        verb->add_flag("--remove-seam", w->remove_seam, "With --seam: no settings of its own");
        verb->add_flag("--list", w->list, "Say what is set, and change nothing");
        verb->callback([w, run] { flow(*w, run); });
    }
}

} // namespace porb::cli
