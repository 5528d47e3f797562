#include "optics/rig_json.h"

#include "base/error.h"
#include "base/file.h"

#include <nlohmann/json.hpp>

#include <span>

namespace porb {

namespace {

constexpr double kMostPx = 1e6, kMostMetres = 1e4, kMostDegrees = 1e5;

Json pair_json(const Vec2& v) {
    return Json::array({v.x(), v.y()});
}

Vec2 pair_from(const JsonPlace& place) {
    if (place.size() != 2) place.refuse("must hold two numbers", "Write [x, y]");
    return {place.at(std::size_t(0)).number(-kMostPx, kMostPx),
            place.at(std::size_t(1)).number(-kMostPx, kMostPx)};
}

/// The members that only uneven lenses have, in the file's words.
template <class F>
void for_uneven_lists(Uneven& u, const F& f) {
    f("denominator", std::span<double>(u.denominator));
    f("tangential", std::span<double>(u.tangential));
    f("prism", std::span<double>(u.prism));
}

Json lens_to_json(const Lens& lens) {
    Json j = {
        {"projection", name_of(lens.projection)},
        {"width", lens.width},
        {"height", lens.height},
        {"focal_px", lens.focal_px},
        {"center_px", pair_json(lens.center_px)},
        {"radial", lens.radial},
        {"circle", {{"center_px", pair_json(lens.circle.center_px)}, {"radius_px", lens.circle.radius_px}}}};
    if (lens.uneven.aspect != 1) j["aspect"] = lens.uneven.aspect;
    if (lens.uneven.skew != 0) j["skew"] = lens.uneven.skew;
    Uneven u = lens.uneven;
    for_uneven_lists(u, [&](const char* name, std::span<double> terms) {
        if (std::any_of(terms.begin(), terms.end(), [](double v) { return v != 0; }))
            j[name] = std::vector<double>(terms.begin(), terms.end());
    });
    if (lens.pixel_pitch_um > 0) j["pixel_pitch_um"] = lens.pixel_pitch_um;
    return j;
}

Lens lens_from_json(const JsonPlace& place) {
    Lens lens;
    const auto projection = place.at("projection");
    const auto known = projection_named(projection.text(64));
    if (!known)
        projection.refuse("'" + projection.text(64) + "' is not a projection",
                          "Use equidistant, equisolid, stereographic, orthographic or rectilinear");
    lens.projection = *known;
    lens.width = place.at("width").whole(1, 65536);
    lens.height = place.at("height").whole(1, 65536);
    lens.focal_px = place.at("focal_px").number(1e-3, kMostPx);
    lens.center_px = pair_from(place.at("center_px"));
    if (place.has("radial")) {
        const auto radial = place.at("radial");
        if (radial.size() != 4) radial.refuse("must hold four numbers", "Write [k1, k2, k3, k4]");
        for (std::size_t i = 0; i < 4; ++i) lens.radial[i] = radial.at(i).number(-100, 100);
    }
    if (place.has("aspect")) lens.uneven.aspect = place.at("aspect").number(0.2, 5);
    if (place.has("skew")) lens.uneven.skew = place.at("skew").number(-1, 1);
    for_uneven_lists(lens.uneven, [&](const char* name, std::span<double> terms) {
        if (!place.has(name)) return;
        const auto list = place.at(name);
        if (list.size() != terms.size())
            list.refuse("must hold " + std::to_string(terms.size()) + " numbers", "Write them in a list");
        for (std::size_t i = 0; i < terms.size(); ++i) terms[i] = list.at(i).number(-1000, 1000);
    });
    if (place.has("pixel_pitch_um")) lens.pixel_pitch_um = place.at("pixel_pitch_um").number(0, 1000);
    const auto circle = place.at("circle");
    lens.circle.center_px = pair_from(circle.at("center_px"));
    lens.circle.radius_px = circle.at("radius_px").number(1, kMostPx);
    if (const auto fault = fault_in(lens)) {
        JsonPlace at = place;
        std::string_view rest = fault->member;
        for (auto slash = rest.find('/'); slash != rest.npos; slash = rest.find('/')) {
            at = at.at(rest.substr(0, slash));
            rest.remove_prefix(slash + 1);
        }
        if (at.has(rest)) at = at.at(rest);
        at.refuse(fault->what, fault->mend);
    }
    return lens;
}

const char* eyes_name(Eyes eyes) {
    return eyes == Eyes::left ? "left" : eyes == Eyes::right ? "right" : "both";
}

Json camera_to_json(const Camera& camera) {
    Json j = camera.extra_json.empty() ? Json::object() : Json::parse(camera.extra_json);
    Json pose = turn_to_json(camera.pose.turn);
    const Vec3& p = camera.pose.position_m;
    pose["position_m"] = Json::array({p.x(), p.y(), p.z()});
    const auto keep = [](Json known, const Json& extra) {
        if (extra.is_object())
            for (const auto& [key, value] : extra.items())
                if (!known.contains(key)) known[key] = value;
        return known;
    };
    j["id"] = camera.id;
    j["lens"] = keep(lens_to_json(camera.lens), j.value("lens", Json()));
    j["pose"] = keep(pose, j.value("pose", Json()));
    if (camera.eyes != Eyes::both) j["eye"] = eyes_name(camera.eyes);
    return j;
}

Camera camera_from_json(const JsonPlace& place) {
    Camera camera;
    place.must_be_object();
    camera.id = place.at("id").text(64);
    if (camera.id.empty()) place.at("id").refuse("is empty", "Give every camera a short name");
    camera.lens = lens_from_json(place.at("lens"));
    const auto pose = place.at("pose");
    camera.pose.turn = turn_from_json(pose);
    if (pose.has("position_m")) {
        const auto position = pose.at("position_m");
        if (position.size() != 3) position.refuse("must hold three numbers", "Write [x, y, z] in metres");
        for (std::size_t i = 0; i < 3; ++i)
            camera.pose.position_m[Eigen::Index(i)] = position.at(i).number(-kMostMetres, kMostMetres);
    }
    if (place.has("eye")) {
        const auto eye = place.at("eye");
        const auto name = eye.text(16);
        if (name == "left")
            camera.eyes = Eyes::left;
        else if (name == "right")
            camera.eyes = Eyes::right;
        else if (name != "both")
            eye.refuse("'" + name + "' is not an eye", "Use left, right or both");
    }
    // Unknown members are kept at three levels: the camera, its lens and its pose.
    Json extra = unknown_members(place.json(), {"id", "lens", "pose", "eye"});
    const Json lens_extra =
        unknown_members(place.at("lens").json(),
                        {"projection", "width", "height", "focal_px", "center_px", "radial", "circle",
                         "aspect", "skew", "denominator", "tangential", "prism", "pixel_pitch_um"});
    const Json pose_extra = unknown_members(pose.json(), {"yaw_deg", "pitch_deg", "roll_deg", "position_m"});
    if (!lens_extra.empty()) extra["lens"] = lens_extra;
    if (!pose_extra.empty()) extra["pose"] = pose_extra;
    if (!extra.empty()) camera.extra_json = extra.dump();
    return camera;
}

} // namespace

Json turn_to_json(const Turn& turn) {
    return {{"yaw_deg", turn.yaw_deg}, {"pitch_deg", turn.pitch_deg}, {"roll_deg", turn.roll_deg}};
}

Turn turn_from_json(const JsonPlace& place) {
    Turn turn;
    turn.yaw_deg = place.at("yaw_deg").number(-kMostDegrees, kMostDegrees);
    turn.pitch_deg = place.at("pitch_deg").number(-kMostDegrees, kMostDegrees);
    turn.roll_deg = place.at("roll_deg").number(-kMostDegrees, kMostDegrees);
    return turn;
}

Json rig_to_json(const Rig& rig) {
    Json j = rig.extra_json.empty() ? Json::object() : Json::parse(rig.extra_json);
    j["format"] = "pale-orbit/rig";
    j["version"] = 1;
    j["name"] = rig.name;
    j["cameras"] = Json::array();
    for (const auto& camera : rig.cameras) j["cameras"].push_back(camera_to_json(camera));
    return j;
}

Rig rig_from_json(const JsonPlace& place) {
    place.must_be_object();
    const auto format = place.at("format");
    if (format.text(64) != "pale-orbit/rig")
        format.refuse("'" + format.text(64) + "' is not a rig",
                      "A rig file says \"format\": \"pale-orbit/rig\"");
    const auto version = place.at("version");
    if (version.whole(1, 1000000) != 1)
        version.refuse("is " + std::to_string(version.whole(1, 1000000)),
                       "This version reads rig files of version 1");
    Rig rig;
    if (place.has("name")) rig.name = place.at("name").text(256);
    const auto cameras = place.at("cameras");
    if (cameras.size() == 0) cameras.refuse("is empty", "A rig has at least one camera");
    if (cameras.size() > kMostCameras)
        cameras.refuse("holds " + std::to_string(cameras.size()) + " cameras",
                       "A rig has at most " + std::to_string(kMostCameras));
    for (std::size_t i = 0; i < cameras.size(); ++i) {
        Camera camera = camera_from_json(cameras.at(i));
        if (find_camera(rig, camera.id))
            cameras.at(i).at("id").refuse("'" + camera.id + "' is used twice",
                                          "Give every camera its own id");
        rig.cameras.push_back(std::move(camera));
    }
    const Json extra = unknown_members(place.json(), {"format", "version", "name", "cameras"});
    if (!extra.empty()) rig.extra_json = extra.dump();
    return rig;
}

Rig parse_rig(std::string_view json_text, const std::string& where) {
    const Json document = parse_json(json_text, where);
    return rig_from_json(JsonPlace(document, where));
}

std::string rig_to_text(const Rig& rig) {
    return dump_json(rig_to_json(rig));
}

Rig load_rig(const std::filesystem::path& path) {
    return parse_rig(read_text_file(path), path.string());
}

void save_rig(const Rig& rig, const std::filesystem::path& path) {
    write_file_atomically(path, rig_to_text(rig));
}

} // namespace porb
