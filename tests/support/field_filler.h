#pragma once

#include "base/fields.h"

#include <random>

namespace porb::test {

/// Fills a part with random values that are allowed, ends of ranges among them, through the same table of
/// fields that reads, writes and checks it. Lists get as many entries as are asked for; names of cameras and
/// other rules between fields are for the caller.
class FieldFiller {
  public:
    explicit FieldFiller(std::mt19937& random) : random_(random) {}

    void named(std::string_view) {}
    void must(std::string_view) {}
    void header(const char*, int, const char*) {}
    void number(std::string_view, double& v, Range r, double = 0) { v = in(r); }
    void number(std::string_view, std::optional<double>& v, Range r) {
        v = coin() ? std::optional(in(r)) : std::nullopt;
    }
    void whole(std::string_view, int& v, Range r) { v = int(in(r)); }
    void whole(std::string_view, std::int64_t& v, Range r) { v = std::int64_t(in(r)); }
    void flag(std::string_view, bool& v) { v = coin(); }
    void text(std::string_view, std::string& v, std::size_t longest) {
        static const char* const kLetters[] = {"a", "Z",  " ", "%",  "\"",   "\\",
                                               "/", "\n", "é", "火", "\x7f", "%20"};
        v.clear();
        const std::size_t length = coin() ? longest : pick(12);
        while (v.size() + 4 <= length) v += kLetters[pick(std::size(kLetters))];
    }
    void seconds(std::string_view, Seconds& v, Range r) { v = time_in(r); }
    void seconds(std::string_view, std::optional<Seconds>& v, Range r) {
        v = coin() ? std::optional(time_in(r)) : std::nullopt;
    }
    template <class E, std::size_t N>
    void word(std::string_view, E& v, const Word<E> (&words)[N], std::optional<E> = std::nullopt) {
        v = words[pick(N)].value;
    }
    template <class List>
    void numbers(std::string_view, List&& v, Range r, bool = false) {
        for (auto& x : v) x = in(r);
    }
    void path(std::string_view, std::filesystem::path& v) {
        static const char* const kPaths[] = {"", "/tmp/a b.mp4", "/tmp/caf\xe9/\xff.mov", "/tmp/火.exr",
                                             "/x"};
        v = kPaths[pick(std::size(kPaths))];
    }
    void text_or_path(std::string_view, std::string& v, std::string_view prefix) {
        v = coin() ? "srgb" : std::string(prefix) + "/tmp/\xfe.clf";
    }
    template <class T>
    void part(std::string_view, T& v) {
        fields(*this, v);
    }
    template <class T>
    void part(std::string_view, std::optional<T>& v) {
        v.reset();
        if (coin()) fields(*this, v.emplace());
    }
    template <class T>
    void part(std::string_view, Shared<T>& v) {
        T value;
        fields(*this, value);
        v = std::move(value);
    }
    template <class T>
    void part(std::string_view key, std::optional<Shared<T>>& v) {
        v.emplace();
        part(key, *v);
    }
    template <class T>
    void part_unless_usual(std::string_view key, T& v) {
        part(key, v);
    }
    template <class Fields>
    void group(std::string_view, Fields&& body) {
        body(*this);
    }
    template <class List>
    void list(std::string_view, List& v, std::size_t = kMostEntries, bool = false) {
        v.clear();
        for (std::size_t n = pick(4); n-- > 0;) fields(*this, v.emplace_back());
    }
    template <class List>
    void list_like(std::string_view key, List& v, const typename List::value_type&) {
        list(key, v);
    }
    template <class T>
    void rows(std::string_view, std::vector<T>& v, std::size_t = kMostEntries, bool = false) {
        v.resize(pick(5));
        for (auto& one : v) cells(*this, one);
    }
    template <class T>
    void rows(std::string_view key, Shared<std::vector<T>>& v, std::size_t most, bool as_text) {
        std::vector<T> list;
        rows(key, list, most, as_text);
        v = std::move(list);
    }
    template <class Code, class T>
    void coded(std::string_view, T&) {}
    template <class Ok>
    void rule(Ok&&, std::string_view, const char*, const char*) {}
    template <class Work>
    void check(Work&&) {}
    void rest(std::string& extra) { extra = coin() ? "{\"from_the_future\":{\"x\":[1,null]}}" : ""; }
    // Cells of rows.
    void number(double& v, Range r) { v = in(r); }
    void whole(int& v, Range r) { v = int(in(r)); }
    void seconds(Seconds& v, Range r) { v = time_in(r); }
    void flag(bool& v) { v = coin(); }
    void text(std::string& v, std::size_t longest) { text({}, v, longest); }
    void tail(std::string& v, std::size_t longest) { text({}, v, longest); }
    template <class Code, class T>
    void coded_tail(T& v, std::size_t longest) {
        std::string words;
        tail(words, longest);
        v = Code::parse(words);
    }

  private:
    bool coin() { return random_() & 1u; }
    std::size_t pick(std::size_t n) { return random_() % n; }
    double in(Range r) {
        switch (pick(4)) {
        case 0:
            return r.low;
        case 1:
            return r.high;
        default:
            return r.low + (r.high - r.low) * (double(random_()) / 4294967296.0);
        }
    }
    Seconds time_in(Range r) {
        if (coin()) return Rational::from_double(in(r));
        const Rational t(std::int64_t(in(r)) * 1000, 1001); // a fraction that no decimal says
        return r.holds(t.to_double()) ? t : Rational::from_double(in(r));
    }
    std::mt19937& random_;
};

} // namespace porb::test
