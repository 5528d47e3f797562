#pragma once

#include "optics/lens.h"
#include "optics/pose.h"

#include <filesystem>
#include <string>
#include <string_view>
#include <vector>

namespace porb {

/// Which eye a camera serves: a pair for 180 degrees has one of each, most rigs serve both with every camera.
enum class Eyes { both, left, right };

struct Camera {
    std::string id;
    Lens lens;
    Pose pose;
    Eyes eyes = Eyes::both;
    std::string extra_json; ///< members of the camera's JSON that this version does not know
    bool operator==(const Camera&) const = default;
};

struct Rig {
    std::string name;
    std::vector<Camera> cameras;
    std::string extra_json;
    bool operator==(const Rig&) const = default;
};

inline constexpr int kMostCameras = 64;

/// The camera with that id, or nullptr.
const Camera* find_camera(const Rig& rig, std::string_view id);
Camera* find_camera(Rig& rig, std::string_view id);
/// Its number within the rig. Throws Error for an unknown one.
std::size_t index_of(const Rig& rig, std::string_view id);

/// Reads rig JSON ("pale-orbit/rig", version 1). Throws Error with the JSON path of whatever is missing or
/// impossible; `where` names the file. Unknown members are kept and written again.
Rig parse_rig(std::string_view json_text, const std::string& where);
std::string rig_to_text(const Rig& rig);

Rig load_rig(const std::filesystem::path& path);
void save_rig(const Rig& rig, const std::filesystem::path& path);

/// A starting point when nothing is known: fisheyes whose circles fill pictures of that size; two are set
/// back to back, more stand in a ring. `circles_per_picture` is 1 or 2 (side by side).
Rig nominal_rig(int cameras, int picture_width, int picture_height, int circles_per_picture, double fov_deg);

/// Two fisheyes side by side that look ahead, 64 mm apart, one for each eye.
Rig nominal_pair(int picture_width, int picture_height, int circles_per_picture, double fov_deg);

/// Makes two cameras that look the same way (within 10 degrees) from 3 to 20 cm apart, and of which nobody
/// said which eye they serve, a left and a right one by where they stand. Says whether it did.
bool propose_eyes(Rig& rig);

} // namespace porb
