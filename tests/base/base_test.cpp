#include "base/error.h"
#include "base/file.h"
#include "base/json.h"
#include "base/parallel.h"
#include "support/support.h"

#include <nlohmann/json.hpp>

#include <fstream>
#include <numeric>

using namespace porb;
using namespace porb::test;

TEST_CASE("rationals stay exact and in lowest terms") {
    CHECK(Rational(6, 4) == Rational(3, 2));
    CHECK(Rational(3, -6).num() == -1);
    CHECK(Rational(1, 3) + Rational(1, 6) == Rational(1, 2));
    CHECK(Rational(30000, 1001) * Rational(1001, 30000) == Rational(1));
    CHECK(Rational(-7, 2).floor() == -4);
    CHECK(Rational(7, 2).floor() == 3);
    CHECK(Rational(1, 3) < Rational(34, 100));
    CHECK(Rational(5) / Rational(0) == Rational(0));
}

TEST_CASE("frame times and indices agree at awkward rates") {
    for (const FrameRate rate :
         {FrameRate(24), FrameRate(30000, 1001), FrameRate(24000, 1001), FrameRate(60), FrameRate(25, 2)})
        for (const std::int64_t n : {0, 1, 7, 1000, 107892, 2589408}) {
            CHECK(frame_index(frame_time(n, rate), rate) == n);
            // Typed to a few digits it is still that frame; two hundredths before it is the one before.
            CHECK(frame_index(frame_time(n, rate) - Rational(1, 1'000'000), rate) == n);
            CHECK(frame_index(frame_time(n, rate) - Rational(1, 50) / rate, rate) == n - 1);
            CHECK(frame_before(frame_time(n, rate), rate) == n - 1);
            CHECK(frame_before(frame_time(n, rate) + Rational(1, 1'000'000), rate) == n - 1);
            CHECK(frame_before(frame_time(n, rate) + Rational(1, 2) / rate, rate) == n);
            CHECK(nearest_frame_time(frame_time(n, rate) + Rational(1, 1'000'000), rate) ==
                  frame_time(n, rate));
        }
}

TEST_CASE("decimal frame rates are the ones people mean") {
    CHECK(frame_rate_meant(29.97) == FrameRate(30000, 1001));
    CHECK(frame_rate_meant(23.976) == FrameRate(24000, 1001));
    CHECK(frame_rate_meant(59.94) == FrameRate(60000, 1001));
    CHECK(frame_rate_meant(30) == FrameRate(30));
    CHECK(frame_rate_meant(12.5) == FrameRate(25, 2));
}

TEST_CASE("rationals beyond 64 bits are rounded, not wrapped") {
    const Rational big(9'000'000'000'000'000'000, 7), other(1, 9'000'000'000'000'000'011);
    CHECK((big * other).to_double() == Approx(1.0 / 7).epsilon(1e-6));
    CHECK((big + big).to_double() == 9e9); // limited, with the right sign
    CHECK((Rational(0) - big - big).to_double() == -9e9);
    CHECK((Rational(1, 999'999'999'989) + Rational(3, 999'999'999'959)).to_double() ==
          Approx(0).margin(1e-8));
}

TEST_CASE("rationals are read from what people type") {
    CHECK(Rational::parse("30000/1001", "") == Rational(30000, 1001));
    CHECK(Rational::parse("-1.5", "") == Rational(-3, 2));
    CHECK(Rational::parse("29.97", "") == Rational(2997, 100));
    for (const char* bad : {"", "abc", "1/0", "1/-2", "1.2.3", "--1", "1e5", "99999999999999999999"})
        CHECK(error_of([&] { Rational::parse(bad, "--rate"); }).find("--rate") == 0);
}

TEST_CASE("errors say what, where and how to mend it, on one line") {
    const Error e("is empty", "take.mp4", "Copy it again");
    CHECK(std::string(e.what()) == "take.mp4: is empty. Copy it again.");
}

TEST_CASE("a file written atomically holds the old or the new text") {
    const TempFolder folder;
    const auto file = folder / "a.txt";
    write_file_atomically(file, "first");
    write_file_atomically(file, "second");
    CHECK(read_text_file(file) == "second");
    std::size_t entries = 0;
    for ([[maybe_unused]] const auto& e : fs::directory_iterator(folder.path())) ++entries;
    CHECK(entries == 1);
    CHECK(error_of([&] { write_file_atomically(folder / "none/b.txt", "x"); }).find("none/b.txt") !=
          std::string::npos);
}

TEST_CASE("a part file leaves nothing behind unless committed") {
    const TempFolder folder;
    {
        const PartFile part(folder / "m.mp4");
        std::ofstream(part.path()) << "half";
        CHECK(part.path().extension() == ".mp4");
        CHECK_FALSE(fs::exists(folder / "m.mp4"));
    }
    CHECK(fs::is_empty(folder.path()));
    {
        PartFile part(folder / "m.mp4");
        std::ofstream(part.path()) << "whole";
        part.commit();
    }
    CHECK(read_text_file(folder / "m.mp4") == "whole");
}

TEST_CASE("what is no file of ours is refused by name") {
    const TempFolder folder;
    CHECK(error_of([&] { read_text_file(folder / "gone"); }).find("no such file") != std::string::npos);
    CHECK(error_of([&] { read_text_file(folder.path()); }).find("not a file") != std::string::npos);
    std::ofstream(folder / "big") << std::string(2000, 'x');
    CHECK(error_of([&] { read_text_file(folder / "big", 1000); }).find("too large") != std::string::npos);
}

TEST_CASE("JSON faults carry their path") {
    const Json j = parse_json(R"({"a": [1, {"b": "x", "n": 7.5}]})", "f.json");
    const JsonPlace place(j, "f.json");
    CHECK(place.at("a").at(std::size_t(1)).at("b").text() == "x");
    CHECK(error_of([&] { place.at("a").at(std::size_t(1)).at("b").number(0, 1); }).find("f.json /a/1/b") ==
          0);
    CHECK(error_of([&] { place.at("a").at(std::size_t(1)).at("n").whole(0, 10); }).find("whole number") !=
          std::string::npos);
    CHECK(error_of([&] { place.at("a").at(std::size_t(1)).at("n").number(0, 7); }).find("between 0 and 7") !=
          std::string::npos);
    CHECK(error_of([&] { place.at("z"); }).find("'z' is missing") != std::string::npos);
}

TEST_CASE("broken and hostile JSON is refused") {
    CHECK(error_of([] { parse_json("{\"a\": ", "f"); }).find("not valid JSON") != std::string::npos);
    CHECK(error_of([] { parse_json("{\"a\": 1e999}", "f"); }).find("f:") == 0);
    CHECK(error_of([] { parse_json(std::string(100000, '['), "f"); }).find("nested") != std::string::npos);
}

TEST_CASE("long entries are parsed for themselves, and the document is the same") {
    const auto entry = [](const std::string& name, std::size_t rows) {
        std::string out = R"({"name": ")" + name + R"(", "odd \"]} [": [], "rows": [)";
        for (std::size_t i = 0; i < rows; ++i) out += (i ? ", \"" : "\"") + std::to_string(i) + R"( 1/3 \\")";
        return out + "]}";
    };
    const std::string longest = entry("a, [ {", 9000), other = entry("b", 8000), brief = entry("c", 3);
    const std::string text = R"({"before": [{"shots": 1}], "shots": [)" + longest + ", " + brief +
                             ", null, " + other + R"(], "after": {"shots": [)" + brief + R"(]}, "last": [)" +
                             other + ", 5]}";
    CHECK(parse_json(text, "t") == Json::parse(text));
    for (const std::size_t at : {text.size() / 3, text.size() / 2, text.size() - 3}) {
        std::string damaged = text;
        damaged[at] = '\x01';
        CHECK(error_of([&] { parse_json(damaged, "f.porb"); }).find("f.porb: is not valid JSON") !=
              std::string::npos);
        CHECK_THROWS_AS(parse_json(std::string_view(text).substr(0, at), "t"), Error);
    }
    const std::string twice = R"({"shots": [)" + longest + ", " + other + R"(], "shots": [)" + other + "]}";
    CHECK(parse_json(twice, "t") == Json::parse(twice));
}

TEST_CASE("a document written in parts is what it is as a whole") {
    for (const char* text :
         {"{}", "[]", "[1, 2]", "3", R"({"a": 1})",
          R"({"a": [], "b": {}, "c": [{}], "d": [{}, []], "\n\"[": [1, 2, 3]})",
          R"({"shots": [{"rows": ["1 2", "3 4"], "x": {"y": [null, true]}}, {"rows": []}, 5], "z": "é"})"}) {
        const Json document = Json::parse(text);
        CHECK(dump_json(document) == document.dump(2) + "\n");
    }
}

TEST_CASE("parallel ranges cover everything once and pass on what is thrown") {
    std::vector<int> seen(1000, 0);
    parallel_ranges(1000, 7, [&](int b, int e) {
        for (int i = b; i < e; ++i) ++seen[std::size_t(i)];
    });
    CHECK(std::all_of(seen.begin(), seen.end(), [](int n) { return n == 1; }));
    CHECK_THROWS_AS(parallel_ranges(10, 1,
                                    [](int b, int) {
                                        if (b == 5) throw Error("x", "", "");
                                    }),
                    Error);
}
