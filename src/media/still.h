#pragma once

#include "media/info.h"
#include "media/spherical.h"
#include "picture/picture.h"

#include <span>

namespace porb {

/// Reads PNG, JPEG, TIFF or OpenEXR into the working format (EXR is taken as linear Rec. 709). Throws Error.
/// Pixels of an EXR that are not numbers are filled from their neighbours, and `mended` says how many they
/// were; what is brighter than a half can say is as bright as it can.
Picture read_still(const std::filesystem::path& path, BufferPool* pool = nullptr,
                   std::int64_t* mended = nullptr);

struct StillOptions {
    int depth = 8;                           ///< 8 or 16 for PNG and TIFF; JPEG is 8, EXR half float
    int jpeg_quality = 95;                   ///< 1 to 100
    std::optional<SphericalTag> spherical{}; ///< XMP in JPEG and PNG, envmap in EXR
    std::span<const float> metres{}; ///< channel Z of an EXR beside its colours, row by row; none: without it
    /// Of such an EXR: a part for colours and one for metres, each read without the other.
    bool parts = false;
    /// Of an EXR: the right eye's picture and metres, as views `left` and `right`; none: one picture.
    const Picture* right = nullptr;
    std::span<const float> right_metres{};
};

/// Writes by the name's ending, .png .jpg .jpeg .tif .tiff .exr; the name appears only when complete. PNG,
/// TIFF and EXR keep alpha where the picture has holes. Throws Error.
void write_still(const Picture& picture, const std::filesystem::path& path, const StillOptions& options = {});

/// A 16-bit grey PNG; `values` holds width x height, row by row. The name appears only when complete. Throws
/// Error.
void write_png_grey16(const std::vector<std::uint16_t>& values, int width, int height,
                      const std::filesystem::path& path);
/// Whether the ending names a still format we write.
bool is_still_name(const std::filesystem::path& path);

// The OpenEXR half, linear light.
Picture read_exr(const std::filesystem::path& path, BufferPool* pool, std::int64_t* mended);
void write_exr(const Picture& picture, const std::filesystem::path& path, bool latlong_environment,
               const StillOptions& options = {});
/// A single-channel float image ("Z"), for depth. `values` holds width x height metres, row by row.
void write_exr_depth(const std::vector<float>& values, int width, int height,
                     const std::filesystem::path& path);
/// Size in pixels and whether the file calls itself a latitude-longitude environment map.
struct ExrFacts {
    int width = 0, height = 0;
    bool latlong = false;
};
ExrFacts exr_facts(const std::filesystem::path& path);

} // namespace porb
