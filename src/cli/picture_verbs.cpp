#include "cli/project_edit.h"
#include "cli/verbs.h"

#include "base/error.h"
#include "master/render.h"
#include "media/still.h"
#include "project/fields_project.h"
#include "project/limits.h"
#include "stitch/depth_map.h"
#include "stitch/plan/coverage_report.h"

#include <fmt/format.h>

#include <iostream>

namespace porb::cli {

namespace {

struct StillWords {
    std::string project, shot, time = "0", eye = "mono", mapping = "sphere", out;
    int width = 3840, depth = 8;
    bool distance = false, parts = false, patches = true;
};

void make_still(const StillWords& w, const Run& run) {
    if (!is_still_name(w.out))
        throw Error("is not a still we write", w.out, "End the name in .png, .jpg, .tif or .exr");
    Project project = opened_project(w.project);
    may_write(w.out, project, w.project);
    const Shot& shot = chosen_shot(project, w.shot, w.project);
    Composer composer(std::make_shared<MediaLibrary>(run.memory));
    StillRequest request;
    request.width = w.width;
    request.mapping = w.mapping == "half" ? SphereMapping::half_equirect : SphereMapping::equirect;
    request.eye = w.eye == "left" ? Eye::left : w.eye == "right" ? Eye::right : Eye::mono;
    if (w.eye == "both")
        request.stereo = w.mapping == "half" ? StereoLayout::left_right : StereoLayout::top_bottom;
    request.patches = w.patches;
    request.time = moment_in(w.time, "--time", project, shot, composer.library());
    if (request.mapping == SphereMapping::equirect) {
        for (const PoleHole& hole : pole_holes(shot)) std::cerr << "porbit: note: " << words_of(hole) << "\n";
        if (const auto line = hairline(shot)) std::cerr << "porbit: note: " << words_of(*line) << "\n";
    }
    DepthMap depth;
    if (w.distance) {
        if (std::filesystem::path(w.out).extension() != ".exr")
            throw Error("has no room for distances beside the colours", w.out,
                        "End the name in .exr, or write them alone with porbit depth");
        View view;
        view.target = sphere_target(request.mapping, request.width);
        const auto of_eye = [&](Eye eye) {
            view.eye = eye;
            return depth_map(composer, project, shot, request.time, view);
        };
        depth = request.stereo == StereoLayout::mono ? of_eye(request.eye)
                                                     : stacked(of_eye(Eye::left), of_eye(Eye::right),
                                                               request.stereo == StereoLayout::left_right);
    }
    write_still(render_still(composer, project, shot, request, run.cancel), w.out,
                {w.depth, 95, SphericalTag{request.mapping, request.stereo}, depth.metres, w.parts});
    print_remarks(project, shot, composer.library());
    std::cout << w.out << "\n";
}

struct DepthWords {
    std::string project, shot, time = "0", eye = "mono", mapping = "sphere", out, from, to;
    int width = 1920;
};

void make_depth(const DepthWords& w, const Run& run) {
    if (!is_depth_name(w.out))
        throw Error("is no picture of distances", w.out, "End the name in .exr or .png");
    Project project = opened_project(w.project);
    may_write(w.out, project, w.project);
    const Shot& shot = chosen_shot(project, w.shot, w.project);
    Composer composer(std::make_shared<MediaLibrary>(run.memory));
    View view;
    view.target = w.mapping == "half" ? half_sphere_target(w.width) : equirect_target(w.width);
    view.eye = w.eye == "left" ? Eye::left : w.eye == "right" ? Eye::right : Eye::mono;
    const Seconds time = moment_in(w.time, "--time", project, shot, composer.library());
    if (!shot.seams.flow.on)
        std::cerr << "porbit: note: the shot's flow is off: everything is at the agree distance\n";
    if (w.from.empty() && w.to.empty()) {
        write_depth(depth_map(composer, project, shot, time, view), w.out);
    } else {
        const Span span = used_span(project, shot, composer.library());
        write_depths(
            composer, project, shot,
            {w.from.empty() ? span.in : moment_in(w.from, "--from", project, shot, composer.library()),
             w.to.empty() ? span.out : end_in(w.to, "--to", project, shot, composer.library())},
            view, w.out,
            [](std::int64_t done, std::int64_t all) {
                show_progress(fmt::format("{} of {} frames", done, all), done == all);
            },
            run.cancel);
    }
    std::cout << w.out << "\n";
}

struct MasterWords {
    std::string project, shot, preset, out, from, to, stereo, mapping, codec;
    std::optional<int> width, depth;
    std::optional<double> crf, megabits;
    bool distances = false, parts = false, list = false, no_sound = false;
};

void list_presets() {
    for (const auto& p : presets())
        std::cout << fmt::format("{:<20} {}. {}\n", p.name, p.title, p.description);
}

void make_master(const MasterWords& w, const Run& run) {
    if (w.list) return list_presets();
    if (w.project.empty() || w.preset.empty() || w.out.empty())
        throw CLI::ValidationError("master", "needs PROJECT, --preset and --out");
    const Preset* preset = find_preset(w.preset);
    if (!preset)
        throw CLI::ValidationError("--preset", "'" + w.preset + "' is unknown; porbit master --list-presets");
    Project project = opened_project(w.project);
    may_write(w.out, project, w.project);
    Shot& shot = chosen_shot(project, w.shot, w.project);
    Deliverable d = preset->deliverable;
    if (!w.stereo.empty()) d.stereo = by_word(kEyeLayoutWords).at(w.stereo);
    if (!w.mapping.empty())
        d.mapping = w.mapping == "half" ? SphereMapping::half_equirect : SphereMapping::equirect;
    if (w.width) d.width = *w.width;
    Composer composer(render_library(project, shot, run.memory, render_size(d)));
    if (!w.from.empty()) shot.timing.in = moment_in(w.from, "--from", project, shot, composer.library());
    if (!w.to.empty()) shot.timing.out = end_in(w.to, "--to", project, shot, composer.library());
    if (shot.timing.out && *shot.timing.out <= shot.timing.in)
        throw Error("is not after --from", "--to", "Let the part end after it begins");
    d.shot = shot.id;
    d.path = std::filesystem::absolute(w.out).lexically_normal();
    if (!w.codec.empty()) {
        d.codec = w.codec == "prores" ? VideoCodec::prores
                  : w.codec == "h265" ? VideoCodec::h265
                                      : VideoCodec::h264;
        if (d.container == Container::png_sequence || d.container == Container::exr_sequence)
            throw Error("is for movies, the preset " + preset->name + " makes numbered pictures",
                        "--codec " + w.codec, "Leave it out, or choose another preset");
        d.container = d.codec == VideoCodec::prores ? Container::mov : Container::mp4;
        if (!w.depth) d.depth = d.codec == VideoCodec::h264 ? 8 : 10;
    }
    if (w.depth) d.depth = *w.depth;
    const std::string ending = d.path.extension().string();
    const char* wanted = d.container == Container::png_sequence   ? ".png"
                         : d.container == Container::exr_sequence ? ".exr"
                         : d.codec == VideoCodec::prores          ? ".mov"
                                                                  : ".mp4";
    if (ending != wanted && !(ending == ".mov" && d.container == Container::mp4))
        throw Error("does not fit the preset " + preset->name, w.out,
                    std::string("End the name in ") + wanted);
    if (w.crf) d.crf = *w.crf;
    if (w.megabits) d.bit_rate = std::int64_t(*w.megabits * 1e6);
    if (w.no_sound) d.sound = false;
    if (w.distances && d.container != Container::exr_sequence)
        throw Error("has no room for distances beside the colours", "the preset " + preset->name,
                    "Choose a sequence of EXR pictures, or write them alone with porbit depth");
    d.distances = w.distances;
    d.distances_apart = w.parts;
    if (d.stereo == EyeLayout::views && d.container != Container::exr_sequence)
        throw Error("holds no views", "the preset " + preset->name,
                    "Choose a sequence of EXR pictures, or --stereo apart");
    if (d.width % 4) throw Error("must be a multiple of 4", "--width", "Use for example 3840");

    for (const auto& warning : preflight(project, d, composer.library()).warnings)
        std::cerr << "porbit: note: " << warning << "\n";
    render(
        composer, project, d,
        [&](const RenderProgress& p) {
            show_progress(fmt::format("{} of {} frames, {:.1f} a second, {:.0f} s left, {:.1f} MB",
                                      p.frames_done, p.frames, p.frames_per_second, p.seconds_left,
                                      double(p.bytes) / 1e6),
                          p.frames_done == p.frames);
        },
        run.cancel);
    print_remarks(project, shot, composer.library());
    std::cout << w.out << "\n";
}

} // namespace

void add_picture_verbs(CLI::App& app, const Run& run) {
    {
        auto w = std::make_shared<StillWords>();
        CLI::App* verb = app.add_subcommand("still", "Render one picture");
        verb->add_option("PROJECT", w->project, "The project")->required();
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->add_option("--time", w->time, "Shot time in seconds");
        verb->add_option("--width", w->width, "Pixels across one eye")->check(within(limits::kWidth_px));
        verb->add_option("--eye", w->eye,
                         "mono, left, right, or both: left above right, of half spheres beside it")
            ->check(CLI::IsMember({"mono", "left", "right", "both"}));
        verb->add_option("--mapping", w->mapping, "sphere, or half for 180 degrees")
            ->check(CLI::IsMember({"sphere", "half"}));
        verb->add_option("--depth", w->depth, "Bits a channel in PNG and TIFF, 8 or 16")
            ->check(CLI::IsMember({8, 16}));
        verb->add_flag("--distance", w->distance,
                       "Metres from the rig's centre beside the colours (.exr: channel Z)");
        verb->add_flag("--parts", w->parts,
                       "Metres in a part of their own, which is read without the colours")
            ->needs("--distance");
        verb->add_flag("!--without-patches", w->patches, "What cameras supply alone");
        verb->add_option("--out", w->out, "FILE.png, .jpg, .tif or .exr")->required();
        verb->callback([w, run] { make_still(*w, run); });
    }
    {
        auto w = std::make_shared<DepthWords>();
        CLI::App* verb = app.add_subcommand("depth", "Write how far away things are, as a picture");
        verb->add_option("PROJECT", w->project, "The project")->required();
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->add_option("--time", w->time, "Shot time in seconds");
        verb->add_option("--width", w->width, "Pixels across one eye")->check(within(limits::kWidth_px));
        verb->add_option("--eye", w->eye, "mono, left or right")
            ->check(CLI::IsMember({"mono", "left", "right"}));
        verb->add_option("--mapping", w->mapping, "sphere, or half for 180 degrees")
            ->check(CLI::IsMember({"sphere", "half"}));
        verb->add_option("--out", w->out,
                         "FILE.exr: channel Z, metres from the rig's centre; or FILE.png: 16-bit grey, 65535 "
                         "x 0.25 m / distance. With --from or --to a pattern: depth_%04d.exr")
            ->required();
        verb->add_option("--from", w->from, "A picture for each frame from there on, numbered from 0");
        verb->add_option("--to", w->to, "To there (the shot's out unless set)");
        verb->callback([w, run] { make_depth(*w, run); });
    }
    {
        auto w = std::make_shared<MasterWords>();
        CLI::App* verb = app.add_subcommand("master", "Render a deliverable that says it is a sphere");
        verb->add_option("PROJECT", w->project, "The project");
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->add_option("--preset", w->preset, "What to make (see --list-presets)");
        verb->add_option("--width", w->width, "Pixels across one eye")->check(within(limits::kWidth_px));
        verb->add_flag("--distances", w->distances, "Metres beside the colours (EXR sequences: channel Z)");
        verb->add_flag("--parts", w->parts,
                       "Metres in a part of their own, which is read without the colours")
            ->needs("--distances");
        verb->add_option("--from", w->from, "Start, shot time in seconds (the shot's in unless set)");
        verb->add_option("--to", w->to, "End, shot time in seconds (the shot's out unless set)");
        verb->add_option(
                "--stereo", w->stereo,
                "Instead of the preset's: mono, top-bottom, left-right, apart (a file for each eye), "
                "views (of EXR), depth-below (mono above its distances)")
            ->check(CLI::IsMember(by_word(kEyeLayoutWords)));
        verb->add_option("--mapping", w->mapping, "sphere, or half for 180 degrees, instead of the preset's")
            ->check(CLI::IsMember({"sphere", "half"}));
        verb->add_option("--codec", w->codec, "h264, h265 or prores instead of the preset's")
            ->check(CLI::IsMember({"h264", "h265", "prores"}));
        verb->add_option("--depth", w->depth, "Bits a channel in movies, 8 or 10 (H.264: 8 unless set)")
            ->check(CLI::IsMember({8, 10}));
        verb->add_option("--crf", w->crf, "Quality: lower is better and larger")->check(within(limits::kCrf));
        verb->add_option("--bit-rate,--megabits", w->megabits,
                         "Bit rate in Mbit/s instead of a quality; 0: by quality")
            ->check(within(limits::kBitRate.times(1e-6)));
        verb->add_flag("--no-sound", w->no_sound, "Leave the sound out");
        verb->add_flag("--list-presets", w->list, "List the presets");
        verb->add_option("--out", w->out, "The file, or for sequences a pattern such as out.%05d.png");
        verb->callback([w, run] { make_master(*w, run); });
    }
}

} // namespace porb::cli
