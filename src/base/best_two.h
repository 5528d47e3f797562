#pragma once

#include <limits>

namespace porb {

/// The largest of the values that were offered and the next largest, and whose they are; -1 while there is
/// none.
struct BestTwo {
    int best = -1, second = -1;
    double value = -std::numeric_limits<double>::infinity(), next = value;

    void offer(int whose, double v) {
        if (v > value)
            second = best, next = value, best = whose, value = v;
        else if (v > next)
            second = whose, next = v;
    }
    double lead() const { return value - next; } ///< of the best over the second
};

} // namespace porb
