#pragma once

#include <cstddef>

namespace porb {

/// What a program may use of the machine that it runs on.
struct Machine {
    unsigned processors = 1;
    std::size_t memory_bytes = 0;
};

/// Processors as the system counts them, at least one; memory is all there is, or what the program's
/// container may take where that is less. Thread-safe; reads two small files.
Machine this_machine();

} // namespace porb
