// The tables of fields of flow, shapes, shelters, found lines and crossings (base/fields.h has how they
// work).
#pragma once

#include "base/fields.h"
#include "project/limits.h"
#include "project/seams.h"

namespace porb {

inline constexpr Word<Blending> kBlendingWords[] = {
    {Blending::feathered, "feathered"}, {Blending::hard, "hard"}, {Blending::multiband, "multiband"}};
inline constexpr Word<CrossingResolution> kResolutionWords[] = {{CrossingResolution::none, "none"},
                                                                {CrossingResolution::line, "line"},
                                                                {CrossingResolution::flow, "flow"},
                                                                {CrossingResolution::shelter, "shelter"},
                                                                {CrossingResolution::hand, "hand"}};

inline constexpr Word<DistanceRule> kDistanceRuleWords[] = {{DistanceRule::surroundings, "surroundings"},
                                                            {DistanceRule::metres, "metres"},
                                                            {DistanceRule::plane, "plane"}};

/// Strength, zone and smoothness, of the shot, a seam or a key.
template <class V, class F>
void flow_values(V& v, F& f) {
    v.number("strength", f.strength, limits::kShare);
    v.number("zone_deg", f.zone_deg, limits::kZone_deg);
    v.number("smoothness", f.smoothness, limits::kSmoothness);
}
template <class V, Part<FlowKey> K>
void fields(V& v, K& k) {
    v.must("time_s");
    v.seconds("time_s", k.time, limits::kTime_s);
    flow_values(v, k);
    v.rest(k.extra_json);
}
template <class V, class F>
void flow_values_and_keys(V& v, F& f) {
    flow_values(v, f);
    // Where a key leaves something out, it is what it is without keys.
    v.list_like("keys", f.keys, FlowKey{Seconds(0), f.strength, f.zone_deg, f.smoothness});
    v.check([&](const auto& c) { check_order(c, "keys", f.keys, false); });
}

template <class V, Part<SeamFlow> S>
void fields(V& v, S& s) {
    for (const char* key : {"a", "b"}) v.must(key);
    v.named(s.a);
    v.text("a", s.a, limits::kCameraId);
    v.text("b", s.b, limits::kCameraId);
    v.rule([&] { return s.a != s.b; }, "b", "is the same camera as a", "Name the two cameras that meet");
    flow_values_and_keys(v, s);
    v.number("agree_distance_m", s.agree_distance_m, limits::kDistance_m);
    v.rest(s.extra_json);
}

template <class V, Part<FlowSettings> F>
void fields(V& v, F& f) {
    v.flag("on", f.on);
    v.number("nearest_m", f.nearest_m, limits::kNearest_m);
    v.flag("everywhere", f.everywhere);
    v.flag("fine_edges", f.fine_edges);
    flow_values_and_keys(v, f);
    v.list("seams", f.seams);
    v.check([&](const auto& c) {
        for (std::size_t i = 0; i < f.seams.size(); ++i)
            if (find_seam(f, f.seams[i].a, f.seams[i].b) != &f.seams[i])
                c.entry("seams", i)
                    .refuse("", "is the second entry for these two cameras", "Keep one of them");
    });
}

template <class V, Part<BlendSettings> B>
void fields(V& v, B& b) {
    v.word("kind", b.kind, kBlendingWords);
    v.number("widest_deg", b.widest_deg, limits::kWidestBand_deg);
}

template <class C, Part<ShapeCorner> P>
void cells(C& c, P& corner) {
    for (auto* place : {&corner.at, &corner.before, &corner.after}) {
        c.number(place->x(), limits::kShapeRadii);
        c.number(place->y(), limits::kShapeRadii);
    }
}
template <class V, Part<ShapeKey> K>
void fields(V& v, K& k) {
    for (const char* key : {"time_s", "corners"}) v.must(key);
    v.seconds("time_s", k.time, limits::kTime_s);
    v.rows("corners", k.corners, kMostCorners);
    v.check([&](const auto& c) {
        if (const auto n = k.corners.size(); n < kFewestCorners)
            c.refuse("corners",
                     "has " + std::to_string(n) + (n == 1 ? " corner" : " corners") +
                         ": a shape needs 3 at least",
                     "Draw the shape anew, or remove it");
    });
    v.rest(k.extra_json);
}
template <class V, Part<AreaDistance> D>
void fields(V& v, D& d) {
    v.word("rule", d.rule, kDistanceRuleWords);
    v.number("metres", d.metres, limits::kDistance_m);
    v.numbers("plane_per_m", d.plane_per_m, limits::kPlane_per_m);
    v.rest(d.extra_json);
}
template <class V, Part<Shape> S>
void fields(V& v, S& s) {
    v.named(s.name);
    v.text("name", s.name, limits::kName);
    v.flag("restores", s.restores);
    v.part("distance", s.distance);
    v.rule([&] { return !s.restores || !s.distance; }, "distance", "belongs to a restore",
           "Let the shape bring back, or tell a distance");
    v.flag("on", s.on);
    v.number("feather_deg", s.feather_deg, limits::kFeather_deg);
    v.list("keys", s.keys);
    v.check([&](const auto& c) {
        check_order(c, "keys", s.keys, true);
        for (const auto& k : s.keys)
            if (k.corners.size() != s.keys.front().corners.size())
                c.refuse("keys", "differ in how many corners they have", "Give all keys the same number");
    });
    v.rest(s.extra_json);
}

template <class V, Part<ShelterKey> K>
void fields(V& v, K& k) {
    for (const char* key : {"time_s", "yaw_deg", "pitch_deg", "width_deg", "height_deg"}) v.must(key);
    v.seconds("time_s", k.time, limits::kTime_s);
    v.number("yaw_deg", k.yaw_deg, limits::kYaw_deg);
    v.number("pitch_deg", k.pitch_deg, limits::kPitch_deg);
    v.number("width_deg", k.width_deg, limits::kOvalWidth_deg);
    v.number("height_deg", k.height_deg, limits::kOvalHeight_deg);
    v.rest(k.extra_json);
}
template <class V, Part<Shelter> S>
void fields(V& v, S& s) {
    v.named(s.name);
    v.text("name", s.name, limits::kName);
    v.text("camera", s.camera, limits::kCameraId);
    v.part_unless_usual("distance", s.distance);
    v.flag("on", s.on);
    v.number("ease_s", s.ease_s, limits::kEase_s);
    v.number("feather_deg", s.feather_deg, limits::kShelterFeather_deg);
    v.seconds("from_s", s.from, limits::kTime_s);
    v.seconds("to_s", s.to, limits::kTime_s);
    v.rule([&] { return !s.from || !s.to || *s.from <= *s.to; }, "to_s", "lies before from_s",
           "Let the shelter end after it begins");
    v.list("keys", s.keys);
    v.check([&](const auto& c) { check_order(c, "keys", s.keys, true); });
    v.rest(s.extra_json);
}

/// Who supplies the cells of the sphere, as runs: a letter for the camera (a to z, A to Z, then its number in
/// brackets, "[52]"; "." for nobody) and how often it repeats.
struct WhoCode {
    static constexpr const char* kMend = "Find the lines again, or remove seam_lines";
    static std::string text(const Shared<std::vector<std::uint8_t>>& who);
    static std::vector<std::uint8_t> parse(const JsonPlace& place);
    static const char* fault(const Shared<std::vector<std::uint8_t>>& who);
};
template <class V, Part<LineKey> K>
void fields(V& v, K& k) {
    for (const char* key : {"time_s", "who"}) v.must(key);
    v.seconds("time_s", k.time, limits::kTime_s);
    v.template coded<WhoCode>("who", k.who);
    v.rest(k.extra_json);
}
template <class V, Part<SeamLines> L>
void fields(V& v, L& l) {
    v.flag("on", l.on);
    v.number("ease_s", l.ease_s, limits::kEase_s);
    v.list("keys", l.keys);
    v.check([&](const auto& c) { check_order(c, "keys", l.keys, false); });
}

template <class V, Part<Crossing> C>
void fields(V& v, C& x) {
    for (const char* key : {"id", "a", "b", "from_s", "to_s", "path"}) v.must(key);
    v.named(x.id);
    v.text("id", x.id, limits::kCameraId);
    v.text("a", x.a, limits::kCameraId);
    v.text("b", x.b, limits::kCameraId);
    v.seconds("from_s", x.from, limits::kTime_s);
    v.seconds("to_s", x.to, limits::kTime_s);
    v.rule([&] { return x.from <= x.to; }, "to_s", "lies before from_s", "Scan for crossings again");
    v.list("path", x.path);
    v.check([&](const auto& c) { check_order(c, "path", x.path, true); });
    v.number("apart_px", x.apart_px, limits::kApart_px);
    v.number("damage_px", x.visible_parallax_px, limits::kApart_px);
    v.number("torn_px", x.torn_px, limits::kApart_px);
    v.word("cure", x.resolution, kResolutionWords);
    v.text("shelter", x.shelter, limits::kName);
    v.flag("dismissed", x.dismissed);
    v.rest(x.extra_json);
}
template <class V, Part<CrossingScan> S>
void fields(V& v, S& s) {
    for (const char* key : {"from_s", "to_s", "found"}) v.must(key);
    v.seconds("from_s", s.from, limits::kTime_s);
    v.seconds("to_s", s.to, limits::kTime_s);
    v.number("step_s", s.step_s, limits::kScanStep_s);
    v.list("found", s.crossings, kMostEntries, true);
    v.rest(s.extra_json);
}

} // namespace porb
