#include "patch/exchange.h"

#include "base/error.h"
#include "base/file.h"
#include "base/parallel.h"
#include "picture/convert.h"
#include "picture/transfer.h"
#include "project/limits.h"
#include "stitch/patches/warp.h"

#include <fmt/format.h>

namespace porb {

namespace {

std::string ending_of(const std::filesystem::path& path) {
    std::string e = path.extension().string();
    std::transform(e.begin(), e.end(), e.begin(), [](unsigned char c) { return char(std::tolower(c)); });
    return e;
}

enum class Kind { open_raster, pages, exr };
std::optional<Kind> kind_of(const std::filesystem::path& path) {
    const std::string e = ending_of(path);
    if (e == ".ora") return Kind::open_raster;
    if (e == ".tif" || e == ".tiff") return Kind::pages;
    if (e == ".exr") return Kind::exr;
    return std::nullopt;
}

/// A mask as grey on black, opaque: paint programs show it, and nothing of it is lost where it is black.
Picture grey_of_mask(const TileImage& mask) {
    Picture p = picture_of(mask);
    for (int y = 0; y < p.height(); ++y)
        for (int x = 0; x < p.width(); ++x) {
            const float v = pixel_at(p, x, y).a;
            set_pixel(p, x, y, {v, v, v, 1});
        }
    return p;
}
TileImage mask_of_grey(const Picture& grey) {
    Picture p(grey.width(), grey.height());
    for (int y = 0; y < p.height(); ++y)
        for (int x = 0; x < p.width(); ++x) {
            const Rgba c = pixel_at(grey, x, y);
            const float v = std::clamp(c.g, 0.0f, 1.0f); // premultiplied: nothing is black
            set_pixel(p, x, y, {v, v, v, v});
        }
    return mask_of(p);
}

/// What a file of that kind holds of a picture.
std::vector<std::uint16_t> words_in_file(const Picture& p, Kind kind) {
    const std::ptrdiff_t stride = std::ptrdiff_t(p.width()) * 4;
    std::vector<std::uint16_t> words(std::size_t(stride) * std::size_t(p.height()));
    if (kind != Kind::exr) {
        words_from_rgba(p, words.data(), stride);
        // The colour of nothing is nobody's.
        for (std::size_t i = 0; i < words.size(); i += 4)
            if (words[i + 3] == 0) words[i] = words[i + 1] = words[i + 2] = 0;
        return words;
    }
    for (int y = 0; y < p.height(); ++y)
        std::copy_n(p.row(y), stride, words.data() + std::size_t(y) * std::size_t(stride));
    return words;
}

/// `came` with the pixels of `own` wherever a file of `own` holds the same.
Picture merged(const Picture& own, const Picture& came, Kind kind) {
    // Once through the file's own numbers and back, as `came` went.
    const std::ptrdiff_t stride = std::ptrdiff_t(own.width()) * 4;
    Picture through = own;
    if (kind == Kind::exr) {
        through = exr_round(own);
    } else {
        const auto words = words_in_file(own, kind);
        through = Picture(own.width(), own.height());
        rgba_from_words(words.data(), stride, through);
    }
    const auto a = words_in_file(through, kind), b = words_in_file(came, kind);
    Picture out(own.width(), own.height());
    for (int y = 0; y < own.height(); ++y)
        for (int x = 0; x < own.width(); ++x) {
            const std::size_t i = std::size_t(y) * std::size_t(stride) + std::size_t(x) * 4;
            const bool same = std::equal(a.begin() + std::ptrdiff_t(i), a.begin() + std::ptrdiff_t(i) + 4,
                                         b.begin() + std::ptrdiff_t(i));
            std::copy_n((same ? own : came).row(y) + 4 * x, 4, out.row(y) + 4 * x);
        }
    return out;
}

const Picture* find(const std::vector<NamedLayer>& layers, const char* name) {
    for (const auto& l : layers)
        if (l.name == name) return &l.picture;
    return nullptr;
}

} // namespace

void check_layer_size(std::int64_t width, std::int64_t height, const std::filesystem::path& path) {
    if (width < 1 || height < 1 || width > limits::kPatchSide_px.high || height > limits::kPatchSide_px.high)
        throw Error(fmt::format("is {} x {} pixels", width, height), path.string(),
                    fmt::format("A patch's square holds at most {:.0f} a side", limits::kPatchSide_px.high));
}

PatchLayers layers_of(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                      Seconds time, const Cancel& cancel) {
    PatchLayers out;
    out.footage = moment_plate(composer, project, shot, patch, time, cancel);
    if (!patch.plate.empty()) out.plate = picture_of(patch.plate);
    out.layer = patch.pixels.empty() ? picture_of(TileImage(patch.resolution, patch.resolution, 4))
                                     : picture_of(patch.pixels);
    if (!patch.mask.empty()) out.mask = grey_of_mask(patch.mask);
    return out;
}

bool is_layered_name(const std::filesystem::path& path) {
    return kind_of(path).has_value();
}

bool is_plain_picture(const std::filesystem::path& path) {
    const auto kind = kind_of(path);
    if (!kind || *kind == Kind::open_raster) return false;
    return *kind == Kind::pages ? !has_named_page(path) : read_layers(path).layer.empty();
}

void write_layers(const PatchLayers& layers, const std::filesystem::path& path) {
    const auto kind = kind_of(path);
    if (!kind)
        throw Error("is no file of layers that we write", path.string(),
                    "End the name in .ora, .tif or .exr");
    std::vector<NamedLayer> named;
    for (const auto& [name, picture] :
         {std::pair("footage", &layers.footage), std::pair("plate", &layers.plate),
          std::pair("patch", &layers.layer), std::pair("mask", &layers.mask)})
        if (!picture->empty()) named.push_back({name, *picture});
    if (*kind == Kind::open_raster)
        write_open_raster(named, path);
    else if (*kind == Kind::pages)
        write_pages(named, path);
    else
        write_layered_exr(named, path);
}

PatchLayers read_layers(const std::filesystem::path& path) {
    const auto kind = kind_of(path);
    if (!kind) throw Error("is no file of layers that we read", path.string(), "Use .ora, .tif or .exr");
    must_be_regular_file(path);
    const auto layers = *kind == Kind::open_raster ? read_open_raster(path)
                        : *kind == Kind::pages     ? read_pages(path)
                                                   : read_layered_exr(path);
    PatchLayers out;
    for (const auto& [name, picture] : {std::pair("footage", &out.footage), std::pair("plate", &out.plate),
                                        std::pair("patch", &out.layer), std::pair("mask", &out.mask)})
        if (const Picture* p = find(layers, name)) *picture = *p;
    return out;
}

Patch with_layers(const Patch& patch, const PatchLayers& came, const std::filesystem::path& file) {
    if (came.layer.empty())
        throw Error("has no layer named 'patch'", file.string(),
                    "Give the layer that is to be the patch that name, and save it again");
    if (came.layer.width() != came.layer.height())
        throw Error(fmt::format("is {} x {} pixels", came.layer.width(), came.layer.height()), file.string(),
                    "A patch is a square: scale the picture without cutting it");
    const int side = came.layer.width();
    if (side < limits::kPatchSide_px.low)
        throw Error(fmt::format("is {} pixels a side", side), file.string(),
                    fmt::format("A patch has at least {:.0f}", limits::kPatchSide_px.low));
    if (!came.mask.empty() && (came.mask.width() != side || came.mask.height() != side))
        throw Error("has a mask of another size than its patch", file.string(), "Scale all layers together");
    const Kind kind = kind_of(file).value_or(Kind::open_raster);
    Patch out = patch;
    if (side != patch.resolution) {
        set_resolution(out, side);
        out.pixels = tiles_of(came.layer);
        if (!came.mask.empty()) out.mask = mask_of_grey(came.mask);
    } else {
        const Picture own =
            patch.pixels.empty() ? picture_of(TileImage(side, side, 4)) : picture_of(patch.pixels);
        const TileImage taken = tiles_of(merged(own, came.layer, kind));
        if (!(patch.pixels.empty() && taken.is_clear()) && !(taken == patch.pixels)) out.pixels = taken;
        if (!came.mask.empty()) {
            const bool had = !patch.mask.empty();
            const Picture grey = had ? merged(grey_of_mask(patch.mask), came.mask, kind) : came.mask;
            const TileImage mask = mask_of_grey(grey);
            if (!had || !(mask == patch.mask)) out.mask = mask;
        }
    }
    // A patch that was made from elsewhere is painted from now on.
    if (out.kind != PatchKind::fill && !(out.pixels == patch.pixels)) out.kind = PatchKind::painted;
    return out;
}

Picture sphere_of(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                  Seconds time, int width) {
    // Drawn over nothing, as it would be over the footage.
    Shot alone = shot;
    alone.patches = {patch};
    alone.patches.front().on = true;
    View view;
    view.target = equirect_target(width);
    return composer.patches_alone(project, alone, time, view);
}

TileImage square_of(const Picture& sphere, const Shot& shot, const Patch& patch, Seconds time) {
    if (sphere.width() != 2 * sphere.height())
        throw Error(fmt::format("is {} x {} pixels", sphere.width(), sphere.height()), "the picture",
                    "A whole sphere is twice as wide as high");
    const PatchPlacement place = placement_of(shot, patch, place_at(patch, time), time, Eye::mono);
    const int side = patch.resolution;
    const TargetMap from(equirect_target(sphere.width()));
    Picture out(side, side);
    parallel_ranges(side, 8, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < side; ++x) {
                const Vec2 at =
                    *from.pixel(direction_of(place, {2 * (x + 0.5) / side - 1, 2 * (y + 0.5) / side - 1}));
                const double u = at.x() - 0.5, v = at.y() - 0.5;
                const int x0 = int(std::floor(u)), y0 = int(std::floor(v));
                const auto fx = float(u - x0), fy = float(v - y0);
                Rgba sum;
                for (int j = 0; j < 2; ++j)
                    for (int i = 0; i < 2; ++i) {
                        const Rgba c = pixel_at(sphere, (x0 + i + sphere.width()) % sphere.width(),
                                                std::clamp(y0 + j, 0, sphere.height() - 1));
                        const float w = (i ? fx : 1 - fx) * (j ? fy : 1 - fy);
                        sum.r += w * c.r, sum.g += w * c.g, sum.b += w * c.b, sum.a += w * c.a;
                    }
                set_pixel(out, x, y, sum);
            }
    });
    return tiles_of(out);
}

} // namespace porb
