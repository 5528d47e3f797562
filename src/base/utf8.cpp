#include "base/utf8.h"

#include <cstdint>

namespace porb {

namespace {
/// How many bytes the sequence at the beginning takes, 0 when it is none.
std::size_t sequence_at(std::string_view s) {
    const auto byte = [&](std::size_t i) { return i < s.size() ? std::uint8_t(s[i]) : std::uint8_t(0); };
    const auto tail = [&](std::size_t i) { return (byte(i) & 0xC0) == 0x80; };
    const std::uint8_t first = byte(0), second = byte(1);
    if (first < 0x80) return 1;
    if (first >= 0xC2 && first <= 0xDF) return tail(1) ? 2 : 0;
    if (first >= 0xE0 && first <= 0xEF) {
        if (!tail(1) || !tail(2)) return 0;
        if (first == 0xE0 && second < 0xA0) return 0; // longer than need be
        if (first == 0xED && second > 0x9F) return 0; // half of a surrogate pair
        return 3;
    }
    if (first >= 0xF0 && first <= 0xF4) {
        if (!tail(1) || !tail(2) || !tail(3)) return 0;
        if (first == 0xF0 && second < 0x90) return 0;
        if (first == 0xF4 && second > 0x8F) return 0; // past U+10FFFF
        return 4;
    }
    return 0;
}
} // namespace

bool is_utf8(std::string_view bytes) {
    while (!bytes.empty()) {
        const std::size_t n = sequence_at(bytes);
        if (n == 0) return false;
        bytes.remove_prefix(n);
    }
    return true;
}

std::string as_utf8(std::string_view bytes) {
    std::string out;
    while (!bytes.empty()) {
        const std::size_t n = sequence_at(bytes);
        out += n == 0 ? std::string_view("\xEF\xBF\xBD") : bytes.substr(0, n);
        bytes.remove_prefix(n == 0 ? 1 : n);
    }
    return out;
}

} // namespace porb
