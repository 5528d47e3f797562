// Patches out to a paint program and back.
#include "base/error.h"
#include "base/file.h"
#include "media/still.h"
#include "patch/exchange.h"
#include "support/support.h"

#include <fstream>
#include <random>

using namespace porb;
using namespace porb::test;
namespace fs = std::filesystem;

namespace {

/// Every kind of pixel: clear, half transparent, dark to below what 16 bits tell apart, far above white.
Picture odd_picture(int side) {
    std::mt19937 random(7);
    Picture p(side, side);
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) {
            const auto v = [&] { return float(random() % 10007) / 10007; };
            const float a = x < side / 4 ? 0 : x < side / 2 ? v() : 1;
            const float scale = y % 5 == 0 ? 0.003f : y % 7 == 0 ? 2.5f : 1;
            set_pixel(p, x, y, {a * v() * scale, a * v() * scale, a * v() * scale, a});
        }
    return p;
}

Patch odd_patch(int side = 200) {
    Patch p;
    p.name = "ground";
    p.keys = {{Seconds(0), 0, -90, 0, 60, 1, {}}};
    p.resolution = side;
    p.pixels = tiles_of(odd_picture(side));
    p.mask = whole_mask(side);
    {
        TileImage::Edit edit(p.mask);
        for (int i = 0; i < side; ++i) *edit.pixel(i, i) = half_from_float(0.3337f);
    }
    return p;
}

struct Made {
    TempFolder folder;
    StillTake take;
    Composer composer{std::make_shared<MediaLibrary>()};
    Made()
        : take(hall_still(folder, [] {
              sim::SimOptions o;
              o.circle_size = 100;
              return o;
          }())) {}
    PatchLayers layers(const Patch& p) {
        return layers_of(composer, take.project, take.project.shots[0], p, Seconds(0));
    }
};

} // namespace

TEST_CASE("a patch that goes out and comes back untouched is the same to the last bit") {
    Made made;
    Patch p = odd_patch();
    p.plate = tiles_of(gradient(200, 200));
    for (const char* name : {"x.ora", "x.tif", "x.exr"}) {
        INFO(name);
        const fs::path file = made.folder / name;
        write_layers(made.layers(p), file);
        const PatchLayers came = read_layers(file);
        CHECK(came.layer.width() == 200);
        CHECK_FALSE(came.footage.empty());
        CHECK_FALSE(came.plate.empty());
        CHECK(with_layers(p, came, file) == p);
        // A pixel that was changed is the file's; its neighbours keep their own.
        PatchLayers changed = came;
        set_pixel(changed.layer, 150, 100, {0.25f, 0.5f, 0.75f, 1});
        const Patch back = with_layers(p, changed, file);
        CHECK(back.pixels.at(150, 100, 1) == Approx(0.5).margin(1e-3));
        CHECK(back.pixels.at(151, 100, 1) == p.pixels.at(151, 100, 1));
        CHECK(back.mask == p.mask);
    }
    CHECK(is_layered_name("a.ORA"));
    CHECK_FALSE(is_layered_name("a.png"));
}

TEST_CASE("other programs read what goes out, and what they write comes in at its place") {
    Made made;
    const Patch p = odd_patch();
    write_layers(made.layers(p), made.folder / "x.ora");
    write_layers(made.layers(p), made.folder / "x.tif");
    int status = 0;
    const std::string python =
        "python3 -c \"import zipfile,sys; z=zipfile.ZipFile('" + (made.folder / "x.ora").string() +
        "'); i=z.infolist()[0]; print(i.filename, i.compress_type, z.read(i).decode(), z.testzip(), "
        "sorted(z.namelist()))\"";
    const std::string zip = run(python, status);
    if (status == 0) { // where there is one
        CHECK(zip.find("mimetype 0 image/openraster None") != std::string::npos);
        CHECK(zip.find("'mergedimage.png', 'mimetype', 'stack.xml'") != std::string::npos);
    }
    const std::string probe = run("ffprobe -v error -show_entries stream=width,height,pix_fmt -of csv=p=0 " +
                                      (made.folder / "x.tif").string(),
                                  status);
    CHECK(probe.find("200,200") != std::string::npos);

    // A layer that was cut to what is on it, in a group, by a program that wrote 8 bits.
    const fs::path cut = made.folder / "cut.ora";
    Picture dot(10, 6);
    for (int y = 0; y < 6; ++y)
        for (int x = 0; x < 10; ++x) set_pixel(dot, x, y, {0, 1, 0, 1});
    const fs::path png = made.folder / "dot.png";
    write_still(dot, png, {8, 95, {}, {}, false, nullptr, {}});
    std::ofstream(made.folder / "stack.xml")
        << "<image w='200' h='200'><stack><stack name='g'><layer name='patch' "
           "src='data/dot.png' x='50' y='-2'/></stack></stack></image>";
    run("cd " + made.folder.path().string() +
            " && mkdir data && cp dot.png data/ && python3 -c \"import zipfile; "
            "z=zipfile.ZipFile('cut.ora','w'); z.write('stack.xml'); z.write('data/dot.png')\"",
        status);
    if (status == 0) {
        const PatchLayers came = read_layers(cut);
        CHECK(pixel_at(came.layer, 50, 0).g == 1);
        CHECK(pixel_at(came.layer, 59, 3).g == 1);
        CHECK(pixel_at(came.layer, 49, 0).a == 0);
        CHECK(pixel_at(came.layer, 55, 4).a == 0);
        CHECK(with_layers(p, came, cut).pixels.at(55, 2, 1) == 1);
    }
}

TEST_CASE("a file of another size becomes the patch's resolution, everything at its place") {
    Made made;
    Patch p = odd_patch(200);
    Picture spot(400, 400);
    for (int y = 0; y < 400; ++y)
        for (int x = 0; x < 400; ++x) {
            const float v = std::exp(-float((x - 120) * (x - 120) + (y - 260) * (y - 260)) / 200);
            set_pixel(spot, x, y, {v, v, v, 1});
        }
    PatchLayers came;
    came.layer = spot;
    const Patch back = with_layers(p, came, "x.ora");
    CHECK(back.resolution == 400);
    CHECK(back.pixels.width() == 400);
    CHECK(back.mask.width() == 400);
    CHECK(back.mask.at(200, 200, 0) < 0.9f); // its diagonal went along
    CHECK(back.pixels.at(120, 260, 0) == Approx(1).margin(0.01));
    came.mask = Picture(200, 200);
    CHECK(error_of([&] { with_layers(p, came, "x.ora"); }).find("mask of another size") != std::string::npos);
}

TEST_CASE("damaged, half-written, odd and enormous files are told, and change nothing") {
    Made made;
    const Patch p = odd_patch(96);
    for (const char* name : {"x.ora", "x.tif", "x.exr"}) {
        const fs::path file = made.folder / name;
        write_layers(made.layers(p), file);
        const std::string bytes = read_text_file(file);
        std::mt19937 random(11);
        int told = 0;
        for (int i = 0; i < 60; ++i) {
            std::string bad = bytes;
            if (i % 3 == 0)
                bad.resize(random() % bad.size()); // half written
            else
                for (int k = 0; k < 12; ++k)
                    bad[random() % (i % 2 ? std::min<std::size_t>(bad.size(), 400) : bad.size())] =
                        char(random());
            write_file_atomically(file, bad);
            try {
                (void)with_layers(p, read_layers(file), file);
            } catch (const Error& e) {
                ++told;
                CHECK(std::string(e.what()).find(name) != std::string::npos);
            }
        }
        CHECK(told > 20);
    }
    const auto says = [&](const char* name, const std::string& content) {
        std::ofstream(made.folder / name) << content;
        return error_of([&] { (void)read_layers(made.folder / name); });
    };
    CHECK(says("a.ora", "").find("no zip archive") != std::string::npos);
    CHECK(says("a.tif", "II*").find("TIFF of layers") != std::string::npos);
    CHECK(says("a.exr", "rubbish").find("OpenEXR file of layers") != std::string::npos);
    CHECK(says("a.png", "x").find("no file of layers") != std::string::npos);
    CHECK(error_of([&] { (void)read_layers(made.folder / "none.ora"); }).find("none.ora") !=
          std::string::npos);
    CHECK(error_of([&] { check_layer_size(8193, 10, "big.ora"); }).find("at most 8192") != std::string::npos);
    CHECK(error_of([&] { (void)with_layers(p, {}, "y.ora"); }).find("no layer named 'patch'") !=
          std::string::npos);
    PatchLayers flat;
    flat.layer = Picture(100, 80);
    CHECK(error_of([&] { (void)with_layers(p, flat, "y.ora"); }).find("is 100 x 80 pixels") !=
          std::string::npos);
    flat.layer = Picture(20, 20);
    CHECK(error_of([&] { (void)with_layers(p, flat, "y.ora"); }).find("at least 64") != std::string::npos);
}

TEST_CASE("a patch alone is a transparent sphere, and such a sphere is a patch again") {
    Made made;
    Patch p;
    p.keys = {{Seconds(0), 20, -75, 10, 60, 1, {}}};
    p.resolution = 256;
    p.feather_deg = 0;
    p.pixels = tiles_of(gradient(256, 256));
    const Shot& shot = made.take.project.shots[0];
    const Picture sphere = sphere_of(made.composer, made.take.project, shot, p, Seconds(0), 2048);
    CHECK(pixel_at(sphere, 1024, 200).a == 0);
    const TileImage back = square_of(sphere, shot, p, Seconds(0));
    double worst = 0;
    for (int y = 16; y < 240; y += 5)
        for (int x = 16; x < 240; x += 5)
            for (int c = 0; c < 4; ++c)
                worst = std::max(worst, double(std::abs(back.at(x, y, c) - p.pixels.at(x, y, c))));
    CHECK(worst < 0.02);
    CHECK(error_of([&] { square_of(gradient(100, 100), shot, p, Seconds(0)); }).find("twice as wide") !=
          std::string::npos);
}
