#pragma once

#include <functional>

namespace porb {

/// Runs `body(begin, end)` over [0, count) in pieces of about `grain` on the machine's cores; returns when
/// all are done. The first exception thrown by a piece is rethrown here.
void parallel_ranges(int count, int grain, const std::function<void(int, int)>& body);

} // namespace porb
