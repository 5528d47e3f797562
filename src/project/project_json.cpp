#include "project/project.h"

#include "base/error.h"
#include "base/file.h"
#include "base/json.h"
#include "media/sequence.h"
#include "optics/rig_json.h"
#include "project/calibrating_json.h"
#include "project/colour_json.h"
#include "project/grade_json.h"
#include "project/json_parts.h"
#include "project/lines_json.h"
#include "project/origins.h"
#include "project/seams_json.h"

#include <nlohmann/json.hpp>

#include <set>

namespace porb {

namespace {

namespace fs = std::filesystem;
constexpr double kMostDriftPpm = 1e4;

constexpr Word<MediaKind> kKinds[] = {
    {MediaKind::video, "video"}, {MediaKind::still, "still"}, {MediaKind::sequence, "sequence"}};
constexpr Word<Container> kContainers[] = {{Container::mp4, "mp4"},
                                           {Container::mov, "mov"},
                                           {Container::png_sequence, "png-sequence"},
                                           {Container::exr_sequence, "exr-sequence"}};
constexpr Word<VideoCodec> kCodecs[] = {
    {VideoCodec::h264, "h264"}, {VideoCodec::h265, "h265"}, {VideoCodec::prores, "prores"}};
constexpr Word<SphereMapping> kMappings[] = {{SphereMapping::equirect, "equirectangular"},
                                             {SphereMapping::half_equirect, "half-equirectangular"}};
constexpr Word<StereoLayout> kStereo[] = {{StereoLayout::mono, "mono"},
                                          {StereoLayout::top_bottom, "top-bottom"},
                                          {StereoLayout::left_right, "left-right"}};

void put_extra(Json& j, const std::string& extra_json) {
    if (extra_json.empty()) return;
    const Json extra = Json::parse(extra_json);
    for (const auto& [key, value] : extra.items())
        if (!j.contains(key)) j[key] = value;
}
std::string extra_of(const JsonPlace& place, std::initializer_list<std::string_view> known) {
    const Json extra = unknown_members(place.json(), known);
    return extra.empty() ? std::string() : extra.dump();
}

FrameRate rate_from(const JsonPlace& place) {
    const FrameRate rate = place.seconds(0.01, 1000);
    if (rate <= Rational(0))
        place.refuse("must be above 0", "Write frames a second, such as 30 or \"30000/1001\"");
    return rate;
}

template <class T>
void ids_must_differ(const JsonPlace& place, const std::vector<T>& items) {
    std::set<std::string> seen;
    for (std::size_t i = 0; i < items.size(); ++i)
        if (items[i].id.empty() || !seen.insert(items[i].id).second)
            place.at(i).at("id").refuse(items[i].id.empty() ? "is empty"
                                                            : "'" + items[i].id + "' is used twice",
                                        "Give it an id of its own");
}

Json media_json(const Media& m, const fs::path& folder) {
    Json j = {{"id", m.id},
              {"path", relative_or_absolute(m.ref.path, folder)},
              {"kind", text_of(kKinds, m.ref.kind)}};
    if (m.ref.kind == MediaKind::sequence) j["rate"] = m.ref.sequence_rate.to_string();
    if (m.ref.curve.starts_with(kCurveFile))
        j["curve"] = kCurveFile + relative_or_absolute(m.ref.curve.substr(kCurveFile.size()), folder);
    else if (!m.ref.curve.empty())
        j["curve"] = m.ref.curve;
    put_extra(j, m.extra_json);
    return j;
}
Media media_from(const JsonPlace& place) {
    Media m;
    place.must_be_object();
    m.id = place.at("id").text(256);
    m.ref.path = place.at("path").text();
    if (m.ref.path.empty()) place.at("path").refuse("is empty", "Name the file");
    m.ref.kind = value_of(kKinds, place.at("kind"));
    if (place.has("rate")) m.ref.sequence_rate = rate_from(place.at("rate"));
    if (place.has("curve")) m.ref.curve = place.at("curve").text(4096);
    if (m.ref.kind == MediaKind::sequence) {
        try {
            check_pattern(m.ref.path);
        } catch (const Error& e) {
            place.at("path").refuse(e.what_failed(), e.mend());
        }
    }
    m.extra_json = extra_of(place, {"id", "path", "kind", "rate", "curve"});
    return m;
}

Json camera_json(const ShotCamera& c) {
    Json j = {{"camera", c.camera},
              {"media", c.media},
              {"offset_s", seconds_json(c.offset)},
              {"reach_deg", c.reach_deg},
              {"feather_deg", c.feather_deg},
              {"used", c.used}};
    if (c.drift_ppm != 0) j["drift_ppm"] = c.drift_ppm;
    if (c.lens_locked) j["lens_locked"] = true;
    if (c.pose_locked) j["pose_locked"] = true;
    for (int v = 0; v < kCameraValues; ++v)
        if (const Origin& o = origin_of(c, CameraValue(v)); !(o == Origin{}))
            j["origins"][name_of(CameraValue(v))] = {{"kind", name_of(o.kind)}, {"detail", o.detail}};
    if (!(c.colour == CameraColour{})) j["colour"] = colour_json(c.colour);
    for (const auto& shape : c.shapes) j["shapes"].push_back(shape_json(shape));
    put_extra(j, c.extra_json);
    return j;
}
ShotCamera camera_from(const JsonPlace& place) {
    ShotCamera c;
    place.must_be_object();
    c.camera = place.at("camera").text(64);
    c.media = place.at("media").text(256);
    if (place.has("offset_s")) c.offset = place.at("offset_s").seconds(-kMostSeconds, kMostSeconds);
    if (place.has("reach_deg")) c.reach_deg = place.at("reach_deg").number(0, 180);
    if (place.has("feather_deg")) c.feather_deg = place.at("feather_deg").number(0, 90);
    if (place.has("used")) c.used = place.at("used").boolean();
    if (place.has("drift_ppm")) c.drift_ppm = place.at("drift_ppm").number(-kMostDriftPpm, kMostDriftPpm);
    if (place.has("lens_locked")) c.lens_locked = place.at("lens_locked").boolean();
    if (place.has("pose_locked")) c.pose_locked = place.at("pose_locked").boolean();
    if (place.has("origins")) {
        const auto origins = place.at("origins");
        origins.must_be_object();
        for (int v = 0; v < kCameraValues; ++v) {
            if (!origins.has(name_of(CameraValue(v)))) continue;
            const auto one = origins.at(name_of(CameraValue(v)));
            one.must_be_object();
            const auto kind = origin_named(one.at("kind").text(64));
            if (!kind)
                one.at("kind").refuse("'" + one.at("kind").text(64) + "' is not an origin",
                                      "Use assumed, profile, file, found, solve or hand");
            origin_of(c, CameraValue(v)) = {*kind, one.at("detail").text(1024)};
        }
    }
    if (place.has("colour")) c.colour = colour_from(place.at("colour"));
    if (place.has("shapes")) c.shapes = list_from(place.at("shapes"), shape_from);
    c.extra_json =
        extra_of(place, {"camera", "media", "offset_s", "reach_deg", "feather_deg", "used", "drift_ppm",
                         "lens_locked", "pose_locked", "origins", "colour", "shapes"});
    return c;
}

Json marker_json(const Marker& m) {
    return {{"time_s", seconds_json(m.time)}, {"name", m.name}, {"note", m.note}};
}
Marker marker_from(const JsonPlace& place) {
    Marker m;
    place.must_be_object();
    m.time = place.at("time_s").seconds(-kMostSeconds, kMostSeconds);
    if (place.has("name")) m.name = place.at("name").text(256);
    if (place.has("note")) m.note = place.at("note").text(4096);
    return m;
}

Json motion_json(const MotionSource& m, const fs::path& folder) {
    return {{"path", relative_or_absolute(m.path, folder)},
            {"offset_s", seconds_json(m.offset)},
            {"camera", m.camera}};
}
MotionSource motion_from(const JsonPlace& place) {
    MotionSource m;
    place.must_be_object();
    m.path = place.at("path").text();
    if (m.path.empty()) place.at("path").refuse("is empty", "Name the motion record's file");
    if (place.has("offset_s")) m.offset = place.at("offset_s").seconds(-kMostSeconds, kMostSeconds);
    if (place.has("camera")) m.camera = place.at("camera").text(64);
    return m;
}

Json shot_json(const Shot& s, const fs::path& folder) {
    Json j = {{"id", s.id},
              {"name", s.name},
              {"rig", rig_to_json(s.rig)},
              {"cameras", Json::array()},
              {"rate", s.rate.to_string()},
              {"in_s", seconds_json(s.in)},
              {"orientation", turn_to_json(s.orientation)},
              {"agree_distance_m", s.agree_distance_m},
              {"sound", s.sound}};
    for (const auto& c : s.cameras) j["cameras"].push_back(camera_json(c));
    if (s.out) j["out_s"] = seconds_json(*s.out);
    for (const auto& m : s.markers) j["markers"].push_back(marker_json(m));
    if (s.profile) j["profile"] = rig_to_json(*s.profile);
    if (s.motion) j["motion"] = motion_json(*s.motion, folder);
    put_calibrating(j, s);
    if (!(s.match == MatchSettings{})) j["match"] = match_json(s.match);
    if (!(s.flow == FlowSettings{})) j["flow"] = flow_json(s.flow);
    if (!(s.blend == BlendSettings{})) j["blend"] = blend_json(s.blend);
    for (const auto& shelter : s.shelters) j["shelters"].push_back(shelter_json(shelter));
    if (!(*s.seam_lines == SeamLines{})) j["seam_lines"] = seam_lines_json(*s.seam_lines);
    if (s.crossings) j["crossings"] = crossings_json(**s.crossings);
    if (!(s.grade == Grade{})) {
        j["grade"] = grade_json(s.grade);
        if (!s.grade.lut.empty()) j["grade"]["lut"] = relative_or_absolute(s.grade.lut, folder);
    }
    if (!(s.denoise == Denoise{})) j["denoise"] = denoise_json(s.denoise);
    put_extra(j, s.extra_json);
    return j;
}
Shot shot_from(const JsonPlace& place) {
    Shot s;
    place.must_be_object();
    s.id = place.at("id").text(256);
    if (place.has("name")) s.name = place.at("name").text(256);
    s.rig = rig_from_json(place.at("rig"));
    const auto cameras = place.at("cameras");
    s.cameras = list_from(cameras, camera_from);
    for (std::size_t i = 0; i < s.cameras.size(); ++i)
        if (!find_camera(s.rig, s.cameras[i].camera))
            cameras.at(i).at("camera").refuse("'" + s.cameras[i].camera + "' is not a camera of the rig",
                                              "Use an id from rig/cameras");
    match_cameras_to_rig(s);
    s.rate = rate_from(place.at("rate"));
    if (place.has("in_s")) s.in = place.at("in_s").seconds(-kMostSeconds, kMostSeconds);
    if (place.has("out_s")) {
        s.out = place.at("out_s").seconds(-kMostSeconds, kMostSeconds);
        if (*s.out <= s.in)
            place.at("out_s").refuse("is not after in_s", "Set out_s later than in_s, or remove it");
    }
    if (place.has("orientation")) s.orientation = turn_from_json(place.at("orientation"));
    if (place.has("agree_distance_m")) s.agree_distance_m = place.at("agree_distance_m").number(0, 1e6);
    if (place.has("sound")) s.sound = place.at("sound").text(256);
    if (place.has("markers")) {
        s.markers = list_from(place.at("markers"), marker_from);
        std::stable_sort(s.markers.begin(), s.markers.end(),
                         [](const Marker& a, const Marker& b) { return a.time < b.time; });
    }
    if (place.has("profile")) s.profile = rig_from_json(place.at("profile"));
    if (place.has("motion")) s.motion = motion_from(place.at("motion"));
    read_calibrating(place, s);
    if (place.has("match")) s.match = match_from(place.at("match"));
    if (place.has("flow")) s.flow = flow_from(place.at("flow"));
    if (place.has("blend")) s.blend = blend_from(place.at("blend"));
    if (place.has("shelters")) {
        const auto shelters = place.at("shelters");
        s.shelters = list_from(shelters, shelter_from);
        for (std::size_t i = 0; i < s.shelters.size(); ++i)
            if (!s.shelters[i].camera.empty() && !find_camera(s.rig, s.shelters[i].camera))
                shelters.at(i).at("camera").refuse("'" + s.shelters[i].camera +
                                                       "' is not a camera of the rig",
                                                   "Use an id from rig/cameras, or leave it empty");
    }
    if (place.has("seam_lines")) s.seam_lines = seam_lines_from(place.at("seam_lines"), s.cameras.size());
    if (place.has("crossings")) s.crossings = Shared(crossings_from(place.at("crossings")));
    if (place.has("grade")) s.grade = grade_from(place.at("grade"));
    if (place.has("denoise")) s.denoise = denoise_from(place.at("denoise"));
    s.extra_json = extra_of(place, {"orientation_keys",
                                    "steady",
                                    "points",
                                    "lines",
                                    "regions",
                                    "solving",
                                    "solves",
                                    "id",
                                    "name",
                                    "rig",
                                    "cameras",
                                    "rate",
                                    "in_s",
                                    "out_s",
                                    "orientation",
                                    "agree_distance_m",
                                    "sound",
                                    "markers",
                                    "profile",
                                    "motion",
                                    "match",
                                    "flow",
                                    "blend",
                                    "shelters",
                                    "seam_lines",
                                    "crossings",
                                    "grade",
                                    "denoise"});
    return s;
}

Json deliverable_json(const Deliverable& d, const fs::path& folder) {
    Json j = {{"id", d.id},
              {"name", d.name},
              {"shot", d.shot},
              {"container", text_of(kContainers, d.container)},
              {"codec", text_of(kCodecs, d.codec)},
              {"depth", d.depth},
              {"width", d.width},
              {"mapping", text_of(kMappings, d.mapping)},
              {"stereo", text_of(kStereo, d.stereo)},
              {"crf", d.crf},
              {"bit_rate", d.bit_rate},
              {"sound", d.sound},
              {"path", d.path.empty() ? std::string() : relative_or_absolute(d.path, folder)}};
    put_extra(j, d.extra_json);
    return j;
}
Deliverable deliverable_from(const JsonPlace& place) {
    Deliverable d;
    place.must_be_object();
    d.id = place.at("id").text(256);
    d.name = place.at("name").text(256);
    d.shot = place.at("shot").text(256);
    d.container = value_of(kContainers, place.at("container"));
    d.codec = value_of(kCodecs, place.at("codec"));
    d.depth = place.at("depth").whole(8, 10);
    if (d.depth == 9) place.at("depth").refuse("is 9", "Use 8 or 10");
    d.width = place.at("width").whole(64, 16384);
    if (d.width % 4) place.at("width").refuse("is " + std::to_string(d.width), "Use a multiple of 4");
    d.mapping = value_of(kMappings, place.at("mapping"));
    d.stereo = value_of(kStereo, place.at("stereo"));
    d.crf = place.at("crf").number(0, 51);
    d.bit_rate = static_cast<std::int64_t>(place.at("bit_rate").number(0, 2e9));
    d.sound = place.at("sound").boolean();
    d.path = place.at("path").text();
    d.extra_json = extra_of(place, {"id", "name", "shot", "container", "codec", "depth", "width", "mapping",
                                    "stereo", "crf", "bit_rate", "sound", "path"});
    return d;
}

fs::path folder_of(const fs::path& file) {
    return fs::absolute(file).parent_path();
}

fs::path absolute_in(const fs::path& folder, const fs::path& path) {
    return path.is_absolute() || path.empty() ? path : (folder / path).lexically_normal();
}

} // namespace

Project parse_project(std::string_view json_text, const fs::path& file) {
    const Json document = parse_json(json_text, file.string());
    const JsonPlace place(document, file.string());
    place.must_be_object();
    const auto format = place.at("format");
    if (format.text(64) != "pale-orbit/project")
        format.refuse("'" + format.text(64) + "' is not a project",
                      "A project says \"format\": \"pale-orbit/project\"");
    const int version = place.at("version").whole(1, 1000000);
    if (version != 1)
        place.at("version").refuse("is " + std::to_string(version),
                                   "This version of Pale Orbit reads version 1; update it");
    Project p;
    if (place.has("name")) p.name = place.at("name").text(256);
    p.media = list_from(place.at("media"), media_from);
    ids_must_differ(place.at("media"), p.media);
    p.shots = list_from(place.at("shots"), shot_from);
    ids_must_differ(place.at("shots"), p.shots);
    if (place.has("deliverables")) {
        p.deliverables = list_from(place.at("deliverables"), deliverable_from);
        ids_must_differ(place.at("deliverables"), p.deliverables);
    }
    for (std::size_t s = 0; s < p.shots.size(); ++s)
        for (std::size_t c = 0; c < p.shots[s].cameras.size(); ++c)
            if (const auto& id = p.shots[s].cameras[c].media; !id.empty() && !find_media(p, id))
                place.at("shots").at(s).at("cameras").refuse(
                    "names media '" + id + "', which the project has not", "Add it under media");
    for (std::size_t d = 0; d < p.deliverables.size(); ++d)
        if (!find_shot(p, p.deliverables[d].shot))
            place.at("deliverables")
                .at(d)
                .at("shot")
                .refuse("'" + p.deliverables[d].shot + "' is not a shot", "Use the id of a shot");
    const fs::path folder = folder_of(file);
    for (auto& m : p.media) {
        m.ref.path = absolute_in(folder, m.ref.path);
        if (m.ref.curve.starts_with(kCurveFile))
            m.ref.curve = kCurveFile + absolute_in(folder, m.ref.curve.substr(kCurveFile.size())).string();
    }
    for (auto& s : p.shots) {
        if (s.motion) s.motion->path = absolute_in(folder, s.motion->path);
        s.grade.lut = absolute_in(folder, s.grade.lut);
    }
    for (auto& d : p.deliverables) d.path = absolute_in(folder, d.path);
    p.extra_json = extra_of(place, {"format", "version", "name", "media", "shots", "deliverables"});
    return p;
}

std::string project_to_text(const Project& p, const fs::path& file) {
    const fs::path folder = folder_of(file);
    Json j = {{"format", "pale-orbit/project"}, {"version", 1},           {"name", p.name},
              {"media", Json::array()},         {"shots", Json::array()}, {"deliverables", Json::array()}};
    for (const auto& m : p.media) j["media"].push_back(media_json(m, folder));
    for (const auto& s : p.shots) j["shots"].push_back(shot_json(s, folder));
    for (const auto& d : p.deliverables) j["deliverables"].push_back(deliverable_json(d, folder));
    put_extra(j, p.extra_json);
    return dump_json(j);
}

Project load_project(const fs::path& file) {
    return parse_project(read_text_file(file), file);
}

void save_project(const Project& project, const fs::path& file) {
    write_file_atomically(file, project_to_text(project, file));
}

} // namespace porb
