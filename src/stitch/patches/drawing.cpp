#include "stitch/patches/drawing.h"

#include "base/angle.h"
#include "base/error.h"
#include "picture/convert_simd.h"
#include "picture/transfer.h"
#include "project/span.h"
#include "stitch/patches/sampler.h"
#include "stitch/patches/soften.h"
#include "stitch/plan/plan_lens.h"

namespace porb {

namespace {

constexpr int kSoftSide = 256;     ///< pixels a side of what is smoothed: nothing finer is in it
constexpr int kMirrorSide = 1024;  ///< at most, of what is mirrored
constexpr int kFootageSide = 256;  ///< from which a place's light is taken
constexpr double kMirrored = 0.72; ///< of the square: what lies outside it is what is shown inside

std::shared_ptr<const LightTable> light_table(const PatchLightKey& light) {
    if (light.gain == Vec3(1, 1, 1) && light.offset.isZero()) return nullptr;
    auto out = std::make_shared<LightTable>();
    for (int c = 0; c < 3; ++c) {
        auto& table = out->value[std::size_t(c)];
        table.resize(1 << 16);
        for (std::size_t i = 0; i < table.size(); ++i) {
            const float v = float_from_half(Half(i));
            table[i] = std::isfinite(v) ? encoded_from_linear(float(light.gain[c]) * linear_from_encoded(v) +
                                                              float(light.offset[c]))
                                        : 0;
        }
    }
    return out;
}

/// The mean of linear light in each cell of a small square of footage, soft.
TileImage small_light(const Picture& footage) {
    Picture p = footage;
    while (p.width() > kReferenceSide) p = halved(p);
    return tiles_of(p);
}

/// now / reference in linear light, where both show something.
std::shared_ptr<const TileImage> ratio_of(const TileImage& now, const TileImage& reference, double strength) {
    auto out = std::make_shared<TileImage>(kReferenceSide, kReferenceSide, 4);
    TileImage::Edit edit(*out);
    constexpr float kFloor = 0.01f; ///< of linear light: darker places tell nothing
    for (int y = 0; y < kReferenceSide; ++y)
        for (int x = 0; x < kReferenceSide; ++x) {
            Half* to = edit.pixel(x, y);
            // A wide mean: fine detail of the footage, noise and what moves on the floor are not shadows.
            constexpr int kReach = 3;
            std::array<float, 4> a{}, b{};
            for (int j = -kReach; j <= kReach; ++j)
                for (int i = -kReach; i <= kReach; ++i) {
                    const int px = std::clamp(x + i, 0, kReferenceSide - 1),
                              py = std::clamp(y + j, 0, kReferenceSide - 1);
                    for (int c = 0; c < 3; ++c) {
                        a[std::size_t(c)] += linear_from_encoded(now.at(px, py, c));
                        b[std::size_t(c)] += linear_from_encoded(reference.at(px, py, c));
                    }
                    a[3] += now.at(px, py, 3), b[3] += reference.at(px, py, 3);
                }
            constexpr float kAll = float((2 * kReach + 1) * (2 * kReach + 1));
            const bool told = a[3] > 0.5f * kAll && b[3] > 0.5f * kAll;
            for (std::size_t c = 0; c < 3; ++c) {
                const float r = told ? (a[c] / kAll + kFloor) / (b[c] / kAll + kFloor) : 1;
                to[c] = half_from_float(1 + float(strength) * (std::clamp(r, 0.2f, 5.0f) - 1));
            }
            to[3] = half_from_float(1);
        }
    return out;
}

} // namespace

bool shows(const Patch& patch, Seconds time) {
    return presence_at(patch, time) > 0 && place_at(patch, time).opacity > 0;
}

PatchDrawer::PatchDrawer(const std::shared_ptr<CacheBound>& bound) : pictures_(bound), warps_(bound) {}

std::shared_ptr<const PatchWarp> PatchDrawer::warp(const WarpKey& key, const PatchContent& content,
                                                   MediaLibrary& library) {
    const auto there = warps_.find(key);
    if (there && (*there)->content == content) return *there;
    auto made = std::make_shared<const PatchWarp>(
        warp_patch(key, content, there ? there->get() : nullptr, library.pool()));
    warps_.keep(key, made, made->bytes());
    return made;
}

std::optional<PatchContent> PatchDrawer::content_of(const Project& project, const Shot& shot,
                                                    const Patch& patch, const PatchPlacement& placement,
                                                    Seconds time, const View& view, MediaLibrary& library,
                                                    const Footage& footage) {
    PatchContent out{patch.pixels, patch.mask, patch.feather_deg, patch.disc};
    if (patch.kind == PatchKind::picture) {
        const Media* media = find_media(project, patch.media);
        if (!media) return std::nullopt;
        // It begins with the patch; what is shorter stays at its last picture.
        Seconds at = time - patch.from.value_or(shot.timing.in);
        if (media->ref.kind == MediaKind::still || at < Seconds(0)) at = Seconds(0);
        if (media->ref.kind != MediaKind::still) {
            const MediaInfo info = library.info(media->ref);
            const Seconds last = info.duration - Rational(1) / info.rate;
            at = nearest_frame_time(std::min(at, std::max(last, Seconds(0))), info.rate);
        }
        const auto tiles = pictures_.get(
            {media->ref, at},
            [&] {
                const auto picture = library.picture(media->ref, at);
                if (!picture)
                    throw Error("shows nothing", media->ref.path.string(),
                                "Choose another picture for patch '" + patch.name + "', or remove it");
                return std::make_shared<const TileImage>(tiles_of(*picture));
            },
            [](const auto& t) { return t->tile_count() * sizeof(Half) * 4 * Tile::kSide * Tile::kSide; });
        out.pixels = *tiles;
    } else if (patch.kind == PatchKind::soften) {
        const bool mirror = patch.soften == SoftenKind::mirror;
        View square = patch_view(placement, mirror ? std::min(patch.resolution, kMirrorSide) : kSoftSide);
        square.eye = view.eye;
        square.patches = false;
        const Picture below = footage(square);
        if (mirror) {
            out.pixels = tiles_of(mirrored_inwards(below, kMirrored));
        } else {
            std::vector<float> hidden(std::size_t(kSoftSide) * kSoftSide);
            const double feather = radians(patch.feather_deg) / placement.half_width;
            std::optional<SoftMask> mask;
            if (!patch.mask.empty()) mask.emplace(patch.mask, feather);
            for (int y = 0; y < kSoftSide; ++y)
                for (int x = 0; x < kSoftSide; ++x) {
                    const Vec2 at(2 * (x + 0.5) / kSoftSide - 1, 2 * (y + 0.5) / kSoftSide - 1);
                    const double inside = patch.disc ? 1 - at.norm() : 1 - at.cwiseAbs().maxCoeff();
                    // Some of the square's rim is its surroundings.
                    const double margin = std::max(feather, 0.06);
                    hidden[std::size_t(y * kSoftSide + x)] = mask ? std::min(1.0f, 3 * mask->at(at))
                                                             : inside > margin ? 1.0f
                                                                               : 0.0f;
                }
            out.pixels = tiles_of(smoothed_over(below, hidden));
        }
    }
    if (out.pixels.is_clear()) return std::nullopt;
    return out;
}

std::vector<DrawnPatch> PatchDrawer::gather(const Project& project, const Shot& shot, Seconds time,
                                            const View& view, MediaLibrary& library, const Footage& footage,
                                            const Cancel& cancel) {
    std::vector<DrawnPatch> out;
    for (const Patch& patch : shot.patches) {
        if (!shows(patch, time)) continue;
        cancel.check();
        const PatchKey place = place_at(patch, time);
        const PatchPlacement placement = placement_of(shot, patch, place, time, view.eye);
        const auto content = content_of(project, shot, patch, placement, time, view, library, footage);
        if (!content) continue;
        DrawnPatch drawn;
        drawn.key = {placement, content->feather_deg, content->disc, view};
        drawn.key.view.eye = Eye::mono; // what matters of it is in the placement
        drawn.warp = warp(drawn.key, *content, library);
        if (drawn.warp->straight.empty()) continue;
        drawn.opacity = float(presence_at(patch, time) * place.opacity);
        drawn.light = light_table(light_at(patch, time));
        if (patch.shadows > 0 && !patch.reference.empty()) {
            View square = patch_view(placement, kFootageSide);
            square.eye = view.eye;
            square.patches = false;
            drawn.ratio = ratio_of(small_light(footage(square)), patch.reference, patch.shadows);
        }
        out.push_back(std::move(drawn));
    }
    return out;
}

void draw_patches(std::span<const DrawnPatch> patches, int begin, int end, Picture& out) {
    for (const DrawnPatch& patch : patches) {
        const PatchWarp& warp = *patch.warp;
        std::optional<TileSampler> ratio;
        std::optional<TargetMap> map;
        if (patch.ratio) ratio.emplace(*patch.ratio, 0), map.emplace(patch.key.view.target);
        const Region region = whole_region(patch.key.view);
        const int from = std::max(begin, warp.y), to = std::min(end, warp.y + warp.straight.height());
        std::vector<float> over, under;
        for (int y = from; y < to; ++y) {
            const auto row = std::size_t(y - warp.y);
            for (std::size_t r = warp.row[row]; r < warp.row[row + 1]; ++r) {
                const PatchWarp::Run& run = warp.runs[r];
                const auto halves = std::size_t(run.to - run.from) * 4;
                const Half* top = warp.straight.row(y - warp.y) + 4 * run.from;
                Half* pixels = out.row(y) + 4 * (warp.x + run.from);
                if (run.opaque && patch.opacity == 1 && !patch.light && !ratio) {
                    std::copy_n(top, halves, pixels);
                    continue;
                }
                over.resize(halves), under.resize(halves);
                simd::floats_from_halves(top, over.data(), halves);
                simd::floats_from_halves(pixels, under.data(), halves);
                for (std::size_t i = 0; i < halves; i += 4) {
                    float* c = over.data() + i;
                    if (patch.light)
                        for (std::size_t k = 0; k < 3; ++k) c[k] = patch.light->value[k][top[i + k]];
                    if (ratio) {
                        const int x = run.from + int(i / 4) + warp.x;
                        const auto d = map->direction({x + region.x + 0.5, y + region.y + 0.5});
                        const auto at = d ? square_place(patch.key.placement, *d) : std::nullopt;
                        if (!at) continue;
                        const auto q = ratio->at<4>(ratio->pixel(*at), true);
                        if (q[3] > 0.1f)
                            for (std::size_t k = 0; k < 3; ++k)
                                c[k] = encoded_from_linear(linear_from_encoded(c[k]) * q[k] / q[3]);
                    }
                }
                for (std::size_t i = 0; i < halves; i += 4) {
                    const float a = patch.opacity * over[i + 3], b = 1 - a;
                    for (std::size_t k = 0; k < 3; ++k) under[i + k] = a * over[i + k] + b * under[i + k];
                    under[i + 3] = a + b * under[i + 3];
                }
                simd::halves_from_floats(under.data(), pixels, halves);
            }
        }
    }
}

} // namespace porb
