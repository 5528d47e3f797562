#pragma once

#include "base/progress.h"

#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace porb {

enum class SphereMapping { equirect, half_equirect };
enum class StereoLayout { mono, top_bottom, left_right };
const char* name_of(SphereMapping mapping);
const char* name_of(StereoLayout layout);

/// What a finished picture is, for the files that can say so. Turned frames are not offered: pictures are
/// written upright and facing forward, which every player understands.
struct SphericalTag {
    SphereMapping mapping = SphereMapping::equirect;
    StereoLayout stereo = StereoLayout::mono;
    bool operator==(const SphericalTag&) const = default;
};

/// What an MP4 or MOV file says about itself, form by form.
struct SphericalFacts {
    std::optional<SphericalTag> v2; ///< sv3d (and st3d) boxes; stereo is mono without st3d
    bool has_st3d = false;
    std::optional<SphericalTag> v1;    ///< the XML in the uuid box
    std::vector<std::string> problems; ///< damaged or contradictory statements, for people
};

/// Writes both open forms into a finished MP4 or MOV: st3d and sv3d in the video sample entry ("Spherical
/// Video V2 RFC") and the uuid box with XML in the track ("Spherical Video RFC", version 1), replacing any
/// that are there. Media data is neither moved nor changed: the movie header is written anew at the end of
/// the file. Throws Error.
void tag_spherical_in_place(const std::filesystem::path& path, const SphericalTag& tag);

/// The same into a copy; `in` is left as it is and `out` appears only when complete.
void tag_spherical_copy(const std::filesystem::path& in, const std::filesystem::path& out,
                        const SphericalTag& tag, const Cancel& cancel = {});

/// Reads a file's statements. A file that is no MP4 has none. Never throws for damaged content: that is a
/// problem.
SphericalFacts read_spherical(const std::filesystem::path& path);

/// The movie header with both forms put in; the part of the work that needs no file. Throws Error naming
/// `where`.
std::string tagged_movie_header(std::string_view moov, const SphericalTag& tag, const std::string& where);
SphericalFacts spherical_facts_of_movie_header(std::string_view moov);

// Stills: the photo-sphere XMP ("Photo Sphere XMP Metadata"), in JPEG's APP1 and PNG's iTXt.
std::string photo_sphere_xmp(const SphericalTag& tag, int width, int height);
std::string jpeg_with_xmp(const std::string& jpeg, const std::string& xmp);
std::string png_with_xmp(const std::string& png, const std::string& xmp);
/// The mapping a JPEG or PNG states in its XMP, if any.
std::optional<SphericalTag> read_photo_sphere(const std::filesystem::path& path);

} // namespace porb
