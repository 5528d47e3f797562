#include "base/file.h"
#include "cli/porbit.h"
#include "media/still.h"
#include "picture/compare.h"
#include "project/tile_store.h"

#include <nlohmann/json.hpp>

using namespace porb;
using namespace porb::test;

TEST_CASE("porbit patch takes a stand out, covers, fills, sends out and back, and keeps the rest") {
    const TempFolder folder;
    StillTake take = ring_still(folder, 400);
    const std::string project = (folder / "p.porb").string(), dir = folder.path().string();
    save_project(take.project, project);
    const auto shot = [&] { return load_project(project).shots[0]; };
    porbit("still " + project + " --width 512 --out " + dir + "/before.png");
    CHECK(says(porbit("patch " + project + " --propose --fill --sphere-width 1280"), "floor 1."));
    REQUIRE(shot().patches.size() == 1);
    CHECK(shot().patches[0].kind == PatchKind::fill);
    CHECK_FALSE(shot().patches[0].mask.is_clear());
    CHECK(shot().patches[0].distance_m == Approx(1.6).epsilon(0.03));
    porbit("still " + project + " --width 512 --out " + dir + "/after.png");
    porbit("still " + project + " --width 512 --without-patches --out " + dir + "/without.png");
    CHECK(psnr_db(read_still(dir + "/before.png"), read_still(dir + "/without.png")) > 100);
    const auto below = [](int, int y) { return y > 230; };
    CHECK(psnr_db(read_still(dir + "/before.png"), read_still(dir + "/after.png"), below) < 36);

    const std::string emblem = (source_folder() / "demo/emblem/orrery_hall_emblem.svg").string();
    CHECK(says(porbit("patch " + project + " --add " + emblem + " --at 0,-90 --width 20 --name emblem"),
               "emblem: picture, yaw 0.0, pitch -90.0, 20.0 deg wide"));
    porbit("patch " + project + " --soften mirror --at 0,90 --width 30 --name above");
    CHECK(shot().patches.size() == 3);
    porbit("patch " + project +
           " --name above --opacity 0.5 --roll 45 --from 0.1 --ease 0 --rename lamp --off");
    const Patch lamp = shot().patches[2];
    CHECK(lamp.name == "lamp");
    CHECK_FALSE(lamp.on);
    CHECK(place_at(lamp, Seconds(0)).roll_deg == 45);
    porbit("patch " + project + " --name lamp --remove");
    CHECK(shot().patches.size() == 2);

    // Out and back: untouched it is the same.
    const Patch before = shot().patches[0];
    for (const char* ending : {"ora", "tif", "exr"}) {
        const std::string file = dir + "/layers." + ending;
        CHECK(says(porbit("patch " + project + " --name ground --export " + file), file.c_str()));
        porbit("patch " + project + " --name ground --import " + file);
        CHECK(shot().patches[0] == before);
    }
    porbit("patch " + project + " --name ground --export " + dir + "/alone.png --sphere 1024");
    CHECK(hole_share(read_still(dir + "/alone.png")) > 0.9);
    Picture half(256, 256);
    for (int y = 0; y < 256; ++y)
        for (int x = 0; x < 256; ++x)
            set_pixel(half, x, y, {x < 128 ? 1.f : 0.f, x < 128 ? 1.f : 0.f, x < 128 ? 1.f : 0.f, 1});
    write_still(half, dir + "/mask.png");
    porbit("patch " + project + " --name ground --mask " + dir + "/mask.png");
    CHECK(shot().patches[0].mask.at(5, 5, 0) == 1);
    CHECK(shot().patches[0].mask.at(shot().patches[0].resolution - 5, 5, 0) == 0);
    porbit("patch " + project + " --name ground --fill --seed 2 --surround " + dir + "/mask.png");
    CHECK(shot().patches[0].kind == PatchKind::fill);
    const auto json = nlohmann::json::parse(porbit("patch " + project + " --list --json"));
    CHECK(json["patches"].size() == 2);
    CHECK(json["patches"][0]["kind"] == "fill");
    CHECK(says(porbit("patch " + project + " --name ground --measure"), "of full scale"));

    // What is wrong is told, and changes nothing.
    const std::string bytes = read_text_file(project);
    write_file_atomically(folder / "bad.ora", "no zip");
    CHECK(says(porbit("patch " + project + " --name ground --import " + dir + "/bad.ora", 1),
               "not an OpenRaster file"));
    CHECK(says(porbit("patch " + project + " --name nobody --off", 1), "Its patches are: ground, emblem"));
    CHECK(says(porbit("patch " + project + " --add " + dir + "/none.png", 1), "none.png"));
    CHECK(says(porbit("patch " + project + " --name ground --width 400", 2), "--width"));
    CHECK(says(porbit("patch " + project + " --name ground --at 5", 2), "YAW,PITCH"));
    CHECK(says(porbit("patch " + project + " --name ground --export " + project, 1), "p.porb"));
    CHECK(says(porbit("patch " + project + " --to-shot nobody", 1), "nobody"));
    write_still(Picture(64, 40), dir + "/odd.png");
    CHECK(says(porbit("patch " + project + " --name ground --mask " + dir + "/odd.png", 1), "square"));
    CHECK(read_text_file(project) == bytes);
}
