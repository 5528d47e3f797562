#include "project/seams_json.h"

namespace porb {

namespace {
constexpr Word<Blending> kBlendings[] = {
    {Blending::feathered, "feathered"}, {Blending::hard, "hard"}, {Blending::multiband, "multiband"}};
constexpr double kMostRadii = 3; ///< a shape may pass a lens's rim, but not by miles

/// Keys must be in order; `one` reads what else a key holds.
template <class Key, class One>
std::vector<Key> keys_from(const JsonPlace& list, One one) {
    if (list.size() == 0) list.refuse("is empty", "Give it one key at least");
    if (list.size() > kMostEntries) list.refuse("holds too many keys", "Keep fewer");
    std::vector<Key> keys;
    for (std::size_t i = 0; i < list.size(); ++i) {
        Key key;
        key.time = list.at(i).at("time_s").seconds(-kMostSeconds, kMostSeconds);
        if (!keys.empty() && key.time <= keys.back().time)
            list.at(i).at("time_s").refuse("is not later than the one before", "Put keys in order of time");
        one(list.at(i), key);
        keys.push_back(std::move(key));
    }
    return keys;
}
} // namespace

namespace {
template <class Flow>
void add_flow_values(Json& j, const Flow& f) {
    j["strength"] = f.strength;
    j["zone_deg"] = f.zone_deg;
    j["smoothness"] = f.smoothness;
    for (const FlowKey& k : f.keys)
        j["keys"].push_back({{"time_s", seconds_json(k.time)},
                             {"strength", k.strength},
                             {"zone_deg", k.zone_deg},
                             {"smoothness", k.smoothness}});
}
template <class Values>
void read_flow_values(const JsonPlace& place, Values& v) {
    if (place.has("strength")) v.strength = place.at("strength").number(0, 1);
    if (place.has("zone_deg")) v.zone_deg = place.at("zone_deg").number(1, 90);
    if (place.has("smoothness")) v.smoothness = place.at("smoothness").number(0.1, 10);
}
/// Where a key leaves something out, it is what it is without keys.
template <class Flow>
void read_flow_values_and_keys(const JsonPlace& place, Flow& f) {
    read_flow_values(place, f);
    if (!place.has("keys")) return;
    f.keys = keys_from<FlowKey>(place.at("keys"), [&f](const JsonPlace& key, FlowKey& out) {
        out.strength = f.strength, out.zone_deg = f.zone_deg, out.smoothness = f.smoothness;
        read_flow_values(key, out);
    });
}

Json seam_flow_json(const SeamFlow& s) {
    Json j = {{"a", s.a}, {"b", s.b}};
    add_flow_values(j, s);
    if (s.agree_distance_m) j["agree_distance_m"] = *s.agree_distance_m;
    return j;
}
SeamFlow seam_flow_from(const JsonPlace& place) {
    SeamFlow s;
    place.must_be_object();
    s.a = place.at("a").text(64);
    s.b = place.at("b").text(64);
    if (s.a == s.b) place.at("b").refuse("is the same camera as a", "Name the two cameras that meet");
    read_flow_values_and_keys(place, s);
    if (place.has("agree_distance_m")) s.agree_distance_m = place.at("agree_distance_m").number(0, 1e6);
    return s;
}
} // namespace

Json flow_json(const FlowSettings& f) {
    Json j = {{"on", f.on}, {"nearest_m", f.nearest_m}};
    add_flow_values(j, f);
    for (const auto& s : f.seams) j["seams"].push_back(seam_flow_json(s));
    return j;
}
FlowSettings flow_from(const JsonPlace& place) {
    FlowSettings f;
    place.must_be_object();
    if (place.has("on")) f.on = place.at("on").boolean();
    read_flow_values_and_keys(place, f);
    if (place.has("nearest_m")) f.nearest_m = place.at("nearest_m").number(0.2, 100);
    if (place.has("seams")) {
        const auto seams = place.at("seams");
        f.seams = list_from(seams, seam_flow_from);
        for (std::size_t i = 0; i < f.seams.size(); ++i)
            if (find_seam(f, f.seams[i].a, f.seams[i].b) != &f.seams[i])
                seams.at(i).refuse("is the second entry for these two cameras", "Keep one of them");
    }
    return f;
}

Json blend_json(const BlendSettings& b) {
    return {{"kind", text_of(kBlendings, b.kind)}, {"widest_deg", b.widest_deg}};
}
BlendSettings blend_from(const JsonPlace& place) {
    BlendSettings b;
    place.must_be_object();
    if (place.has("kind")) b.kind = value_of(kBlendings, place.at("kind"));
    if (place.has("widest_deg")) b.widest_deg = place.at("widest_deg").number(1, 60);
    return b;
}

Json shape_json(const Shape& s) {
    Json j = {{"name", s.name},
              {"restores", s.restores},
              {"on", s.on},
              {"feather_deg", s.feather_deg},
              {"keys", Json::array()}};
    for (const auto& k : s.keys) {
        Json corners = Json::array();
        for (const auto& c : k.corners)
            corners.push_back({c.at.x(), c.at.y(), c.before.x(), c.before.y(), c.after.x(), c.after.y()});
        j["keys"].push_back({{"time_s", seconds_json(k.time)}, {"corners", std::move(corners)}});
    }
    return j;
}
Shape shape_from(const JsonPlace& place) {
    Shape s;
    place.must_be_object();
    if (place.has("name")) s.name = place.at("name").text(256);
    if (place.has("restores")) s.restores = place.at("restores").boolean();
    if (place.has("on")) s.on = place.at("on").boolean();
    if (place.has("feather_deg")) s.feather_deg = place.at("feather_deg").number(0, 90);
    s.keys = keys_from<ShapeKey>(place.at("keys"), [](const JsonPlace& key, ShapeKey& out) {
        const auto list = key.at("corners");
        if (list.size() < kFewestCorners)
            list.refuse("has " + std::to_string(list.size()) + (list.size() == 1 ? " corner" : " corners") +
                            ": a shape needs 3 at least",
                        "Draw the shape anew, or remove it");
        if (list.size() > kMostCorners) list.refuse("has too many corners", "At most 200");
        for (std::size_t i = 0; i < list.size(); ++i) {
            const auto row = list.at(i);
            if (row.size() != 6)
                row.refuse("has not 6 entries", "Write [x, y, and both handles relative to them]");
            const auto v = [&](std::size_t n) { return row.at(n).number(-kMostRadii, kMostRadii); };
            out.corners.push_back({{v(0), v(1)}, {v(2), v(3)}, {v(4), v(5)}});
        }
    });
    for (const auto& k : s.keys)
        if (k.corners.size() != s.keys.front().corners.size())
            place.at("keys").refuse("differ in how many corners they have", "Give all keys the same number");
    return s;
}

Json oval_keys_json(const std::vector<ShelterKey>& keys) {
    Json j = Json::array();
    for (const auto& k : keys)
        j.push_back({{"time_s", seconds_json(k.time)},
                     {"yaw_deg", k.yaw_deg},
                     {"pitch_deg", k.pitch_deg},
                     {"width_deg", k.width_deg},
                     {"height_deg", k.height_deg}});
    return j;
}
std::vector<ShelterKey> oval_keys_from(const JsonPlace& place) {
    return keys_from<ShelterKey>(place, [](const JsonPlace& key, ShelterKey& out) {
        out.yaw_deg = key.at("yaw_deg").number(-360, 360);
        out.pitch_deg = key.at("pitch_deg").number(-90, 90);
        out.width_deg = key.at("width_deg").number(0.1, 360);
        out.height_deg = key.at("height_deg").number(0.1, 180);
    });
}

Json shelter_json(const Shelter& s) {
    Json j = {{"name", s.name},     {"camera", s.camera},           {"on", s.on},
              {"ease_s", s.ease_s}, {"feather_deg", s.feather_deg}, {"keys", oval_keys_json(s.keys)}};
    if (s.from) j["from_s"] = seconds_json(*s.from);
    if (s.to) j["to_s"] = seconds_json(*s.to);
    return j;
}
Shelter shelter_from(const JsonPlace& place) {
    Shelter s;
    place.must_be_object();
    if (place.has("name")) s.name = place.at("name").text(256);
    if (place.has("camera")) s.camera = place.at("camera").text(64);
    if (place.has("on")) s.on = place.at("on").boolean();
    if (place.has("ease_s")) s.ease_s = place.at("ease_s").number(0, 60);
    if (place.has("feather_deg")) s.feather_deg = place.at("feather_deg").number(0.05, 90);
    if (place.has("from_s")) s.from = place.at("from_s").seconds(-kMostSeconds, kMostSeconds);
    if (place.has("to_s")) s.to = place.at("to_s").seconds(-kMostSeconds, kMostSeconds);
    if (s.from && s.to && *s.to < *s.from)
        place.at("to_s").refuse("lies before from_s", "Let the shelter end after it begins");
    s.keys = oval_keys_from(place.at("keys"));
    return s;
}

} // namespace porb
