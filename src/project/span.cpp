#include "project/span.h"

#include "base/error.h"

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
    return still ? Rational(1) / shot.rate : Seconds(0);
}

Span used_span(const Project& project, const Shot& shot, MediaLibrary& library) {
    const Seconds length = shot_length(project, shot, library);
    const Seconds in = std::clamp(shot.in, Seconds(0), length);
    const Seconds out = shot.out ? std::clamp(*shot.out, in, length) : length;
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
