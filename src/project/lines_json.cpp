#include "project/lines_json.h"

#include "project/seams_json.h"

namespace porb {

namespace {
constexpr Word<CrossingCure> kCures[] = {{CrossingCure::none, "none"},
                                         {CrossingCure::line, "line"},
                                         {CrossingCure::flow, "flow"},
                                         {CrossingCure::shelter, "shelter"},
                                         {CrossingCure::hand, "hand"}};
constexpr std::size_t kCells = std::size_t(SeamLines::kSide) * SeamLines::kSide;
constexpr double kMostApart_px = 1e5;

std::string runs_of(const std::vector<std::uint8_t>& who) {
    std::string out;
    for (std::size_t i = 0; i < who.size();) {
        std::size_t end = i;
        while (end < who.size() && who[end] == who[i]) ++end;
        out += who[i] == LineKey::kNobody ? '.' : who[i] < 26 ? char('a' + who[i]) : char('A' + who[i] - 26);
        out += std::to_string(end - i);
        i = end;
    }
    return out;
}

std::vector<std::uint8_t> who_from(const JsonPlace& place, std::size_t cameras) {
    const std::string text = place.text(8 * kCells);
    std::vector<std::uint8_t> who;
    for (std::size_t i = 0; i < text.size();) {
        const char c = text[i++];
        std::size_t camera = LineKey::kNobody, run = 0;
        if (c >= 'a' && c <= 'z') camera = std::size_t(c - 'a');
        if (c >= 'A' && c <= 'Z') camera = std::size_t(c - 'A') + 26;
        while (i < text.size() && text[i] >= '0' && text[i] <= '9' && run <= kCells)
            run = run * 10 + std::size_t(text[i++] - '0');
        if ((c != '.' && camera >= cameras) || run == 0 || who.size() + run > kCells)
            place.refuse("does not say who supplies what at letter " + std::to_string(i),
                         "Find the lines again, or remove seam_lines");
        who.insert(who.end(), run, std::uint8_t(camera));
    }
    if (who.size() != kCells)
        place.refuse("says who supplies " + std::to_string(who.size()) + " of " + std::to_string(kCells) +
                         " places",
                     "Find the lines again, or remove seam_lines");
    return who;
}

Json crossing_json(const Crossing& c) {
    Json j = {{"id", c.id},
              {"a", c.a},
              {"b", c.b},
              {"from_s", seconds_json(c.from)},
              {"to_s", seconds_json(c.to)},
              {"path", oval_keys_json(c.path)},
              {"apart_px", c.apart_px},
              {"damage_px", c.damage_px},
              {"cure", text_of(kCures, c.cure)}};
    if (!c.shelter.empty()) j["shelter"] = c.shelter;
    if (c.dismissed) j["dismissed"] = true;
    return j;
}
Crossing crossing_from(const JsonPlace& place) {
    Crossing c;
    place.must_be_object();
    c.id = place.at("id").text(64);
    c.a = place.at("a").text(64);
    c.b = place.at("b").text(64);
    c.from = place.at("from_s").seconds(-kMostSeconds, kMostSeconds);
    c.to = place.at("to_s").seconds(-kMostSeconds, kMostSeconds);
    if (c.to < c.from) place.at("to_s").refuse("lies before from_s", "Scan for crossings again");
    c.path = oval_keys_from(place.at("path"));
    c.apart_px = place.at("apart_px").number(0, kMostApart_px);
    c.damage_px = place.at("damage_px").number(0, kMostApart_px);
    if (place.has("cure")) c.cure = value_of(kCures, place.at("cure"));
    if (place.has("shelter")) c.shelter = place.at("shelter").text(256);
    if (place.has("dismissed")) c.dismissed = place.at("dismissed").boolean();
    return c;
}
} // namespace

Json seam_lines_json(const SeamLines& lines) {
    Json j = {{"on", lines.on}, {"ease_s", lines.ease_s}, {"keys", Json::array()}};
    for (const auto& k : lines.keys)
        j["keys"].push_back({{"time_s", seconds_json(k.time)}, {"who", runs_of(*k.who)}});
    return j;
}
SeamLines seam_lines_from(const JsonPlace& place, std::size_t cameras) {
    SeamLines lines;
    place.must_be_object();
    if (place.has("on")) lines.on = place.at("on").boolean();
    if (place.has("ease_s")) lines.ease_s = place.at("ease_s").number(0, 60);
    const auto list = place.at("keys");
    if (list.size() > kMostEntries) list.refuse("holds too many keys", "Find the lines again");
    for (std::size_t i = 0; i < list.size(); ++i) {
        LineKey key;
        key.time = list.at(i).at("time_s").seconds(-kMostSeconds, kMostSeconds);
        if (!lines.keys.empty() && key.time <= lines.keys.back().time)
            list.at(i).at("time_s").refuse("is not later than the one before", "Put keys in order of time");
        key.who = who_from(list.at(i).at("who"), cameras);
        lines.keys.push_back(std::move(key));
    }
    return lines;
}

Json crossings_json(const CrossingScan& scan) {
    Json j = {{"from_s", seconds_json(scan.from)},
              {"to_s", seconds_json(scan.to)},
              {"step_s", scan.step_s},
              {"found", Json::array()}};
    for (const auto& c : scan.crossings) j["found"].push_back(crossing_json(c));
    return j;
}
CrossingScan crossings_from(const JsonPlace& place) {
    CrossingScan scan;
    place.must_be_object();
    scan.from = place.at("from_s").seconds(-kMostSeconds, kMostSeconds);
    scan.to = place.at("to_s").seconds(-kMostSeconds, kMostSeconds);
    if (place.has("step_s")) scan.step_s = place.at("step_s").number(0, 3600);
    scan.crossings = list_from(place.at("found"), crossing_from);
    return scan;
}

} // namespace porb
