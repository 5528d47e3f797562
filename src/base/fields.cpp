#include "base/fields.h"

#include "base/file.h"

#include <cstring>

namespace porb {

namespace {

constexpr std::string_view kHex = "0123456789abcdef";

/// Words of a text row stand between blanks: blanks, per cents and control characters in one become %20 and
/// the like, an empty word a single %.
std::string escaped(std::string_view text) {
    if (text.empty()) return "%";
    std::string out;
    for (const char c : text) {
        const auto byte = static_cast<unsigned char>(c);
        if (byte > ' ' && c != '%' && byte != 0x7F) {
            out += c;
        } else {
            out += '%';
            out += kHex[byte >> 4];
            out += kHex[byte & 15];
        }
    }
    return out;
}

std::optional<std::string> bytes_from_hex(std::string_view hex) {
    if (hex.size() % 2) return std::nullopt;
    std::string out;
    for (std::size_t i = 0; i < hex.size(); i += 2) {
        const auto high = kHex.find(hex[i]), low = kHex.find(hex[i + 1]);
        if (high == kHex.npos || low == kHex.npos) return std::nullopt;
        out += char(high << 4 | low);
    }
    return out;
}

std::string hex_of(std::string_view bytes) {
    std::string out;
    for (const char c : bytes) {
        out += kHex[static_cast<unsigned char>(c) >> 4];
        out += kHex[static_cast<unsigned char>(c) & 15];
    }
    return out;
}

std::string bytes_key(std::string_view key) {
    return std::string(key) + "_bytes";
}

/// Adds what is not there yet, at every depth.
void add_absent(Json& to, const Json& from) {
    for (const auto& [key, value] : from.items()) {
        if (!to.contains(key))
            to[key] = value;
        else if (to[key].is_object() && value.is_object())
            add_absent(to[key], value);
    }
}

} // namespace

std::string_view CellReader::token() {
    const auto from = text_.find_first_not_of(' ');
    if (from == text_.npos) row().refuse("holds too few entries", "See docs/project-file.md for the columns");
    text_.remove_prefix(from);
    const std::string_view word = text_.substr(0, text_.find(' '));
    text_.remove_prefix(word.size());
    return word;
}

void CellReader::text(std::string& to, std::size_t) {
    if (!is_text_) {
        to = next().text(std::string::npos);
        return;
    }
    const std::string_view word = token();
    to.clear();
    if (word == "%") return;
    for (std::size_t i = 0; i < word.size(); ++i) {
        if (word[i] != '%') {
            to += word[i];
            continue;
        }
        const auto byte = bytes_from_hex(word.substr(i + 1, 2));
        if (!byte || byte->size() != 1) row().refuse("holds a broken %xx", "Write %25 for a per cent sign");
        to += *byte;
        i += 2;
    }
}

void CellReader::tail(std::string& to, std::size_t) {
    if (!is_text_) {
        to = next().text(std::string::npos);
        return;
    }
    to = text_.empty() ? std::string() : std::string(text_.substr(1)); // past the blank before it
    text_ = {};
}

void CellReader::end() const {
    const bool more = is_text_ ? text_.find_first_not_of(' ') != text_.npos : at_ < row().size();
    if (more) row().refuse("holds too many entries", "See docs/project-file.md for the columns");
}

void CellWriter::number(const double& v, Range) {
    if (!as_text_) {
        row_.push_back(v);
        return;
    }
    char buffer[32];
    const auto [end, code] = std::to_chars(buffer, buffer + sizeof buffer, v);
    word({buffer, std::size_t(end - buffer)});
}

void CellWriter::text(const std::string& v, std::size_t) {
    as_text_ ? word(escaped(v)) : row_.push_back(v);
}

void CellWriter::tail(const std::string& v, std::size_t) {
    if (!as_text_)
        row_.push_back(v);
    else if (!v.empty())
        word(v);
}

void FieldReader::header(const char* format, int version, const char* what) {
    asked_.insert(asked_.end(), {"format", "version"});
    const auto named = place_.at("format");
    if (named.text(64) != format)
        named.refuse("'" + named.text(64) + "' is not " + what,
                     std::string("Such a file says \"format\": \"") + format + "\"");
    const auto written = place_.at("version");
    const int v = written.whole(1, 1000000);
    if (v != version)
        written.refuse("is " + std::to_string(v), "This program reads version " + std::to_string(version) +
                                                      "; update it to read newer ones");
}

void FieldReader::path(std::string_view key, std::filesystem::path& to) {
    std::string bytes = to.string();
    bytes_of(key, bytes);
    to = bytes;
}

void FieldReader::text_or_path(std::string_view key, std::string& to, std::string_view) {
    bytes_of(key, to);
}

void FieldReader::bytes_of(std::string_view key, std::string& to) {
    if (has(key)) to = place_.at(key).text(kLongestText);
    const std::string beside = bytes_key(key);
    bytes_asked_.push_back(beside);
    if (!place_.has(beside)) return;
    const auto bytes = bytes_from_hex(place_.at(beside).text(2 * kLongestText));
    if (!bytes || bytes->find('\0') != bytes->npos)
        place_.at(beside).refuse("is not a path's bytes", "Write them in hexadecimal, or remove it");
    to = *bytes;
}

Json FieldReader::left() const {
    Json out = Json::object();
    if (taken_) return out;
    for (const auto& [key, value] : place_.json().items()) {
        if (std::find(asked_.begin(), asked_.end(), key) == asked_.end() &&
            std::find(bytes_asked_.begin(), bytes_asked_.end(), key) == bytes_asked_.end())
            out[key] = value;
    }
    if (left_.is_object()) add_absent(out, left_);
    return out;
}

void FieldWriter::path(std::string_view key, const std::filesystem::path& v) {
    bytes_of(key, v.empty() ? std::string() : relative_or_absolute(v, folder_));
}

void FieldWriter::text_or_path(std::string_view key, const std::string& v, std::string_view prefix) {
    if (v.empty()) return;
    bytes_of(key, v.starts_with(prefix)
                      ? std::string(prefix) + relative_or_absolute(v.substr(prefix.size()), folder_)
                      : v);
}

void FieldWriter::bytes_of(std::string_view key, const std::string& v) {
    to_[key] = as_utf8(v);
    if (!is_utf8(v)) to_[bytes_key(key)] = hex_of(v);
}

void FieldWriter::rest(const std::string& extra) {
    if (!extra.empty()) add_absent(to_, Json::parse(extra));
}

void FieldChecker::text(std::string_view key, const std::string& v, std::size_t longest) const {
    if (v.size() > longest)
        refuse(key, "is " + std::to_string(v.size()) + " characters long",
               "At most " + std::to_string(longest));
    if (v.find('\0') != v.npos) refuse(key, "holds a zero character", "Remove it");
    if (!is_utf8(v)) refuse(key, "is not text (UTF-8)", "Write it with other letters");
}

void FieldChecker::path(std::string_view key, const std::filesystem::path& v) const {
    const auto& bytes = v.native();
    if (bytes.size() > kLongestText)
        refuse(key, "is a path of " + std::to_string(bytes.size()) + " characters",
               "At most " + std::to_string(kLongestText));
    if (bytes.find('\0') != bytes.npos) refuse(key, "holds a zero character", "Remove it");
}

void FieldChecker::text_or_path(std::string_view key, const std::string& v, std::string_view prefix) const {
    v.starts_with(prefix) ? path(key, v.substr(prefix.size())) : text(key, v, kLongestText);
}

std::string FieldChecker::path_to_here() const {
    std::string out = up_ ? up_->path_to_here() : std::string();
    if (!key_.empty()) out += "/" + std::string(key_);
    if (index_ != kNoIndex) out += "/" + std::to_string(index_);
    return out;
}

namespace {
/// A field's name as it is spoken of: without its unit, which the message has.
std::string spoken(std::string_view key) {
    std::string out(key);
    for (const char* unit : {"_deg", "_m", "_s", "_px", "_ev", "_ppm", "_percent", "_mm"})
        if (out.ends_with(unit)) out.resize(out.size() - std::strlen(unit));
    std::replace(out.begin(), out.end(), '_', ' ');
    return out;
}
std::string joined(std::string a, const std::string& b) {
    return a.empty() ? b : b.empty() ? a : std::move(a) + ", " + b;
}
} // namespace

std::string FieldChecker::words_to_here() const {
    const std::string out = up_ ? up_->words_to_here() : std::string();
    if (key_.empty()) return out;
    std::string here = spoken(key_);
    if (index_ != kNoIndex) {
        if (here.ends_with("ches"))
            here.resize(here.size() - 2);
        else if (here.ends_with('s'))
            here.pop_back();
        here += " " + (name_.empty() ? std::to_string(index_ + 1) : std::string(name_));
    }
    return joined(out, here);
}

void FieldChecker::refuse(std::string_view key, const std::string& what, const std::string& mend) const {
    const std::string& file = root().file_;
    if (file.empty()) throw Error(what, joined(words_to_here(), spoken(key)), mend);
    throw Error(what, file + " " + path_to_here() + (key.empty() ? "" : "/" + std::string(key)), mend);
}

} // namespace porb
