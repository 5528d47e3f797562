// project: the document as a plain value: media, shots, deliverables; its file (.porb), edits and undo,
// autosave, relinking. An edit makes a new value; whoever renders holds one that nobody changes under them.
#pragma once

#include "media/info.h"
#include "media/spherical.h"
#include "media/writer.h"
#include "optics/rig.h"

#include <memory>
#include <optional>

namespace porb {

/// A file (or sequence) that the project uses, by an id of its own. `missing` is not saved.
struct Media {
    std::string id;
    MediaRef ref;
    std::string extra_json;
    bool operator==(const Media&) const = default;
};

/// What one camera of the rig contributes to a shot.
struct ShotCamera {
    std::string camera;     ///< id in the shot's rig
    std::string media;      ///< id in the project's media, or empty while none is assigned
    Seconds offset{0};      ///< source_time = shot_time + offset
    double reach_deg = 90;  ///< how far from its optical axis the lens is used
    double feather_deg = 4; ///< width of the transition to a neighbour, and of the fade at the reach
    bool used = true;
    std::string extra_json;
    bool operator==(const ShotCamera&) const = default;
};

/// One take from one rig with everything decided about it.
struct Shot {
    std::string id, name;
    Rig rig;
    std::vector<ShotCamera> cameras; ///< one for each camera of the rig, in its order
    FrameRate rate{30};
    Seconds in{0};
    std::optional<Seconds> out;  ///< nothing: to the end of the shortest source
    Turn orientation;            ///< shot directions become world directions by it
    double agree_distance_m = 0; ///< where all cameras agree; 0 stands for infinitely far
    std::string sound;           ///< id of the media whose sound is kept, or empty
    std::string extra_json;
    bool operator==(const Shot&) const = default;
};

enum class Container { mp4, mov, png_sequence, exr_sequence };

/// What is to be rendered.
struct Deliverable {
    std::string id, name;
    std::string shot; ///< id
    Container container = Container::mp4;
    VideoCodec codec = VideoCodec::h264;
    int depth = 8;
    int width = 3840; ///< of one eye
    SphereMapping mapping = SphereMapping::equirect;
    StereoLayout stereo = StereoLayout::mono;
    double crf = 18;
    std::int64_t bit_rate = 0; ///< bits a second; 0: by crf
    bool sound = true;
    std::filesystem::path path; ///< absolute; a pattern for sequences
    std::string extra_json;
    bool operator==(const Deliverable&) const = default;
};

struct Project {
    std::string name;
    std::vector<Media> media;
    std::vector<Shot> shots;
    std::vector<Deliverable> deliverables;
    std::string extra_json;
    bool operator==(const Project&) const = default;
};

using ProjectPtr = std::shared_ptr<const Project>;

const Media* find_media(const Project& project, std::string_view id);
const Shot* find_shot(const Project& project, std::string_view id);
Shot* find_shot(Project& project, std::string_view id);
const ShotCamera* find_camera(const Shot& shot, std::string_view camera);

/// The id of the media with that reference, added when it is not there yet.
std::string add_media(Project& project, const MediaRef& ref);

/// A shot for `rig`, its cameras without media, reach and feather at their defaults.
Shot shot_for_rig(const Rig& rig, std::string name);
/// Makes the shot's camera list follow its rig again, keeping what is known of cameras that stay.
void match_cameras_to_rig(Shot& shot);
/// The reach a careful person starts from: all the lens sees, rounded down to half a degree.
double default_reach_deg(const Lens& lens);

/// Reads and writes `.porb` JSON (docs/project-file.md). Paths inside are relative to the project's folder
/// where that stays short. Media need not exist. Throws Error with the JSON path.
Project parse_project(std::string_view json_text, const std::filesystem::path& file);
std::string project_to_text(const Project& project, const std::filesystem::path& file);
Project load_project(const std::filesystem::path& file);
void save_project(const Project& project, const std::filesystem::path& file);

/// Media whose files are not there.
std::vector<std::string> missing_media(const Project& project);
/// Points one medium to another file, and every other missing one whose file is found in the same folder.
Project relinked(const Project& project, std::string_view media_id, const std::filesystem::path& file);

} // namespace porb
