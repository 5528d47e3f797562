#include "base/error.h"
#include "media/motion.h"

#include <cmath>
#include <cstdint>
#include <cstdlib>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    const std::string_view text(reinterpret_cast<const char*>(data), size);
    try {
        const porb::MotionRecord r = porb::parse_motion_csv(text, "fuzz");
        if (!(porb::parse_motion_csv(porb::motion_csv(r), "again") == r)) std::abort();
    } catch (const porb::Error&) {
    }
    try {
        porb::MotionRecord r;
        porb::add_camm_packet(r, text, 1.0, "fuzz");
        for (const auto& s : r.gyro)
            if (!std::isfinite(s.value[0])) std::abort();
    } catch (const porb::Error&) {
    }
    return 0;
}
