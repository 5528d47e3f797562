#include "project/calibrating_json.h"

#include "base/error.h"
#include "optics/rig_json.h"
#include "project/json_parts.h"

#include <set>

namespace porb {

namespace {

constexpr std::size_t kMostPoints = 200000, kMostPath = 2000000;
constexpr double kMostPx = 1e6;

constexpr Word<LineKind> kLineKinds[] = {
    {LineKind::vertical, "vertical"}, {LineKind::horizontal, "horizontal"}, {LineKind::straight, "straight"}};
constexpr Word<Freedom> kFreedoms[] = {
    {Freedom::locked, "locked"}, {Freedom::shared, "shared"}, {Freedom::free, "free"}};
constexpr Word<SamplePick> kPicks[] = {{SamplePick::even, "even"}, {SamplePick::best, "best"}};
constexpr Word<SteadySource> kSteadySources[] = {{SteadySource::footage, "footage"},
                                                 {SteadySource::record, "record"}};

Json vec_json(const Vec2& v) {
    return {v.x(), v.y()};
}
Vec2 vec2_from(const JsonPlace& place) {
    if (place.size() != 2) place.refuse("must hold two numbers", "Write [x, y]");
    return {place.at(0).number(-kMostPx, kMostPx), place.at(1).number(-kMostPx, kMostPx)};
}
std::vector<Vec2> places_from(const JsonPlace& place, std::size_t least) {
    if (place.size() < least || place.size() > kMostEntries)
        place.refuse("holds " + std::to_string(place.size()) + " places",
                     "Use at least " + std::to_string(least));
    std::vector<Vec2> out;
    for (std::size_t i = 0; i < place.size(); ++i) out.push_back(vec2_from(place.at(i)));
    return out;
}

/// A row of a table: points come in thousands.
Json point_json(const ControlPoint& p) {
    return {p.id,       seconds_json(p.time), p.a,       p.a_px.x(), p.a_px.y(), p.b,
            p.b_px.x(), p.b_px.y(),           p.by_hand, p.likeness, p.dropped};
}
ControlPoint point_from(const JsonPlace& row) {
    if (row.size() != 11) row.refuse("has not 11 entries", "See docs/project-file.md for the columns");
    ControlPoint p;
    p.id = row.at(0).whole(0, 2000000000);
    p.time = row.at(1).seconds(-kMostSeconds, kMostSeconds);
    p.a = row.at(2).text(64);
    p.a_px = {row.at(3).number(-kMostPx, kMostPx), row.at(4).number(-kMostPx, kMostPx)};
    p.b = row.at(5).text(64);
    p.b_px = {row.at(6).number(-kMostPx, kMostPx), row.at(7).number(-kMostPx, kMostPx)};
    p.by_hand = row.at(8).boolean();
    p.likeness = row.at(9).number(-1, 1);
    p.dropped = row.at(10).text(256);
    return p;
}

Json line_json(const LineMark& l) {
    Json j = {{"id", l.id},         {"kind", text_of(kLineKinds, l.kind)}, {"time_s", seconds_json(l.time)},
              {"camera", l.camera}, {"places_px", Json::array()},          {"found", l.found}};
    for (const auto& p : l.places_px) j["places_px"].push_back(vec_json(p));
    return j;
}
LineMark line_from(const JsonPlace& place) {
    LineMark l;
    place.must_be_object();
    if (place.has("id")) l.id = place.at("id").whole(0, 2000000000);
    l.kind = value_of(kLineKinds, place.at("kind"));
    if (place.has("time_s")) l.time = place.at("time_s").seconds(-kMostSeconds, kMostSeconds);
    l.camera = place.at("camera").text(64);
    l.places_px = places_from(place.at("places_px"), 2);
    if (place.has("found")) l.found = place.at("found").boolean();
    return l;
}

Json region_json(const PointRegion& r) {
    Json j = {{"avoid", r.avoid}, {"camera", r.camera}, {"corners", Json::array()}};
    for (const auto& p : r.corners) j["corners"].push_back(vec_json(p));
    return j;
}
PointRegion region_from(const JsonPlace& place) {
    PointRegion r;
    place.must_be_object();
    r.avoid = place.at("avoid").boolean();
    r.camera = place.at("camera").text(64);
    r.corners = places_from(place.at("corners"), 3);
    return r;
}

Json settings_json(const SolveSettings& s) {
    Json j = {{"samples", s.samples},
              {"pick", text_of(kPicks, s.pick)},
              {"by_hand_s", Json::array()},
              {"turn", text_of(kFreedoms, s.turn)},
              {"position", text_of(kFreedoms, s.position)},
              {"focal", text_of(kFreedoms, s.focal)},
              {"centre", text_of(kFreedoms, s.centre)},
              {"distortion", text_of(kFreedoms, s.distortion)},
              {"straight_edges", s.straight_edges},
              {"depth_per_point", s.depth_per_point},
              {"turn_sigma_deg", s.turn_sigma_deg},
              {"position_sigma_mm", s.position_sigma_mm},
              {"focal_sigma_percent", s.focal_sigma_percent},
              {"centre_sigma_percent", s.centre_sigma_percent},
              {"distortion_sigma", s.distortion_sigma},
              {"limit_px", s.limit_px}};
    for (const auto& t : s.by_hand) j["by_hand_s"].push_back(seconds_json(t));
    return j;
}
Seconds sample_from(const JsonPlace& place) {
    return place.seconds(-kMostSeconds, kMostSeconds);
}
SolveSettings settings_from(const JsonPlace& place) {
    SolveSettings s;
    place.must_be_object();
    const auto number = [&](const char* key, double& to, double low, double high) {
        if (place.has(key)) to = place.at(key).number(low, high);
    };
    if (place.has("samples")) s.samples = place.at("samples").whole(1, 1000);
    if (place.has("pick")) s.pick = value_of(kPicks, place.at("pick"));
    if (place.has("by_hand_s")) s.by_hand = list_from(place.at("by_hand_s"), sample_from);
    for (const auto& [key, to] :
         {std::pair{"turn", &s.turn}, std::pair{"position", &s.position}, std::pair{"focal", &s.focal},
          std::pair{"centre", &s.centre}, std::pair{"distortion", &s.distortion}})
        if (place.has(key)) *to = value_of(kFreedoms, place.at(key));
    if (place.has("straight_edges")) s.straight_edges = place.at("straight_edges").boolean();
    if (place.has("depth_per_point")) s.depth_per_point = place.at("depth_per_point").boolean();
    number("turn_sigma_deg", s.turn_sigma_deg, 0.001, 180);
    number("position_sigma_mm", s.position_sigma_mm, 0.001, 10000);
    number("focal_sigma_percent", s.focal_sigma_percent, 0.001, 100);
    number("centre_sigma_percent", s.centre_sigma_percent, 0.001, 100);
    number("distortion_sigma", s.distortion_sigma, 1e-6, 10);
    number("limit_px", s.limit_px, 0.01, 1000);
    return s;
}

Json value_json(const ValueFigure& v) {
    return {{"camera", v.camera},        {"name", v.name},     {"unit", v.unit},
            {"value", v.value},          {"before", v.before}, {"sigma", v.sigma},
            {"determined", v.determined}};
}
ValueFigure value_from(const JsonPlace& place) {
    ValueFigure v;
    place.must_be_object();
    v.camera = place.at("camera").text(64);
    v.name = place.at("name").text(64);
    v.unit = place.at("unit").text(16);
    v.value = place.at("value").number(-1e12, 1e12);
    v.before = place.at("before").number(-1e12, 1e12);
    v.sigma = place.at("sigma").number(0, 1e12);
    v.determined = place.at("determined").boolean();
    return v;
}
Json solve_json(const KeptSolve& k) {
    Json j = {{"id", k.id},
              {"name", k.name},
              {"rig", rig_to_json(k.rig)},
              {"rms_px", k.rms_px},
              {"rms_arcmin", k.rms_arcmin},
              {"rms_before_px", k.rms_before_px},
              {"points", k.points},
              {"dropped", k.dropped},
              {"values", Json::array()}};
    for (const auto& v : k.values) j["values"].push_back(value_json(v));
    return j;
}
KeptSolve solve_from(const JsonPlace& place) {
    KeptSolve k;
    place.must_be_object();
    k.id = place.at("id").whole(0, 2000000000);
    k.name = place.at("name").text(256);
    k.rig = rig_from_json(place.at("rig"));
    k.rms_px = place.at("rms_px").number(0, 1e9);
    k.rms_arcmin = place.at("rms_arcmin").number(0, 1e9);
    k.rms_before_px = place.at("rms_before_px").number(0, 1e9);
    k.points = place.at("points").whole(0, 2000000000);
    k.dropped = place.at("dropped").whole(0, 2000000000);
    k.values = list_from(place.at("values"), value_from);
    return k;
}

OrientationKey key_from(const JsonPlace& place) {
    place.must_be_object();
    return {place.at("time_s").seconds(-kMostSeconds, kMostSeconds), turn_from_json(place.at("turn"))};
}

Json steady_json(const Steady& s) {
    Json path = Json::array();
    for (const auto& v : *s.path) path.push_back({v.x(), v.y(), v.z()});
    return {{"on", s.on},
            {"source", text_of(kSteadySources, s.source)},
            {"strength", s.strength},
            {"keep_horizon", s.keep_horizon},
            {"follow_s", s.follow_s},
            {"readout_s", s.readout_s},
            {"first_s", s.first_s},
            {"step_s", s.step_s},
            {"path", path}};
}
Steady steady_from(const JsonPlace& place) {
    Steady s;
    place.must_be_object();
    s.on = place.at("on").boolean();
    s.source = value_of(kSteadySources, place.at("source"));
    s.strength = place.at("strength").number(0, 1);
    s.keep_horizon = place.at("keep_horizon").boolean();
    s.follow_s = place.at("follow_s").number(0, 3600);
    s.readout_s = place.at("readout_s").number(-1, 1);
    s.first_s = place.at("first_s").number(-kMostSeconds, kMostSeconds);
    s.step_s = place.at("step_s").number(1e-6, 1e4);
    const auto rows = place.at("path");
    if (rows.size() > kMostPath) rows.refuse("holds too many entries", "Analyse a shorter part of the shot");
    std::vector<Vec3> path;
    for (std::size_t i = 0; i < rows.size(); ++i) {
        const auto row = rows.at(i);
        if (row.size() != 3) row.refuse("must hold three numbers", "Write [x, y, z] in radians");
        path.emplace_back(row.at(0).number(-7, 7), row.at(1).number(-7, 7), row.at(2).number(-7, 7));
    }
    s.path = std::move(path);
    return s;
}

void must_be_cameras(const JsonPlace& place, const Shot& s, const std::string& id, bool may_be_empty) {
    if ((id.empty() && may_be_empty) || find_camera(s.rig, id)) return;
    place.refuse("names camera '" + id + "', which the rig has not", "Use an id from rig/cameras");
}

} // namespace

void put_calibrating(Json& j, const Shot& s) {
    for (const auto& k : s.orientation_keys)
        j["orientation_keys"].push_back({{"time_s", seconds_json(k.time)}, {"turn", turn_to_json(k.turn)}});
    if (s.steady) j["steady"] = steady_json(*s.steady);
    for (const auto& p : *s.points) j["points"].push_back(point_json(p));
    for (const auto& l : s.lines) j["lines"].push_back(line_json(l));
    for (const auto& r : s.regions) j["regions"].push_back(region_json(r));
    if (!(s.solving == SolveSettings{})) j["solving"] = settings_json(s.solving);
    for (const auto& k : s.solves) j["solves"].push_back(solve_json(k));
}

void read_calibrating(const JsonPlace& place, Shot& s) {
    if (place.has("orientation_keys")) {
        s.orientation_keys = list_from(place.at("orientation_keys"), key_from);
        for (std::size_t i = 1; i < s.orientation_keys.size(); ++i)
            if (!(s.orientation_keys[i - 1].time < s.orientation_keys[i].time))
                place.at("orientation_keys")
                    .at(i)
                    .refuse("is not later than the key before it", "Put keys in order of time");
    }
    if (place.has("steady")) s.steady = steady_from(place.at("steady"));
    if (place.has("points")) {
        const auto rows = place.at("points");
        if (rows.size() > kMostPoints) rows.refuse("holds too many entries", "At most 200 000");
        ControlPoints points;
        std::set<int> ids;
        for (std::size_t i = 0; i < rows.size(); ++i) {
            points.push_back(point_from(rows.at(i)));
            must_be_cameras(rows.at(i), s, points.back().a, false);
            must_be_cameras(rows.at(i), s, points.back().b, false);
            if (points.back().a == points.back().b)
                rows.at(i).refuse("is between a camera and itself", "Name two cameras");
            if (!ids.insert(points.back().id).second)
                rows.at(i).refuse("has an id that is used twice", "Give each point an id of its own");
        }
        s.points = std::move(points);
    }
    if (place.has("lines")) {
        s.lines = list_from(place.at("lines"), line_from);
        for (std::size_t i = 0; i < s.lines.size(); ++i)
            must_be_cameras(place.at("lines").at(i), s, s.lines[i].camera, false);
    }
    if (place.has("regions")) {
        s.regions = list_from(place.at("regions"), region_from);
        for (std::size_t i = 0; i < s.regions.size(); ++i)
            must_be_cameras(place.at("regions").at(i), s, s.regions[i].camera, true);
    }
    if (place.has("solving")) s.solving = settings_from(place.at("solving"));
    if (place.has("solves")) s.solves = list_from(place.at("solves"), solve_from);
}

std::vector<LineMark> parse_lines(std::string_view json_text, const std::string& where) {
    const Json document = parse_json(json_text, where);
    const JsonPlace place(document, where);
    place.must_be_object();
    const auto format = place.at("format");
    if (format.text(64) != "pale-orbit/lines")
        format.refuse("'" + format.text(64) + "' is not a list of lines",
                      "Such a file says \"format\": \"pale-orbit/lines\"");
    return list_from(place.at("lines"), line_from);
}

} // namespace porb
