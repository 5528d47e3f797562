#include "media/info.h"

#include "base/error.h"
#include "media/av.h"
#include "media/curves.h"
#include "media/sequence.h"
#include "media/still.h"
#include "media/video.h"

#include <algorithm>
#include <cctype>

namespace porb {

namespace {
bool has_exr_ending(const std::filesystem::path& path) {
    std::string e = path.extension().string();
    std::transform(e.begin(), e.end(), e.begin(), [](unsigned char c) { return char(std::tolower(c)); });
    return e == ".exr";
}

MediaInfo probe_still(const std::filesystem::path& file) {
    MediaInfo info;
    if (has_exr_ending(file)) {
        const ExrFacts facts = exr_facts(file);
        info.width = facts.width;
        info.height = facts.height;
        info.codec = "exr";
        info.pixel_format = "half";
        info.depth = 16;
        info.transfer = "linear";
    } else {
        info = VideoReader(file, 1).info();
    }
    info.frames = 1;
    info.sound.reset();
    info.variable_rate = false;
    info.remarks.clear();
    return info;
}
} // namespace

const char* name_of(MediaKind kind) {
    return kind == MediaKind::video ? "video" : kind == MediaKind::still ? "still" : "sequence";
}

MediaInfo probe(const MediaRef& ref) {
    if (ref.kind == MediaKind::video) return VideoReader(ref.path, 1).info();
    if (ref.kind == MediaKind::still) {
        MediaInfo info = probe_still(ref.path);
        info.ref = ref;
        info.duration = Rational(0);
        return info;
    }
    const NumberedFiles files = find_numbered_files(ref.path);
    MediaInfo info = probe_still(numbered_file(ref.path, files.first));
    info.ref = ref;
    info.rate = ref.sequence_rate;
    info.first_number = files.first;
    info.frames = files.last - files.first + 1;
    info.duration = Rational(info.frames) / ref.sequence_rate;
    if (files.missing > 0)
        info.remarks.push_back(std::to_string(files.missing) + " of " + std::to_string(info.frames) +
                               " numbered pictures are missing");
    return info;
}

MediaRef media_ref_for(const std::filesystem::path& path) {
    const std::string name = path.filename().string();
    if (name.find('%') != std::string::npos && !std::filesystem::exists(path)) {
        check_pattern(path);
        return {path, MediaKind::sequence, FrameRate(30)};
    }
    std::string ending = path.extension().string();
    std::transform(ending.begin(), ending.end(), ending.begin(),
                   [](unsigned char c) { return char(std::tolower(c)); });
    const bool still = is_still_name(path) || ending == ".svg"; // which is read, never written
    return {path, still ? MediaKind::still : MediaKind::video, FrameRate(30)};
}

void quiet_media_libraries() {
    av_log_set_level(AV_LOG_QUIET);
    quiet_colour_library();
}

} // namespace porb
