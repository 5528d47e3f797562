#include "base/error.h"
#include "media/spherical.h"
#include "media/still.h"
#include "support/support.h"

#include <fstream>

using namespace porb;
using namespace porb::test;

namespace {
std::string slurp(const std::filesystem::path& p) {
    std::ifstream in(p, std::ios::binary);
    return {std::istreambuf_iterator<char>(in), {}};
}
std::string ffprobe(const std::filesystem::path& p) {
    int status = 0;
    const std::string text = run("ffprobe -v error -show_streams -show_format " + p.string(), status);
    CHECK(status == 0);
    return text;
}
} // namespace

TEST_CASE("both forms of metadata are written and read back, by FFmpeg too") {
    const TempFolder folder;
    const auto file = folder / "m.mp4";
    write_counting_movie(file, {});
    const SphericalTag tag{GENERATE(SphereMapping::equirect, SphereMapping::half_equirect),
                           GENERATE(StereoLayout::mono, StereoLayout::top_bottom, StereoLayout::left_right)};
    tag_spherical_in_place(file, tag);
    const SphericalFacts facts = read_spherical(file);
    CHECK(facts.v2 == tag);
    CHECK(facts.v1 == tag);
    CHECK(facts.has_st3d);
    CHECK(facts.problems.empty());
    const std::string probe = ffprobe(file);
    CHECK(probe.find("Spherical Mapping") != std::string::npos);
    CHECK(probe.find(tag.mapping == SphereMapping::equirect
                         ? "projection=equirectangular"
                         : "projection=tiled equirectangular") != std::string::npos);
    CHECK(probe.find("Stereo 3D") != std::string::npos);
    CHECK(probe.find("nb_frames=30") != std::string::npos);
}

TEST_CASE("tagging again replaces, and never touches the pictures") {
    const TempFolder folder;
    const auto file = folder / "m.mp4";
    write_counting_movie(file, {});
    const auto frames_before = [&] {
        int status;
        return run("ffmpeg -v error -i " + file.string() + " -f md5 -", status);
    };
    const std::string before = frames_before();
    tag_spherical_in_place(file, {SphereMapping::equirect, StereoLayout::mono});
    const auto size = std::filesystem::file_size(file);
    tag_spherical_in_place(file, {SphereMapping::equirect, StereoLayout::mono});
    CHECK(std::filesystem::file_size(file) == size);
    tag_spherical_in_place(file, {SphereMapping::half_equirect, StereoLayout::left_right});
    CHECK(read_spherical(file).v2 == SphericalTag{SphereMapping::half_equirect, StereoLayout::left_right});
    CHECK(frames_before() == before);
}

TEST_CASE("files with their header in front keep playing") {
    const TempFolder folder;
    write_counting_movie(folder / "m.mp4", {});
    int status;
    run("ffmpeg -v error -y -i " + (folder / "m.mp4").string() + " -c copy -movflags +faststart " +
            (folder / "f.mp4").string(),
        status);
    REQUIRE(status == 0);
    const std::string before = run("ffmpeg -v error -i " + (folder / "f.mp4").string() + " -f md5 -", status);
    tag_spherical_copy(folder / "f.mp4", folder / "t.mp4",
                       {SphereMapping::equirect, StereoLayout::top_bottom});
    CHECK(run("ffmpeg -v error -i " + (folder / "t.mp4").string() + " -f md5 -", status) == before);
    CHECK(read_spherical(folder / "t.mp4").v1 ==
          SphericalTag{SphereMapping::equirect, StereoLayout::top_bottom});
    CHECK_FALSE(read_spherical(folder / "f.mp4").v2); // the original is left as it was
}

TEST_CASE("what cannot be tagged is refused") {
    const TempFolder folder;
    std::ofstream(folder / "x.mp4") << "not a movie at all";
    CHECK(error_of([&] { tag_spherical_in_place(folder / "x.mp4", {}); }).find("no movie header") !=
          std::string::npos);
    CHECK(error_of([&] { tag_spherical_copy(folder / "none.mp4", folder / "o.mp4", {}); }).find("none.mp4") !=
          std::string::npos);
    CHECK_FALSE(std::filesystem::exists(folder / "o.mp4"));
    write_counting_movie(folder / "m.mp4", {});
    int status;
    run("ffmpeg -v error -y -i " + (folder / "m.mp4").string() +
            " -c copy -movflags frag_keyframe+empty_moov " + (folder / "g.mp4").string(),
        status);
    CHECK(error_of([&] { tag_spherical_in_place(folder / "g.mp4", {}); }).find("fragmented") !=
          std::string::npos);
    CHECK(read_spherical(folder / "none.mp4").problems.empty());
}

TEST_CASE("disagreeing and damaged statements are problems, not crashes") {
    const TempFolder folder;
    write_counting_movie(folder / "m.mp4", {});
    tag_spherical_in_place(folder / "m.mp4", {SphereMapping::equirect, StereoLayout::top_bottom});
    std::string bytes = slurp(folder / "m.mp4");
    const auto at = bytes.find("top-bottom");
    REQUIRE(at != std::string::npos);
    std::string other = bytes;
    other.replace(at, 10, "left-right");
    std::ofstream(folder / "d.mp4", std::ios::binary) << other;
    REQUIRE(read_spherical(folder / "d.mp4").problems.size() == 1);
    const auto sv3d = bytes.find("sv3d");
    for (std::size_t i = sv3d - 4; i < sv3d + 60; ++i) { // every byte of the boxes, one at a time
        std::string hurt = bytes;
        hurt[i] = char(hurt[i] ^ 0x7f);
        std::ofstream(folder / "h.mp4", std::ios::binary) << hurt;
        read_spherical(folder / "h.mp4");
    }
    for (std::size_t cut = bytes.size() - 400; cut < bytes.size(); cut += 7) {
        std::ofstream(folder / "h.mp4", std::ios::binary) << bytes.substr(0, cut);
        read_spherical(folder / "h.mp4");
    }
    SUCCEED();
}

TEST_CASE("stills say that they are spheres") {
    const TempFolder folder;
    const Picture p = gradient(256, 128);
    for (const char* name : {"s.jpg", "s.png"}) {
        write_still(p, folder / name, {8, 95, SphericalTag{}});
        CHECK(read_photo_sphere(folder / name) == SphericalTag{});
        CHECK(read_still(folder / name).width() == 256); // still a sound picture
        write_still(p, folder / name,
                    {8, 95, SphericalTag{SphereMapping::half_equirect, StereoLayout::mono}});
        CHECK(read_photo_sphere(folder / name)->mapping == SphereMapping::half_equirect);
        write_still(p, folder / name);
        CHECK_FALSE(read_photo_sphere(folder / name));
    }
    write_still(p, folder / "s.exr", {8, 95, SphericalTag{}});
    CHECK(exr_facts(folder / "s.exr").latlong);
    write_still(p, folder / "s.exr");
    CHECK_FALSE(exr_facts(folder / "s.exr").latlong);
}
