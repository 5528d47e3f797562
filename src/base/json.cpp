#include "base/json.h"

#include "base/error.h"
#include "base/parallel.h"
#include "base/range.h"

#include <nlohmann/json.hpp>

#include <cmath>
#include <optional>

namespace porb {

namespace {
constexpr int kDeepest = 64;
} // namespace

std::string number_text(double v) {
    if (std::isnan(v)) return "not a number";
    if (std::isinf(v)) return v < 0 ? "below all numbers" : "above all numbers";
    return v == std::floor(v) && std::abs(v) < 1e15 ? std::to_string(static_cast<long long>(v))
                                                    : Json(v).dump();
}

std::string text_of(const Range& range) {
    return "between " + number_text(range.low) + " and " + number_text(range.high);
}

namespace {

/// An object in a list that is a member of the document's root.
struct Entry {
    std::string_view key;
    std::size_t index = 0;
    std::string_view text;
};
constexpr std::size_t kLongEntry = 1u << 16;

/// What a look at brackets and strings alone tells of a document, much quicker than parsing it.
struct Outline {
    bool too_deep = false;
    std::vector<Entry> long_entries;
};

/// Past the string that begins at `i`: where its closing quotation mark is, or the end of the text.
std::size_t end_of_string(std::string_view text, std::size_t i) {
    for (;;) {
        i = text.find('"', i + 1);
        if (i == text.npos) return text.size();
        std::size_t escapes = 0;
        while (text[i - 1 - escapes] == '\\') ++escapes;
        if (escapes % 2 == 0) return i;
    }
}

Outline outline_of(std::string_view text) {
    Outline out;
    int depth = 0;
    std::string_view last_string;
    Entry entry;
    bool in_list = false;
    for (std::size_t i = 0; i < text.size(); ++i) {
        const char c = text[i];
        if (c == '"') {
            const std::size_t end = end_of_string(text, i);
            if (depth == 1) last_string = text.substr(i + 1, end - i - 1);
            i = end;
        } else if (c == '[' || c == '{') {
            if (++depth > kDeepest) {
                out.too_deep = true;
                return out;
            }
            if (depth == 2) entry = {last_string, 0, {}}, in_list = c == '[';
            if (depth == 3) entry.text = text.substr(i);
        } else if (c == ']' || c == '}') {
            if (--depth != 2 || !in_list) continue;
            const std::size_t size = i + 1 - std::size_t(entry.text.data() - text.data());
            if (size >= kLongEntry)
                out.long_entries.push_back({entry.key, entry.index, entry.text.substr(0, size)});
        } else if (c == ',' && depth == 2) {
            ++entry.index;
        }
    }
    return out;
}

/// Parses long entries on all cores and the rest of the document around them. Nothing when that does not
/// give the document for sure (a key that is there twice), or when it is not valid.
std::optional<Json> parse_in_entries(std::string_view text, const std::vector<Entry>& entries) {
    std::string around;
    std::size_t at = 0;
    for (const Entry& e : entries) {
        const auto begin = std::size_t(e.text.data() - text.data());
        around.append(text.substr(at, begin - at)).append("null");
        at = begin + e.text.size();
    }
    around.append(text.substr(at));
    Json document = Json::parse(around, nullptr, false);
    if (!document.is_object()) return {};
    std::vector<Json> parsed(entries.size());
    parallel_ranges(int(entries.size()), 1, [&](int begin, int end) {
        for (auto n = std::size_t(begin); n < std::size_t(end); ++n)
            parsed[n] = Json::parse(entries[n].text.begin(), entries[n].text.end(), nullptr, false);
    });
    for (std::size_t n = 0; n < entries.size(); ++n) {
        const auto list = document.find(entries[n].key);
        if (parsed[n].is_discarded() || list == document.end() || !list->is_array() ||
            list->size() <= entries[n].index || !(*list)[entries[n].index].is_null())
            return {};
        (*list)[entries[n].index] = std::move(parsed[n]);
    }
    return document;
}

} // namespace

Json parse_json(std::string_view text, const std::string& where) {
    const Outline outline = outline_of(text);
    if (outline.too_deep)
        throw Error("is nested more than " + std::to_string(kDeepest) + " levels deep", where,
                    "This is not a file of ours");
    if (outline.long_entries.size() > 1)
        if (auto document = parse_in_entries(text, outline.long_entries)) return std::move(*document);
    try {
        return Json::parse(text.begin(), text.end());
    } catch (const Json::exception& e) {
        std::string detail = e.what();
        if (const auto at = detail.find("] "); at != std::string::npos) detail = detail.substr(at + 2);
        throw Error("is not valid JSON: " + detail.substr(0, 200), where,
                    "Restore the file from a copy, or mend it at that place");
    }
}

void JsonPlace::refuse(const std::string& what, const std::string& mend) const {
    throw Error(what, where(), mend);
}

bool JsonPlace::has(std::string_view key) const {
    return value_->is_object() && value_->contains(key);
}

void JsonPlace::must_be_object() const {
    if (!value_->is_object())
        refuse(std::string("must be an object, found ") + value_->type_name(), "Write { ... } here");
}

JsonPlace JsonPlace::at(std::string_view key) const {
    must_be_object();
    const auto it = value_->find(key);
    if (it == value_->end()) refuse("'" + std::string(key) + "' is missing", "Add it");
    return {*it, file_, path_ + "/" + std::string(key)};
}

std::size_t JsonPlace::size() const {
    if (!value_->is_array())
        refuse(std::string("must be a list, found ") + value_->type_name(), "Write [ ... ] here");
    return value_->size();
}

JsonPlace JsonPlace::at(std::size_t index) const {
    if (index >= size()) refuse("holds too few entries", "Add the missing ones");
    return {(*value_)[index], file_, path_ + "/" + std::to_string(index)};
}

double JsonPlace::number(double low, double high) const {
    if (!value_->is_number()) refuse(std::string("must be a number, found ") + value_->type_name(), "");
    const double v = value_->get<double>();
    if (!Range{low, high}.holds(v)) refuse("is " + number_text(v), "It must be " + text_of(Range{low, high}));
    return v;
}

int JsonPlace::whole(int low, int high) const {
    const double v = number(low, high);
    if (v != std::floor(v)) refuse("is " + number_text(v), "It must be a whole number");
    return static_cast<int>(v);
}

bool JsonPlace::boolean() const {
    if (!value_->is_boolean()) refuse(std::string("must be true or false, found ") + value_->type_name(), "");
    return value_->get<bool>();
}

std::string JsonPlace::text(std::size_t longest) const {
    if (!value_->is_string()) refuse(std::string("must be text, found ") + value_->type_name(), "");
    auto s = value_->get<std::string>();
    if (s.size() > longest) refuse("is longer than " + std::to_string(longest) + " characters", "Shorten it");
    if (s.find('\0') != std::string::npos) refuse("holds a zero character", "Remove it");
    return s;
}

Seconds JsonPlace::seconds(double low, double high) const {
    const Seconds t =
        value_->is_string() ? Rational::parse(text(64), where()) : Rational::from_double(number(low, high));
    if (t.to_double() < low || t.to_double() > high)
        refuse("is " + t.to_string(), "It must be " + text_of(Range{low, high}));
    return t;
}

Json unknown_members(const Json& object, std::initializer_list<std::string_view> known) {
    Json rest = Json::object();
    if (!object.is_object()) return rest;
    for (const auto& [key, value] : object.items())
        if (std::find(known.begin(), known.end(), key) == known.end()) rest[key] = value;
    return rest;
}

namespace {

std::string dumped(const Json& value) {
    return value.dump(2, ' ', false, Json::error_handler_t::replace);
}

/// A member of a document's root, or one entry of a list that is one.
struct Piece {
    const std::string* key;
    Json* value;
    bool entry, first, last; ///< of its list
};

std::vector<Piece> parts_of(Json& document) {
    std::vector<Piece> out;
    for (auto& [key, value] : document.get_ref<Json::object_t&>()) {
        const bool list = value.is_array() && value.size() > 1;
        if (!list) out.push_back({&key, &value, false, true, true});
        for (std::size_t i = 0; list && i < value.size(); ++i)
            out.push_back({&key, &value[i], true, i == 0, i + 1 == value.size()});
    }
    return out;
}

} // namespace

std::string dump_json(Json document) {
    if (!document.is_object() || document.empty()) return dumped(document) + "\n";
    const std::vector<Piece> parts = parts_of(document);
    std::vector<std::string> texts(parts.size());
    parallel_ranges(int(parts.size()), 1, [&](int begin, int end) {
        for (auto n = std::size_t(begin); n < std::size_t(end); ++n) {
            // Alone in a document it is indented as in the whole one: { newline ... newline }, and of a
            // list's entry also the lines of the list's brackets are those of its first and last.
            const Piece& part = parts[n];
            Json alone = Json::object();
            Json& value = alone[*part.key];
            if (part.entry)
                value = Json::array(), value.push_back(std::move(*part.value));
            else
                value = std::move(*part.value);
            std::string text = dumped(alone);
            const std::size_t begins = part.first ? 2 : text.find('\n', 2) + 1,
                              ends = text.size() - (part.last ? 2 : 6);
            texts[n] = text.substr(begins, ends - begins);
        }
    });
    std::string out = "{\n";
    for (std::size_t n = 0; n < texts.size(); ++n) out.append(n ? ",\n" : "").append(texts[n]);
    return out.append("\n}\n");
}

} // namespace porb
