#include "base/json.h"

#include "base/error.h"
#include "base/range.h"

#include <nlohmann/json.hpp>

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
/// Whether lists and objects are nested deeper than that; looked at before parsing, which is quicker than
/// asking at each value.
bool is_deeper(std::string_view text, int most) {
    int depth = 0;
    for (std::size_t i = 0; i < text.size(); ++i) {
        const char c = text[i];
        if (c == '"') { // past the string
            for (++i; i < text.size() && text[i] != '"'; ++i)
                if (text[i] == '\\') ++i;
        } else if (c == '[' || c == '{') {
            if (++depth > most) return true;
        } else if (c == ']' || c == '}') {
            --depth;
        }
    }
    return false;
}
} // namespace

Json parse_json(std::string_view text, const std::string& where) {
    if (is_deeper(text, kDeepest))
        throw Error("is nested more than " + std::to_string(kDeepest) + " levels deep", where,
                    "This is not a file of ours");
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

std::string dump_json(const Json& value) {
    return value.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
}

} // namespace porb
