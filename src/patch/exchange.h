#pragma once

#include "patch/plates.h"

namespace porb {

/// A patch's square as a paint program gets it: named layers of one file, all of one square size, from the
/// lowest up. Empty ones are left out. Colours before the shot's grade.
struct PatchLayers {
    Picture footage; ///< of a moment, below all patches: "footage"
    Picture plate;   ///< "plate"
    Picture layer;   ///< what was painted or filled, on nothing: "patch"
    Picture mask;    ///< white where the patch shows, on black: "mask"
};

/// The layers of a patch now; `side` pixels a side as the patch has them.
PatchLayers layers_of(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                      Seconds time, const Cancel& cancel = {});

/// Whether the name's ending is one of such files: .ora (OpenRaster), .tif or .tiff (a page a layer, named by
/// PageName), .exr (channels "patch.R" and so on, linear light).
bool is_layered_name(const std::filesystem::path& path);
/// Whether such a file holds one picture without names of layers, as any picture does.
bool is_plain_picture(const std::filesystem::path& path);
/// Writes them, 16 bits a channel (EXR: half floats); the name appears only when complete. Throws Error.
void write_layers(const PatchLayers& layers, const std::filesystem::path& path);
/// Reads what is there of the four names; others are passed over. Layers that a program cut to what is on
/// them come back at their place. Throws Error: what, where and how to mend it; nothing else happens then.
PatchLayers read_layers(const std::filesystem::path& path);

/// The patch with what came back: pixels that a file of the patch as it is would hold just so keep their own,
/// which are finer; all others are the file's. Another size becomes the patch's resolution. Throws Error
/// when there is no layer "patch", or it is no square.
Patch with_layers(const Patch& patch, const PatchLayers& came, const std::filesystem::path& file);

/// The patch alone as a transparent whole sphere `width` wide, and a sphere's picture as a patch's pixels.
Picture sphere_of(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                  Seconds time, int width);
TileImage square_of(const Picture& sphere, const Shot& shot, const Patch& patch, Seconds time);

// One kind of file each; exchange.cpp says which.
struct NamedLayer {
    std::string name;
    Picture picture;
};
void write_open_raster(const std::vector<NamedLayer>& layers, const std::filesystem::path& path);
std::vector<NamedLayer> read_open_raster(const std::filesystem::path& path);
void write_pages(const std::vector<NamedLayer>& layers, const std::filesystem::path& path);
std::vector<NamedLayer> read_pages(const std::filesystem::path& path);
/// Whether one of a TIFF's pages bears one of the four names.
bool has_named_page(const std::filesystem::path& path);
void write_layered_exr(const std::vector<NamedLayer>& layers, const std::filesystem::path& path);
std::vector<NamedLayer> read_layered_exr(const std::filesystem::path& path);
/// A picture as it comes back from such a file that nobody changed.
Picture exr_round(const Picture& picture);
/// Throws Error unless such a size may be held.
void check_layer_size(std::int64_t width, std::int64_t height, const std::filesystem::path& path);

} // namespace porb
