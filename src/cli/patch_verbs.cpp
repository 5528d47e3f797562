#include "cli/project_edit.h"
#include "cli/verbs.h"

#include "base/error.h"
#include "base/json.h"
#include "media/still.h"
#include "patch/exchange.h"
#include "patch/fill.h"
#include "patch/light.h"
#include "patch/propose.h"
#include "project/fields_patches.h"
#include "project/limits.h"
#include "project/span.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <iostream>

namespace porb::cli {

namespace {

struct PatchWords {
    std::string project, shot, name, add, at, mask, export_to, import_from, to_shot, rename, hold, surface,
        soften, time, from, to, plate_shot, surround;
    std::optional<double> width, roll, opacity, feather, distance, ease, shadows;
    int seed = 1, sphere_width = 3840, resolution = 0, export_width = 0;
    bool list = false, json = false, propose = false, fill = false, remove = false, on = false, off = false,
         disc = false, follow = false, measure = false, no_mask = false;
};

std::size_t index_of(const Shot& shot, const std::string& name, const std::string& file) {
    if (shot.patches.empty()) throw Error("has no patch", file, "Make one with --add or --propose");
    if (name.empty()) return shot.patches.size() - 1;
    for (std::size_t i = 0; i < shot.patches.size(); ++i)
        if (shot.patches[i].name == name) return i;
    std::string names;
    for (const Patch& p : shot.patches) names += (names.empty() ? "" : ", ") + p.name;
    throw Error("has no patch named '" + name + "'", file, "Its patches are: " + names);
}

std::string free_name(const Shot& shot, const std::string& stem) {
    const auto taken = [&](const std::string& n) {
        return std::any_of(shot.patches.begin(), shot.patches.end(),
                           [&](const Patch& p) { return p.name == n; });
    };
    std::string name = stem;
    for (int n = 2; taken(name); ++n) name = stem + " " + std::to_string(n);
    return name;
}

/// The kinds that painted pixels come from outside in: of the square, or of a whole sphere.
bool is_sphere(const Picture& p) {
    return p.width() == 2 * p.height();
}

void set_values(const PatchWords& w, Patch& p, Seconds time) {
    PatchKey place = place_at(p, time);
    bool moved = false;
    if (!w.at.empty()) {
        const auto comma = w.at.find(',');
        if (comma == std::string::npos) throw CLI::ValidationError("--at", "write YAW,PITCH");
        place.yaw_deg = number_in(w.at.substr(0, comma), "--at", limits::kYaw_deg);
        place.pitch_deg = number_in(w.at.substr(comma + 1), "--at", limits::kPitch_deg);
        moved = true;
    }
    if (w.width) place.width_deg = *w.width, moved = true;
    if (w.roll) place.roll_deg = *w.roll, moved = true;
    if (w.opacity) place.opacity = *w.opacity, moved = true;
    if (moved) set_place(p, time, place);
    if (w.feather) p.feather_deg = *w.feather;
    if (w.ease) p.ease_s = *w.ease;
    if (w.shadows) p.shadows = *w.shadows;
    if (w.distance) p.distance_m = *w.distance;
    if (!w.hold.empty()) p.hold = by_word(kPatchHoldWords).at(w.hold);
    if (!w.surface.empty()) p.surface = by_word(kPatchSurfaceWords).at(w.surface);
    if (w.disc) p.disc = true;
    if (w.on) p.on = true;
    if (w.off) p.on = false;
    if (w.resolution > 0 && w.resolution != p.resolution) set_resolution(p, w.resolution);
    if (!w.from.empty()) p.from = seconds_in(w.from, "--from");
    if (!w.to.empty()) p.to = seconds_in(w.to, "--to");
    if (!w.rename.empty()) p.name = w.rename;
    if (w.no_mask) p.mask = {};
}

Json json_of(const Shot& shot, const Patch& p) {
    const PatchKey k = place_at(p, Seconds(0));
    return {{"shot", shot.name},
            {"name", p.name},
            {"kind", text_of(kPatchKindWords, p.kind)},
            {"on", p.on},
            {"yaw_deg", k.yaw_deg},
            {"pitch_deg", k.pitch_deg},
            {"roll_deg", k.roll_deg},
            {"width_deg", k.width_deg},
            {"opacity", k.opacity},
            {"keys", p.keys.size()},
            {"resolution", p.resolution},
            {"surface", text_of(kPatchSurfaceWords, p.surface)},
            {"distance_m", p.distance_m},
            {"masked", !p.mask.empty()},
            {"follows_light", p.follows_light}};
}

void print(const Shot& shot, const Patch& p) {
    const PatchKey k = place_at(p, Seconds(0));
    std::cout << fmt::format(
        "{}: {}: {}{}, yaw {:.1f}, pitch {:.1f}, {:.1f} deg wide, {} px; {} {:.2f} m{}{}{}\n", shot.name,
        p.name, text_of(kPatchKindWords, p.kind), p.on ? "" : " (off)", k.yaw_deg, k.pitch_deg, k.width_deg,
        p.resolution, text_of(kPatchSurfaceWords, p.surface), p.distance_m, p.mask.empty() ? "" : ", masked",
        p.follows_light ? ", follows light" : "",
        p.keys.size() > 1 ? fmt::format(", {} keys", p.keys.size()) : "");
}

TellShare progress_of(const char* words) {
    return
        [words](double share) { show_progress(fmt::format("{} {:.0f} %", words, 100 * share), share >= 1); };
}

/// A mask from a picture: white shows, black and what is transparent does not; of the square, or a sphere's.
TileImage mask_in(const std::string& file, const Shot& shot, const Patch& p, Seconds time) {
    Picture grey = read_still(file);
    for (int y = 0; y < grey.height(); ++y)
        for (int x = 0; x < grey.width(); ++x) {
            const Rgba c = pixel_at(grey, x, y);
            const float v = std::clamp((c.r + c.g + c.b) / 3, 0.0f, 1.0f);
            set_pixel(grey, x, y, {v, v, v, v});
        }
    if (is_sphere(grey)) return mask_of(picture_of(square_of(grey, shot, p, time)));
    if (grey.width() != grey.height())
        throw Error(fmt::format("is {} x {} pixels", grey.width(), grey.height()), file,
                    "A mask is a square, as the patch is, or a whole sphere twice as wide as high");
    check_layer_size(grey.width(), grey.height(), file);
    return resized(mask_of(grey), p.resolution, p.resolution);
}

/// Pixels from neighbours that see behind what is masked, then made from the surroundings.
void fill(Composer& composer, const Project& project, const Shot& shot, Patch& p, const PatchWords& w,
          std::span<const Seconds> times, const Run& run, const Proposal* proposal) {
    const int side = p.resolution;
    Picture plate;
    std::vector<float> hole(std::size_t(side) * std::size_t(side));
    if (proposal) {
        plate = proposal->plate;
        hole = proposal->hole;
    } else {
        plate = filling_plate(composer, project, shot, p, times, hole, run.cancel);
    }
    FillSettings settings;
    settings.seed = unsigned(w.seed);
    std::vector<float> from;
    if (!w.surround.empty()) {
        const TileImage where = mask_in(w.surround, shot, p, times.front());
        for (int y = 0; y < side; ++y)
            for (int x = 0; x < side; ++x) from.push_back(where.at(x, y, 0));
    }
    const Picture made = completed(plate, hole, from, settings, progress_of("filling"), run.cancel);
    p.pixels = tiles_of(made);
    p.plate = tiles_of(plate);
    p.kind = PatchKind::fill;
}

void add_patch(const PatchWords& w, Project& project, Shot& shot, Seconds time) {
    Patch p;
    p.keys = {{Seconds(0), 0, -90, 0, 30, 1, {}}};
    p.kind = PatchKind::picture;
    p.name = free_name(shot, w.name.empty() ? std::filesystem::path(w.add).stem().string() : w.name);
    p.feather_deg = 0.2;
    if (!w.soften.empty()) {
        p.kind = PatchKind::soften;
        p.soften = by_word(kSoftenWords).at(w.soften);
        p.disc = true;
        p.feather_deg = 3;
        p.name = free_name(shot, w.name.empty() ? w.soften : w.name);
    } else {
        std::filesystem::path file = std::filesystem::absolute(w.add);
        p.media = add_media(project, media_ref_for(file));
        (void)MediaLibrary().info(find_media(project, p.media)->ref); // it can be read
    }
    PatchWords values = w;
    values.rename.clear();
    set_values(values, p, time);
    const PatchKey place = place_at(p, time);
    if (w.surface.empty() && std::abs(place.pitch_deg) < 30) p.surface = PatchSurface::facing;
    shot.patches.push_back(p);
}

void patch(const PatchWords& w, const Run& run) {
    const bool values = !w.at.empty() || w.width || w.roll || w.opacity || w.feather || w.ease || w.shadows ||
                        w.distance || !w.hold.empty() || !w.surface.empty() || w.disc || w.on || w.off ||
                        w.resolution > 0 || !w.from.empty() || !w.to.empty() || !w.rename.empty() ||
                        w.no_mask;
    const bool changes = values || w.propose || w.fill || !w.add.empty() || !w.soften.empty() ||
                         !w.mask.empty() || !w.import_from.empty() || !w.to_shot.empty() || w.remove ||
                         w.follow || !w.plate_shot.empty();
    const bool writes = changes && !w.list;
    ProjectEdit edit(w.project, "patch", run, writes);
    Shot& shot = chosen_shot(edit.project, w.shot, w.project);
    Composer composer(std::make_shared<MediaLibrary>(run.memory));
    const Span span = used_span(edit.project, shot, composer.library());
    const Seconds time =
        w.time.empty() ? span.in : moment_in(w.time, "--time", edit.project, shot, composer.library());
    const auto times = plate_times(span.in, span.out, shot.timing.rate, 5);
    if (w.propose) {
        Patch p = ground_patch(composer, edit.project, shot, time, w.sphere_width,
                               progress_of("finding the floor"), run.cancel);
        p.name = free_name(shot, w.name.empty() ? "ground" : w.name);
        PatchWords set = w;
        set.rename.clear();
        set_values(set, p, time);
        const Proposal found =
            proposed(composer, edit.project, shot, p, times, progress_of("looking"), run.cancel);
        p.mask = found.mask;
        if (w.fill)
            fill(composer, edit.project, shot, p, w, times, run, &found);
        else
            p.plate = tiles_of(found.plate);
        shot.patches.push_back(p);
        if (found.moves) std::cerr << "porbit: note: " << kFloorPasses << "\n";
        if (const char* words = drawn_elsewhere(shot, p)) std::cerr << "porbit: note: " << words << "\n";
        if (!w.json)
            std::cout << fmt::format(
                "{}: covers {:.1f} % of a square {:.0f} deg wide, floor {:.2f} m below\n", p.name,
                100 * found.share, place_at(p, time).width_deg, p.distance_m);
    } else if (!w.add.empty() || !w.soften.empty()) {
        add_patch(w, edit.project, shot, time);
    } else if (values) {
        set_values(w, shot.patches[index_of(shot, w.name, w.project)], time);
    }
    // What follows is of the patch that was made, or named.
    const bool made = w.propose || !w.add.empty() || !w.soften.empty();
    const auto which = [&] {
        return made ? shot.patches.size() - 1
                    : index_of(shot, w.rename.empty() ? w.name : w.rename, w.project);
    };
    if (!w.mask.empty()) {
        Patch& p = shot.patches[which()];
        p.mask = mask_in(w.mask, shot, p, time);
    }
    if (!w.plate_shot.empty()) {
        const Shot& other = chosen_shot(edit.project, w.plate_shot, w.project);
        Patch& p = shot.patches[which()];
        const Span there = used_span(edit.project, other, composer.library());
        const RegisteredPlate plate = shot_plate(composer, edit.project, shot, p, time, other,
                                                 plate_times(there.in, there.out, other.timing.rate, 5),
                                                 progress_of("registering"), run.cancel);
        p.pixels = p.plate = tiles_of(plate.plate);
        p.kind = PatchKind::painted;
        if (!w.json)
            std::cout << fmt::format("{}: {} features of the ground lie on each other, {:.2f} px RMS\n",
                                     p.name, plate.matches, plate.residual_px);
    }
    if (w.fill && !w.propose)
        fill(composer, edit.project, shot, shot.patches[which()], w, times, run, nullptr);
    if (!w.import_from.empty()) {
        Patch& p = shot.patches[which()];
        if (is_layered_name(w.import_from) && !(std::filesystem::path(w.import_from).extension() != ".ora" &&
                                                is_plain_picture(w.import_from))) {
            p = with_layers(p, read_layers(w.import_from), w.import_from);
        } else {
            const Picture picture = read_still(w.import_from);
            if (is_sphere(picture)) {
                p.pixels = square_of(picture, shot, p, time);
            } else {
                PatchLayers one;
                one.layer = picture;
                p = with_layers(p, one, w.import_from);
            }
            p.kind = PatchKind::painted;
        }
    }
    if (w.follow) {
        const std::size_t i = which();
        const auto moments = light_times(span.in, span.out, shot.timing.rate);
        Patch& p = shot.patches[i];
        p.light = followed_light(composer, edit.project, shot, i, moments, progress_of("following light"),
                                 run.cancel);
        p.follows_light = true;
    }
    if (w.shadows && *w.shadows > 0) {
        Patch& p = shot.patches[which()];
        p.reference = shadow_reference(composer, edit.project, shot, p, times, {}, run.cancel);
    }
    if (!w.to_shot.empty()) {
        const Patch source = shot.patches[which()];
        Shot& other = chosen_shot(edit.project, w.to_shot, w.project);
        if (other.id == shot.id)
            throw CLI::ValidationError("--to-shot", "is the shot itself: name another one");
        Patch copy = carried_over(composer, edit.project, shot, source, time, other, run.cancel);
        copy.name = free_name(other, source.name);
        if (w.no_mask) copy.mask = {};
        other.patches.push_back(copy);
        if (!w.json) print(other, copy);
    }
    if (!w.export_to.empty()) {
        const Patch& p = shot.patches[which()];
        may_write(w.export_to, edit.project, w.project);
        if (w.export_width > 0) {
            write_still(
                sphere_of(composer, edit.project, shot, p, time, w.export_width), w.export_to,
                {16, 95, SphericalTag{SphereMapping::equirect, StereoLayout::mono}, {}, false, nullptr, {}});
        } else {
            write_layers(layers_of(composer, edit.project, shot, p, time, run.cancel), w.export_to);
        }
        std::cout << w.export_to << "\n";
    }
    Json steps = Json::array();
    if (w.measure) {
        for (const EdgeStep& s : edge_steps(composer, edit.project, shot, which(),
                                            light_times(span.in, span.out, shot.timing.rate),
                                            progress_of("measuring"), run.cancel)) {
            steps.push_back({{"time_s", s.time.to_double()}, {"step", s.step}, {"worst", s.worst}});
            if (!w.json)
                std::cout << fmt::format("{:8.2f} s: step {:.2f} % of full scale, 95 % under {:.2f} %\n",
                                         s.time.to_double(), 100 * s.step, 100 * s.worst);
        }
    }
    if (w.remove) shot.patches.erase(which());
    if (w.json) {
        Json out = {{"patches", Json::array()}, {"edge", steps}};
        for (const Shot& s : edit.project.shots)
            for (const Patch& p : s.patches) out["patches"].push_back(json_of(s, p));
        std::cout << dump_json(out) << "\n";
    } else if (w.export_to.empty() && w.to_shot.empty()) {
        for (const Shot& s : std::as_const(edit.project).shots)
            for (const Patch& p : s.patches) print(s, p);
    }
    print_remarks(edit.project, shot, composer.library());
    if (writes) edit.save();
}

} // namespace

void add_patch_verbs(CLI::App& app, const Run& run) {
    auto w = std::make_shared<PatchWords>();
    CLI::App* verb = app.add_subcommand(
        "patch", "Cover what should not be in the picture: the stand below, a light above");
    verb->add_option("PROJECT", w->project, "The project")->required();
    verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
    verb->add_option("--name", w->name, "Which patch (the last unless set), or what a new one is called");
    verb->add_flag("--list", w->list, "Only tell; nothing is written");
    verb->add_flag("--json", w->json, "For programs");
    verb->add_flag("--propose", w->propose,
                   "A patch on the floor whose mask covers what is fixed to the rig below");
    verb->add_flag(
        "--fill", w->fill,
        "Its pixels: from cameras that see behind what is masked, then made from the surroundings");
    verb->add_option("--seed", w->seed, "Another number makes another variant of what is made")
        ->check(within({0, 1e9}));
    verb->add_option(
        "--surround", w->surround,
        "A picture that is white where pieces of the floor may be taken from: its square, or a whole "
        "sphere");
    verb->add_option("--sphere-width", w->sphere_width,
                     "Width of the sphere that a proposed patch is to be as fine as (3840 unless set)")
        ->check(within(limits::kWidth_px));
    verb->add_option("--add", w->add,
                     "A new patch that shows a picture, an SVG, a numbered sequence or a video");
    verb->add_option(
            "--soften", w->soften,
            "A new patch that smooths the place over (blur) or mirrors its surroundings into it (mirror)")
        ->check(CLI::IsMember(by_word(kSoftenWords)));
    verb->add_option("--at", w->at, "Its direction: YAW,PITCH in degrees (0,-90 unless set: straight down)");
    verb->add_option("--width", w->width, "Its width, degrees")->check(within(limits::kPatchWidth_deg));
    verb->add_option("--roll", w->roll, "How it is turned about its direction, degrees")
        ->check(within(limits::kYaw_deg));
    verb->add_option("--opacity", w->opacity, "0 to 1")->check(within(limits::kShare));
    verb->add_option("--feather", w->feather, "How softly its mask and rim end, degrees")
        ->check(within(limits::kFeather_deg));
    verb->add_flag("--disc", w->disc, "It ends at the circle inside its square");
    verb->add_option("--hold", w->hold, "What it stays with when the picture is turned: world or rig")
        ->check(CLI::IsMember(by_word(kPatchHoldWords)));
    verb->add_option(
            "--surface", w->surface,
            "Where it lies, for two eyes: far; level (a floor or ceiling); facing (a plane across its "
            "direction); sphere")
        ->check(CLI::IsMember(by_word(kPatchSurfaceWords)));
    verb->add_option("--distance", w->distance, "Of its surface from the rig's centre, metres")
        ->check(within(limits::kPatchDistance_m));
    verb->add_option("--resolution", w->resolution, "Pixels a side of what is painted")
        ->check(within(limits::kPatchSide_px));
    verb->add_option("--from", w->from, "Seconds at which it has come");
    verb->add_option("--to", w->to, "Seconds at which it begins to go");
    verb->add_option("--ease", w->ease, "Seconds in which it comes and goes")->check(within(limits::kEase_s));
    verb->add_flag("--on", w->on, "Show it");
    verb->add_flag("--off", w->off, "Leave it out")->excludes("--on");
    verb->add_option("--mask", w->mask,
                     "A picture that is white where it shows: its square, or a whole sphere");
    verb->add_flag("--no-mask", w->no_mask, "It shows everywhere; with --to-shot: without its mask");
    verb->add_option("--plate-from", w->plate_shot,
                     "Take its pixels from another shot of the same ground, registered by its features");
    verb->add_flag("--follow-light", w->follow, "Follow the footage's light along its edge over the shot");
    verb->add_option("--shadows", w->shadows, "How much of passing shadows it takes, 0 to 1")
        ->check(within(limits::kShare));
    verb->add_flag("--measure", w->measure, "Measure the step along its edge over the shot");
    verb->add_option("--export", w->export_to,
                     "Its footage, plate, layer and mask as layers: .ora, .tif or .exr; with --sphere: the "
                     "patch alone as a transparent whole sphere");
    verb->add_option("--sphere", w->export_width, "Pixels across that sphere")
        ->check(within(limits::kWidth_px));
    verb->add_option(
        "--import", w->import_from,
        "Take it back from such a file, or its pixels from a picture of the square or of a sphere");
    verb->add_option("--to-shot", w->to_shot,
                     "Copy it to another shot of the same place, registered on the ground by its features");
    verb->add_option("--rename", w->rename, "Call it something else");
    verb->add_flag("--remove", w->remove, "Remove it");
    verb->add_option("--time", w->time,
                     "The moment of the shot that is looked at, seconds (its in unless set)");
    verb->callback([w, run] { patch(*w, run); });
}

} // namespace porb::cli
