// What must hold between the fields of a project.
#include "media/sequence.h"
#include "project/fields_project.h"
#include "project/tile_store.h"

#include <fmt/format.h>

#include <cstdio>
#include <cstring>
#include <sstream>

namespace porb {

namespace {

constexpr std::size_t kCells = std::size_t(SeamLines::kSide) * SeamLines::kSide;

class CameraNames {
  public:
    explicit CameraNames(const Rig& rig) {
        for (const auto& c : rig.cameras) names_.insert(c.id);
    }
    void must_have(const FieldChecker& at, std::string_view key, const std::string& id,
                   bool or_none = false) const {
        if ((id.empty() && or_none) || names_.contains(id)) return;
        at.refuse(key, "names camera '" + id + "', which the rig has not",
                  or_none ? "Use an id from rig/cameras, or leave it empty" : "Use an id from rig/cameras");
    }

  private:
    std::set<std::string_view> names_;
};

void check_points(const FieldChecker& c, const ControlPoints& points, const CameraNames& cameras) {
    std::vector<int> ids;
    ids.reserve(points.size());
    const std::string *a = nullptr, *b = nullptr; // of the point before: most are between the same two
    for (std::size_t i = 0; i < points.size(); ++i) {
        const ControlPoint& p = points[i];
        ids.push_back(p.id);
        if (a && p.a == *a && p.b == *b) continue;
        a = &p.a, b = &p.b;
        const FieldChecker at = c.entry("points", i);
        cameras.must_have(at, "", p.a);
        cameras.must_have(at, "", p.b);
        if (p.a == p.b) at.refuse("", "is between a camera and itself", "Name two cameras");
    }
    std::sort(ids.begin(), ids.end());
    if (const auto twice = std::adjacent_find(ids.begin(), ids.end()); twice != ids.end())
        c.refuse("points", "have an id that is used twice (" + std::to_string(*twice) + ")",
                 "Give each point an id of its own");
}

void check_who(const FieldChecker& at, const std::vector<std::uint8_t>& who, std::size_t cameras) {
    if (who.size() != kCells)
        at.refuse("who",
                  "says who supplies " + std::to_string(who.size()) + " of " + std::to_string(kCells) +
                      " places",
                  WhoCode::kMend);
    for (const std::uint8_t camera : who)
        if (camera != LineKey::kNobody && camera >= cameras)
            at.refuse("who", "names camera " + std::to_string(camera + 1) + " of " + std::to_string(cameras),
                      WhoCode::kMend);
}

} // namespace

void check_media(const FieldChecker& c, const Media& m) {
    if (m.ref.path.empty()) c.refuse("path", "is empty", "Name the file");
    if (m.ref.kind != MediaKind::sequence) return;
    try {
        check_pattern(m.ref.path);
    } catch (const Error& e) {
        c.refuse("path", e.what_failed(), e.mend());
    }
}

void check_shot(const FieldChecker& c, const Shot& s) {
    const CameraNames cameras(s.rig);
    if (s.cameras.size() != s.rig.cameras.size())
        c.refuse("cameras", "are not as many as the rig has", "Give each camera of the rig one entry");
    for (std::size_t i = 0; i < s.cameras.size(); ++i)
        if (s.cameras[i].camera != s.rig.cameras[i].id)
            c.entry("cameras", i)
                .refuse("camera", "'" + s.cameras[i].camera + "' is not at its place of the rig",
                        "Use the rig's ids in its order");
    // Points that were looked at keep their cameras: a rig's ids change together with them (rig_change.h).
    if (!c.is_known_good(&*s.calibration.points)) check_points(c, *s.calibration.points, cameras);
    for (std::size_t i = 0; i < s.calibration.lines.size(); ++i)
        cameras.must_have(c.entry("lines", i), "camera", s.calibration.lines[i].camera);
    for (std::size_t i = 0; i < s.calibration.regions.size(); ++i)
        cameras.must_have(c.entry("regions", i), "camera", s.calibration.regions[i].camera, true);
    for (std::size_t i = 0; i < s.seams.shelters.size(); ++i)
        cameras.must_have(c.entry("shelters", i), "camera", s.seams.shelters[i].camera, true);
    cameras.must_have(c.inside("match"), "reference", s.colour.match.reference, true);
    const FieldChecker flow = c.inside("flow"), crossings = c.inside("crossings"),
                       lines = c.inside("seam_lines");
    for (std::size_t i = 0; i < s.seams.flow.seams.size(); ++i)
        for (const auto& [key, id] :
             {std::pair("a", &s.seams.flow.seams[i].a), std::pair("b", &s.seams.flow.seams[i].b)})
            cameras.must_have(flow.entry("seams", i), key, *id);
    for (std::size_t i = 0; s.seams.crossings && i < (*s.seams.crossings)->crossings.size(); ++i) {
        const Crossing& x = (*s.seams.crossings)->crossings[i];
        for (const auto& [key, id] : {std::pair("a", &x.a), std::pair("b", &x.b)})
            cameras.must_have(crossings.entry("found", i), key, *id);
    }
    for (std::size_t i = 0; i < s.seams.seam_lines->keys.size(); ++i)
        check_who(lines.entry("keys", i), *s.seams.seam_lines->keys[i].who, s.cameras.size());
}

void check_project(const FieldChecker& c, const Project& p) {
    check_ids(c, "media", p.media);
    check_ids(c, "shots", p.shots);
    check_ids(c, "deliverables", p.deliverables);
    std::set<std::string_view> media, shots;
    for (const auto& m : p.media) media.insert(m.id);
    for (std::size_t n = 0; n < p.shots.size(); ++n) {
        const Shot& s = p.shots[n];
        shots.insert(s.id);
        const FieldChecker shot = c.entry("shots", n);
        for (std::size_t i = 0; i < s.cameras.size(); ++i)
            if (const auto& id = s.cameras[i].media; !id.empty() && !media.contains(id))
                shot.entry("cameras", i)
                    .refuse("media", "names media '" + id + "', which the project has not",
                            "Add it under media");
        for (std::size_t i = 0; i < s.patches.size(); ++i)
            if (const auto& id = s.patches[i].media; !id.empty() && !media.contains(id))
                shot.entry("patches", i)
                    .refuse("media", "names media '" + id + "', which the project has not",
                            "Add it under media");
    }
    for (std::size_t d = 0; d < p.deliverables.size(); ++d)
        if (!shots.contains(p.deliverables[d].shot))
            c.entry("deliverables", d)
                .refuse("shot", "'" + p.deliverables[d].shot + "' is not a shot", "Use the id of a shot");
}

std::string WhoCode::text(const Shared<std::vector<std::uint8_t>>& cells) {
    const auto& who = *cells;
    std::string out;
    for (std::size_t i = 0; i < who.size();) {
        std::size_t end = i;
        while (end < who.size() && who[end] == who[i]) ++end;
        if (who[i] == LineKey::kNobody)
            out += '.';
        else if (who[i] < 52)
            out += who[i] < 26 ? char('a' + who[i]) : char('A' + who[i] - 26);
        else
            out += '[' + std::to_string(who[i]) + ']';
        out += std::to_string(end - i);
        i = end;
    }
    return out;
}

std::vector<std::uint8_t> WhoCode::parse(const JsonPlace& place) {
    const std::string text = place.text(8 * kCells);
    std::vector<std::uint8_t> who;
    std::size_t i = 0;
    const auto number = [&] {
        std::size_t n = 0;
        while (i < text.size() && text[i] >= '0' && text[i] <= '9' && n <= kCells)
            n = n * 10 + std::size_t(text[i++] - '0');
        return n;
    };
    while (i < text.size()) {
        const char c = text[i++];
        std::size_t camera = kCells; // none
        if (c == '.') camera = LineKey::kNobody;
        if (c >= 'a' && c <= 'z') camera = std::size_t(c - 'a');
        if (c >= 'A' && c <= 'Z') camera = std::size_t(c - 'A') + 26;
        if (c == '[') {
            camera = number();
            if (i >= text.size() || text[i++] != ']' || camera >= LineKey::kNobody) camera = kCells;
        }
        const std::size_t run = number();
        if (camera == kCells || run == 0 || who.size() + run > kCells)
            place.refuse("does not say who supplies what at letter " + std::to_string(i), kMend);
        who.insert(who.end(), run, std::uint8_t(camera));
    }
    return who;
}

const char* WhoCode::fault(const Shared<std::vector<std::uint8_t>>&) {
    return nullptr; // how many cells, and which cameras, is a rule of the shot
}

std::string TilesCode::text(const TileImage& image) {
    if (image.empty()) return "none";
    std::string out = fmt::format("{}x{}x{}", image.width(), image.height(), image.channels());
    for (int ty = 0; ty < image.down(); ++ty)
        for (int tx = 0; tx < image.across(); ++tx)
            if (const Tile* tile = image.tile(tx, ty))
                out += fmt::format(" {},{}:{}", tx, ty, tile_name(*tile));
    return out;
}

TileImage TilesCode::parse(const JsonPlace& place) {
    constexpr std::size_t kLongest = 1u << 20;
    const std::string text = place.text(kLongest);
    if (text == "none") return {};
    std::istringstream words(text);
    int width = 0, height = 0, channels = 0;
    char x = 0, y = 0;
    words >> width >> x >> height >> y >> channels;
    if (!words || x != 'x' || y != 'x' || width < 1 || height < 1 ||
        std::max(width, height) > limits::kPatchSide_px.high || (channels != 1 && channels != 4))
        place.refuse("does not say a size that painted pixels may have", kMend);
    TileImage image(width, height, channels);
    std::string word;
    while (words >> word) {
        int tx = -1, ty = -1;
        char name[33] = {};
        if (std::sscanf(word.c_str(), "%d,%d:%32[0-9a-f]", &tx, &ty, name) != 3 || std::strlen(name) != 32 ||
            word.size() != word.find(':') + 33 || tx < 0 || ty < 0 || tx >= image.across() ||
            ty >= image.down())
            place.refuse("'" + word.substr(0, 48) + "' does not name a square of it", kMend);
        image.set_tile(tx, ty, std::make_shared<const Tile>(name, channels, nullptr));
    }
    return image;
}

const char* TilesCode::fault(const TileImage&) {
    return nullptr; // what sizes go together is a rule of the patch
}

} // namespace porb
