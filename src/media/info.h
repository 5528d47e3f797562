// media: pictures and sound from files and back: probing, exact frames, stills, sequences, sound, writing,
// and what a file says about being a sphere. FFmpeg and OpenEXR stay behind these headers. Only local files
// are ever opened.
#pragma once

#include "base/rational.h"

#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace porb {

inline constexpr std::int64_t kMostPixels = 16384ll * 16384; ///< of one picture from outside

enum class MediaKind { video, still, sequence };
const char* name_of(MediaKind kind);

/// Before the path of a file with a curve, in MediaRef::curve.
inline const std::string kCurveFile = "file:";

/// Where pictures come from. A sequence is named by its pattern, "name.%04d.exr", and runs at
/// `sequence_rate`.
struct MediaRef {
    std::filesystem::path path;
    MediaKind kind = MediaKind::video;
    FrameRate sequence_rate{30};
    std::string curve{}; ///< of its pixels (media/curves.h): a name, or "file:" and a path; empty: as tagged
    bool operator==(const MediaRef&) const = default;
};

struct SoundInfo {
    std::string codec;
    int rate_hz = 0, channels = 0;
};

/// What a file turned out to be.
struct MediaInfo {
    MediaRef ref;
    int width = 0, height = 0; ///< as shown, after rotation
    int rotation_deg = 0;      ///< clockwise, applied to every picture
    std::string codec, pixel_format;
    int depth = 8; ///< bits a channel
    FrameRate rate{30};
    bool variable_rate = false;
    Seconds duration{0};
    bool duration_guessed = false; ///< of the container, which may go on after the last picture
    std::int64_t frames = 0;       ///< exact for sequences and stills, from the container otherwise
    std::int64_t first_number = 0; ///< sequences: the number of the first file
    std::string matrix = "bt709", transfer = "bt709", primaries = "bt709";
    bool full_range = false;
    std::optional<SoundInfo> sound;
    std::optional<std::int64_t> created_s; ///< seconds since 1970 at which recording began, as the file says
    std::string timecode;                  ///< of the first frame, "10:00:00:00", or empty
    std::string rig_text;                  ///< a rig file inside the metadata, or empty
    bool has_motion = false;               ///< a CAMM track
    std::vector<std::string> remarks;      ///< odd things worth a word, for people
};

/// The metadata entry that holds a rig file in videos.
inline constexpr const char* kRigEntry = "pale-orbit.rig";

/// Reads a file's headers (and its first frame's tags). Throws Error with what was expected and found.
MediaInfo probe(const MediaRef& ref);

/// The reference behind a name as people give it: a pattern or an existing numbered file's siblings are a
/// sequence when the name holds '%', otherwise a still or a video by its ending and content.
MediaRef media_ref_for(const std::filesystem::path& path);

/// Silences the log messages of the libraries below; call once at the start of a program.
void quiet_media_libraries();

} // namespace porb
