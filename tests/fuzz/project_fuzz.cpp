#include "base/error.h"
#include "project/project.h"

#include <cstdint>
#include <cstdlib>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    try {
        const porb::Project p =
            porb::parse_project({reinterpret_cast<const char*>(data), size}, "/tmp/fuzz/p.porb");
        if (!(porb::parse_project(porb::project_to_text(p, "/tmp/fuzz/p.porb"), "/tmp/fuzz/p.porb") == p))
            std::abort();
    } catch (const porb::Error&) {
    }
    return 0;
}
