#include "project/rig_change.h"

#include <map>

namespace porb {

namespace {

/// Old ids to new ones.
using Renamed = std::map<std::string, std::string, std::less<>>;

Renamed same_cameras(const Rig& old, const Rig& next) {
    const auto alike = [](const Camera& a, const Camera& b) {
        return a.lens.width == b.lens.width && a.lens.height == b.lens.height;
    };
    Renamed out;
    std::vector<const Camera*> open;
    for (const auto& c : next.cameras) {
        const Camera* same = find_camera(old, c.id);
        if (same && alike(*same, c))
            out[c.id] = c.id;
        else
            open.push_back(&c);
    }
    for (const auto& c : old.cameras) {
        if (out.contains(c.id)) continue;
        const auto it = std::find_if(open.begin(), open.end(), [&](const Camera* o) { return alike(c, *o); });
        if (it == open.end()) continue;
        out[c.id] = (*it)->id;
        open.erase(it);
    }
    return out;
}

/// A name that no camera has stands for one that is gone: drop_dangling() takes what bears it away.
const std::string kGone(1, '\x01');

void rename(std::string& camera, const Renamed& renamed) {
    if (camera.empty()) return;
    const auto it = renamed.find(camera);
    camera = it == renamed.end() ? kGone : it->second;
}

std::string counted(std::size_t n, const char* one, const char* many) {
    return n == 1 ? std::string("1 ") + one : std::to_string(n) + " " + many;
}

/// Found lines name cameras by their place in the list.
void renumber_lines(Shot& shot, const std::vector<int>& places, std::vector<std::string>& words) {
    if (shot.seams.seam_lines->keys.empty()) return;
    const auto fits = [&](const LineKey& key) {
        return std::all_of(key.who->begin(), key.who->end(), [&](std::uint8_t c) {
            return c == LineKey::kNobody || (c < places.size() && places[c] >= 0);
        });
    };
    if (!std::all_of(shot.seams.seam_lines->keys.begin(), shot.seams.seam_lines->keys.end(), fits)) {
        shot.seams.seam_lines = SeamLines();
        words.push_back("the lines found are dropped: a camera that they use is gone");
        return;
    }
    bool moved = false;
    for (std::size_t i = 0; i < places.size(); ++i) moved |= places[i] >= 0 && places[i] != int(i);
    if (!moved) return;
    shot.seams.seam_lines.edit([&](SeamLines& lines) {
        for (auto& key : lines.keys)
            key.who.edit([&](std::vector<std::uint8_t>& who) {
                for (auto& c : who)
                    if (c != LineKey::kNobody) c = std::uint8_t(places[c]);
            });
    });
}

/// Solves of a rig of the same cameras stay, under the new names.
void rename_solves(Shot& shot, const Renamed& renamed, std::size_t cameras, std::vector<std::string>& words) {
    const auto dropped = shot.calibration.solves.erase_if([&](const KeptSolve& k) {
        return k.rig.cameras.size() != cameras ||
               std::any_of(k.rig.cameras.begin(), k.rig.cameras.end(),
                           [&](const Camera& c) { return !renamed.contains(c.id); });
    });
    if (dropped > 0) words.push_back(counted(dropped, "kept solve is", "kept solves are") + " dropped");
    for (auto& k : shot.calibration.solves) {
        for (auto& c : k.rig.cameras) rename(c.id, renamed);
        for (auto& v : k.values) rename(v.camera, renamed);
    }
}

} // namespace

std::vector<std::string> drop_dangling(Shot& shot) {
    std::vector<std::string> words;
    const auto gone = [&](const std::string& id) { return !find_camera(shot.rig, id); };
    const auto tell = [&](std::size_t n, const char* one, const char* many) {
        if (n > 0) words.push_back(counted(n, one, many) + " dropped with the camera");
    };
    std::string here_a, here_b; // the point before was between these two, which are there
    const auto bad_point = [&](const ControlPoint& p) {
        if (p.a == here_a && p.b == here_b) return false;
        if (gone(p.a) || gone(p.b)) return true;
        here_a = p.a, here_b = p.b;
        return false;
    };
    if (std::any_of(shot.calibration.points->begin(), shot.calibration.points->end(), bad_point)) {
        std::size_t n = 0;
        shot.calibration.points.edit([&](ControlPoints& list) { n = std::erase_if(list, bad_point); });
        tell(n, "control point is", "control points are");
    }
    tell(std::erase_if(shot.calibration.lines, [&](const LineMark& l) { return gone(l.camera); }),
         "drawn line is", "drawn lines are");
    tell(std::erase_if(shot.calibration.regions,
                       [&](const PointRegion& r) { return !r.camera.empty() && gone(r.camera); }),
         "region is", "regions are");
    for (auto& s : shot.seams.shelters)
        if (!s.camera.empty() && gone(s.camera)) {
            s.camera.clear();
            words.push_back("shelter '" + s.name + "' now comes from the camera that sees it best");
        }
    tell(std::erase_if(shot.seams.flow.seams, [&](const SeamFlow& s) { return gone(s.a) || gone(s.b); }),
         "seam's own settings are", "seams' own settings are");
    if (!shot.colour.match.reference.empty() && gone(shot.colour.match.reference)) {
        shot.colour.match.reference.clear();
        words.push_back("colours are matched to the mean of all: the reference is gone");
    }
    if (shot.calibration.motion && !shot.calibration.motion->camera.empty() &&
        gone(shot.calibration.motion->camera)) {
        shot.calibration.motion->camera.clear();
        words.push_back("the motion record counts as in the rig's own axes: its camera is gone");
    }
    if (shot.seams.crossings) {
        CrossingScan scan = **shot.seams.crossings;
        const std::size_t n =
            std::erase_if(scan.crossings, [&](const Crossing& c) { return gone(c.a) || gone(c.b); });
        tell(n, "crossing is", "crossings are");
        if (n > 0) shot.seams.crossings = Shared(std::move(scan));
    }
    return words;
}

std::vector<std::string> change_rig(Shot& shot, const Rig& rig) {
    const Renamed renamed = same_cameras(shot.rig, rig);
    std::vector<std::string> words;
    for (const auto& [from, to] : renamed)
        if (from != to) words.push_back("camera " + from + " is now " + to);
    std::vector<int> places(shot.cameras.size(), -1);
    std::vector<ShotCamera> cameras;
    for (std::size_t i = 0; i < rig.cameras.size(); ++i) {
        const Camera& camera = rig.cameras[i];
        const auto from = std::find_if(renamed.begin(), renamed.end(),
                                       [&](const auto& pair) { return pair.second == camera.id; });
        ShotCamera use;
        use.reach_deg = default_reach_deg(camera.lens);
        if (from != renamed.end()) {
            const auto old = std::find_if(shot.cameras.begin(), shot.cameras.end(),
                                          [&](const ShotCamera& c) { return c.camera == from->first; });
            const Camera* lens = find_camera(shot.rig, from->first);
            if (old != shot.cameras.end() && lens) {
                places[std::size_t(old - shot.cameras.begin())] = int(i);
                const bool by_hand = old->reach_deg != default_reach_deg(lens->lens);
                const double usual = use.reach_deg;
                use = *old;
                use.reach_deg = by_hand ? std::min(old->reach_deg, usual) : usual;
            }
        }
        use.camera = camera.id;
        cameras.push_back(std::move(use));
    }
    for (std::size_t i = 0; i < shot.cameras.size(); ++i)
        if (places[i] < 0 && (!shot.cameras[i].media.empty() || !shot.cameras[i].shapes.empty()))
            words.push_back("camera " + shot.cameras[i].camera + " is gone, with its source" +
                            (shot.cameras[i].shapes.empty() ? "" : " and its shapes"));
    bool names_change = shot.rig.cameras.size() != rig.cameras.size();
    for (const auto& c : shot.rig.cameras) {
        const auto it = renamed.find(c.id);
        names_change |= it == renamed.end() || it->second != c.id;
    }
    if (names_change) {
        if (!shot.calibration.points->empty())
            shot.calibration.points.edit([&](ControlPoints& list) {
                for (auto& p : list) rename(p.a, renamed), rename(p.b, renamed);
            });
        for (auto& l : shot.calibration.lines) rename(l.camera, renamed);
        for (auto& r : shot.calibration.regions) rename(r.camera, renamed);
        for (auto& s : shot.seams.shelters) rename(s.camera, renamed);
        for (auto& s : shot.seams.flow.seams) rename(s.a, renamed), rename(s.b, renamed);
        rename(shot.colour.match.reference, renamed);
        if (shot.calibration.motion) rename(shot.calibration.motion->camera, renamed);
        if (shot.seams.crossings) {
            CrossingScan scan = **shot.seams.crossings;
            for (auto& c : scan.crossings) rename(c.a, renamed), rename(c.b, renamed);
            shot.seams.crossings = Shared(std::move(scan));
        }
    }
    rename_solves(shot, renamed, rig.cameras.size(), words);
    renumber_lines(shot, places, words);
    shot.rig = rig;
    shot.cameras = std::move(cameras);
    for (auto& w : drop_dangling(shot)) words.push_back(std::move(w));
    return words;
}

} // namespace porb
