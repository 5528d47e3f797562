#include "cli/project_edit.h"
#include "cli/verbs.h"

#include "base/json.h"
#include "master/inspect.h"
#include "project/limits.h"
#include "sim/simulate.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <iostream>
#include <set>

namespace porb::cli {

namespace {

void print_json(const Inspection& i) {
    const Json j = {{"width", i.info.width},
                    {"height", i.info.height},
                    {"projection", i.projection},
                    {"stereo", i.stereo},
                    {"codec", i.info.codec},
                    {"pixel_format", i.info.pixel_format},
                    {"depth", i.info.depth},
                    {"fps", i.info.rate.to_double()},
                    {"duration_s", i.info.duration.to_double()},
                    {"frames", i.info.frames},
                    {"audio", i.info.sound ? Json{{"codec", i.info.sound->codec},
                                                  {"rate_hz", i.info.sound->rate_hz},
                                                  {"channels", i.info.sound->channels}}
                                           : Json()},
                    {"metadata",
                     {{"spherical_v1", i.v1},
                      {"spherical_v2", i.v2},
                      {"photo_sphere", i.photo_sphere},
                      {"envmap", i.envmap}}},
                    {"verdict", i.verdict},
                    {"problems", i.problems}};
    std::cout << dump_json(j);
}

void print_words(const Inspection& i, const std::string& file) {
    const auto& info = i.info;
    std::cout << file << "\n"
              << fmt::format("  picture    {} x {}, {} {}-bit\n", info.width, info.height, info.codec,
                             info.depth)
              << fmt::format("  shape      {}, {}\n", i.projection, i.stereo);
    if (info.ref.kind != MediaKind::still)
        std::cout << fmt::format("  time       {:.3f} s, {:.3f} frames a second, {} frames\n",
                                 info.duration.to_double(), info.rate.to_double(), info.frames);
    if (info.sound)
        std::cout << fmt::format("  sound      {}, {} Hz, {} channels\n", info.sound->codec,
                                 info.sound->rate_hz, info.sound->channels);
    std::cout << "  " << i.verdict << "\n";
    for (const auto& p : i.problems) std::cout << "  problem: " << p << "\n";
}

struct SimWords {
    std::string scene, out, rig = "two-fisheyes", rate = "30";
    std::vector<std::string> faults;
    std::vector<double> truth_times{1.0}, truth_place{0, 0, 0}, truth_merge{55, 80}, place{0, 0};
    sim::SimOptions options;
};

std::set<std::string> scene_names() {
    std::set<std::string> out = {"hall-distant"};
    for (const auto& [name, things] : sim::things_by_scene()) out.insert(name);
    return out;
}

void run_simulation(SimWords w, const Run& run) {
    sim::SimOptions o = w.options;
    o.distant = w.scene == "hall-distant";
    if (!o.distant) o.things = sim::things_by_scene().at(w.scene);
    o.place_m = Vec3(w.place[0], 0, w.place[1]);
    o.truth_place_m = Vec3(w.truth_place[0], w.truth_place[1], w.truth_place[2]);
    o.truth_merge_from_deg = w.truth_merge[0], o.truth_merge_to_deg = w.truth_merge[1];
    if (w.truth_merge[0] >= w.truth_merge[1])
        throw CLI::ValidationError("--truth-merge", "needs its second latitude above its first");
    o.rig = sim::rigs_by_name().at(w.rig);
    o.rate = seconds_in(w.rate, "--rate");
    if (o.rate <= Rational(0) || o.rate > Rational(1000))
        throw CLI::ValidationError("--rate", "must be above 0 and at most 1000");
    o.truth_times = w.truth_times;
    static const std::set<std::string> kAll = {"lens",          "distortion", "pose",  "exposure",
                                               "white-balance", "vignetting", "noise", "offsets",
                                               "tilt",          "shake"};
    const auto has = [&](const char* name) {
        return std::any_of(w.faults.begin(), w.faults.end(), [&](const std::string& f) {
            return f == name || (f == "all" && kAll.contains(name));
        });
    };
    o.faults = {has("lens"),        has("distortion"), has("pose"),    has("exposure"), has("white-balance"),
                has("vignetting"),  has("noise"),      has("offsets"), has("tilt"),     has("shake"),
                has("dark"),        has("flare"),      has("cropped"), has("drift"),    has("microphones"),
                has("upside-down"), has("drive"),      has("rolling")};
    const auto files = sim::simulate(
        o, w.out,
        [](double done) { show_progress(fmt::format("{:.1f} % simulated", 100 * done), done >= 1); },
        run.cancel);
    for (const auto& f : files) std::cout << f.string() << "\n";
}

} // namespace

void add_file_verbs(CLI::App& app, const Run& run) {
    {
        auto file = std::make_shared<std::string>();
        auto json = std::make_shared<bool>(false);
        CLI::App* verb = app.add_subcommand(
            "inspect", "What a finished file says it is, and whether a player will believe it");
        verb->add_option("FILE", *file, "A movie, a still, or a numbered sequence")->required();
        verb->add_flag("--json", *json, "For programs");
        verb->callback([file, json] {
            const Inspection i = inspect(*file);
            if (*json)
                print_json(i);
            else
                print_words(i, *file);
        });
    }
    {
        struct Words {
            std::string in, out, mapping = "sphere", stereo = "mono";
        };
        auto w = std::make_shared<Words>();
        CLI::App* verb = app.add_subcommand(
            "tag", "Put spherical metadata (back) into a copy of an MP4 or MOV file, without encoding");
        verb->add_option("FILE", w->in, "The movie")->required();
        verb->add_option("--mapping", w->mapping, "sphere, or half for 180 degrees")
            ->check(CLI::IsMember({"sphere", "half"}));
        verb->add_option("--stereo", w->stereo, "mono, top-bottom or left-right")
            ->check(CLI::IsMember({"mono", "top-bottom", "left-right"}));
        verb->add_option("--out", w->out, "The tagged copy")->required();
        verb->callback([w, run] {
            may_write(w->out, Project(), {}, {w->in});
            const StereoLayout layout = w->stereo == "mono"         ? StereoLayout::mono
                                        : w->stereo == "top-bottom" ? StereoLayout::top_bottom
                                                                    : StereoLayout::left_right;
            tag_spherical_copy(
                w->in, w->out,
                {w->mapping == "half" ? SphereMapping::half_equirect : SphereMapping::equirect, layout},
                run.cancel);
            std::cout << w->out << "\n";
        });
    }
    {
        auto w = std::make_shared<SimWords>();
        CLI::App* verb =
            app.add_subcommand("simulate", "Made-up footage of the Orrery Hall, with known truth");
        verb->add_option(
                "SCENE", w->scene,
                "hall, hall-distant (no parallax), or with things close by: hall-cluttered, hall-thin "
                "(rods, railings, plants), hall-glass (panes), hall-plain (boards of one colour)")
            ->required()
            ->check(CLI::IsMember(scene_names()));
        verb->add_option("--rig", w->rig,
                         "two-fisheyes, ring-of-four, ring-of-six, ball-of-eight, dome-of-five, pair-180 or "
                         "ring-of-pairs")
            ->check(CLI::IsMember(sim::rigs_by_name()));
        verb->add_option("--size", w->options.circle_size, "Pixels a side of one image circle's square")
            ->check(within({64, 8192}));
        verb->add_option("--seconds", w->options.seconds, "Length")->check(within({0.001, 36000}));
        verb->add_option("--rate", w->rate, "Frames a second, such as 30 or 30000/1001");
        verb->add_option("--crf", w->options.crf, "Quality of the footage")->check(within({0, 51}));
        verb->add_option("--faults", w->faults,
                         "lens, distortion, pose, exposure, white-balance, vignetting, noise, offsets, tilt, "
                         "shake, dark, flare, cropped, drift, microphones, upside-down, drive, rolling, or "
                         "all (the first ten)")
            ->delimiter(',')
            ->check(CLI::IsMember({"lens", "distortion", "pose", "exposure", "white-balance", "vignetting",
                                   "noise", "offsets", "tilt", "shake", "dark", "flare", "cropped", "drift",
                                   "microphones", "upside-down", "drive", "rolling", "all"}));
        verb->add_option("--offsets", w->options.offsets_s,
                         "Seconds by which the ring's files begin early, in their order")
            ->delimiter(',')
            ->check(within({-3600, 3600}));
        verb->add_option("--seed", w->options.seed, "Which faults exactly");
        verb->add_option("--truth-width", w->options.truth_width,
                         "Pixels across the true panoramas; 0 writes none")
            ->check(within({0, 16384}));
        verb->add_option("--truth-times", w->truth_times, "Seconds at which they are written")
            ->delimiter(',')
            ->check(within({0, 36000}));
        verb->add_flag("!--no-stand", w->options.stand, "Without the stand under the rig, and its shadow");
        verb->add_option("--place", w->place,
                         "Where rig and stand are: metres right and forward of the hall's middle")
            ->delimiter(',')
            ->expected(2)
            ->check(within({-3, 3}));
        verb->add_option("--light-change", w->options.light_change_ev,
                         "Stops by which all light grows from the first frame to the last")
            ->check(within({-8, 8}));
        verb->add_option("--things-seed", w->options.things_seed, "Where which of the things close by stand");
        verb->add_option(
                "--truth-place", w->truth_place,
                "Where truth is seen from: metres to the right, down and forward of the rig's centre")
            ->delimiter(',')
            ->expected(3)
            ->check(within({-5, 5}));
        verb->add_option("--truth-ipd", w->options.truth_ipd_m,
                         "How far apart true eyes stand, metres (0.064 unless set)")
            ->check(within(limits::kIpd_m));
        verb->add_option("--truth-converge", w->options.truth_converge_m,
                         "Where true eyes lie on each other, metres; 0: infinitely far")
            ->check(within(limits::kConverge_m));
        verb->add_option("--truth-merge", w->truth_merge,
                         "Latitudes between which true eyes come together (55,80 unless set)")
            ->delimiter(',')
            ->expected(2)
            ->check(within(limits::kMerge_deg));
        verb->add_option("--out", w->out, "Folder")->required();
        verb->callback([w, run] { run_simulation(*w, run); });
    }
}

} // namespace porb::cli
