#include "project/calibrating.h"

#include <utility>

namespace porb {

namespace {
/// The first words of what a project says; the second are an earlier version's for the same.
struct Words {
    DropReason reason;
    const char *words, *earlier;
};
constexpr Words kWords[] = {
    {DropReason::residual, "residual too large", "misses by too much"},
    {DropReason::third, "contradicts a third camera", nullptr},
    {DropReason::diverging, "its rays part", nullptr},
    {DropReason::near, "too near", nullptr},
    {DropReason::moves, "moves", nullptr},
    {DropReason::by_hand, "by hand", nullptr},
};
} // namespace

std::string words_of(DropReason reason) {
    for (const Words& w : kWords)
        if (w.reason == reason) return w.words;
    return reason == DropReason::none ? "" : "another reason";
}

std::string text_of(const Dropped& d) {
    if (d.reason == DropReason::none || d.reason == DropReason::other) return d.detail;
    return d.detail.empty() ? words_of(d.reason) : words_of(d.reason) + ": " + d.detail;
}

Dropped dropped_from(std::string_view text) {
    if (text.empty()) return {};
    const auto colon = text.find(": ");
    const std::string_view head = text.substr(0, colon);
    for (const Words& w : kWords)
        if (head == w.words || (w.earlier && head == w.earlier)) {
            Dropped out{w.reason, colon == text.npos ? std::string() : std::string(text.substr(colon + 2))};
            // What would not come back as the same words stays as it was written.
            if (!out.detail.empty() || colon == text.npos) return out;
        }
    return {DropReason::other, std::string(text)};
}

} // namespace porb
