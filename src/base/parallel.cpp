#include "base/parallel.h"

#ifdef __SANITIZE_THREAD__
#include <algorithm>
#include <atomic>
#include <exception>
#include <mutex>
#include <thread>
#else
#include <tbb/blocked_range.h>
#include <tbb/parallel_for.h>
#include <tbb/task_arena.h>
#endif

namespace porb {

#ifdef __SANITIZE_THREAD__
// The library is not built for the thread sanitizer, which cannot see it hand pieces over and calls that a
// race. Two plain threads for each loop show it everything that our own code does.
void parallel_ranges(int count, int grain, const std::function<void(int, int)>& body) {
    if (count <= 0) return;
    std::atomic<int> next{0};
    std::mutex mutex;
    std::exception_ptr failure;
    const auto work = [&] {
        for (int begin = next.fetch_add(grain); begin < count; begin = next.fetch_add(grain)) try {
                body(begin, std::min(begin + grain, count));
            } catch (...) {
                const std::lock_guard lock(mutex);
                if (!failure) failure = std::current_exception();
                return;
            }
    };
    {
        const std::jthread other(work);
        work();
    }
    if (failure) std::rethrow_exception(failure);
}
#else
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
#endif

} // namespace porb
