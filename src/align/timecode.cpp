#include "align/timecode.h"

#include <array>

namespace porb {

std::optional<double> timecode_seconds(std::string_view text, FrameRate rate) {
    std::array<std::int64_t, 4> part{};
    std::size_t at = 0, digits = 0;
    bool drop = false;
    for (const char c : text) {
        if (c >= '0' && c <= '9') {
            if (++digits > 3) return std::nullopt;
            part[at] = part[at] * 10 + (c - '0');
        } else if ((c == ':' || c == ';' || c == '.') && digits > 0 && at < 3) {
            drop = c != ':';
            ++at;
            digits = 0;
        } else {
            return std::nullopt;
        }
    }
    const std::int64_t base = rate.round();
    if (at != 3 || digits == 0 || base < 1 || part[1] > 59 || part[2] > 59 || part[3] >= base || part[0] > 99)
        return std::nullopt;
    const std::int64_t minutes = part[0] * 60 + part[1];
    std::int64_t frames = (minutes * 60 + part[2]) * base + part[3];
    if (drop) frames -= base / 15 * (minutes - minutes / 10);
    return (Rational(frames) / rate).to_double();
}

} // namespace porb
