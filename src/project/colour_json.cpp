#include "project/colour_json.h"

namespace porb {

namespace {
constexpr double kMostEv = 16;
}

Json colour_json(const CameraColour& c) {
    Json j = Json::object();
    for (const auto& k : c.gains) j["gains"].push_back({seconds_json(k.time), k.ev[0], k.ev[1], k.ev[2]});
    if (c.falloff != std::array<double, 2>{}) j["falloff"] = c.falloff;
    if (c.exposure_ev != 0) j["exposure_ev"] = c.exposure_ev;
    if (c.warmth_ev != 0) j["warmth_ev"] = c.warmth_ev;
    if (c.tint_ev != 0) j["tint_ev"] = c.tint_ev;
    return j;
}
CameraColour colour_from(const JsonPlace& place) {
    CameraColour c;
    place.must_be_object();
    if (place.has("gains")) {
        const auto list = place.at("gains");
        if (list.size() > kMostEntries) list.refuse("holds too many keys", "Keep fewer");
        for (std::size_t i = 0; i < list.size(); ++i) {
            const auto row = list.at(i);
            if (row.size() != 4) row.refuse("has not 4 entries", "Write [seconds, red, green, blue]");
            GainKey key;
            key.time = row.at(0).seconds(-kMostSeconds, kMostSeconds);
            for (std::size_t k = 0; k < 3; ++k) key.ev[k] = row.at(k + 1).number(-kMostEv, kMostEv);
            if (!c.gains.empty() && key.time <= c.gains.back().time)
                row.refuse("is not later than the one before", "Put keys in order of time");
            c.gains.push_back(key);
        }
    }
    if (place.has("falloff")) {
        const auto list = place.at("falloff");
        if (list.size() != 2) list.refuse("has not 2 entries", "Write [a, b]");
        for (std::size_t i = 0; i < 2; ++i) c.falloff[i] = list.at(i).number(-1, 1);
    }
    if (place.has("exposure_ev")) c.exposure_ev = place.at("exposure_ev").number(-kMostEv, kMostEv);
    if (place.has("warmth_ev")) c.warmth_ev = place.at("warmth_ev").number(-kMostEv, kMostEv);
    if (place.has("tint_ev")) c.tint_ev = place.at("tint_ev").number(-kMostEv, kMostEv);
    return c;
}

Json match_json(const MatchSettings& m) {
    Json j = {{"on", m.on},
              {"samples", m.samples},
              {"falloff", m.falloff},
              {"over_time", m.over_time},
              {"reference", m.reference}};
    if (m.apart_ev) j["apart_ev"] = *m.apart_ev;
    return j;
}
MatchSettings match_from(const JsonPlace& place) {
    MatchSettings m;
    place.must_be_object();
    if (place.has("on")) m.on = place.at("on").boolean();
    if (place.has("samples")) m.samples = place.at("samples").whole(1, 1000);
    if (place.has("falloff")) m.falloff = place.at("falloff").boolean();
    if (place.has("over_time")) m.over_time = place.at("over_time").boolean();
    if (place.has("reference")) m.reference = place.at("reference").text(64);
    if (place.has("apart_ev")) m.apart_ev = place.at("apart_ev").number(0, kMostEv);
    return m;
}

} // namespace porb
