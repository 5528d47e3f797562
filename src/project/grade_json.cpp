#include "project/grade_json.h"

namespace porb {

namespace {
constexpr double kMostEv = 16, kMostFactor = 16;

std::array<double, 3> three(const JsonPlace& place, double least, double most) {
    if (place.size() != 3) place.refuse("has not 3 entries", "Write [red, green, blue]");
    return {place.at(0).number(least, most), place.at(1).number(least, most),
            place.at(2).number(least, most)};
}
} // namespace

Json grade_json(const Grade& g) {
    Json j = {{"on", g.on},
              {"exposure_ev", g.exposure_ev},
              {"warmth_ev", g.warmth_ev},
              {"tint_ev", g.tint_ev},
              {"contrast", g.contrast},
              {"pivot", g.pivot},
              {"lift", g.lift},
              {"gamma", g.gamma},
              {"gain", g.gain},
              {"saturation", g.saturation}};
    if (!g.lut.empty()) j["lut"] = g.lut.string(), j["lut_strength"] = g.lut_strength;
    return j;
}
Grade grade_from(const JsonPlace& place) {
    Grade g;
    place.must_be_object();
    if (place.has("on")) g.on = place.at("on").boolean();
    if (place.has("exposure_ev")) g.exposure_ev = place.at("exposure_ev").number(-kMostEv, kMostEv);
    if (place.has("warmth_ev")) g.warmth_ev = place.at("warmth_ev").number(-kMostEv, kMostEv);
    if (place.has("tint_ev")) g.tint_ev = place.at("tint_ev").number(-kMostEv, kMostEv);
    if (place.has("contrast")) g.contrast = place.at("contrast").number(0.1, 10);
    if (place.has("pivot")) g.pivot = place.at("pivot").number(0.001, 10);
    if (place.has("lift")) g.lift = three(place.at("lift"), -1, 1);
    if (place.has("gamma")) g.gamma = three(place.at("gamma"), 0.1, 10);
    if (place.has("gain")) g.gain = three(place.at("gain"), 0, kMostFactor);
    if (place.has("saturation")) g.saturation = place.at("saturation").number(0, kMostFactor);
    if (place.has("lut")) g.lut = place.at("lut").text(4096);
    if (place.has("lut_strength")) g.lut_strength = place.at("lut_strength").number(0, 1);
    return g;
}

Json denoise_json(const Denoise& d) {
    return {{"on", d.on}, {"over_time", d.over_time}, {"in_frame", d.in_frame}};
}
Denoise denoise_from(const JsonPlace& place) {
    Denoise d;
    place.must_be_object();
    if (place.has("on")) d.on = place.at("on").boolean();
    if (place.has("over_time")) d.over_time = place.at("over_time").number(0, 1);
    if (place.has("in_frame")) d.in_frame = place.at("in_frame").number(0, 1);
    return d;
}

} // namespace porb
