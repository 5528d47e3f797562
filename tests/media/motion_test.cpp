#include "base/error.h"
#include "base/file.h"
#include "media/library.h"
#include "media/motion.h"
#include "support/support.h"

#include <cmath>
#include <cstring>

using namespace porb;
using namespace porb::test;

namespace {
MotionRecord trembling(int samples) {
    MotionRecord r;
    for (int i = 0; i < samples; ++i) {
        const double t = i / 200.0;
        r.gyro.push_back({t, {std::sin(t), 0.25 * i, -0.5}});
        if (i % 4 == 0) r.acceleration.push_back({t, {0, -9.80665, 0.125 * i}});
        if (i % 50 == 0) r.place.push_back({t, {12.345678901, -45.678901234, 33.25}});
    }
    return r;
}
} // namespace

TEST_CASE("a motion record survives its table exactly") {
    const MotionRecord r = trembling(400);
    CHECK(parse_motion_csv(motion_csv(r), "t") == r);
    const auto loose = parse_motion_csv(
        "# a comment\r\n time_s , note, gyro_x,gyro_y , gyro_z\r\n0.5, hello, 1, -2 ,3e-1\r\n", "t");
    REQUIRE(loose.gyro.size() == 1);
    CHECK(loose.gyro[0] == MotionSample{0.5, {1, -2, 0.3}});
}

TEST_CASE("a motion track is added to a movie and read back; pictures, sound and tags stay") {
    const TempFolder folder;
    const CountingMovie movie;
    write_counting_movie(folder / "m.mp4", movie);
    CHECK(!has_motion_track(folder / "m.mp4"));
    const MotionRecord r = trembling(200);
    write_camm_track(folder / "m.mp4", r);
    CHECK(has_motion_track(folder / "m.mp4"));
    const MotionRecord back = load_motion(folder / "m.mp4");
    REQUIRE(back.gyro.size() == r.gyro.size());
    REQUIRE(back.acceleration.size() == r.acceleration.size());
    for (std::size_t i = 0; i < r.gyro.size(); ++i) {
        CHECK(back.gyro[i].time_s == Approx(r.gyro[i].time_s).margin(1e-6));
        for (std::size_t a = 0; a < 3; ++a) CHECK(back.gyro[i].value[a] == double(float(r.gyro[i].value[a])));
    }
    CHECK(back.place == r.place); // double precision
    MediaLibrary library;
    const auto ref = media_ref_for(folder / "m.mp4");
    CHECK(library.info(ref).has_motion);
    CHECK(library.info(ref).sound);
    CHECK(counted_frame(*library.picture(ref, Rational(17, 30)), movie) == 17);
    tag_spherical_in_place(folder / "m.mp4", {SphereMapping::equirect, StereoLayout::mono});
    CHECK(load_motion(folder / "m.mp4").gyro.size() == r.gyro.size());
    CHECK(run("ffmpeg -v error -i " + (folder / "m.mp4").string() + " -map 0:v -f null -",
              *std::make_unique<int>())
              .empty());
}

TEST_CASE("damaged motion tables are refused by line, each with a clear message") {
    const std::pair<const char*, const char*> cases[] = {
        {"", "no samples"},
        {"a,b,c\n1,2,3\n", "no column time_s"},
        {"time_s,gyro_x,gyro_y\n0,1,2\n", "2 of the three"},
        {"time_s,speed\n0,1\n", "names no motion"},
        {"time_s,gyro_x,gyro_y,gyro_z\n0,1,2\n", "line 2"},
        {"time_s,gyro_x,gyro_y,gyro_z\n0,1,2,x\n", "'x' is not a number"},
        {"time_s,gyro_x,gyro_y,gyro_z\n0,1,2,\n", "is not a number"},
        {"time_s,gyro_x,gyro_y,gyro_z\n0,1,2,nan\n", "is not a number"},
        {"time_s,gyro_x,gyro_y,gyro_z\n1e300,1,2,3\n", "cannot be"},
        {"time_s,gyro_x,gyro_y,gyro_z\n1,1,2,3\n0,1,2,3\n", "not in order"},
        {"time_s,gyro_x,gyro_y,gyro_z\n", "no samples"},
    };
    for (const auto& [text, expected] : cases) {
        INFO(text);
        const std::string message = error_of([t = text] { parse_motion_csv(t, "m.csv"); });
        CHECK(message.find("m.csv") != std::string::npos);
        CHECK(message.find(expected) != std::string::npos);
    }
}

TEST_CASE("damaged motion packets and tracks are refused, never read past their end") {
    MotionRecord r;
    const std::string good("\0\0\2\0\0\0\x80\x3f\0\0\0\x40\0\0\x40\x40", 16);
    add_camm_packet(r, good, 1.5, "m");
    REQUIRE(r.gyro.size() == 1);
    CHECK(r.gyro[0] == MotionSample{1.5, {1, 2, 3}});
    for (std::size_t n = 0; n < good.size(); ++n)
        CHECK(error_of([&] { add_camm_packet(r, good.substr(0, n), 2, "m.mp4"); }).find("cut short") !=
              std::string::npos);
    const std::string nan("\0\0\2\0\0\0\xc0\x7f\0\0\0\x40\0\0\x40\x40", 16);
    CHECK(error_of([&] { add_camm_packet(r, nan, 2, "m"); }).find("finite") != std::string::npos);
    add_camm_packet(r, std::string("\0\0\x63\0....", 8), 2, "m");
    CHECK(r.unknown_packets == 1);
    CHECK(r.gyro.size() == 1);

    const TempFolder folder;
    CountingMovie movie;
    movie.frames = 4, movie.sound = false, movie.width = 64, movie.height = 64;
    write_counting_movie(folder / "m.mp4", movie);
    CHECK(error_of([&] { load_motion(folder / "m.mp4"); }).find("no motion track") != std::string::npos);
    write_camm_track(folder / "m.mp4", trembling(40));
    const std::string whole = read_text_file(folder / "m.mp4");
    // Cut off anywhere it has no header; with a byte changed it is refused, or what it holds is finite and in
    // order.
    const std::size_t from = whole.rfind("mdat");
    int refused = 0;
    for (std::size_t i = 0; i < 50; ++i) {
        const std::size_t at = from + (whole.size() - from) * i / 50;
        std::string changed = whole;
        changed[at] ^= 0x5a;
        for (const auto& text : {whole.substr(0, at), changed}) {
            write_file_atomically(folder / "d.mp4", text);
            try {
                for (const auto& s : load_motion(folder / "d.mp4").gyro) REQUIRE(std::isfinite(s.value[0]));
            } catch (const Error& e) {
                CHECK(e.message().find("d.mp4") != std::string::npos);
                ++refused;
            }
        }
    }
    CHECK(refused >= 50);
}

TEST_CASE("what a simulated camera writes beside its pictures is found again") {
    const TempFolder folder;
    sim::SimOptions o;
    o.circle_size = 96, o.seconds = 0.5, o.truth_width = 0, o.faults.shake = o.faults.lens = true;
    sim::simulate(o, folder.path(), {}, {});
    const auto info = probe(media_ref_for(folder / "hall_dual.mp4"));
    const Rig inside = parse_rig(info.rig_text, "inside");
    CHECK(inside.cameras.size() == 2);
    CHECK(inside.cameras[0].lens == load_rig(folder / "truth.rig.json").cameras[0].lens);
    CHECK(info.timecode == "10:00:00:00");
    CHECK(info.created_s == 1777629600);
    const MotionRecord track = load_motion(folder / "hall_dual.mp4"),
                       table = load_motion(folder / "motion.csv");
    REQUIRE(track.gyro.size() == table.gyro.size());
    CHECK(track.gyro[37].value[1] == Approx(table.gyro[37].value[1]).margin(1e-5));
    // The turning rate is the change of the orientation it stands beside: about 1 degree of trembling.
    double most = 0;
    for (const auto& s : track.gyro) most = std::max(most, std::hypot(s.value[0], s.value[1], s.value[2]));
    CHECK(most > 0.05);
    CHECK(most < 1.0);
    CHECK(std::hypot(table.acceleration[5].value[0], table.acceleration[5].value[1],
                     table.acceleration[5].value[2]) == Approx(9.80665));
}
