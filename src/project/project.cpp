#include "project/project.h"

#include "base/angle.h"
#include "base/utf8.h"
#include "media/sequence.h"
#include "project/limits.h"

#include <set>

namespace porb {

namespace {
template <class Items>
auto* find_by_id(Items& items, std::string_view id) {
    const auto it = std::find_if(items.begin(), items.end(), [&](const auto& item) { return item.id == id; });
    return it == items.end() ? nullptr : &*it;
}

bool is_there(const MediaRef& ref) {
    std::error_code code;
    if (ref.kind != MediaKind::sequence) return std::filesystem::is_regular_file(ref.path, code);
    try {
        return find_numbered_files(ref.path).last >= 0;
    } catch (const std::exception&) {
        return false;
    }
}
} // namespace

const Media* find_media(const Project& project, std::string_view id) {
    return find_by_id(project.media, id);
}
const Shot* find_shot(const Project& project, std::string_view id) {
    return find_by_id(project.shots, id);
}
Shot* find_shot(Project& project, std::string_view id) {
    for (std::size_t i = 0; i < project.shots.size(); ++i)
        if (std::as_const(project.shots)[i].id == id) return &project.shots[i];
    return nullptr;
}

const ShotCamera* find_camera(const Shot& shot, std::string_view camera) {
    for (const auto& c : shot.cameras)
        if (c.camera == camera) return &c;
    return nullptr;
}

Seconds source_time(const ShotCamera& camera, Seconds t) {
    if (camera.drift_ppm == 0) return t + camera.offset;
    return t + camera.offset + Rational::from_double(t.to_double() * camera.drift_ppm * 1e-6);
}

Seconds shot_time(const ShotCamera& camera, Seconds source) {
    const Seconds t = source - camera.offset;
    if (camera.drift_ppm == 0) return t;
    return Rational::from_double(t.to_double() / (1 + camera.drift_ppm * 1e-6));
}

Seconds shown_time(const ShotCamera& camera, Seconds t, FrameRate rate) {
    const Seconds at = source_time(camera, t);
    return at < Seconds(0) && Rational(-1, 2) / rate < at ? Seconds(0) : at;
}

Seconds sound_time(const Shot& shot, Seconds t) {
    for (const auto& c : shot.cameras)
        if (c.media == shot.timing.sound) return source_time(c, t);
    return t;
}

std::string free_shot_id(const Project& project) {
    for (int n = 1;; ++n)
        if (const std::string id = "shot-" + std::to_string(n); !find_shot(project, id)) return id;
}

std::string add_media(Project& project, const MediaRef& ref) {
    for (const auto& m : project.media)
        if (m.ref == ref) return m.id;
    // A name for people: a file's may be any bytes and of any length.
    const std::string stem = as_utf8(ref.path.stem().string().substr(0, limits::kId / 3));
    std::string id = stem;
    for (int n = 2; find_media(project, id); ++n) id = stem + " " + std::to_string(n);
    project.media.push_back({id, ref, {}});
    return id;
}

StereoLayout stereo_of(EyeLayout layout) {
    return layout == EyeLayout::top_bottom   ? StereoLayout::top_bottom
           : layout == EyeLayout::left_right ? StereoLayout::left_right
                                             : StereoLayout::mono;
}

std::filesystem::path eye_path(const std::filesystem::path& path, const char* eye) {
    std::string name = path.filename().string();
    auto at = name.find('%'); // of a pattern: before the point or stroke that leads to the number
    if (at != std::string::npos)
        while (at > 0 && (name[at - 1] == '.' || name[at - 1] == '_' || name[at - 1] == '-')) --at;
    else
        at = path.stem().string().size();
    return path.parent_path() / (name.substr(0, at) + "_" + eye + name.substr(at));
}

double default_reach_deg(const Lens& lens) {
    return std::floor(degrees(LensMap(lens).theta_max()) * 2) / 2;
}

Shot shot_for_rig(const Rig& rig, std::string name) {
    Shot shot;
    shot.id = "shot-1";
    shot.name = std::move(name);
    shot.rig = rig;
    shot.seams.flow.on = true; // without effect until the rig is solved
    shot.seams.flow.everywhere = true;
    match_cameras_to_rig(shot);
    return shot;
}

void match_cameras_to_rig(Shot& shot) {
    std::vector<ShotCamera> cameras;
    for (const auto& camera : shot.rig.cameras) {
        ShotCamera use;
        if (const ShotCamera* old = find_camera(shot, camera.id)) {
            use = *old;
        } else {
            use.camera = camera.id;
            use.reach_deg = default_reach_deg(camera.lens);
        }
        cameras.push_back(std::move(use));
    }
    const bool same =
        std::equal(cameras.begin(), cameras.end(), shot.cameras.begin(), shot.cameras.end(),
                   [](const ShotCamera& a, const ShotCamera& b) { return a.camera == b.camera; });
    if (!same && !shot.seams.seam_lines->keys.empty())
        shot.seams.seam_lines = SeamLines(); // they name cameras by number
    shot.cameras = std::move(cameras);
}

std::vector<std::string> missing_media(const Project& project) {
    std::vector<std::string> missing;
    for (const auto& m : project.media)
        if (!is_there(m.ref)) missing.push_back(m.id);
    return missing;
}

Project relinked(const Project& project, std::string_view media_id, const std::filesystem::path& file) {
    Project out = project;
    const auto folder = std::filesystem::absolute(file).parent_path();
    for (auto& m : out.media) {
        const auto before = m.ref.path;
        if (m.id == media_id) {
            m.ref.path = std::filesystem::absolute(file).lexically_normal();
        } else if (!is_there(m.ref)) {
            MediaRef moved = m.ref;
            moved.path = folder / m.ref.path.filename();
            if (is_there(moved)) m.ref = moved;
        }
        for (auto& s : out.shots) // a motion track moves with its movie
            if (s.calibration.motion && s.calibration.motion->path == before)
                s.calibration.motion->path = m.ref.path;
    }
    return out;
}

} // namespace porb
