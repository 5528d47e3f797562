#include "base/error.h"
#include "optics/rig.h"

#include <cstdint>
#include <cstdlib>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    try {
        const porb::Rig rig = porb::parse_rig({reinterpret_cast<const char*>(data), size}, "fuzz");
        // What was accepted must be usable, and survive being written.
        for (const auto& c : rig.cameras) {
            const porb::LensMap map(c.lens);
            map.project(porb::Vec3(0.3, -0.2, 0.5));
            map.unproject(c.lens.center_px);
        }
        if (!(porb::parse_rig(porb::rig_to_text(rig), "again") == rig)) std::abort();
    } catch (const porb::Error&) {
    }
    return 0;
}
