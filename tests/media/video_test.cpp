#include "media/library.h"
#include "media/sequence.h"
#include "media/sound.h"
#include "media/still.h"
#include "media/video.h"
#include "picture/compare.h"
#include "picture/transfer.h"
#include "project/span.h"
#include "support/odd_exr.h"
#include "support/support.h"

#include <ImfChannelList.h>
#include <ImfFrameBuffer.h>
#include <ImfInputFile.h>
#include <ImfInputPart.h>
#include <ImfMultiPartInputFile.h>

#include <fstream>
#include <limits>
#include <random>

using namespace porb;
using namespace porb::test;

namespace {

int shown(VideoReader& reader, Seconds t, const CountingMovie& movie) {
    const auto f = reader.frame_at(t);
    return f ? counted_frame(picture_from_frame(*f->frame, 0, nullptr, nullptr), movie) : -1;
}

void ffmpeg(const std::string& words) {
    int status = 0;
    const std::string text = run("ffmpeg -v error -y " + words, status);
    INFO(text);
    REQUIRE(status == 0);
}

} // namespace

TEST_CASE("frames are exact in every order") {
    const TempFolder folder;
    CountingMovie movie;
    SECTION("H.264") {}
    SECTION("H.264 10 bit") {
        movie.depth = 10;
    }
    SECTION("H.265 10 bit") {
        movie.codec = VideoCodec::h265, movie.depth = 10;
    }
    SECTION("ProRes") {
        movie.codec = VideoCodec::prores;
    }
    SECTION("at 29.97") {
        movie.rate = FrameRate(30000, 1001);
    }
    SECTION("at 12.5, odd size") {
        movie.rate = FrameRate(25, 2), movie.width = 322, movie.height = 158;
    }
    const auto file = folder / (movie.codec == VideoCodec::prores ? "c.mov" : "c.mp4");
    write_counting_movie(file, movie);
    VideoReader reader(file);
    CHECK(reader.info().frames == movie.frames);
    CHECK(reader.info().rate == movie.rate);
    CHECK(reader.info().width == movie.width);
    CHECK(reader.info().depth == (movie.codec == VideoCodec::prores ? 10 : movie.depth));
    CHECK_FALSE(reader.info().variable_rate);
    for (int n = 0; n < movie.frames; ++n) CHECK(shown(reader, frame_time(n, movie.rate), movie) == n);
    std::mt19937 random(5);
    for (int i = 0; i < 40; ++i) {
        const int n = int(random() % unsigned(movie.frames));
        const Seconds within = frame_time(n, movie.rate) + Rational(random() % 900, 1000) / movie.rate;
        CHECK(shown(reader, within, movie) == n);
    }
    CHECK(shown(reader, Rational(-1, 100), movie) == -1);
    CHECK(shown(reader, frame_time(movie.frames, movie.rate), movie) == -1);
    CHECK(shown(reader, frame_time(movie.frames - 1, movie.rate), movie) == movie.frames - 1);
}

TEST_CASE("frames stay exact through other containers, codecs and start times") {
    const TempFolder folder;
    const CountingMovie movie;
    write_counting_movie(folder / "c.mp4", movie);
    const std::string in = "-i " + (folder / "c.mp4").string() + " ";
    std::string name;
    SECTION("MKV that starts at 5 s") {
        ffmpeg(in + "-c copy -output_ts_offset 5 " + (folder / (name = "o.mkv")).string());
    }
    SECTION("MPEG-TS") {
        ffmpeg(in + "-c copy " + (folder / (name = "o.ts")).string());
    }
    SECTION("VP9 in WebM") {
        ffmpeg(in + "-an -c:v libvpx-vp9 -crf 10 -b:v 0 -cpu-used 8 " +
               (folder / (name = "o.webm")).string());
    }
    SECTION("fast-start MOV") {
        ffmpeg(in + "-c copy -movflags +faststart " + (folder / (name = "o.mov")).string());
    }
    SECTION("long groups with B-frames") {
        ffmpeg(in + "-an -c:v libx264 -crf 4 -g 300 -bf 8 " + (folder / (name = "o.mp4")).string());
    }
    VideoReader reader(folder / name);
    for (const int n : {0, 29, 3, 4, 5, 22, 21, 0, 28})
        CHECK(shown(reader, frame_time(n, movie.rate) + Rational(1, 500), movie) == n);
}

TEST_CASE("variable frame rates are shown at their own times") {
    const TempFolder folder;
    const CountingMovie movie;
    write_counting_movie(folder / "c.mp4", movie);
    // Every third frame from 10 on is left out: its neighbour stays on show.
    ffmpeg("-i " + (folder / "c.mp4").string() +
           " -an -vf \"select='lt(n,10)+mod(n,3)'\" -fps_mode vfr -c:v libx264 -crf 4 " +
           (folder / "v.mp4").string());
    VideoReader reader(folder / "v.mp4");
    CHECK(reader.info().variable_rate);
    for (int n = 0; n < 28; ++n) {
        const int expected = n < 10 || n % 3 ? n : n - 1;
        CHECK(shown(reader, frame_time(n, movie.rate) + Rational(1, 200), movie) == expected);
    }
}

TEST_CASE("rotation tags turn the picture") {
    const TempFolder folder;
    write_still(gradient(64, 32), folder / "g.png");
    ffmpeg("-loop 1 -i " + (folder / "g.png").string() + " -t 0.2 -c:v libx264 -crf 1 -pix_fmt yuv444p " +
           (folder / "g.mp4").string());
    ffmpeg("-i " + (folder / "g.mp4").string() + " -c copy -metadata:s:v:0 rotate=90 " +
           (folder / "r.mp4").string());
    MediaLibrary library;
    const MediaRef ref{folder / "r.mp4", MediaKind::video, FrameRate(30)};
    const MediaInfo info = library.info(ref);
    CHECK(info.width == 32);
    CHECK(info.height == 64);
    const auto p = library.picture(ref, Rational(0));
    REQUIRE(p);
    REQUIRE(p->width() == 32);
    // The gradient's red grew to the right; a quarter turn clockwise makes it grow downwards (or, turned the
    // other way by the tag's own sense, upwards): along x it is now constant.
    CHECK(pixel_at(*p, 3, 20).r == Approx(pixel_at(*p, 28, 20).r).margin(0.03));
    CHECK(std::abs(pixel_at(*p, 16, 4).r - pixel_at(*p, 16, 60).r) > 0.4f);
}

TEST_CASE("colour tags are honoured") {
    const TempFolder folder;
    write_still(gradient(64, 64), folder / "g.png", {16, 95, {}});
    MediaLibrary library;
    const auto truth = library.picture({folder / "g.png", MediaKind::still, FrameRate(30)}, Rational(0));
    const auto compare = [&](const std::string& filter) {
        const auto file = folder / ("c" + std::to_string(std::hash<std::string>()(filter)) + ".mkv");
        ffmpeg("-loop 1 -i " + (folder / "g.png").string() + " -t 0.1 -vf " + filter + " -c:v ffv1 " +
               file.string());
        const auto p = library.picture({file, MediaKind::video, FrameRate(30)}, Rational(0));
        REQUIRE(p);
        return psnr_db(*truth, *p);
    };
    CHECK(
        compare(
            "scale=out_color_matrix=bt709:out_range=tv,format=yuv444p,setparams=colorspace=bt709:range=tv") >
        40);
    CHECK(compare("scale=out_color_matrix=bt601:out_range=tv,format=yuv444p,setparams=colorspace=smpte170m:"
                  "range=tv") > 40);
    CHECK(
        compare(
            "scale=out_color_matrix=bt709:out_range=pc,format=yuv444p,setparams=colorspace=bt709:range=pc") >
        40);
    CHECK(compare("format=gbrp") > 40);
    CHECK(compare("scale=out_color_matrix=bt709:out_range=tv,format=yuv422p10le,setparams=colorspace=bt709:"
                  "range=tv") > 45);
}

TEST_CASE("PQ, HLG and linear light are brought to the working curve") {
    Picture p(1, 1);
    const auto converted = [&](const char* transfer, float v) {
        set_pixel(p, 0, 0, {v, v, v, 1});
        ColourChange::for_tags(transfer, "bt709")->apply(p);
        return pixel_at(p, 0, 0).g;
    };
    CHECK(converted("smpte2084", 0.5806f) == Approx(1.0f).margin(0.01));  // 203 cd/m2
    CHECK(converted("arib-std-b67", 0.75f) == Approx(1.0f).margin(0.02)); // reference white of BT.2408
    CHECK(converted("linear", 0.2140f) == Approx(0.5f).margin(0.002));
    CHECK_FALSE(ColourChange::for_tags("bt709", "bt709"));
    set_pixel(p, 0, 0, {0.5f, 0.5f, 0.5f, 1});
    ColourChange::for_tags("bt709", "bt2020")->apply(p); // grey stays grey
    CHECK(pixel_at(p, 0, 0).r == Approx(0.5f).margin(0.002));
}

TEST_CASE("stills come back as they were written") {
    const TempFolder folder;
    const Picture in = gradient(130, 70);
    for (const auto& [name, db] :
         {std::pair{"a.png", 48.0}, {"a.tif", 48.0}, {"a.exr", 60.0}, {"a.jpg", 40.0}}) {
        write_still(in, folder / name);
        const Picture out = read_still(folder / name);
        REQUIRE(out.width() == 130);
        INFO(name);
        CHECK(psnr_db(in, out) > db);
    }
    write_still(in, folder / "deep.png", {16, 95, {}});
    CHECK(psnr_db(in, read_still(folder / "deep.png")) > 60);
    CHECK(error_of([&] { write_still(in, folder / "a.gif"); }).find("not a still we write") !=
          std::string::npos);
}

TEST_CASE("holes stay holes, highlights stay highlights") {
    const TempFolder folder;
    Picture p = gradient(16, 16);
    set_pixel(p, 3, 3, {0, 0, 0, 0});
    set_pixel(p, 4, 4, {1.8f, 0.5f, 0.5f, 1});
    for (const char* name : {"h.png", "h.tif", "h.exr"}) {
        write_still(p, folder / name);
        CHECK(pixel_at(read_still(folder / name), 3, 3).a == 0);
        CHECK(pixel_at(read_still(folder / name), 5, 5).a == Approx(1));
    }
    CHECK(pixel_at(read_still(folder / "h.exr"), 4, 4).r == Approx(1.8f).margin(0.01));
}

TEST_CASE("pixels that are not numbers are filled from what lies beside them, and told") {
    const TempFolder folder;
    const float nan = std::numeric_limits<float>::quiet_NaN(), inf = std::numeric_limits<float>::infinity();
    const auto write = [&](const std::string& name, const std::vector<std::pair<PixelPlace, Rgba>>& odd) {
        Picture p(24, 16);
        for (int y = 0; y < 16; ++y)
            for (int x = 0; x < 24; ++x) set_pixel(p, x, y, {float(x) / 24, float(y) / 16, 0.5f, 1});
        write_odd_exr(folder / name, p, odd);
    };
    write("s.0001.exr", {});
    write(
        "s.0002.exr",
        {{{10, 8}, {nan, 0.2f, 0.2f, 1}}, {{0, 0}, {0.2f, -inf, 0.2f, 1}}, {{20, 3}, {inf, 0.2f, 0.2f, 1}}});
    write("s.0003.exr",
          {{{5, 5}, {0.1f, 0.1f, 0.1f, nan}}, {{6, 5}, {nan, nan, nan, 0.5f}}, {{7, 5}, {-inf, 0, 0, 1}}});

    std::int64_t mended = -1;
    const Picture whole = read_still(folder / "s.0001.exr", nullptr, &mended);
    CHECK(mended == 0);
    const Picture one = read_still(folder / "s.0002.exr", nullptr, &mended);
    CHECK(mended == 2);
    // The mean of eight neighbours of a slope is what was there; a corner has three.
    CHECK(pixel_at(one, 10, 8).r == Approx(pixel_at(whole, 10, 8).r).margin(0.002));
    CHECK(pixel_at(one, 10, 8).g == Approx(pixel_at(whole, 10, 8).g).margin(0.002));
    CHECK(pixel_at(one, 0, 0).g == Approx(2.0 / 3 / 16).margin(0.002));
    CHECK(pixel_at(one, 20, 3).r > 50); // a sun, not a fault
    CHECK(pixel_at(one, 20, 3).g == Approx(encoded_from_linear(0.2f)).margin(0.002));
    const Picture three = read_still(folder / "s.0003.exr", nullptr, &mended);
    CHECK(mended == 3);
    for (int y = 0; y < 16; ++y)
        for (int x = 0; x < 24; ++x) {
            const Rgba v = pixel_at(three, x, y), w = pixel_at(whole, x, y);
            CHECK(v.a == 1);
            CHECK(std::abs(v.r - w.r) < 0.03f); // nothing spread
        }

    MediaLibrary library(std::size_t(1) << 12); // keeps nothing: pictures are read again and again
    MediaRef ref;
    ref.path = folder / "s.%04d.exr";
    ref.kind = MediaKind::sequence;
    REQUIRE(library.picture(ref, Seconds(0)));
    CHECK(library.remark(ref).empty());
    for (const int n : {1, 1, 1}) REQUIRE(library.picture(ref, frame_time(n, FrameRate(30))));
    CHECK(library.remark(ref).starts_with("In s.0002.exr, 2 pixels are not numbers"));
    REQUIRE(library.picture(ref, frame_time(2, FrameRate(30))));
    CHECK(library.remark(ref).starts_with("In 2 pictures from s.0002.exr on, 5 pixels are"));
    // A shot tells of its own sources, each once.
    Project project;
    Shot shot = shot_for_rig(tiny_rig(64), "odd");
    for (auto& c : shot.cameras) c.media = add_media(project, ref);
    CHECK(source_remarks(project, shot, library) == std::vector<std::string>{library.remark(ref)});
    for (auto& c : shot.cameras) c.media.clear();
    CHECK(source_remarks(project, shot, library).empty());
    library.forget(ref);
    CHECK(library.remark(ref).empty());
}

TEST_CASE("numbered sequences") {
    const TempFolder folder;
    for (const int n : {7, 8, 9, 11}) {
        Picture p(8, 4);
        for (int y = 0; y < 4; ++y)
            for (int x = 0; x < 8; ++x) set_pixel(p, x, y, {float(n) / 20, 0, 0, 1});
        write_still(p, folder / ("s." + std::string(n < 10 ? "000" : "00") + std::to_string(n) + ".exr"));
    }
    write_still(gradient(8, 4), folder / "s.12.exr"); // other padding: not of this sequence
    const MediaRef ref{folder / "s.%04d.exr", MediaKind::sequence, FrameRate(24)};
    const MediaInfo info = probe(ref);
    CHECK(info.frames == 5);
    CHECK(info.first_number == 7);
    CHECK(info.duration == Rational(5, 24));
    REQUIRE(info.remarks.size() == 1);
    MediaLibrary library;
    const auto p = library.picture(ref, Rational(2, 24));
    REQUIRE(p);
    CHECK(pixel_at(*p, 0, 0).r == Approx(9.0f / 20).margin(0.01));
    CHECK_FALSE(library.picture(ref, Rational(5, 24)));
    CHECK(error_of([&] { library.picture(ref, Rational(3, 24)); }).find("s.0010.exr") != std::string::npos);
    CHECK(pattern_of("a/shot.0007.exr") == std::filesystem::path("a/shot.%04d.exr"));
    CHECK_FALSE(pattern_of("a/shot7.exr"));
    for (const char* bad : {"a.%s.exr", "a.%d.%d.exr", "a.exr", "a.%4", "a.%n.exr"})
        CHECK_THROWS(check_pattern(bad));
}

TEST_CASE("sound is read at exact places") {
    const TempFolder folder;
    const CountingMovie movie;
    write_counting_movie(folder / "c.mp4", movie);
    SoundReader reader(folder / "c.mp4", 48000, 1);
    // The tone is sin(2 pi 1000 t): its phase tells where a read landed, to a fraction of a sample.
    const auto phase_error = [&](std::int64_t first) {
        const auto s = reader.read(first, 4800);
        double re = 0, im = 0;
        for (std::size_t i = 0; i < s.size(); ++i) {
            const double a = 2 * 3.14159265358979 * 1000 * double(first + std::int64_t(i)) / 48000;
            re += double(s[i]) * std::sin(a);
            im += double(s[i]) * std::cos(a);
        }
        CHECK(std::hypot(re, im) / 2400 > 0.4);
        return std::atan2(im, re) / (2 * 3.14159265358979) * 48; // in samples
    };
    for (const std::int64_t first : {4800, 20000, 31234, 9000, 24000})
        CHECK(std::abs(phase_error(first)) < 0.5);
    const auto before = reader.read(-4800, 4000);
    CHECK(std::all_of(before.begin(), before.end(), [](float v) { return v == 0; }));
    const auto after = reader.read(48000 * 20, 100);
    CHECK(after == std::vector<float>(100, 0.0f));
    write_counting_movie(folder / "mute.mp4", {.sound = false});
    CHECK(error_of([&] { SoundReader(folder / "mute.mp4", 48000, 2); }).find("holds no sound") !=
          std::string::npos);
}

TEST_CASE("the library decodes once for several cameras and stays within its bound") {
    const TempFolder folder;
    const CountingMovie movie;
    write_counting_movie(folder / "c.mp4", movie);
    const MediaRef ref{folder / "c.mp4", MediaKind::video, FrameRate(30)};
    MediaLibrary library(std::size_t(320) * 160 * 8 * 3);
    const auto a = library.picture(ref, Rational(0)), b = library.picture(ref, Rational(1, 100));
    REQUIRE(a);
    CHECK(a->row(0) == b->row(0)); // the same pixels, not a copy
    for (int n = 0; n < movie.frames; ++n) {
        CHECK(counted_frame(*library.picture(ref, frame_time(n, movie.rate)), movie) == n);
        CHECK(library.bound()->used() <= std::size_t(320) * 160 * 8 * 3);
    }
    const auto halfway = library.picture(ref, Rational(0), 1);
    CHECK(halfway->width() == 160);
}

TEST_CASE("broken, empty, cut and foreign files get a clear word") {
    const TempFolder folder;
    write_counting_movie(folder / "c.mp4", {});
    std::string bytes;
    {
        std::ifstream in(folder / "c.mp4", std::ios::binary);
        bytes.assign(std::istreambuf_iterator<char>(in), {});
    }
    const auto write = [&](const char* name, const std::string& content) {
        std::ofstream(folder / name, std::ios::binary) << content;
        return folder / name;
    };
    CHECK(error_of([&] { probe(media_ref_for(folder / "none.mp4")); }).find("no such file") !=
          std::string::npos);
    CHECK(error_of([&] { probe(media_ref_for(write("empty.mp4", ""))); }).find("empty") != std::string::npos);
    CHECK(error_of([&] { probe(media_ref_for(folder.path())); }).find("not a file") != std::string::npos);
    CHECK(error_of([&] {
              probe(media_ref_for(write("text.mp4", "hello, this is no film\n")));
          }).find("text.mp4") != std::string::npos);
    CHECK(error_of([&] {
              probe(media_ref_for(write("cut.mp4", bytes.substr(0, bytes.size() / 2))));
          }).find("cut.mp4") != std::string::npos);
    CHECK(error_of([&] { probe(media_ref_for(write("x.exr", "v/1\x01junk"))); }).find("OpenEXR") !=
          std::string::npos);
    // A playlist names other files: none of them may be opened.
    CHECK(error_of([&] {
              probe(media_ref_for(write("list.m3u8", "#EXTM3U\n#EXTINF:1,\nc.mp4\n")));
          }).find("list.m3u8") != std::string::npos);
    CHECK(error_of([&] {
              probe(media_ref_for(write("l.txt", "ffconcat version 1.0\nfile c.mp4\n")));
          }).find("l.txt") != std::string::npos);
    // Damage in the middle: frames come or an error does, but nothing else.
    std::string hurt = bytes;
    std::mt19937 random(1);
    for (int i = 0; i < 300; ++i) hurt[200 + random() % (hurt.size() * 2 / 3)] = char(random());
    write("hurt.mp4", hurt);
    try {
        VideoReader reader(folder / "hurt.mp4");
        for (int n = 0; n < 30; ++n) reader.frame_at(frame_time(n, FrameRate(30)));
        SUCCEED();
    } catch (const std::exception& e) {
        CHECK(std::string(e.what()).find("hurt.mp4") != std::string::npos);
    }
}

TEST_CASE("distances in a part of their own are read without the colours, and these as ever") {
    const TempFolder folder;
    const Picture colours = gradient(16, 8);
    std::vector<float> metres(16 * 8);
    for (std::size_t i = 0; i < metres.size(); ++i) metres[i] = 0.3f + float(i);
    StillOptions options;
    options.metres = metres;
    write_still(colours, folder / "one.exr", options);
    options.parts = true;
    write_still(colours, folder / "two.exr", options);
    for (const char* name : {"one.exr", "two.exr"}) {
        const Picture back = read_still(folder / name);
        REQUIRE(back.width() == 16);
        CHECK(psnr_db(back, colours) > 60);
        const bool apart = std::string(name) == "two.exr";
        Imf::MultiPartInputFile file((folder / name).c_str());
        REQUIRE(file.parts() == (apart ? 2 : 1));
        CHECK(file.header(0).name() == "colour");
        CHECK((file.header(0).channels().findChannel("Z") == nullptr) == apart);
        Imf::InputPart last(file, apart ? 1 : 0);
        CHECK(last.header().name() == (apart ? "distance" : "colour"));
        std::vector<float> read(metres.size());
        Imf::FrameBuffer buffer;
        buffer.insert("Z", Imf::Slice(Imf::FLOAT, reinterpret_cast<char*>(read.data()), 4, 64));
        last.setFrameBuffer(buffer);
        last.readPixels(0, 7);
        CHECK(read == metres);
    }
}

TEST_CASE("distances are read back to the bit, as metres in a channel of their own and as 16-bit grey") {
    const TempFolder folder;
    const std::vector<float> metres = {0.5f, 1.25f, 10000, 3e-3f, 7, 0};
    write_exr_depth(metres, 3, 2, folder / "z.exr");
    Imf::InputFile file((folder / "z.exr").c_str());
    REQUIRE(file.header().channels().findChannel("Z"));
    std::vector<float> read(6);
    Imf::FrameBuffer buffer;
    buffer.insert("Z", Imf::Slice(Imf::FLOAT, reinterpret_cast<char*>(read.data()), 4, 12));
    file.setFrameBuffer(buffer);
    file.readPixels(0, 1);
    CHECK(read == metres);
    const std::vector<std::uint16_t> grey = {0, 1, 256, 4096, 65534, 65535};
    write_png_grey16(grey, 2, 3, folder / "z.png");
    const Picture picture = read_still(folder / "z.png");
    for (int i = 0; i < 6; ++i) // halves have eleven bits
        CHECK(double(pixel_at(picture, i % 2, i / 2).g) ==
              Approx(grey[std::size_t(i)] / 65535.0).epsilon(1e-3).margin(1e-6));
}
