#include "project/span.h"

#include "base/error.h"

#include <fmt/format.h>

namespace porb {

Seconds shot_length(const Project& project, const Shot& shot, MediaLibrary& library) {
    std::optional<Seconds> end;
    bool still = false;
    for (const auto& use : shot.cameras) {
        const Media* media = use.used ? find_media(project, use.media) : nullptr;
        if (!media) continue;
        if (media->ref.kind == MediaKind::still) {
            still = true;
            continue;
        }
        try {
            const Seconds at = shot_time(use, library.info(media->ref).duration);
            end = end ? std::min(*end, at) : at;
        } catch (const Error&) {
            continue;
        }
    }
    if (end) return std::max(*end, Seconds(0));
    return still ? Rational(1) / shot.timing.rate : Seconds(0);
}

Seconds moment_of(const Project& project, const Shot& shot, MediaLibrary& library, Seconds time,
                  const std::string& where) {
    const Seconds length = shot_length(project, shot, library);
    if (length <= Seconds(0)) { // which source it is says more than a length of nothing
        for (const auto& use : shot.cameras)
            if (const Media* media = use.used ? find_media(project, use.media) : nullptr)
                (void)library.info(media->ref);
        throw Error("shows nothing: no camera in use has a source, or they have no moment in common",
                    "shot " + shot.name, "Give its cameras sources, or align them in time");
    }
    if (time < Seconds(0) || time >= length)
        throw Error("is outside the shot, which lasts " + fmt::format("{:.3f}", length.to_double()) + " s",
                    where, "Choose a time inside it");
    // Just before the end is the last frame.
    const bool past = !(nearest_frame_time(time, shot.timing.rate) < length);
    return past ? frame_time(frame_before(length, shot.timing.rate), shot.timing.rate) : time;
}

Span used_span(const Project& project, const Shot& shot, MediaLibrary& library) {
    const Seconds length = shot_length(project, shot, library);
    const Seconds in = std::clamp(shot.timing.in, Seconds(0), length);
    const Seconds out = shot.timing.out ? std::clamp(*shot.timing.out, in, length) : length;
    return {in, out};
}

std::vector<std::string> source_remarks(const Project& project, const Shot& shot,
                                        const MediaLibrary& library) {
    std::vector<std::string> out;
    for (const auto& use : shot.cameras) {
        const Media* media = find_media(project, use.media);
        const std::string remark = media ? library.remark(media->ref) : std::string();
        if (!remark.empty() && std::find(out.begin(), out.end(), remark) == out.end()) out.push_back(remark);
    }
    return out;
}

} // namespace porb
