#include "cli/project_edit.h"
#include "cli/verbs.h"

#include "base/angle.h"
#include "base/error.h"
#include "base/json.h"
#include "project/fields_stereo.h"
#include "project/limits.h"
#include "project/span.h"
#include "stereo/comfort.h"
#include "stereo/findings.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <iostream>
#include <sstream>

namespace porb::cli {

namespace {

struct EyesWords {
    std::string project, shot, from, converge, mono, time, from_time, to_time, meet, at;
    std::optional<double> ipd, every, border;
    std::vector<double> merge, comfort;
    std::vector<std::string> keys;
    bool swap = false, no_swap = false, clear_keys = false, list = false, measure = false, fit = false,
         json = false;
};

/// "none" or metres.
double converge_in(const std::string& text, const std::string& option) {
    if (text == "none") return 0;
    const double metres = number_in(text, option, limits::kConverge_m);
    if (metres <= 0) throw CLI::ValidationError(option, "must lie above 0; 'none' stands for infinitely far");
    return metres;
}

std::string metres_words(double metres) {
    return metres > 0 ? fmt::format("{:.2f} m", metres) : std::string("infinity");
}

const char* words_of(EyesFrom from) {
    return from == EyesFrom::one       ? "one picture for both"
           : from == EyesFrom::cameras ? "cameras of their own"
                                       : "drawn from distances";
}

void print_settings(const Shot& shot) {
    const StereoSettings& s = shot.stereo;
    std::cout << fmt::format("eyes: {}{}", words_of(s.from), s.swap ? ", swapped" : "");
    if (s.from == EyesFrom::distances)
        std::cout << fmt::format(", {:.1f} mm apart, together from {:.0f} to {:.0f} deg", 1000 * s.ipd_m,
                                 s.merge_from_deg, s.merge_to_deg);
    else if (const double apart = eye_separation_m(shot.rig); s.from == EyesFrom::cameras && apart > 0)
        std::cout << fmt::format(", {:.1f} mm apart", 1000 * apart);
    std::cout << fmt::format("; converge at {}{}\n", metres_words(s.converge_m),
                             s.keys.empty() ? "" : fmt::format(" ({} keys instead)", s.keys.size()));
    for (const ConvergeKey& k : s.keys)
        std::cout << fmt::format("    at {:.2f} s: {}\n", k.time.to_double(), metres_words(k.converge_m));
    std::cout << fmt::format("comfort: {:.2f} deg near, {:.2f} deg far\n", s.comfort.near_deg,
                             s.comfort.far_deg);
}

Json json_of(const EyeSummary& s) {
    return {{"time_s", s.time.to_double()},
            {"places", s.places},
            {"told", s.told},
            {"vertical_px", s.vertical_px},
            {"vertical_95_px", s.vertical_95_px},
            {"vertical_arcmin", s.vertical_arcmin},
            {"nearest_deg", s.nearest_deg},
            {"farthest_deg", s.farthest_deg},
            {"outside", s.outside},
            {"cut_near", s.cut_near},
            {"beyond_infinity", s.beyond_infinity},
            {"ev", s.ev},
            {"sharper", s.sharper},
            {"torn_px", s.torn_px}};
}

std::vector<EyeMoment> measured(const EyesWords& w, const Run& run, const Project& project, const Shot& shot,
                                Composer& composer) {
    std::vector<Seconds> times;
    if (!w.time.empty()) {
        times.push_back(moment_in(w.time, "--time", project, shot, composer.library()));
    } else {
        const Span span = used_span(project, shot, composer.library());
        const Seconds in = w.from_time.empty()
                               ? span.in
                               : moment_in(w.from_time, "--from-time", project, shot, composer.library()),
                      out = w.to_time.empty()
                                ? span.out
                                : end_in(w.to_time, "--to-time", project, shot, composer.library());
        times = eye_times(in, out, shot.timing.rate, w.every.value_or(kEyeStep_s));
    }
    std::vector<EyeMoment> out;
    for (const Seconds t : times) {
        out.push_back(measure_eyes(composer, project, shot, t, {}, run.cancel));
        show_progress(fmt::format("{} of {} moments", out.size(), times.size()), out.size() == times.size());
    }
    return out;
}

/// What a shot before this one ends with in a direction, and what this one begins with, get one disparity.
void meet(const EyesWords& w, const Run& run, Project& project, Shot& shot, Composer& composer) {
    const Shot& before = chosen_shot(project, w.meet, w.project);
    if (before.id == shot.id)
        throw CLI::ValidationError("--meet", "is this shot itself: name the one before it");
    Vec3 towards[2];
    std::stringstream words(w.at);
    for (Vec3& d : towards) {
        std::string yaw, pitch;
        if (!std::getline(words, yaw, ',') || !std::getline(words, pitch, ',')) {
            if (&d == towards)
                throw CLI::ValidationError("--at", "write YAW,PITCH of the subject, or YAW,PITCH,YAW,PITCH");
            d = towards[0];
            break;
        }
        d = forward_of(
            {number_in(yaw, "--at", limits::kYaw_deg), number_in(pitch, "--at", limits::kPitch_deg), 0});
    }
    const Met met = meeting(composer, project, before, towards[0], shot, towards[1], run.cancel);
    set_converge(shot.stereo, met.time, met.converge_m);
    if (w.json) return; // whose standard output is one document
    std::cout << fmt::format(
        "the subject leaves {} at {:+.2f} deg and began here at {:+.2f}: converge at {}\n", before.name,
        met.before_deg, met.was_deg, metres_words(met.converge_m));
}

void print_regions(const std::array<EyeSummary, 6>& regions) {
    for (std::size_t i = 0; i < regions.size(); ++i)
        if (const EyeSummary& r = regions[i]; r.places > 0)
            std::cout << fmt::format("{:>8}: vertical {:.2f} px, 95 % {:.2f} px; {:.1f} % outside; right eye "
                                     "{:+.2f} EV; {:.0f} px torn in one eye; {:.0f} % seen alike\n",
                                     kEyeRegionWords[i], r.vertical_px, r.vertical_95_px, 100 * r.outside,
                                     r.ev[1], r.torn_px, 100 * r.told);
}

void print_findings(const std::vector<EyeFinding>& findings) {
    for (const EyeFinding& f : findings) {
        std::cout << "! " << f.what;
        if (f.direction)
            std::cout << fmt::format(" (yaw {:.0f}, pitch {:.0f})", turn_towards(*f.direction).yaw_deg,
                                     turn_towards(*f.direction).pitch_deg);
        std::cout << ". " << f.mend << ".\n";
    }
}

void eyes(const EyesWords& w, const Run& run) {
    const bool changes = !w.from.empty() || w.ipd || w.border || !w.merge.empty() || !w.comfort.empty() ||
                         w.swap || w.no_swap || !w.mono.empty() || w.clear_keys || !w.converge.empty() ||
                         !w.keys.empty() || w.fit || !w.meet.empty();
    const bool writes = changes && !w.list;
    ProjectEdit edit(w.project, "eyes", run, writes);
    Shot& shot = chosen_shot(edit.project, w.shot, w.project);
    StereoSettings& s = shot.stereo;
    if (!w.from.empty()) {
        s.from = by_word(kEyesFromWords).at(w.from);
        if (s.from == EyesFrom::distances && find_distances_everywhere(shot))
            std::cerr << "porbit: note: flow is on now, with distances wherever two cameras see\n";
    }
    if (w.ipd) s.ipd_m = *w.ipd;
    if (!w.merge.empty()) s.merge_from_deg = w.merge[0], s.merge_to_deg = w.merge[1];
    if (!w.comfort.empty()) s.comfort = {w.comfort[0], w.comfort[1]};
    if (w.swap) s.swap = true;
    if (w.no_swap) s.swap = false;
    if (w.border) s.border_deg = *w.border;
    if (!w.mono.empty()) s.mono = by_word(kMonoEyeWords).at(w.mono);
    if (w.clear_keys) s.keys.clear();
    if (!w.converge.empty()) s.converge_m = converge_in(w.converge, "--converge");
    for (const auto& word : w.keys) {
        const auto [time, text] = id_and_value(word, "--key");
        const Seconds t = seconds_in(time, "--key");
        if (std::none_of(s.keys.begin(), s.keys.end(), [&](const ConvergeKey& k) { return k.time == t; }))
            toggle_converge_key(s, t);
        set_converge(s, t, converge_in(text, "--key"));
    }
    Composer composer(std::make_shared<MediaLibrary>(run.memory));
    std::vector<EyeMoment> moments;
    if (w.measure || w.fit) moments = measured(w, run, edit.project, shot, composer);
    if (w.fit) {
        const ComfortFit fit = fitted_to_comfort(shot, moments);
        s.ipd_m = fit.ipd_m, s.converge_m = fit.converge_m;
        s.keys.clear();
        if (!fit.fits)
            std::cerr
                << "porbit: note: the cameras stand too far apart for the budget: what is far lies past it\n";
        if (!w.json)
            std::cout << fmt::format("fitted: disparity from {:+.2f} to {:+.2f} deg\n", fit.farthest_deg,
                                     fit.nearest_deg);
    }
    if (!w.meet.empty()) meet(w, run, edit.project, shot, composer);
    std::vector<EyeFinding> findings = eye_findings(shot);
    if (w.measure && !w.fit)
        for (EyeFinding& f : eye_findings(shot, moments)) findings.push_back(std::move(f));
    if (w.json) {
        Json out = {{"moments", Json::array()}, {"findings", Json::array()}};
        for (const EyeMoment& m : moments) out["moments"].push_back(json_of(summary_of(m, shot)));
        for (const EyeFinding& f : findings) out["findings"].push_back({{"what", f.what}, {"mend", f.mend}});
        if (w.measure && !w.fit) {
            const auto regions = by_region(moments, shot);
            for (std::size_t i = 0; i < regions.size(); ++i) {
                out["regions"][kEyeRegionWords[i]] = json_of(regions[i]);
                out["regions"][kEyeRegionWords[i]].erase("time_s");
            }
            out["worst"] = Json::array();
            for (const EyeFinding& f : worst_places(shot, moments))
                out["worst"].push_back({{"what", f.what},
                                        {"mend", f.mend},
                                        {"time_s", f.time->to_double()},
                                        {"yaw_deg", turn_towards(*f.direction).yaw_deg},
                                        {"pitch_deg", turn_towards(*f.direction).pitch_deg}});
        }
        std::cout << dump_json(out) << "\n";
    } else {
        print_settings(shot);
        if (w.measure && !w.fit)
            for (const EyeMoment& m : moments) {
                const EyeSummary t = summary_of(m, shot);
                std::cout << fmt::format(
                    "{:8.2f} s: vertical {:.2f} px ({:.1f}'), 95 % {:.2f} px; horizontal {:+.2f} to "
                    "{:+.2f} deg, {:.1f} % outside; right eye {:+.2f} EV, {:.0f} % as sharp; {:.0f} % "
                    "seen alike\n",
                    t.time.to_double(), t.vertical_px, t.vertical_arcmin, t.vertical_95_px, t.farthest_deg,
                    t.nearest_deg, 100 * t.outside, t.ev[1], 100 * std::exp2(t.sharper), 100 * t.told);
            }
        if (w.measure && !w.fit) print_regions(by_region(moments, shot));
        print_findings(findings);
        if (w.measure && !w.fit)
            for (const EyeFinding& f : worst_places(shot, moments))
                std::cout << fmt::format("  {:8.2f} s, yaw {:4.0f}, pitch {:3.0f}: {}. {}.\n",
                                         f.time->to_double(), turn_towards(*f.direction).yaw_deg,
                                         turn_towards(*f.direction).pitch_deg, f.what, f.mend);
    }
    print_remarks(edit.project, shot, composer.library());
    if (writes) edit.save();
}

} // namespace

void add_stereo_verbs(CLI::App& app, const Run& run) {
    auto w = std::make_shared<EyesWords>();
    CLI::App* verb = app.add_subcommand("eyes", "Say where two eyes come from, and measure them");
    verb->add_option("PROJECT", w->project, "The project")->required();
    verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
    verb->add_option(
            "--from", w->from,
            "one: both see the one picture; cameras: the rig's left and right ones; distances: drawn "
            "from all cameras by how far things are")
        ->check(CLI::IsMember(by_word(kEyesFromWords)));
    verb->add_option("--ipd", w->ipd, "Interpupillary distance of drawn eyes, metres (0.064 unless set)")
        ->check(within(limits::kIpd_m));
    verb->add_option("--converge", w->converge,
                     "Metres at which both eyes' pictures lie on each other, or none");
    verb->add_option("--key", w->keys, "The same from a moment on, SECONDS=METRES|none; passes smoothly");
    verb->add_flag("--clear-keys", w->clear_keys, "Remove those keys");
    verb->add_option("--merge", w->merge,
                     "Latitudes between which drawn eyes come together (55,80 unless set)")
        ->delimiter(',')
        ->expected(2)
        ->check(within(limits::kMerge_deg));
    verb->add_flag("--swap", w->swap, "Left is right");
    verb->add_flag("--no-swap", w->no_swap, "Left is left again")->excludes("--swap");
    verb->add_option("--mono", w->mono, "Which eye a mono picture of a pair takes: left or right")
        ->check(CLI::IsMember(by_word(kMonoEyeWords)));
    verb->add_option("--border", w->border,
                     "Degrees over which half spheres fade at their rim, in both eyes alike; 0: a hard edge")
        ->check(within(limits::kBorder_deg));
    verb->add_option("--comfort", w->comfort,
                     "Budget of horizontal disparity: NEAR,FAR in degrees (1,1 unless set)")
        ->delimiter(',')
        ->expected(2)
        ->check(within(limits::kComfort_deg));
    verb->add_flag("--measure", w->measure, "Compare both eyes over the shot; nothing else is changed");
    verb->add_flag("--fit", w->fit, "Fit convergence, and the distance of drawn eyes, to the budget");
    auto* subject =
        verb->add_option("--at", w->at,
                         "Where the subject of --meet is: YAW,PITCH at the end of the shot before "
                         "(and YAW,PITCH at the beginning of this one)");
    verb->add_option("--meet", w->meet,
                     "A shot before this one: the subject begins with the disparity that it ends with there")
        ->needs(subject);
    verb->add_option("--time", w->time, "Measure at that moment alone, shot time in seconds");
    verb->add_option("--from-time", w->from_time, "Measure from there on (the shot's in unless set)");
    verb->add_option("--to-time", w->to_time, "Measure to there (the shot's out unless set)");
    verb->add_option("--every", w->every, "Seconds from one measured moment to the next (1 unless set)")
        ->check(within({0.01, 1e4}));
    verb->add_flag("--json", w->json, "Figures as JSON");
    verb->add_flag("--list", w->list, "Only tell; nothing is written");
    verb->callback([w, run] { eyes(*w, run); });
}

} // namespace porb::cli
