#include "base/error.h"
#include "optics/calibration.h"

#include <cstdint>
#include <cstdlib>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    try {
        const auto c =
            porb::parse_calibration({reinterpret_cast<const char*>(data), size}, "fuzz", {1200, 1200, true});
        // What was accepted must be usable.
        for (const auto& lens : c.lenses) {
            if (porb::fault_in(lens)) std::abort();
            const porb::LensMap map(lens);
            map.project(porb::Vec3(0.3, -0.2, 0.5));
            map.unproject(lens.center_px);
        }
    } catch (const porb::Error&) {
    }
    return 0;
}
