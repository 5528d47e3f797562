// The table of fields of patches (base/fields.h has how they work).
#pragma once

#include "base/fields.h"
#include "project/limits.h"
#include "project/patches.h"

namespace porb {

inline constexpr Word<PatchKind> kPatchKindWords[] = {{PatchKind::painted, "painted"},
                                                      {PatchKind::picture, "picture"},
                                                      {PatchKind::fill, "fill"},
                                                      {PatchKind::soften, "soften"}};
inline constexpr Word<PatchHold> kPatchHoldWords[] = {{PatchHold::world, "world"}, {PatchHold::rig, "rig"}};
inline constexpr Word<PatchSurface> kPatchSurfaceWords[] = {{PatchSurface::far, "far"},
                                                            {PatchSurface::level, "level"},
                                                            {PatchSurface::facing, "facing"},
                                                            {PatchSurface::sphere, "sphere"}};
inline constexpr Word<SoftenKind> kSoftenWords[] = {{SoftenKind::blur, "blur"},
                                                    {SoftenKind::mirror, "mirror"}};

/// Painted pixels: "none", or their size and the squares that are not clear, by the names of their files
/// (project/tile_store.h): "2048x2048x4 0,0:HASH 1,0:HASH".
struct TilesCode {
    static constexpr const char* kMend = "Remove it, and paint the place again";
    static std::string text(const TileImage& image);
    static TileImage parse(const JsonPlace& place);
    static const char* fault(const TileImage& image);
};

template <class V, Part<PatchKey> K>
void fields(V& v, K& k) {
    for (const char* key : {"time_s", "yaw_deg", "pitch_deg", "width_deg"}) v.must(key);
    v.seconds("time_s", k.time, limits::kTime_s);
    v.number("yaw_deg", k.yaw_deg, limits::kYaw_deg);
    v.number("pitch_deg", k.pitch_deg, limits::kPitch_deg);
    v.number("roll_deg", k.roll_deg, limits::kYaw_deg);
    v.number("width_deg", k.width_deg, limits::kPatchWidth_deg);
    v.number("opacity", k.opacity, limits::kShare);
    v.rest(k.extra_json);
}

template <class V, Part<PatchLightKey> K>
void fields(V& v, K& k) {
    for (const char* key : {"time_s", "gain"}) v.must(key);
    v.seconds("time_s", k.time, limits::kTime_s);
    v.numbers("gain", k.gain, limits::kPatchGain);
    v.numbers("offset", k.offset, limits::kPatchOffset);
    v.rest(k.extra_json);
}

template <class V, Part<Patch> P>
void fields(V& v, P& p) {
    v.must("keys");
    v.named(p.name);
    v.text("name", p.name, limits::kName);
    v.word("kind", p.kind, kPatchKindWords);
    v.flag("on", p.on);
    v.word("hold", p.hold, kPatchHoldWords);
    v.word("surface", p.surface, kPatchSurfaceWords);
    v.number("distance_m", p.distance_m, limits::kPatchDistance_m);
    v.seconds("from_s", p.from, limits::kTime_s);
    v.seconds("to_s", p.to, limits::kTime_s);
    v.rule([&] { return !p.from || !p.to || *p.from <= *p.to; }, "to_s", "lies before from_s",
           "Let the patch end after it begins");
    v.number("ease_s", p.ease_s, limits::kEase_s);
    v.list("keys", p.keys);
    v.check([&](const auto& c) { check_order(c, "keys", p.keys, true); });
    v.whole("resolution", p.resolution, limits::kPatchSide_px);
    v.template coded<TilesCode>("pixels", p.pixels);
    v.template coded<TilesCode>("plate", p.plate);
    v.template coded<TilesCode>("mask", p.mask);
    v.check([&](const auto& c) {
        for (const auto& [key, image, channels] :
             {std::tuple("pixels", &p.pixels, 4), std::tuple("plate", &p.plate, 4),
              std::tuple("mask", &p.mask, 1)}) {
            if (image->empty()) continue;
            if (image->width() != p.resolution || image->height() != p.resolution)
                c.refuse(key, "is not of the patch's resolution", TilesCode::kMend);
            if (image->channels() != channels)
                c.refuse(key, "has another number of channels", TilesCode::kMend);
        }
        if (!p.reference.empty() && (p.reference.width() != kReferenceSide ||
                                     p.reference.height() != kReferenceSide || p.reference.channels() != 4))
            c.refuse("reference", "has another size than such pictures have", "Remove it");
    });
    v.number("feather_deg", p.feather_deg, limits::kFeather_deg);
    v.flag("disc", p.disc);
    v.text("media", p.media, limits::kId);
    v.word("soften", p.soften, kSoftenWords);
    v.flag("follows_light", p.follows_light);
    v.list("light", p.light);
    v.check([&](const auto& c) { check_order(c, "light", p.light, false); });
    v.number("shadows", p.shadows, limits::kShare);
    v.template coded<TilesCode>("reference", p.reference);
    v.rest(p.extra_json);
}

} // namespace porb
