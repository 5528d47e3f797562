#include "base/file.h"
#include "grade/exchange.h"
#include "grade/grader.h"
#include "media/curves.h"
#include "media/library.h"
#include "media/still.h"
#include "picture/transfer.h"
#include "support/support.h"

using namespace porb;
using namespace porb::test;

namespace {
std::array<float, 3> graded(const Grade& g, float r, float gr, float b) {
    return Grader(g).apply({r, gr, b});
}
} // namespace

TEST_CASE("a grade's light, range and saturation do what their units say") {
    Grade g;
    CHECK(is_neutral(g));
    const auto same = graded(g, 0.2f, 0.5f, 0.9f);
    CHECK(same[0] == Approx(0.2f).margin(2e-4));
    CHECK(same[2] == Approx(0.9f).margin(5e-4));
    g.exposure_ev = 1; // twice the light
    CHECK(linear_from_encoded(graded(g, 0.5f, 0.5f, 0.5f)[1]) ==
          Approx(2 * linear_from_encoded(0.5f)).epsilon(0.002));
    g = {};
    g.warmth_ev = 1; // red up and blue down by half a stop
    const auto warm = graded(g, 0.5f, 0.5f, 0.5f);
    CHECK(linear_from_encoded(warm[0]) / linear_from_encoded(warm[2]) == Approx(2).epsilon(0.004));
    CHECK(warm[1] == Approx(0.5f).margin(3e-4));
    g = {};
    g.contrast = 1.5;
    const float pivot = encoded_from_linear(0.18f);
    CHECK(graded(g, pivot, pivot, pivot)[0] == Approx(pivot).margin(1e-3)); // the pivot stays
    CHECK(graded(g, 0.8f, 0.8f, 0.8f)[0] > 0.8f);
    CHECK(graded(g, 0.2f, 0.2f, 0.2f)[0] < 0.2f);
    g = {};
    g.lift = {0.1, 0, 0}, g.gain = {1, 0.8, 1}, g.gamma = {1, 1, 2};
    CHECK(graded(g, 0, 0, 0)[0] == Approx(0.1f).margin(1e-4));
    CHECK(graded(g, 1, 1, 1)[0] == Approx(1.0f).margin(1e-3));
    CHECK(graded(g, 1, 1, 1)[1] == Approx(0.8f).margin(1e-3));
    CHECK(graded(g, 0.25f, 0.25f, 0.25f)[2] == Approx(0.5f).margin(1e-3));
    g = {};
    g.saturation = 0;
    const auto grey = graded(g, 0.9f, 0.4f, 0.1f);
    CHECK(grey[0] == Approx(0.2126f * 0.9f + 0.7152f * 0.4f + 0.0722f * 0.1f).margin(1e-3));
    CHECK(grey[0] == Approx(grey[2]).margin(1e-4));
    CHECK_FALSE(is_neutral(g));
}

TEST_CASE("rows are graded as single colours are, alpha and nonsense survive") {
    Grade g;
    g.exposure_ev = 0.7, g.saturation = 1.4, g.contrast = 1.2;
    const Grader grader(g);
    Picture p(9, 1);
    for (int x = 0; x < 9; ++x) set_pixel(p, x, 0, {0.1f * float(x), 0.5f, 0.9f - 0.1f * float(x), 1});
    set_pixel(p, 7, 0, {0.25f, 0.25f, 0.25f, 0.5f}); // half there: colour 0.5
    set_pixel(p, 8, 0, {0, 0, 0, 0});
    p.row(0)[0] = 0x7e00; // not a number
    grader.apply(p.row(0), 9);
    for (int x = 1; x < 7; ++x) {
        const auto one = grader.apply({0.1f * float(x), 0.5f, 0.9f - 0.1f * float(x)});
        CHECK(pixel_at(p, x, 0).r == Approx(one[0]).margin(2e-3));
        CHECK(pixel_at(p, x, 0).b == Approx(one[2]).margin(2e-3));
    }
    CHECK(pixel_at(p, 7, 0).g == Approx(0.5f * grader.apply({0.5f, 0.5f, 0.5f})[1]).margin(2e-3));
    CHECK(pixel_at(p, 7, 0).a == 0.5f);
    CHECK(pixel_at(p, 8, 0).r == 0);
    CHECK(std::isfinite(pixel_at(p, 0, 0).r));
}

TEST_CASE("grades leave and come back as ASC CDL, and as a table") {
    const TempFolder folder;
    Grade g;
    g.lift = {0.05, -0.02, 0}, g.gamma = {1.2, 0.9, 1}, g.gain = {1.1, 1, 0.95}, g.saturation = 0.8;
    write_cdl(g, folder / "look.cc", "hall & \"light\"");
    Grade back = with_cdl({}, folder / "look.cc");
    for (std::size_t c = 0; c < 3; ++c) {
        CHECK(back.lift[c] == Approx(g.lift[c]).margin(1e-6));
        CHECK(back.gamma[c] == Approx(g.gamma[c]).epsilon(1e-5));
        CHECK(back.gain[c] == Approx(g.gain[c]).epsilon(1e-5));
    }
    CHECK(back.saturation == Approx(0.8));
    g.exposure_ev = 0.5;
    CHECK(error_of([&] { write_cdl(g, folder / "more.cc", "x"); }).find("more than ASC CDL can say") !=
          std::string::npos);
    CHECK_FALSE(std::filesystem::exists(folder / "more.cc"));

    // As a table it holds everything: a grade that is that table alone looks the same.
    write_cube(g, folder / "all.cube");
    Grade by_table;
    by_table.lut = folder / "all.cube";
    for (const float v : {0.1f, 0.4f, 0.75f}) {
        const auto a = graded(g, v, 0.5f, 1 - v), b = graded(by_table, v, 0.5f, 1 - v);
        for (std::size_t c = 0; c < 3; ++c) CHECK(a[c] == Approx(b[c]).margin(6e-3));
    }
    by_table.lut_strength = 0.5; // half-way
    CHECK(graded(by_table, 0.4f, 0.4f, 0.4f)[1] ==
          Approx((0.4f + graded(g, 0.4f, 0.4f, 0.4f)[1]) / 2).margin(4e-3));

    write_file_atomically(folder / "bad.cube", "LUT_3D_SIZE 2\n0 0 nothing\n");
    by_table.lut = folder / "bad.cube";
    CHECK(error_of([&] { Grader x(by_table); }).find("not a LUT that can be read") != std::string::npos);
    by_table.lut = folder / "none.cube";
    CHECK(error_of([&] { Grader x(by_table); }).find("not there") != std::string::npos);
    write_file_atomically(folder / "bad.cc", "<ColorCorrection><SOPNode></ColorCorrection>");
    CHECK(error_of([&] { (void)with_cdl({}, folder / "bad.cc"); }).find("not an ASC CDL") !=
          std::string::npos);
}

TEST_CASE("source curves give light: known values of the standards, files, and plain refusals") {
    CHECK(light_of_curve("rec709")(0.5f) ==
          Approx(0.2596).epsilon(0.01)); // ((0.5 + 0.099) / 1.099)^(1 / 0.45)
    CHECK(light_of_curve("linear")(0.37f) == 0.37f);
    CHECK(light_of_curve("srgb")(0.5f) == Approx(0.21404).epsilon(1e-3));
    CHECK(light_of_curve("film-log")(685 / 1023.f) == Approx(1).epsilon(1e-3)); // white
    CHECK(light_of_curve("film-log")(95 / 1023.f) == Approx(0).margin(1e-4));   // black
    CHECK(light_of_curve("acescct")(0.4135884f) == Approx(0.18).epsilon(2e-3)); // S-2016-001: mid grey
    CHECK(light_of_curve("acescc")(0.4135884f) == Approx(0.18).epsilon(2e-3));
    CHECK(light_of_curve("acescct")(0.1f) < 0.01f);
    CHECK(error_of([] {
              (void)light_of_curve("nonsense");
          }).find("not a curve known here. Use one of: srgb") != std::string::npos);

    const TempFolder folder;
    write_file_atomically(folder / "half.cube", "LUT_1D_SIZE 2\n0 0 0\n0.5 0.5 0.5\n");
    CHECK(light_of_curve(kCurveFile + (folder / "half.cube").string())(0.6f) == Approx(0.3).epsilon(1e-3));
    Grade tint;
    tint.saturation = 0.2;
    write_cube(tint, folder / "mix.cube", 9);
    CHECK(error_of([&] {
              (void)light_of_curve(kCurveFile + (folder / "mix.cube").string());
          }).find("mixes colours") != std::string::npos);
    write_file_atomically(folder / "noise.clf", "<nothing>");
    CHECK(error_of([&] {
              (void)light_of_curve(kCurveFile + (folder / "noise.clf").string());
          }).find("not a curve") != std::string::npos);

    // A source is read by the curve that is chosen for it.
    Picture grey(16, 16);
    for (int y = 0; y < 16; ++y)
        for (int x = 0; x < 16; ++x) set_pixel(grey, x, y, {0.4135884f, 0.4135884f, 0.4135884f, 1});
    StillOptions deep;
    deep.depth = 16;
    write_still(grey, folder / "log.png", deep);
    write_still(grey, folder / "linear.exr");
    MediaLibrary library;
    MediaRef ref = media_ref_for(folder / "log.png");
    CHECK(pixel_at(*library.picture(ref, Seconds(0)), 8, 8).g == Approx(0.4136f).margin(1e-3));
    ref.curve = "acescct";
    CHECK(linear_from_encoded(pixel_at(*library.picture(ref, Seconds(0)), 8, 8).g) ==
          Approx(0.18f).epsilon(0.01));
    // The numbers of an EXR are light as a rule; with a curve they are its code values.
    MediaRef exr = media_ref_for(folder / "linear.exr");
    const float code = linear_from_encoded(0.4135884f);
    exr.curve = "acescct";
    CHECK(linear_from_encoded(pixel_at(*library.picture(exr, Seconds(0)), 8, 8).g) ==
          Approx(light_of_curve("acescct")(code)).margin(2e-3));
    ref.curve = "nonsense";
    CHECK(error_of([&] { (void)library.picture(ref, Seconds(0)); }).find("not a curve known") !=
          std::string::npos);
}
