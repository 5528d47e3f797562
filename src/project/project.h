// project: the document as a plain value: media, shots, deliverables; its file (.porb), edits and undo,
// autosave, relinking. An edit makes a new value; whoever renders holds one that nobody changes under them.
#pragma once

#include "media/info.h"
#include "media/spherical.h"
#include "media/writer.h"
#include "optics/rig.h"
#include "project/calibrating.h"
#include "project/colour.h"
#include "project/grade.h"
#include "project/patches.h"
#include "project/seams.h"
#include "project/stereo.h"

#include <memory>
#include <optional>

namespace porb {

/// A file (or sequence) that the project uses, by an id of its own. `missing` is not saved.
struct Media {
    std::string id;
    MediaRef ref;
    std::string extra_json; ///< members of its JSON that this version does not know, as everywhere
    bool operator==(const Media&) const = default;
};

/// Where a value of a camera came from: said beside it, and never lost by an edit elsewhere.
enum class OriginKind {
    assumed, ///< nothing was known: the usual for such a picture
    profile, ///< a profile of the library
    file,    ///< a calibration, a rig file, or a rig found inside a video
    found,   ///< measured from the pictures or the sound
    solve,   ///< from control points
    hand,    ///< typed or dragged
};
struct Origin {
    OriginKind kind = OriginKind::assumed;
    std::string detail; ///< the profile's or file's name, the method, in a few words
    bool operator==(const Origin&) const = default;
};

/// The values of a camera that have an origin of their own.
enum class CameraValue { kind, focal, centre, circle, distortion, turn, position, offset };
inline constexpr int kCameraValues = 8;

/// What one camera of the rig contributes to a shot.
struct ShotCamera {
    std::string camera;     ///< id in the shot's rig
    std::string media;      ///< id in the project's media, or empty while none is assigned
    Seconds offset{0};      ///< source_time = shot_time (1 + drift) + offset
    double drift_ppm = 0;   ///< how much faster than the shot's its clock runs, in millionths
    double reach_deg = 90;  ///< how far from its optical axis the lens is used
    double feather_deg = 4; ///< width of the transition to a neighbour, and of the fade at the reach
    bool used = true;
    bool lens_locked = false, pose_locked = false; ///< edits and solves leave them alone
    std::array<Origin, kCameraValues> origins;     ///< by CameraValue
    CameraColour colour;
    SharedList<Shape> shapes; ///< cut-outs and restores
    std::string extra_json;
    bool operator==(const ShotCamera&) const = default;
};

/// How a shot came to its agree distance.
enum class AgreeChoice {
    open,   ///< nobody has chosen one: a solve may
    solve,  ///< in the middle of solved depths; the next solve may change it
    chosen, ///< typed, or told to agree where the window looks
};

/// A named moment of a shot.
struct Marker {
    Seconds time{0};
    std::string name, note;
    std::string extra_json{};
    bool operator==(const Marker&) const = default;
};

/// The motion record that belongs to a shot: a video with a motion track, or a table beside it.
struct MotionSource {
    std::filesystem::path path;
    Seconds offset{0};  ///< record time = shot time + offset
    std::string camera; ///< in whose axes it was measured; empty: the rig's
    std::string extra_json{};
    bool operator==(const MotionSource&) const = default;
};

/// When a shot runs, and what is heard.
struct ShotTiming {
    FrameRate rate{30};
    Seconds in{0};
    std::optional<Seconds> out;  ///< nothing: to the end of the shortest source
    std::string sound;           ///< id of the media whose sound is kept, or empty
    std::vector<Marker> markers; ///< in order of time
    bool operator==(const ShotTiming&) const = default;
};

/// What its rig was solved from.
struct ShotCalibration {
    std::optional<Rig> profile; ///< what the rig started from, for comparing and going back
    std::optional<MotionSource> motion;
    Shared<ControlPoints> points;
    std::vector<LineMark> lines;
    std::vector<PointRegion> regions;
    SolveSettings solving;
    SharedList<KeptSolve> solves; ///< oldest first
    bool operator==(const ShotCalibration&) const = default;
};

/// How the sphere stands.
struct ShotLevelling {
    Turn orientation;                             ///< shot directions become world directions by it
    std::vector<OrientationKey> orientation_keys; ///< in order of time; when there are any, instead of it
    std::optional<Steady> steady;
    bool operator==(const ShotLevelling&) const = default;
};

/// What brings the cameras' colours together.
struct ShotColour {
    MatchSettings match;
    bool operator==(const ShotColour&) const = default;
};

/// How neighbours pass into each other.
struct ShotSeams {
    double agree_distance_m = 0; ///< where all cameras agree; 0 stands for infinitely far
    AgreeChoice agree_choice = AgreeChoice::open;
    FlowSettings flow;
    BlendSettings blend;
    SharedList<Shelter> shelters;
    Shared<SeamLines> seam_lines;
    std::optional<Shared<CrossingScan>> crossings; ///< nothing: not scanned yet
    bool operator==(const ShotSeams&) const = default;
};

/// How the finished picture looks.
struct ShotLook {
    Grade grade;
    Denoise denoise;
    bool operator==(const ShotLook&) const = default;
};

/// One take from one rig with everything decided about it.
struct Shot {
    std::string id, name;
    Rig rig;
    std::vector<ShotCamera> cameras; ///< one for each camera of the rig, in its order
    ShotTiming timing;
    ShotCalibration calibration;
    ShotLevelling levelling;
    ShotColour colour;
    ShotSeams seams;
    StereoSettings stereo;
    SharedList<Patch> patches; ///< the first lies lowest
    ShotLook look;
    std::string extra_json;
    bool operator==(const Shot&) const = default;
};

enum class Container { mp4, mov, png_sequence, exr_sequence };

/// How a deliverable holds the eyes.
enum class EyeLayout {
    mono,
    top_bottom,  ///< left above right
    left_right,  ///< left beside right
    apart,       ///< a file (or sequence) for each, "_left" and "_right" in its name
    views,       ///< views `left` and `right` of each EXR picture
    depth_below, ///< mono, and below it how near things are, as grey: for players that move with the head
};
/// How many eyes' pictures it shows.
inline int eyes_in(EyeLayout layout) {
    return layout == EyeLayout::mono || layout == EyeLayout::depth_below ? 1 : 2;
}
/// What a picture of that layout is to be tagged as.
StereoLayout stereo_of(EyeLayout layout);
/// Of a deliverable whose eyes are apart: the name (or pattern) of one eye's file.
std::filesystem::path eye_path(const std::filesystem::path& path, const char* eye);

/// What is to be rendered.
struct Deliverable {
    std::string id, name;
    std::string shot; ///< id
    Container container = Container::mp4;
    VideoCodec codec = VideoCodec::h264;
    int depth = 8;
    int width = 3840; ///< of one eye
    SphereMapping mapping = SphereMapping::equirect;
    EyeLayout stereo = EyeLayout::mono;
    double crf = 18;
    std::int64_t bit_rate = 0; ///< bits a second; 0: by crf
    bool sound = true;
    bool distances = false;       ///< of EXR sequences: metres beside the colours, channel Z
    bool distances_apart = false; ///< in a part of the file of their own
    std::filesystem::path path;   ///< absolute; a pattern for sequences
    std::string extra_json;
    bool operator==(const Deliverable&) const = default;
};

struct Project {
    std::string name;
    std::vector<Media> media;
    SharedList<Shot> shots;
    std::vector<Deliverable> deliverables;
    std::string extra_json;
    bool operator==(const Project&) const = default;
};

using ProjectPtr = std::shared_ptr<const Project>;

const Media* find_media(const Project& project, std::string_view id);
const Shot* find_shot(const Project& project, std::string_view id);
Shot* find_shot(Project& project, std::string_view id);
const ShotCamera* find_camera(const Shot& shot, std::string_view camera);

/// The moment of its source that a camera shows at a shot time, and the other way round.
Seconds source_time(const ShotCamera& camera, Seconds shot_time);
Seconds shot_time(const ShotCamera& camera, Seconds source_time);
/// The moment whose picture is shown: source_time, but a source that begins less than half a frame late shows
/// its first picture already, since offsets found to a fraction of a frame must not cost one.
Seconds shown_time(const ShotCamera& camera, Seconds shot_time, FrameRate rate);
/// The moment of the medium whose sound is kept at a shot time.
Seconds sound_time(const Shot& shot, Seconds shot_time);

/// The id of the media with that reference, added when it is not there yet.
std::string add_media(Project& project, const MediaRef& ref);

/// A shot for `rig`, its cameras without media, reach and feather at their defaults, closing parallax.
Shot shot_for_rig(const Rig& rig, std::string name);
/// Makes the shot's camera list follow its rig again, keeping what is known of cameras that stay.
void match_cameras_to_rig(Shot& shot);
/// The reach a careful person starts from: all the lens sees, rounded down to half a degree.
double default_reach_deg(const Lens& lens);

/// Throws Error for the first thing about `project` that is not allowed (project/limits.h, and the rules that
/// stand with the fields), in words: whatever passes can be saved and read again. Lists that `known_good`
/// shares are not looked at again. Some microseconds a camera; thread safe.
void validate(const Project& project, const Project* known_good = nullptr);

/// Reads and writes `.porb` JSON (docs/project-file.md). Paths inside are relative to the project's folder
/// where that stays short. Media need not exist. Throws Error with the JSON path, and writes nothing that it
/// would not read. What named cameras that the rig has not (earlier versions saved such) is left out, and
/// `remarks` says so.
Project parse_project(std::string_view json_text, const std::filesystem::path& file,
                      std::vector<std::string>* remarks = nullptr);
std::string project_to_text(const Project& project, const std::filesystem::path& file);
Project load_project(const std::filesystem::path& file, std::vector<std::string>* remarks = nullptr);
void save_project(const Project& project, const std::filesystem::path& file);

/// Lines as a file of their own ("pale-orbit/lines"), which the command line reads.
std::vector<LineMark> parse_lines(std::string_view json_text, const std::string& where);

/// A shot id that the project has not.
std::string free_shot_id(const Project& project);

/// Media whose files are not there.
std::vector<std::string> missing_media(const Project& project);
/// Points one medium to another file, and every other missing one whose file is found in the same folder.
Project relinked(const Project& project, std::string_view media_id, const std::filesystem::path& file);

} // namespace porb
