#include "base/file.h"
#include "cli/porbit.h"

#include <nlohmann/json.hpp>

using namespace porb;
using namespace porb::test;

TEST_CASE("the command line cuts out, restores, shelters and blends") {
    const TempFolder folder;
    sim::SimOptions o;
    o.circle_size = 240;
    const StillTake take = hall_still(folder, o);
    const std::string project = (folder / "p.porb").string();
    save_project(take.project, project);
    const auto shot = [&] { return load_project(project).shots[0]; };

    const std::string square = " --corner 100,180 --corner 140,180 --corner 140,220 --corner 100,220";
    CHECK(
        says(porbit("shape " + project + " --camera A --cut-out --name stand" + square), "leave a hole of"));
    REQUIRE(shot().cameras[0].shapes.size() == 1);
    CHECK(shot().cameras[0].shapes[0].keys[0].corners[0].at.x() < 0);
    CHECK(says(porbit("shape " + project + " --list"), "stand"));
    porbit("shape " + project + " --camera A --cut-out --name stand --time 1.5" + square);
    CHECK(shot().cameras[0].shapes[0].keys.size() == 2);
    porbit("shape " + project + " --camera A --copy stand");
    CHECK(shot().cameras[1].shapes.size() == 1);
    porbit("shape " + project + " --camera A --off stand");
    CHECK_FALSE(shot().cameras[0].shapes[0].on);
    porbit("shape " + project + " --camera A --restore" + square);
    CHECK(shot().cameras[0].shapes[1].restores);
    porbit("shape " + project + " --camera B --remove stand");
    CHECK(shot().cameras[1].shapes.empty());
    // Bad words and shapes change nothing and say what is wrong.
    const std::string before = read_text_file(project);
    CHECK(says(porbit("shape " + project + " --camera A --cut-out --corner 1,1", 1),
               "has 1 corner: a shape needs 3"));
    CHECK(says(porbit("shape " + project + " --camera Q --cut-out" + square, 1), "is not a camera"));
    CHECK(says(porbit("shape " + project + " --camera A --remove nothing", 1), "has no shape 'nothing'"));
    CHECK(says(porbit("shape " + project + " --camera A --cut-out --corner 1x2", 2), "--corner"));
    CHECK(says(porbit("shape " + project + " --cut-out" + square, 2), "--camera"));
    CHECK(read_text_file(project) == before);

    CHECK(says(porbit("shelter " + project + " --at 88,0 --size 14,30 --name keeper"),
               "camera A, which sees 100 %"));
    porbit("shelter " + project + " --name keeper --camera B --from 0.5 --to 2 --ease 0.25");
    CHECK(shot().seams.shelters[0].camera == "B");
    CHECK(shot().seams.shelters[0].to == Seconds(2));
    CHECK(says(porbit("shelter " + project + " --at 92,0 --time 1 --name keeper"), "keeper"));
    CHECK(shot().seams.shelters[0].keys.size() == 2);
    CHECK(says(porbit("shelter " + project + " --at 90,0 --size 150,60 --name wide"),
               "the rest stays as it was"));
    const auto listed = nlohmann::json::parse(porbit("shelter " + project + " --list --json"));
    REQUIRE(listed.size() == 2);
    CHECK(listed[0]["keys"] == 2);
    CHECK(says(porbit("shelter " + project + " --name keeper --to 0.1", 1), "lies before"));
    CHECK(says(porbit("shelter " + project + " --name keeper --camera Q", 1), "is not a camera"));
    porbit("shelter " + project + " --remove wide");
    CHECK(shot().seams.shelters.size() == 1);

    porbit("shot " + project + " --blending multiband --widest-band 8");
    CHECK(shot().seams.blend == BlendSettings{Blending::multiband, 8});
    porbit("shot " + project + " --blending soft", 2);
    const std::string out = (folder / "o.png").string();
    porbit("still " + project + " --time 0 --width 256 --out " + out);
    CHECK(std::filesystem::exists(out));
}
