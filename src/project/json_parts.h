#pragma once

// What the readers and writers of project files share; for them alone.
#include "base/json.h"

#include <nlohmann/json.hpp>

namespace porb {

inline constexpr double kMostSeconds = 1e7;
inline constexpr std::size_t kMostEntries = 10000;

/// One table for each list of words in the file, used in both directions.
template <class Value>
struct Word {
    Value value;
    const char* text;
};
template <class Value, std::size_t N>
std::string text_of(const Word<Value> (&words)[N], Value value) {
    for (const auto& w : words)
        if (w.value == value) return w.text;
    return words[0].text;
}
template <class Value, std::size_t N>
Value value_of(const Word<Value> (&words)[N], const JsonPlace& place) {
    const std::string text = place.text(64);
    std::string list;
    for (const auto& w : words) {
        if (text == w.text) return w.value;
        list += (list.empty() ? "" : ", ") + std::string(w.text);
    }
    place.refuse("'" + text + "' is not known here", "Use one of: " + list);
}

/// Exact seconds: a plain number where a double says them exactly, else a fraction as text.
inline Json seconds_json(Seconds t) {
    if (Rational::from_double(t.to_double()) == t) return t.to_double();
    return t.to_string();
}

template <class T>
std::vector<T> list_from(const JsonPlace& place, T (*one)(const JsonPlace&)) {
    std::vector<T> items;
    if (place.size() > kMostEntries)
        place.refuse("holds too many entries", "At most " + std::to_string(kMostEntries));
    for (std::size_t i = 0; i < place.size(); ++i) items.push_back(one(place.at(i)));
    return items;
}

} // namespace porb
