#pragma once

#include <string>

namespace porb {

/// The values that a number may have, both ends included. What is not a number lies in no range.
struct Range {
    double low, high;
    constexpr bool holds(double v) const { return v >= low && v <= high; }
    /// In another unit, `k` of which are one of this.
    constexpr Range times(double k) const { return {low * k, high * k}; }
    /// The value of the range that is nearest; its lower end for what is not a number.
    constexpr double nearest(double v) const { return v > high ? high : v >= low ? v : low; }
};

/// A number as people write it: without digits that say nothing.
std::string number_text(double v);
/// "between -90 and 90".
std::string text_of(const Range& range);

} // namespace porb
