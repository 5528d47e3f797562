#include "picture/compare.h"
#include "picture/convert.h"
#include "picture/mend.h"
#include "picture/transfer.h"
#include "picture/yuv_picture.h"
#include "support/support.h"

using namespace porb;
using namespace porb::test;

namespace {

/// A planar Y'CbCr picture with its own memory.
struct Yuv {
    Yuv(int w, int h, int sx, int sy, int depth) {
        planes.width = w, planes.height = h, planes.chroma_shift_x = sx, planes.chroma_shift_y = sy,
        planes.depth = depth;
        for (std::size_t i = 0; i < 3; ++i) {
            const int pw = i ? (w + (1 << sx) - 1) >> sx : w, ph = i ? (h + (1 << sy) - 1) >> sy : h;
            planes.stride[i] = pw * (depth > 8 ? 2 : 1);
            memory[i].resize(std::size_t(planes.stride[i]) * std::size_t(ph));
            planes.plane[i] = memory[i].data();
        }
    }
    YuvPlanes<const std::uint8_t> read_only() const {
        YuvPlanes<const std::uint8_t> p;
        p.width = planes.width, p.height = planes.height, p.chroma_shift_x = planes.chroma_shift_x,
        p.chroma_shift_y = planes.chroma_shift_y;
        p.depth = planes.depth, p.matrix = planes.matrix, p.full_range = planes.full_range,
        p.stride = planes.stride;
        for (std::size_t i = 0; i < 3; ++i) p.plane[i] = planes.plane[i];
        return p;
    }
    YuvPlanes<std::uint8_t> planes;
    std::vector<std::uint8_t> memory[3];
};

/// Away from the border, where chroma that is sited off the picture has to be guessed.
double worst_difference(const Picture& a, const Picture& b) {
    double worst = 0;
    for (int y = 3; y < a.height() - 3; ++y)
        for (int x = 3; x < a.width() - 3; ++x) {
            const Rgba p = pixel_at(a, x, y), q = pixel_at(b, x, y);
            worst = std::max({worst, double(std::abs(p.r - q.r)), double(std::abs(p.g - q.g)),
                              double(std::abs(p.b - q.b))});
        }
    return worst;
}

} // namespace

TEST_CASE("halves hold every 8- and 10-bit level apart") {
    for (int bits : {8, 10}) {
        const int top = (1 << bits) - 1;
        for (int v = 0; v <= top; ++v) {
            const float back = float_from_half(half_from_float(float(v) / float(top)));
            CHECK(int(std::lround(back * float(top))) == v);
        }
    }
    CHECK(float_from_half(half_from_float(1000.0f)) == 1000.0f);
}

TEST_CASE("the sRGB curve and its way back") {
    CHECK(encoded_from_linear(0.18f) == Approx(0.4613f).margin(1e-3));
    for (const float v : {-0.5f, 0.0f, 0.001f, 0.02f, 0.5f, 1.0f, 12.0f})
        CHECK(linear_from_encoded(encoded_from_linear(v)) == Approx(v).margin(1e-5));
}

TEST_CASE("smooth pictures survive Y'CbCr and back") {
    const int depth = GENERATE(8, 10), shift = GENERATE(0, 1);
    const bool full = GENERATE(false, true);
    for (const YuvMatrix m : {kRec709, kRec601, kRec2020})
        for (const auto& [w, h] : {std::pair{64, 32}, {67, 35}}) {
            Yuv yuv(w, h, shift, shift, depth);
            yuv.planes.matrix = m;
            yuv.planes.full_range = full;
            const Picture in = gradient(w, h);
            yuv_from_rgba(in, yuv.planes);
            Picture out(w, h);
            rgba_from_yuv(yuv.read_only(), out);
            CHECK(worst_difference(in, out) < (depth == 8 ? 0.012 : 0.008));
        }
}

TEST_CASE("known Y'CbCr code values") {
    Yuv yuv(4, 4, 1, 1, 8);
    const auto fill = [&](int y, int u, int v) {
        std::fill(yuv.memory[0].begin(), yuv.memory[0].end(), std::uint8_t(y));
        std::fill(yuv.memory[1].begin(), yuv.memory[1].end(), std::uint8_t(u));
        std::fill(yuv.memory[2].begin(), yuv.memory[2].end(), std::uint8_t(v));
        Picture out(4, 4);
        rgba_from_yuv(yuv.read_only(), out);
        return pixel_at(out, 1, 1);
    };
    CHECK(fill(16, 128, 128).g == Approx(0).margin(1e-3));
    CHECK(fill(235, 128, 128).r == Approx(1).margin(1e-3));
    const Rgba red = fill(63, 102, 240); // pure red of BT.709 in video range
    CHECK(red.r == Approx(1).margin(0.01));
    CHECK(red.g == Approx(0).margin(0.01));
    CHECK(red.b == Approx(0).margin(0.01));
    CHECK(red.a == 1);
}

TEST_CASE("chroma lands where its siting says") {
    // A vertical edge in U at luma column 8: with left siting, column 8 has the new value and 7 the mean.
    Yuv yuv(16, 4, 1, 1, 8);
    std::fill(yuv.memory[0].begin(), yuv.memory[0].end(), std::uint8_t(128));
    std::fill(yuv.memory[2].begin(), yuv.memory[2].end(), std::uint8_t(128));
    for (std::size_t i = 0; i < yuv.memory[1].size(); ++i) yuv.memory[1][i] = i % 8 < 4 ? 100 : 156;
    Picture out(16, 4);
    auto in = yuv.read_only();
    rgba_from_yuv(in, out);
    const float low = pixel_at(out, 2, 1).b, high = pixel_at(out, 12, 1).b;
    CHECK(pixel_at(out, 8, 1).b == Approx(high).margin(1e-3));
    CHECK(pixel_at(out, 7, 1).b == Approx((low + high) / 2).margin(1e-3));
    in.chroma_centred = true;
    rgba_from_yuv(in, out);
    CHECK(pixel_at(out, 7, 1).b == Approx(0.75f * low + 0.25f * high).margin(1e-3));
}

TEST_CASE("bytes and words") {
    Picture p(5, 1);
    set_pixel(p, 0, 0, {1, 0.5f, 0, 1});
    set_pixel(p, 1, 0, {2, -1, 0.25f, 1});
    set_pixel(p, 2, 0, {0.25f, 0.25f, 0.25f, 0.5f});
    set_pixel(p, 3, 0, {0, 0, 0, 0});
    set_pixel(p, 4, 0, {1, 1, 1, 1});
    std::uint8_t rgba[20], bgra[20];
    bytes_from_rgba(p, false, rgba, 20);
    bytes_from_rgba(p, true, bgra, 20);
    CHECK(int(rgba[0]) == 255);
    CHECK(int(rgba[1]) == 128);
    CHECK(int(rgba[4]) == 255); // clamped above
    CHECK(int(rgba[5]) == 0);   // and below
    for (int i = 0; i < 20; i += 4) {
        CHECK(rgba[i] == bgra[i + 2]);
        CHECK(rgba[i + 2] == bgra[i]);
        CHECK(rgba[i + 1] == bgra[i + 1]);
        CHECK(rgba[i + 3] == bgra[i + 3]);
    }
    std::uint16_t words[20];
    words_from_rgba(p, words, 20);
    CHECK(words[8] == 32768); // straight alpha: colour undivided
    CHECK(words[11] == 32768);
    Picture back(5, 1);
    rgba_from_words(words, 20, back);
    CHECK(pixel_at(back, 2, 0).r == Approx(0.25f).margin(1e-3));
}

TEST_CASE("halving takes the mean, odd sizes included") {
    Picture p(5, 3);
    for (int y = 0; y < 3; ++y)
        for (int x = 0; x < 5; ++x) set_pixel(p, x, y, {float(x), float(y), 0, 1});
    const Picture h = halved(p);
    REQUIRE(h.width() == 3);
    REQUIRE(h.height() == 2);
    CHECK(pixel_at(h, 0, 0).r == 0.5f);
    CHECK(pixel_at(h, 1, 0).r == 2.5f);
    CHECK(pixel_at(h, 2, 0).r == 4.0f);
    CHECK(pixel_at(h, 0, 1).g == 2.0f);
}

TEST_CASE("stacking and cropping") {
    const Picture a = gradient(8, 4), b = gradient(8, 4);
    CHECK(stacked(a, b, false).height() == 8);
    CHECK(stacked(a, b, true).width() == 16);
    const Picture c = cropped(a, 2, 1, 3, 2);
    CHECK(pixel_at(c, 0, 0).r == pixel_at(a, 2, 1).r);
}

TEST_CASE("buffers are used again and bounded") {
    auto pool = std::make_shared<BufferPool>(1 << 20);
    const Half* first;
    {
        Picture p(64, 64, pool.get());
        first = p.row(0);
    }
    Picture again(64, 64, pool.get());
    CHECK(again.row(0) == first);
    Picture outlives(64, 64, pool.get());
    pool.reset();
    set_pixel(outlives, 63, 63, {1, 1, 1, 1});
    CHECK(pixel_at(outlives, 63, 63).r == 1);
}

TEST_CASE(
    "places are filled from their edge inwards, alone or many, and a picture of nothing becomes empty") {
    const Picture whole = gradient(20, 12);
    Picture p(20, 12);
    std::vector<PixelPlace> places;
    for (int y = 0; y < 12; ++y)
        for (int x = 0; x < 20; ++x) {
            const bool hole = x >= 6 && x < 13 && y >= 3 && y < 8;
            if (hole) places.push_back({x, y});
            set_pixel(p, x, y, hole ? Rgba{9, 9, 9, 9} : pixel_at(whole, x, y));
        }
    fill_from_neighbours(p, places);
    for (int y = 0; y < 12; ++y)
        for (int x = 0; x < 20; ++x) {
            const bool hole = x >= 6 && x < 13 && y >= 3 && y < 8;
            const Rgba a = pixel_at(p, x, y), b = pixel_at(whole, x, y);
            CHECK(a.a == Approx(1));
            CHECK(std::abs(a.r - b.r) <= (hole ? 0.1f : 0.0f));
        }
    std::vector<PixelPlace> all;
    for (int y = 0; y < 12; ++y)
        for (int x = 0; x < 20; ++x) all.push_back({x, y});
    fill_from_neighbours(p, all);
    CHECK(pixel_at(p, 10, 6).a == 0);
    CHECK(pixel_at(p, 0, 0).r == 0);
    fill_from_neighbours(p, {}); // nothing to do
    // All but one corner: filled from it, and soon.
    Picture large(1500, 1500);
    set_pixel(large, 0, 0, {0.25f, 0.5f, 0.75f, 1});
    all.clear();
    for (int y = 0; y < 1500; ++y)
        for (int x = 0; x < 1500; ++x)
            if (x + y > 0) all.push_back({x, y});
    fill_from_neighbours(large, all);
    CHECK(pixel_at(large, 1499, 1499).g == Approx(0.5).margin(0.001));
}

TEST_CASE("PSNR of a known difference") {
    Picture a(10, 10), b(10, 10);
    for (int y = 0; y < 10; ++y)
        for (int x = 0; x < 10; ++x) {
            set_pixel(a, x, y, {0.5f, 0.5f, 0.5f, 1});
            set_pixel(b, x, y, {0.6f, 0.6f, 0.6f, 1});
        }
    CHECK(psnr_db(a, b) == Approx(20).margin(0.1));
    CHECK(psnr_db(a, a) == 200);
    CHECK(hole_share(a) == 0);
}

TEST_CASE("planes halve and convert like the working format") {
    const int depth = GENERATE(8, 10), width = GENERATE(64, 67), height = 38;
    const auto bytes = std::size_t(depth > 8 ? 2 : 1);
    const int cw = (width + 1) / 2, ch = height / 2;
    std::vector<std::uint16_t> codes[3];
    const auto wave = [&](int x, int y, double scale,
                          double phase) { // what chroma between samples is known of
        return std::uint16_t(std::lround(double(1 << depth) *
                                         (0.5 + scale * std::sin(0.11 * x + phase) * std::cos(0.09 * y))));
    };
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x)
            codes[0].push_back(std::uint16_t(wave(x, y, 0.2, 0) + (x * 7 + y * 5) % (1 << (depth - 4))));
    for (const int plane : {1, 2})
        for (int y = 0; y < ch; ++y)
            for (int x = 0; x < cw; ++x) codes[plane].push_back(wave(2 * x, 2 * y, 0.15, plane));
    auto memory = std::make_shared<std::vector<std::uint8_t>>();
    YuvPlanes<const std::uint8_t> in;
    in.width = width, in.height = height, in.depth = depth;
    in.chroma_centred = GENERATE(false, true);
    std::size_t begins[3];
    for (int plane = 0; plane < 3; ++plane) {
        begins[plane] = memory->size();
        for (const std::uint16_t code : codes[plane]) {
            const auto* from = reinterpret_cast<const std::uint8_t*>(&code);
            memory->insert(memory->end(), from, from + bytes);
        }
    }
    memory->resize(memory->size() + 8);
    for (std::size_t plane = 0; plane < 3; ++plane) {
        in.plane[plane] = memory->data() + begins[plane];
        in.stride[plane] = std::ptrdiff_t(bytes) * (plane == 0 ? width : cw);
    }
    SourcePicture planes = yuv_picture(in, memory);
    Picture plain(width, height);
    rgba_from_yuv(in, plain);
    for (int level = 0; level < 4; ++level) {
        const Picture converted = planes.converted();
        REQUIRE(converted.width() == plain.width());
        REQUIRE(converted.height() == plain.height());
        double worst = 0;
        for (int y = 0; y < plain.height(); ++y)
            for (int x = 0; x < plain.width(); ++x) {
                const Rgba a = pixel_at(converted, x, y), b = pixel_at(plain, x, y);
                worst = std::max({worst, double(std::abs(a.r - b.r)), double(std::abs(a.g - b.g)),
                                  double(std::abs(a.b - b.b))});
            }
        std::vector<float> brightness(std::size_t(plain.width()) * std::size_t(plain.height()));
        brightness_rows(planes, 0, 5, brightness.data());
        brightness_rows(planes, 5, plain.height(), brightness.data() + 5 * plain.width());
        double off = 0;
        for (int y = 0; y < plain.height(); ++y)
            for (int x = 0; x < plain.width(); ++x) {
                const Rgba c = pixel_at(converted, x, y);
                off = std::max(off, double(std::abs(brightness[std::size_t(y * plain.width() + x)] -
                                                    (c.r + 2 * c.g + c.b) / 4)));
            }
        INFO(level << ' ' << depth << ' ' << width);
        CHECK(off < 0.0006); // what halves round
        // Half a step of ten bits and the rounding of halves; halved chroma is a mean of less.
        CHECK(worst < (level == 0 ? 0.001 : 0.02));
        planes = halved(planes);
        plain = halved(plain);
    }
}
