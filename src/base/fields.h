// Tables of fields. Each part of a document names its fields once, in a function
//     template <class V, Part<Shelter> S> void fields(V& v, S& s)
// that reads a part (FieldReader), writes it (FieldWriter) and checks it (FieldChecker), so that what is
// written can be read, and both are held to the same limits. Values of rows are named by cells(), likewise.
// Readers look at form alone; what a value may be is for the checker, which sees a document that was read
// and one that was edited alike. Pure functions of their arguments; about as quick as the JSON library.
#pragma once

#include "base/error.h"
#include "base/json.h"
#include "base/parallel.h"
#include "base/range.h"
#include "base/shared.h"
#include "base/utf8.h"

#include <nlohmann/json.hpp>

#include <charconv>
#include <concepts>
#include <filesystem>
#include <limits>
#include <optional>
#include <set>
#include <span>

namespace porb {

inline constexpr std::size_t kMostEntries = 10000, kLongestText = 4096;
inline constexpr int kRowsAtATime = 2048;
inline constexpr Range kAnyNumber{-std::numeric_limits<double>::max(), std::numeric_limits<double>::max()};

/// `T` is a `Value`, const (written, checked) or not (read).
template <class T, class Value>
concept Part = std::same_as<std::remove_const_t<T>, Value>;

/// One table for each list of words in a file, used in both directions.
template <class Value>
struct Word {
    Value value;
    const char* text;
};
template <class Value, std::size_t N>
const char* text_of(const Word<Value> (&words)[N], Value value) {
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

// ---- rows -----------------------------------------------------------------------------------------------

/// Rows of long tables are text ("17 1/30 A 100.25 60.5"), others lists of values; both forms are read.
class CellReader {
  public:
    CellReader(const JsonPlace& list, std::size_t index) : list_(list), index_(index) {
        const Json& row = list.json()[index];
        if (row.is_string()) text_ = row.get_ref<const std::string&>(), is_text_ = true;
    }
    void number(double& to, Range) {
        to = is_text_ ? parsed<double>() : next().number(kAnyNumber.low, kAnyNumber.high);
    }
    void whole(int& to, Range) {
        to = is_text_ ? parsed<int>()
                      : next().whole(std::numeric_limits<int>::min(), std::numeric_limits<int>::max());
    }
    void seconds(Seconds& to, Range) {
        to = is_text_ ? Rational::parse(token(), "a time") : next().seconds(-9e9, 9e9);
    }
    void flag(bool& to) { to = is_text_ ? parsed<int>() != 0 : next().boolean(); }
    void text(std::string& to, std::size_t longest);
    /// The rest of the row, blanks and all.
    void tail(std::string& to, std::size_t longest);
    /// The same, of a value with a text form of its own.
    template <class Code, class T>
    void coded_tail(T& to, std::size_t longest) {
        std::string words;
        tail(words, longest);
        to = Code::parse(words);
    }
    void end() const;

  private:
    JsonPlace row() const { return list_.at(index_); }
    JsonPlace next() { return row().at(at_++); }
    std::string_view token();
    template <class T>
    T parsed() {
        const std::string_view word = token();
        T v{};
        const auto [end, code] = std::from_chars(word.data(), word.data() + word.size(), v);
        if (code != std::errc() || end != word.data() + word.size())
            row().refuse("'" + std::string(word.substr(0, 40)) + "' is not a number",
                         "See docs/project-file.md for the columns");
        return v;
    }
    const JsonPlace& list_;
    std::size_t index_;
    std::string_view text_;
    bool is_text_ = false;
    std::size_t at_ = 0;
};

class CellWriter {
  public:
    explicit CellWriter(bool as_text) : as_text_(as_text) {
        constexpr std::size_t kUsualRow = 96; // characters
        if (as_text) text_.reserve(kUsualRow);
    }
    void number(const double& v, Range);
    void whole(const int& v, Range) { as_text_ ? word(std::to_string(v)) : row_.push_back(v); }
    void seconds(const Seconds& v, Range) {
        as_text_ ? word(v.to_string()) : row_.push_back(seconds_json(v));
    }
    void flag(const bool& v) { as_text_ ? word(v ? "1" : "0") : row_.push_back(v); }
    void text(const std::string& v, std::size_t);
    void tail(const std::string& v, std::size_t);
    template <class Code, class T>
    void coded_tail(const T& v, std::size_t longest) {
        tail(Code::text(v), longest);
    }
    Json take() { return as_text_ ? Json(std::move(text_)) : std::move(row_); }

  private:
    void word(std::string_view w) {
        if (!text_.empty()) text_ += ' ';
        text_ += w;
    }
    bool as_text_;
    std::string text_;
    Json row_; ///< null until something is in it
};

// ---- reading --------------------------------------------------------------------------------------------

class FieldReader {
  public:
    explicit FieldReader(JsonPlace place) : place_(std::move(place)) { place_.must_be_object(); }
    const JsonPlace& place() const { return place_; }

    void named(std::string_view) {}
    void must(std::string_view key) { (void)place_.at(key); }
    /// What kind of document this is ("a rig") and by which version it was written.
    void header(const char* format, int version, const char* what);
    void number(std::string_view key, double& to, Range, double = 0) {
        if (has(key)) to = place_.at(key).number(kAnyNumber.low, kAnyNumber.high);
    }
    void number(std::string_view key, std::optional<double>& to, Range r) {
        if (has(key)) number(key, to.emplace(), r);
    }
    void whole(std::string_view key, int& to, Range) {
        if (has(key))
            to = place_.at(key).whole(std::numeric_limits<int>::min(), std::numeric_limits<int>::max());
    }
    void whole(std::string_view key, std::int64_t& to, Range) {
        if (has(key)) to = std::int64_t(place_.at(key).number(-9e15, 9e15));
    }
    void flag(std::string_view key, bool& to) {
        if (has(key)) to = place_.at(key).boolean();
    }
    void text(std::string_view key, std::string& to, std::size_t) {
        if (has(key)) to = place_.at(key).text(std::string::npos);
    }
    void seconds(std::string_view key, Seconds& to, Range) {
        if (has(key)) to = place_.at(key).seconds(-9e9, 9e9);
    }
    void seconds(std::string_view key, std::optional<Seconds>& to, Range r) {
        if (has(key)) seconds(key, to.emplace(), r);
    }
    template <class E, std::size_t N>
    void word(std::string_view key, E& to, const Word<E> (&words)[N], std::optional<E> = std::nullopt) {
        if (has(key)) to = value_of(words, place_.at(key));
    }
    /// A list of as many numbers as there is room for.
    template <class List>
    void numbers(std::string_view key, List&& to, Range, bool = false) {
        if (!has(key)) return;
        const auto list = place_.at(key);
        if (list.size() != std::size_t(std::size(to)))
            list.refuse("must hold " + std::to_string(std::size(to)) + " numbers", "Write them in a list");
        for (std::size_t i = 0; i < list.size(); ++i)
            *(std::begin(to) + std::ptrdiff_t(i)) = list.at(i).number(kAnyNumber.low, kAnyNumber.high);
    }
    /// What a path's bytes are when they are no text stands beside it, as `..._bytes`, in hexadecimal.
    void path(std::string_view key, std::filesystem::path& to);
    /// Text, or `prefix` and a path.
    void text_or_path(std::string_view key, std::string& to, std::string_view prefix);
    template <class T>
    void part(std::string_view key, T& to) {
        group(key, [&](FieldReader& r) { fields(r, to); });
    }
    template <class T>
    void part(std::string_view key, std::optional<T>& to) {
        if (has(key)) part(key, to.emplace());
    }
    template <class T>
    void part(std::string_view key, Shared<T>& to) {
        if (!has(key)) return;
        T value;
        part(key, value);
        to = std::move(value);
    }
    template <class T>
    void part_unless_usual(std::string_view key, T& to) {
        part(key, to);
    }
    /// Fields of `key` that are no value of their own here; what else stands there is kept with this one's.
    template <class Fields>
    void group(std::string_view key, Fields&& body) {
        if (!has(key)) return;
        FieldReader r(place_.at(key));
        body(r);
        if (Json left = r.left(); !left.empty()) left_[std::string(key)] = std::move(left);
    }
    template <class List>
    void list(std::string_view key, List& to, std::size_t most = kMostEntries, bool = false) {
        list_like(key, to, typename List::value_type{}, most);
    }
    /// What an entry leaves out is as in `like`.
    template <class List>
    void list_like(std::string_view key, List& to, const typename List::value_type& like,
                   std::size_t most = kMostEntries) {
        static_assert(
            requires { to[0].extra_json; }, "what is unknown in an entry must stay with it");
        if (!has(key)) return;
        const auto entries = place_.at(key);
        few_enough(entries, most);
        to.clear();
        to.reserve(entries.size());
        for (std::size_t i = 0; i < entries.size(); ++i) {
            FieldReader r(entries.at(i));
            fields(r, to.emplace_back(like));
        }
    }
    template <class T>
    void rows(std::string_view key, std::vector<T>& to, std::size_t most = kMostEntries, bool = false) {
        if (!has(key)) return;
        const auto entries = place_.at(key);
        few_enough(entries, most);
        to.clear();
        to.resize(entries.size());
        // Points come in tens of thousands; each row stands for itself.
        parallel_ranges(int(entries.size()), kRowsAtATime, [&](int begin, int end) {
            for (auto n = std::size_t(begin); n < std::size_t(end); ++n) {
                CellReader c(entries, n);
                cells(c, to[n]);
                c.end();
            }
        });
    }
    template <class T>
    void rows(std::string_view key, Shared<std::vector<T>>& to, std::size_t most, bool as_text = false) {
        std::vector<T> list;
        rows(key, list, most, as_text);
        if (!list.empty()) to = std::move(list);
    }
    /// A value with a text form of its own: Code::text(value), Code::parse(text, place).
    template <class Code, class T>
    void coded(std::string_view key, T& to) {
        if (has(key)) to = Code::parse(place_.at(key));
    }
    template <class Ok>
    void rule(Ok&&, std::string_view, const char*, const char*) {}
    template <class Work>
    void check(Work&&) {}
    /// Keeps everything that was not asked for.
    void rest(std::string& extra) {
        const Json unknown = left();
        extra = unknown.empty() ? std::string() : unknown.dump();
        left_ = nullptr, taken_ = true;
    }
    /// What nobody asked for and rest() did not take.
    Json left() const;

  private:
    bool has(std::string_view key) {
        asked_.push_back(key);
        return place_.has(key);
    }
    void bytes_of(std::string_view key, std::string& to);
    static void few_enough(const JsonPlace& list, std::size_t most) {
        if (list.size() > most) list.refuse("holds too many entries", "At most " + std::to_string(most));
    }
    JsonPlace place_;
    std::vector<std::string_view> asked_;
    std::vector<std::string> bytes_asked_; ///< beside paths
    Json left_;
    bool taken_ = false;
};

// ---- writing --------------------------------------------------------------------------------------------

class FieldWriter {
  public:
    /// Paths are written as seen from `folder` where that stays short.
    FieldWriter(Json& to, const std::filesystem::path& folder) : to_(to), folder_(folder) {
        if (!to_.is_object()) to_ = Json::object();
    }

    void named(std::string_view) {}
    void must(std::string_view) {}
    void header(const char* format, int version, const char*) {
        to_["format"] = format, to_["version"] = version;
    }
    void number(std::string_view key, const double& v, Range,
                double usual = std::numeric_limits<double>::quiet_NaN()) {
        if (!(v == usual)) to_[key] = v;
    }
    void number(std::string_view key, const std::optional<double>& v, Range r) {
        if (v) number(key, *v, r);
    }
    void whole(std::string_view key, const int& v, Range) { to_[key] = v; }
    void whole(std::string_view key, const std::int64_t& v, Range) { to_[key] = v; }
    void flag(std::string_view key, const bool& v) { to_[key] = v; }
    void text(std::string_view key, const std::string& v, std::size_t) { to_[key] = v; }
    void seconds(std::string_view key, const Seconds& v, Range) { to_[key] = seconds_json(v); }
    void seconds(std::string_view key, const std::optional<Seconds>& v, Range r) {
        if (v) seconds(key, *v, r);
    }
    template <class E, std::size_t N>
    void word(std::string_view key, const E& v, const Word<E> (&words)[N],
              std::optional<E> usual = std::nullopt) {
        if (v != usual) to_[key] = text_of(words, v);
    }
    template <class List>
    void numbers(std::string_view key, const List& v, Range, bool unless_zero = false) {
        if (unless_zero && std::all_of(std::begin(v), std::end(v), [](double x) { return x == 0; })) return;
        to_[key] = std::vector<double>(std::begin(v), std::end(v));
    }
    void path(std::string_view key, const std::filesystem::path& v);
    void text_or_path(std::string_view key, const std::string& v, std::string_view prefix);
    template <class T>
    void part(std::string_view key, const T& v) {
        group(key, [&](FieldWriter& w) { fields(w, v); });
    }
    template <class T>
    void part(std::string_view key, const std::optional<T>& v) {
        if (v) part(key, *v);
    }
    template <class T>
    void part(std::string_view key, const Shared<T>& v) {
        part(key, *v);
    }
    /// Left out while nothing in it was changed.
    template <class T>
    void part_unless_usual(std::string_view key, const T& v) {
        if (!(v == T{})) part(key, v);
    }
    template <class Fields>
    void group(std::string_view key, Fields&& body) {
        FieldWriter w(to_[key], folder_);
        body(w);
    }
    template <class List>
    void list(std::string_view key, const List& v, std::size_t = kMostEntries, bool even_empty = false) {
        if (v.empty() && !even_empty) return;
        Json& entries = to_[key] = Json::array();
        for (const auto& one : v) {
            FieldWriter w(entries.emplace_back(Json::object()), folder_);
            fields(w, one);
        }
    }
    template <class List>
    void list_like(std::string_view key, const List& v, const typename List::value_type&) {
        list(key, v);
    }
    template <class T>
    void rows(std::string_view key, const std::vector<T>& v, std::size_t = kMostEntries,
              bool as_text = false) {
        if (v.empty()) return;
        Json& entries = to_[key] = Json::array();
        auto& list = entries.get_ref<Json::array_t&>();
        list.resize(v.size());
        parallel_ranges(int(v.size()), kRowsAtATime, [&](int begin, int end) {
            for (auto n = std::size_t(begin); n < std::size_t(end); ++n) {
                CellWriter w(as_text);
                cells(w, v[n]);
                list[n] = w.take();
            }
        });
    }
    template <class T>
    void rows(std::string_view key, const Shared<std::vector<T>>& v, std::size_t most, bool as_text = false) {
        rows(key, *v, most, as_text);
    }
    template <class Code, class T>
    void coded(std::string_view key, const T& v) {
        to_[key] = Code::text(v);
    }
    template <class Ok>
    void rule(Ok&&, std::string_view, const char*, const char*) {}
    template <class Work>
    void check(Work&&) {}
    void rest(const std::string& extra);

  private:
    void bytes_of(std::string_view key, const std::string& v);
    Json& to_;
    const std::filesystem::path& folder_;
};

// ---- checking -------------------------------------------------------------------------------------------

/// Refuses what is not allowed: by JSON path in a file (`file` is set), else in words ("shot hall, camera B,
/// reach").
class FieldChecker {
  public:
    /// Entries and shared lists at one of the addresses in `known_good` are not looked at again.
    explicit FieldChecker(std::string file, std::set<const void*> known_good = {})
        : file_(std::move(file)), known_good_(std::move(known_good)) {}
    bool is_known_good(const void* list) const { return root().known_good_.contains(list); }

    /// Checks a whole document.
    template <class T>
    void all(const T& document) const {
        FieldChecker c(*this);
        fields(c, document);
    }
    /// What this part is called, for words.
    void named(std::string_view name) { name_ = name; }
    void must(std::string_view) {}
    void header(const char*, int, const char*) const {}
    void number(std::string_view key, const double& v, Range r, double = 0) const {
        if (!r.holds(v)) refuse(key, "is " + number_text(v), "It must be " + text_of(r));
    }
    void number(std::string_view key, const std::optional<double>& v, Range r) const {
        if (v) number(key, *v, r);
    }
    void whole(std::string_view key, const int& v, Range r) const { number(key, v, r); }
    void whole(std::string_view key, const std::int64_t& v, Range r) const { number(key, double(v), r); }
    void flag(std::string_view, const bool&) const {}
    void text(std::string_view key, const std::string& v, std::size_t longest) const;
    void seconds(std::string_view key, const Seconds& v, Range r) const { number(key, v.to_double(), r); }
    void seconds(std::string_view key, const std::optional<Seconds>& v, Range r) const {
        if (v) seconds(key, *v, r);
    }
    template <class E, std::size_t N>
    void word(std::string_view, const E&, const Word<E> (&)[N], std::optional<E> = std::nullopt) const {}
    template <class List>
    void numbers(std::string_view key, const List& v, Range r, bool = false) const {
        for (const double x : v) number(key, x, r);
    }
    void path(std::string_view key, const std::filesystem::path& v) const;
    void text_or_path(std::string_view key, const std::string& v, std::string_view prefix) const;
    template <class T>
    void part(std::string_view key, const T& v) const {
        group(key, [&](FieldChecker& c) { fields(c, v); });
    }
    template <class T>
    void part(std::string_view key, const std::optional<T>& v) const {
        if (v) part(key, *v);
    }
    template <class T>
    void part(std::string_view key, const Shared<T>& v) const {
        part(key, *v);
    }
    template <class T>
    void part_unless_usual(std::string_view key, const T& v) const {
        part(key, v);
    }
    template <class Fields>
    void group(std::string_view key, Fields&& body) const {
        FieldChecker c(this, key, kNoIndex);
        body(c);
    }
    template <class List>
    void list(std::string_view key, const List& v, std::size_t most = kMostEntries, bool = false) const {
        few_enough(key, v.size(), most);
        for (std::size_t i = 0; i < v.size(); ++i) {
            if (is_known_good(&v[i])) continue;
            FieldChecker c(this, key, i);
            fields(c, v[i]);
        }
    }
    template <class List>
    void list_like(std::string_view key, const List& v, const typename List::value_type&) const {
        list(key, v);
    }
    template <class T>
    void rows(std::string_view key, const std::vector<T>& v, std::size_t most = kMostEntries,
              bool = false) const {
        few_enough(key, v.size(), most);
        parallel_ranges(int(v.size()), kRowsAtATime, [&](int begin, int end) {
            for (auto n = std::size_t(begin); n < std::size_t(end); ++n) {
                CellChecker c{FieldChecker(this, key, n)};
                cells(c, v[n]);
            }
        });
    }
    template <class T>
    void rows(std::string_view key, const Shared<std::vector<T>>& v, std::size_t most,
              bool as_text = false) const {
        if (!is_known_good(&*v)) rows(key, *v, most, as_text);
    }
    template <class Code, class T>
    void coded(std::string_view key, const T& v) const {
        if (const char* fault = Code::fault(v)) refuse(key, fault, Code::kMend);
    }
    /// What must hold between fields; said of `key`.
    template <class Ok>
    void rule(Ok&& ok, std::string_view key, const char* what, const char* mend) const {
        if (!ok()) refuse(key, what, mend);
    }
    /// Rules that need more than one line: `work(checker)`.
    template <class Work>
    void check(Work&& work) const {
        work(*this);
    }
    void rest(const std::string&) const {}

    /// The checker of a part, or of an entry of a list; it points to this one, which must outlive it.
    FieldChecker inside(std::string_view key) const& { return FieldChecker(this, key, kNoIndex); }
    FieldChecker entry(std::string_view key, std::size_t index) const& {
        return FieldChecker(this, key, index);
    }
    FieldChecker inside(std::string_view key) const&& = delete;
    FieldChecker entry(std::string_view key, std::size_t index) const&& = delete;
    [[noreturn]] void refuse(std::string_view key, const std::string& what, const std::string& mend) const;

  private:
    struct CellChecker;
    static constexpr std::size_t kNoIndex = std::size_t(-1);
    FieldChecker(const FieldChecker* up, std::string_view key, std::size_t index)
        : up_(up), key_(key), index_(index) {}
    void few_enough(std::string_view key, std::size_t size, std::size_t most) const {
        if (size > most) refuse(key, "holds too many entries", "At most " + std::to_string(most));
    }
    std::string path_to_here() const;
    std::string words_to_here() const;
    const FieldChecker& root() const { return up_ ? up_->root() : *this; }

    const FieldChecker* up_ = nullptr;
    std::string_view key_;
    std::size_t index_ = kNoIndex;
    std::string_view name_;
    std::string file_;
    std::set<const void*> known_good_;
};

struct FieldChecker::CellChecker {
    FieldChecker at;
    void number(const double& v, Range r) const { at.number({}, v, r); }
    void whole(const int& v, Range r) const { at.number({}, v, r); }
    void seconds(const Seconds& v, Range r) const { at.number({}, v.to_double(), r); }
    void flag(const bool&) const {}
    void text(const std::string& v, std::size_t longest) const { at.text({}, v, longest); }
    void tail(const std::string& v, std::size_t longest) const { at.text({}, v, longest); }
    template <class Code, class T>
    void coded_tail(const T& v, std::size_t longest) const {
        tail(Code::text(v), longest);
    }
};

/// The keys of a curve over time: rising, and one at least where that is asked for.
template <class Key>
void check_order(const FieldChecker& c, std::string_view key, const std::vector<Key>& keys,
                 bool one_at_least) {
    if (keys.empty() && one_at_least) c.refuse(key, "is empty", "Give it one key at least");
    for (std::size_t i = 1; i < keys.size(); ++i)
        if (!(keys[i - 1].time < keys[i].time))
            c.entry(key, i).refuse("time_s", "is not later than the one before", "Put keys in order of time");
}
/// Entries that are known by an id of their own.
template <class List>
void check_ids(const FieldChecker& c, std::string_view key, const List& items) {
    std::set<std::string_view> seen;
    for (std::size_t i = 0; i < items.size(); ++i) {
        if (items[i].id.empty()) c.entry(key, i).refuse("id", "is empty", "Give it an id of its own");
        if (!seen.insert(items[i].id).second)
            c.entry(key, i).refuse("id", "'" + items[i].id + "' is used twice", "Give it an id of its own");
    }
}

} // namespace porb
