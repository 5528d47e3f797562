#include "cli/project_edit.h"
#include "cli/verbs.h"

#include "base/error.h"
#include "project/limits.h"
#include "project/span.h"
#include "seams/follow.h"
#include "seams/follow_shape.h"
#include "seams/grow.h"
#include "stitch/compose.h"
#include "stitch/plan/coverage_report.h"
#include "stitch/plan/plan.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <iostream>
#include <sstream>

namespace porb::cli {

namespace {

std::vector<double> numbers(const std::string& text, const std::string& option, std::size_t count) {
    std::vector<double> out;
    std::stringstream words(text);
    std::string word;
    while (std::getline(words, word, ',')) out.push_back(number_in(word, option));
    if (out.size() != count)
        throw CLI::ValidationError(option, fmt::format("'{}': write {} numbers with commas", text, count));
    return out;
}

/// A distance told by hand, in words.
struct DistanceWords {
    std::string distance;
    std::vector<std::string> plane_at;
};

void add_distance_options(CLI::App& verb, DistanceWords& w) {
    verb.add_option(
        "--distance", w.distance,
        "How far away what is inside is: metres from the rig's centre, 'far', 'plane', or 'around': "
        "as far as what lies about it");
    verb.add_option(
        "--plane-at", w.plane_at,
        "YAW,PITCH,METRES of a place of the plane, in the rig's own directions: three times. Without "
        "METRES it is as far away as it was found to be");
}

Vec3 plane_of(const std::vector<std::string>& places, const Project& project, const Shot& shot, Seconds time,
              const Run& run) {
    if (places.size() != 3) throw CLI::ValidationError("--plane-at", "say three places of the plane");
    std::array<Vec3, 3> directions;
    std::array<double, 3> metres{};
    SphereGrid found;
    for (std::size_t i = 0; i < 3; ++i) {
        const bool told = std::count(places[i].begin(), places[i].end(), ',') == 2;
        const auto at = numbers(places[i], "--plane-at", told ? 3 : 2);
        directions[i] = forward_of({must_hold(at[0], "--plane-at", limits::kYaw_deg),
                                    must_hold(at[1], "--plane-at", limits::kPitch_deg), 0});
        if (told) {
            metres[i] = must_hold(at[2], "--plane-at", limits::kDistance_m);
            continue;
        }
        if (found.empty()) {
            Composer composer(std::make_shared<MediaLibrary>(run.memory));
            found = composer.distances(project, shot, time);
            if (found.empty())
                throw Error("finds no distances: its parallax is left open", "shot " + shot.name,
                            "Write METRES too, or close it with porbit flow");
        }
        const double inverse = found.at(directions[i]);
        metres[i] = inverse > 0 ? 1 / inverse : 0;
    }
    return plane_through(directions, metres);
}

std::optional<AreaDistance> distance_in(const DistanceWords& w, const Project& project, const Shot& shot,
                                        Seconds time, const Run& run) {
    if (w.distance.empty() && w.plane_at.empty()) return std::nullopt;
    AreaDistance out;
    if (w.distance == "plane" || (w.distance.empty() && !w.plane_at.empty())) {
        out.rule = DistanceRule::plane;
        out.plane_per_m = plane_of(w.plane_at, project, shot, time, run);
    } else if (!w.plane_at.empty()) {
        throw CLI::ValidationError("--plane-at", "belongs to --distance plane");
    } else if (w.distance == "far") {
        out.rule = DistanceRule::metres, out.metres = 0;
    } else if (w.distance != "around") {
        out.rule = DistanceRule::metres;
        out.metres = number_in(w.distance, "--distance", limits::kDistance_m);
    }
    return out;
}

std::string distance_text(const AreaDistance& d) {
    if (d.rule == DistanceRule::plane) return "on a plane";
    if (d.rule == DistanceRule::surroundings) return "as far as what lies about it";
    return d.metres > 0 ? fmt::format("{:g} m away", d.metres) : "infinitely far";
}

struct ShapeWords {
    std::string project, shot, camera, name, on, off, remove, copy, follow;
    std::vector<std::string> corners;
    DistanceWords distance;
    bool restore = false, cut_out = false, list = false, json = false;
    double feather = 2;
    std::string time;
};

ShotCamera& camera_of(Shot& shot, const std::string& id) {
    for (auto& c : shot.cameras)
        if (c.camera == id) return c;
    throw Error("is not a camera of the shot", "'" + id + "'", "Use an id of its rig");
}

const char* name_of(ShapeKind kind) {
    return kind == ShapeKind::distance ? "distance" : kind == ShapeKind::restore ? "restore" : "cut-out";
}

Shape& shape_of(ShotCamera& camera, const std::string& name) {
    for (auto& s : camera.shapes)
        if (s.name == name) return s;
    throw Error("has no shape '" + name + "'", "camera " + camera.camera, "See porbit shape PROJECT --list");
}

void list_shapes(const Shot& shot, bool json) {
    nlohmann::ordered_json all = nlohmann::ordered_json::array();
    for (const auto& c : shot.cameras)
        for (const auto& s : c.shapes) {
            all.push_back({{"camera", c.camera},
                           {"name", s.name},
                           {"does", name_of(kind_of(s))},
                           {"on", s.on},
                           {"feather_deg", s.feather_deg},
                           {"corners", s.keys.front().corners.size()},
                           {"keys", s.keys.size()}});
            if (s.distance) all.back()["distance"] = distance_text(*s.distance);
            if (!json)
                std::cout << fmt::format(
                    "{:<5} {:<20} {:<8} {} corners, {} keys, feather {:.1f} deg{}{}\n", c.camera, s.name,
                    name_of(kind_of(s)), s.keys.front().corners.size(), s.keys.size(), s.feather_deg,
                    s.distance ? ", " + distance_text(*s.distance) : "", s.on ? "" : ", off");
        }
    if (json) std::cout << all.dump(2) << "\n";
}

void shape(const ShapeWords& w, const Run& run) {
    ProjectEdit edit(w.project, "shape", run, !w.list);
    Project& project = edit.project;
    Shot& shot = chosen_shot(project, w.shot, w.project);
    if (w.list) return list_shapes(shot, w.json);
    if (w.camera.empty()) throw CLI::ValidationError("--camera", "say whose shape it is");
    ShotCamera& camera = camera_of(shot, w.camera);
    if (!w.on.empty()) shape_of(camera, w.on).on = true;
    if (!w.off.empty()) shape_of(camera, w.off).on = false;
    if (!w.remove.empty()) {
        shape_of(camera, w.remove);
        camera.shapes.erase_if([&](const Shape& s) { return s.name == w.remove; });
    }
    if (!w.copy.empty()) {
        const Shape copy = shape_of(camera, w.copy);
        for (auto& c : shot.cameras)
            if (c.camera != w.camera) c.shapes.push_back(copy);
    }
    if (!w.follow.empty()) {
        Shape& s = shape_of(camera, w.follow);
        const auto library = std::make_shared<MediaLibrary>(run.memory);
        const FollowedShape f = follow_shape(
            project, shot, camera, s,
            w.time.empty() ? s.keys.front().time : moment_in(w.time, "--time", project, shot, *library),
            used_span(project, shot, *library).out, library,
            [](double share) { show_progress(fmt::format("{:3.0f} %  following", 100 * share), share >= 1); },
            run.cancel);
        s.keys = f.keys;
        std::cout << fmt::format("followed from {:.2f} to {:.2f} s with {} keys{}\n",
                                 f.keys.front().time.to_double(), f.keys.back().time.to_double(),
                                 f.keys.size(), f.lost ? ", until it was lost" : "");
    }
    const Seconds moment = w.time.empty() ? shot.timing.in : seconds_in(w.time, "--time");
    const auto distance = distance_in(w.distance, project, shot, moment, run);
    if (distance && w.corners.empty()) {
        if (w.name.empty())
            throw CLI::ValidationError("--distance",
                                       "say whose it is with --name, or draw a shape with --corner");
        Shape& s = shape_of(camera, w.name);
        if (!s.distance)
            throw Error(std::string("is a ") + name_of(kind_of(s)), "shape '" + w.name + "'",
                        "Draw a shape of its own for the distance");
        s.distance = distance;
    }
    if (w.cut_out || w.restore || (distance && !w.corners.empty())) {
        const Lens& lens = find_camera(shot.rig, w.camera)->lens;
        ShapeKey key;
        key.time = moment;
        for (const auto& word : w.corners) {
            const auto xy = numbers(word, "--corner", 2);
            key.corners.push_back(
                {(Vec2(xy[0], xy[1]) - lens.circle.center_px) / lens.circle.radius_px, {0, 0}, {0, 0}});
        }
        if (key.corners.size() < kFewestCorners || key.corners.size() > kMostCorners)
            throw Error(fmt::format("has {} corner{}: a shape needs 3 to {}", key.corners.size(),
                                    key.corners.size() == 1 ? "" : "s", kMostCorners),
                        "the shape", "Give --corner X,Y once for each, in source pixels");
        auto same = std::find_if(camera.shapes.begin(), camera.shapes.end(),
                                 [&](const Shape& s) { return !w.name.empty() && s.name == w.name; });
        if (same != camera.shapes.end()) { // one key more of a shape there is
            if (same->keys.front().corners.size() != key.corners.size())
                throw Error("has " + std::to_string(same->keys.front().corners.size()) + " corners",
                            "shape '" + w.name + "'", "Give its keys as many, or the new shape another name");
            if (distance && !same->distance)
                throw Error(std::string("is a ") + name_of(kind_of(*same)), "shape '" + w.name + "'",
                            "Draw a shape of its own for the distance");
            std::erase_if(same->keys, [&](const ShapeKey& k) { return k.time == key.time; });
            same->keys.push_back(key);
            std::stable_sort(same->keys.begin(), same->keys.end(),
                             [](const ShapeKey& a, const ShapeKey& b) { return a.time < b.time; });
            if (distance) same->distance = distance;
        } else {
            Shape made;
            made.restores = w.restore;
            made.distance = distance;
            made.name = !w.name.empty()
                            ? w.name
                            : fmt::format("{} {}", name_of(kind_of(made)), camera.shapes.size() + 1);
            made.feather_deg = w.feather;
            made.keys = {key};
            camera.shapes.push_back(made);
        }
    }
    const CutHole hole = cut_hole(shot, moment);
    if (hole.square_deg > 0) {
        std::string who;
        for (const auto& id : hole.could_fill) who += (who.empty() ? "" : ", ") + id;
        std::cout << fmt::format("the cut-outs leave a hole of {:.0f} square degrees; {}\n", hole.square_deg,
                                 who.empty() ? "no other camera sees what is there"
                                             : "a wider reach of " + who + " would fill it");
    }
    edit.save();
}

struct ShelterWords {
    std::string project, shot, name, camera, from, to, time, follow, remove, on, off;
    std::string at, size, grow;
    DistanceWords distance;
    std::optional<double> ease, feather;
    bool list = false, json = false;
};

Shelter& shelter_of(Shot& shot, const std::string& name) {
    for (auto& s : shot.seams.shelters)
        if (s.name == name) return s;
    throw Error("is not a shelter of the shot", "'" + name + "'", "See porbit shelter PROJECT --list");
}

void list_shelters(const Shot& shot, bool json) {
    nlohmann::ordered_json all = nlohmann::ordered_json::array();
    for (const auto& s : shot.seams.shelters) {
        const ShelterCamera sight = shelter_camera(shot, s);
        const std::string camera = sight.camera.empty() ? "none" : sight.camera;
        all.push_back({{"name", s.name},
                       {"on", s.on},
                       {"camera", sight.camera},
                       {"seen", sight.seen},
                       {"distance", distance_text(s.distance)},
                       {"keys", s.keys.size()}});
        if (!json)
            std::cout << fmt::format(
                "{:<20} from camera {}, which sees {:.0f} % of it; drawn {}; {} keys{}\n", s.name, camera,
                100 * sight.seen, distance_text(s.distance), s.keys.size(), s.on ? "" : ", off");
    }
    if (json) std::cout << all.dump(2) << "\n";
}

void shelter(const ShelterWords& w, const Run& run) {
    ProjectEdit edit(w.project, "shelter", run, !w.list);
    Project& project = edit.project;
    Shot& shot = chosen_shot(project, w.shot, w.project);
    if (w.list) return list_shelters(shot, w.json);
    if (!w.on.empty()) shelter_of(shot, w.on).on = true;
    if (!w.off.empty()) shelter_of(shot, w.off).on = false;
    if (!w.remove.empty()) {
        shelter_of(shot, w.remove);
        shot.seams.shelters.erase_if([&](const Shelter& s) { return s.name == w.remove; });
    }
    const Seconds time = w.time.empty() ? shot.timing.in : seconds_in(w.time, "--time");
    std::string told = w.follow;
    if (!w.at.empty() || !w.grow.empty()) {
        const auto at = numbers(w.at.empty() ? w.grow : w.at, w.at.empty() ? "--grow" : "--at", 2);
        ShelterKey key;
        key.time = time;
        const char* option = w.at.empty() ? "--grow" : "--at";
        key.yaw_deg = must_hold(at[0], option, limits::kYaw_deg);
        key.pitch_deg = must_hold(at[1], option, limits::kPitch_deg);
        if (!w.grow.empty()) {
            key = subject_at(project, shot, time, forward_of({key.yaw_deg, key.pitch_deg, 0}),
                             std::make_shared<MediaLibrary>(run.memory));
            std::cout << fmt::format("grown to {:.0f} x {:.0f} deg at {:.1f},{:.1f}\n", key.width_deg,
                                     key.height_deg, key.yaw_deg, key.pitch_deg);
        }
        if (!w.size.empty()) {
            const auto size = numbers(w.size, "--size", 2);
            key.width_deg = must_hold(size[0], "--size", limits::kOvalWidth_deg);
            key.height_deg = must_hold(size[1], "--size", limits::kOvalHeight_deg);
        }
        const std::string name =
            w.name.empty() ? "shelter " + std::to_string(shot.seams.shelters.size() + 1) : w.name;
        const auto known = std::find_if(shot.seams.shelters.begin(), shot.seams.shelters.end(),
                                        [&](const Shelter& s) { return s.name == name; });
        Shelter& shelter = known == shot.seams.shelters.end() ? shot.seams.shelters.emplace_back() : *known;
        shelter.name = name;
        std::erase_if(shelter.keys, [&](const ShelterKey& k) { return k.time == time; });
        shelter.keys.push_back(key);
        std::stable_sort(shelter.keys.begin(), shelter.keys.end(),
                         [](const ShelterKey& a, const ShelterKey& b) { return a.time < b.time; });
        told = told.empty() ? name : told;
    } else if (!w.name.empty())
        told = w.name;
    if (!told.empty()) {
        Shelter& s = shelter_of(shot, told);
        if (!w.camera.empty() && w.camera != "auto" && !find_camera(shot.rig, w.camera))
            throw Error("is not a camera of the shot", "'" + w.camera + "'",
                        "Use an id of its rig, or 'auto'");
        if (!w.camera.empty()) s.camera = w.camera == "auto" ? std::string() : w.camera;
        if (!w.from.empty())
            s.from = w.from == "start" ? std::nullopt : std::optional(seconds_in(w.from, "--from"));
        if (!w.to.empty()) s.to = w.to == "end" ? std::nullopt : std::optional(seconds_in(w.to, "--to"));
        if (s.from && s.to && *s.to < *s.from)
            throw Error("lies before --from", "--to", "Let the shelter end after it begins");
        if (w.ease) s.ease_s = *w.ease;
        if (w.feather) s.feather_deg = *w.feather;
        if (const auto distance = distance_in(w.distance, project, shot, time, run)) s.distance = *distance;
        if (!w.follow.empty()) {
            const auto library = std::make_shared<MediaLibrary>(run.memory);
            const Followed f = follow_shelter(
                project, shot, s, w.time.empty() ? s.keys.front().time : time,
                used_span(project, shot, *library).out, library,
                [](double share) {
                    show_progress(fmt::format("{:3.0f} %  following", 100 * share), share >= 1);
                },
                run.cancel);
            s.keys = f.keys;
            s.from = f.from, s.to = f.to;
            std::cout << fmt::format("followed from {:.2f} to {:.2f} s with {} keys{}\n",
                                     f.keys.front().time.to_double(), f.keys.back().time.to_double(),
                                     f.keys.size(), f.lost ? ", until it was lost" : "");
        }
        const ShelterCamera sight = shelter_camera(shot, s);
        if (sight.camera.empty())
            std::cout << "no camera looks there: put it where one does\n";
        else
            std::cout << fmt::format("'{}' comes from camera {}, which sees {:.0f} % of it{}\n", s.name,
                                     sight.camera, 100 * sight.seen,
                                     sight.seen < 1 ? "; the rest stays as it was" : "");
    }
    edit.save();
}

} // namespace

void add_seam_verbs(CLI::App& app, const Run& run) {
    {
        auto w = std::make_shared<ShapeWords>();
        CLI::App* verb = app.add_subcommand(
            "shape", "Cut parts out of a camera's picture, bring them back, or say how far away they are");
        verb->add_option("PROJECT", w->project, "The project")->required();
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->add_option("--camera", w->camera, "Whose shape it is");
        verb->add_flag("--cut-out", w->cut_out, "Make one that removes what is inside");
        verb->add_flag("--restore", w->restore, "Make one that brings it back, as far as the lens sees")
            ->excludes("--cut-out");
        add_distance_options(*verb, w->distance);
        verb->get_option("--distance")->excludes("--cut-out")->excludes("--restore");
        verb->add_option("--corner", w->corners,
                         "X,Y in source pixels: once for each corner, in order round it");
        verb->add_option("--name", w->name,
                         "Its name; with --time, a key more of the shape that has it already");
        verb->add_option("--time", w->time,
                         "Seconds at which its corners are there (the shot's in unless set)");
        verb->add_option("--feather", w->feather, "Degrees over which its edge ends")
            ->check(within(limits::kFeather_deg));
        verb->add_option("--on", w->on, "NAME: use it");
        verb->add_option("--off", w->off, "NAME: leave it out, but keep it");
        verb->add_option("--copy", w->copy, "NAME: the same shape on every other camera");
        verb->add_option("--follow", w->follow,
                         "NAME: find where what lies in it goes, from --time, and set keys");
        verb->add_option("--remove", w->remove, "NAME: remove it");
        verb->add_flag("--list", w->list, "Say what shapes there are, and change nothing");
        verb->add_flag("--json", w->json, "With --list: as JSON");
        verb->callback([w, run] { shape(*w, run); });
    }
    {
        auto w = std::make_shared<ShelterWords>();
        CLI::App* verb =
            app.add_subcommand("shelter", "Keep what crosses a seam whole: it comes from one camera");
        verb->add_option("PROJECT", w->project, "The project")->required();
        verb->add_option("--shot", w->shot, "Name or id of the shot (the first unless set)");
        verb->add_option("--at", w->at,
                         "YAW,PITCH of its middle in degrees, in the rig's own directions: a new shelter, or "
                         "a key of one");
        verb->add_option("--grow", w->grow,
                         "YAW,PITCH of a place on a subject: a new shelter as large as that is")
            ->excludes("--at");
        verb->add_option("--size", w->size, "WIDTH,HEIGHT in degrees (20,40 unless set)");
        verb->add_option("--time", w->time, "Seconds of the key, or from where to follow");
        verb->add_option("--name", w->name, "Its name");
        add_distance_options(*verb, w->distance);
        verb->add_option("--camera", w->camera,
                         "Where it comes from, or 'auto': the camera that sees it best");
        verb->add_option("--from", w->from, "Seconds at which it begins, or 'start'");
        verb->add_option("--to", w->to, "Seconds at which it ends, or 'end'");
        verb->add_option("--ease", w->ease, "Seconds in which the seam passes round it")
            ->check(within(limits::kEase_s));
        verb->add_option("--feather", w->feather, "Degrees over which its edge ends")
            ->check(within(limits::kShelterFeather_deg));
        verb->add_option("--follow", w->follow, "NAME: find where what is in it goes, and set keys");
        verb->add_option("--on", w->on, "NAME: use it");
        verb->add_option("--off", w->off, "NAME: leave it out, but keep it");
        verb->add_option("--remove", w->remove, "NAME: remove it");
        verb->add_flag("--list", w->list, "Say what shelters there are, and change nothing");
        verb->add_flag("--json", w->json, "With --list: as JSON");
        verb->callback([w, run] { shelter(*w, run); });
    }
}

} // namespace porb::cli
