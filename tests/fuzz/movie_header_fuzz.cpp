#include "base/error.h"
#include "media/spherical.h"

#include <cstdint>
#include <cstdlib>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    const std::string_view moov(reinterpret_cast<const char*>(data), size);
    porb::spherical_facts_of_movie_header(moov);
    try {
        const porb::SphericalTag tag{porb::SphereMapping::half_equirect, porb::StereoLayout::left_right};
        const std::string tagged = porb::tagged_movie_header(moov, tag, "fuzz");
        porb::spherical_facts_of_movie_header(tagged);
    } catch (const porb::Error&) {
    }
    return 0;
}
