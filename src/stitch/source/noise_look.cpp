#include "stitch/source/noise_look.h"

#include <algorithm>

namespace porb {

std::optional<NoiseLook> look_at_noise(MediaLibrary& library, const Project& project, const Shot& shot,
                                       const std::string& camera, Seconds time, Region part) {
    const auto use = std::find_if(shot.cameras.begin(), shot.cameras.end(),
                                  [&](const ShotCamera& c) { return c.camera == camera; });
    const Media* media = use == shot.cameras.end() ? nullptr : find_media(project, use->media);
    if (!media) return std::nullopt;
    const Seconds shown = shown_time(*use, time, shot.timing.rate), frame = Rational(1) / shot.timing.rate;
    std::vector<Picture> before; // read in order of time, kept latest first
    for (int back = media->ref.kind == MediaKind::still ? 0 : Cleaner::kBefore; back > 0; --back)
        if (auto p = library.picture(media->ref, shown - Rational(back) * frame))
            before.insert(before.begin(), std::move(*p));
    const auto now = library.picture(media->ref, shown);
    if (!now) return std::nullopt;
    part.width = std::clamp(part.width, 1, now->width());
    part.height = std::clamp(part.height, 1, now->height());
    part.x = std::clamp(part.x, 0, now->width() - part.width);
    part.y = std::clamp(part.y, 0, now->height() - part.height);
    NoiseLook out;
    out.part = part;
    out.as_shot = cropped(*now, part.x, part.y, part.width, part.height);
    out.cleaned = denoised_part(*now, before, shot.look.denoise, part);
    out.noise_before = noise_of(out.as_shot);
    out.noise_after = noise_of(out.cleaned);
    return out;
}

} // namespace porb
