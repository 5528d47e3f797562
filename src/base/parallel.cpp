#include "base/parallel.h"

#include <tbb/blocked_range.h>
#include <tbb/parallel_for.h>

namespace porb {

void parallel_ranges(int count, int grain, const std::function<void(int, int)>& body) {
    if (count <= 0) return;
    tbb::parallel_for(
        tbb::blocked_range<int>(0, count, static_cast<std::size_t>(grain)),
        [&](const tbb::blocked_range<int>& r) { body(r.begin(), r.end()); }, tbb::simple_partitioner());
}

} // namespace porb
