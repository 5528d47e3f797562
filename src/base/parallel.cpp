#include "base/parallel.h"

#include <tbb/blocked_range.h>
#include <tbb/parallel_for.h>
#include <tbb/task_arena.h>

namespace porb {

void parallel_ranges(int count, int grain, const std::function<void(int, int)>& body) {
    if (count <= 0) return;
    // Isolated: a thread that waits here for its pieces must not take up another loop's, which may wait for a
    // lock that this very thread holds.
    tbb::this_task_arena::isolate([&] {
        tbb::parallel_for(
            tbb::blocked_range<int>(0, count, static_cast<std::size_t>(grain)),
            [&](const tbb::blocked_range<int>& r) { body(r.begin(), r.end()); }, tbb::simple_partitioner());
    });
}

} // namespace porb
