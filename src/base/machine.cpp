#include "base/machine.h"

#include <algorithm>
#include <fstream>
#include <thread>

#include <unistd.h>

namespace porb {

Machine this_machine() {
    auto bytes = std::size_t(sysconf(_SC_PHYS_PAGES)) * std::size_t(sysconf(_SC_PAGE_SIZE));
    // A container's bound, by either version of control groups; "max" or no such file: none.
    for (const char* file : {"/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes"}) {
        std::size_t bound = 0;
        if (std::ifstream(file) >> bound && bound > 0) bytes = std::min(bytes, bound);
    }
    return {std::max(1u, std::thread::hardware_concurrency()), bytes};
}

} // namespace porb
