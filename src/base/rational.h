#pragma once

#include <compare>
#include <cstdint>
#include <string>
#include <string_view>

namespace porb {

/// An exact fraction in lowest terms with a positive denominator. Seconds and frame rates are kept in it, so
/// "frame n at rate r" is exactly n/r. Results that leave 64 bits are rounded to the nearest
/// 1/1 000 000 000 and limited to +-9 000 000 000.
class Rational {
  public:
    constexpr Rational() = default;
    Rational(std::int64_t numerator, std::int64_t denominator = 1);
    /// The nearest fraction with a denominator of at most a thousand million; NaN and infinities give 0.
    static Rational from_double(double value);
    /// "30000/1001", "30", "29.97" or "-1.5". Throws Error when it is none of these.
    static Rational parse(std::string_view text, const std::string& where);

    std::int64_t num() const { return num_; }
    std::int64_t den() const { return den_; }
    double to_double() const { return static_cast<double>(num_) / static_cast<double>(den_); }
    std::string to_string() const;
    std::int64_t floor() const;
    std::int64_t round() const;

    friend Rational operator+(Rational a, Rational b);
    friend Rational operator-(Rational a, Rational b);
    friend Rational operator*(Rational a, Rational b);
    /// Dividing by zero gives zero: rates of zero are refused at the door.
    friend Rational operator/(Rational a, Rational b);
    friend bool operator==(Rational a, Rational b) { return a.num_ == b.num_ && a.den_ == b.den_; }
    friend std::strong_ordering operator<=>(Rational a, Rational b);

  private:
    std::int64_t num_ = 0, den_ = 1;
};

using Seconds = Rational;   // exact seconds
using FrameRate = Rational; // frames per second

/// The rate people mean by a decimal: 29.97 is 30000/1001, 23.976 is 24000/1001; others are taken as they
/// are.
FrameRate frame_rate_meant(double frames_per_second);

/// The start of frame `index` at `rate`, in seconds.
inline Seconds frame_time(std::int64_t index, FrameRate rate) {
    return Rational(index) / rate;
}
/// The frame on show at `time`: the last one that starts at or before it. Times are often typed or worked out
/// to a few digits, and one within a hundredth of a frame before a frame's own is meant to be that frame's.
inline std::int64_t frame_index(Seconds time, FrameRate rate) {
    return (time * rate + Rational(1, 100)).floor();
}
/// The last frame that starts before `end`, likewise.
inline std::int64_t frame_before(Seconds end, FrameRate rate) {
    return -(Rational(1, 100) - end * rate).floor() - 1;
}
/// `time`, or the frame's own time when it lies within a hundredth of a frame of it.
Seconds nearest_frame_time(Seconds time, FrameRate rate);

} // namespace porb
