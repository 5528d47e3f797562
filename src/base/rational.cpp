#include "base/rational.h"

#include "base/error.h"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <limits>
#include <numeric>

namespace porb {

namespace {
__extension__ typedef __int128 Wide;

constexpr Wide kMax = std::numeric_limits<std::int64_t>::max();

Wide gcd_wide(Wide a, Wide b) {
    if (a < 0) a = -a;
    while (b != 0) {
        const Wide r = a % b;
        a = b;
        b = r;
    }
    return a;
}

struct Parts {
    std::int64_t num, den;
};

Parts reduced(Wide num, Wide den) {
    if (den == 0) return {0, 1};
    if (den < 0) {
        num = -num;
        den = -den;
    }
    const Wide g = gcd_wide(num, den);
    if (g > 1) {
        num /= g;
        den /= g;
    }
    if (num > kMax || num < -kMax || den > kMax) {
        const long double value = static_cast<long double>(num) / static_cast<long double>(den);
        const long double scaled = std::clamp(value * 1e9L, -9e18L, 9e18L);
        return reduced(static_cast<Wide>(std::llround(scaled)), 1'000'000'000);
    }
    return {static_cast<std::int64_t>(num), static_cast<std::int64_t>(den)};
}

bool parse_integer(std::string_view text, std::int64_t& out) {
    const auto [end, code] = std::from_chars(text.data(), text.data() + text.size(), out);
    return code == std::errc() && end == text.data() + text.size();
}
} // namespace

Rational::Rational(std::int64_t numerator, std::int64_t denominator) {
    const Parts p = reduced(numerator, denominator);
    num_ = p.num;
    den_ = p.den;
}

Rational Rational::from_double(double value) {
    if (!std::isfinite(value)) return {};
    value = std::clamp(value, -9e9, 9e9);
    return Rational(std::llround(value * 1e9), 1'000'000'000);
}

Rational Rational::parse(std::string_view text, const std::string& where) {
    const auto refuse = [&] {
        throw Error("'" + std::string(text.substr(0, 40)) + "' is not an exact number", where,
                    "Write a whole number, a decimal or a fraction such as 30000/1001");
    };
    if (const auto slash = text.find('/'); slash != std::string_view::npos) {
        std::int64_t n = 0, d = 0;
        if (!parse_integer(text.substr(0, slash), n) || !parse_integer(text.substr(slash + 1), d) || d <= 0 ||
            n == std::numeric_limits<std::int64_t>::min())
            refuse();
        return Rational(n, d);
    }
    std::string digits;
    std::int64_t den = 1;
    bool after_point = false;
    for (const char c : text) {
        if (c == '.' && !after_point) {
            after_point = true;
        } else if ((c >= '0' && c <= '9') || (c == '-' && digits.empty() && !after_point)) {
            digits += c;
            if (after_point) den *= 10;
        } else {
            refuse();
        }
        if (digits.size() > 17) refuse();
    }
    std::int64_t n = 0;
    if (!parse_integer(digits, n)) refuse();
    return Rational(n, den);
}

FrameRate frame_rate_meant(double frames_per_second) {
    for (const std::int64_t whole : {24, 30, 48, 60, 120, 240})
        if (std::abs(frames_per_second - double(whole) * 1000 / 1001) < 0.004)
            return Rational(whole * 1000, 1001);
    return Rational(std::llround(frames_per_second * 1000), 1000);
}

Seconds nearest_frame_time(Seconds time, FrameRate rate) {
    const std::int64_t n = (time * rate).round();
    const Seconds own = frame_time(n, rate);
    const Rational off = (time - own) * rate;
    return Rational(-1, 100) <= off && off <= Rational(1, 100) ? own : time;
}

std::string Rational::to_string() const {
    return den_ == 1 ? std::to_string(num_) : std::to_string(num_) + "/" + std::to_string(den_);
}

std::int64_t Rational::floor() const {
    const std::int64_t q = num_ / den_;
    return q * den_ > num_ ? q - 1 : q;
}

std::int64_t Rational::round() const {
    return (*this + Rational(1, 2)).floor();
}

Rational operator+(Rational a, Rational b) {
    const Parts p = reduced(Wide(a.num_) * b.den_ + Wide(b.num_) * a.den_, Wide(a.den_) * b.den_);
    return Rational(p.num, p.den);
}
Rational operator-(Rational a, Rational b) {
    return a + Rational(-b.num_, b.den_);
}
Rational operator*(Rational a, Rational b) {
    const Parts p = reduced(Wide(a.num_) * b.num_, Wide(a.den_) * b.den_);
    return Rational(p.num, p.den);
}
Rational operator/(Rational a, Rational b) {
    const Parts p = reduced(Wide(a.num_) * b.den_, Wide(a.den_) * b.num_);
    return Rational(p.num, p.den);
}
std::strong_ordering operator<=>(Rational a, Rational b) {
    const Wide l = Wide(a.num_) * b.den_, r = Wide(b.num_) * a.den_;
    return l < r ? std::strong_ordering::less
                 : (l > r ? std::strong_ordering::greater : std::strong_ordering::equal);
}

} // namespace porb
