#include "project/shot_media.h"

#include <algorithm>

namespace porb {

std::vector<MediaRef> used_media(const Project& project, const Shot& shot) {
    std::vector<MediaRef> out;
    for (const ShotCamera& use : shot.cameras) {
        const Media* media = use.used ? find_media(project, use.media) : nullptr;
        if (media && std::find(out.begin(), out.end(), media->ref) == out.end()) out.push_back(media->ref);
    }
    return out;
}

std::vector<MediaRef> used_videos(const Project& project, const Shot& shot) {
    auto out = used_media(project, shot);
    std::erase_if(out, [](const MediaRef& ref) { return ref.kind != MediaKind::video; });
    return out;
}

} // namespace porb
