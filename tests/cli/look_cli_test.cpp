#include "base/file.h"
#include "cli/porbit.h"
#include "media/still.h"
#include "picture/compare.h"
#include "support/odd_exr.h"

#include <ImfMultiPartInputFile.h>

#include <limits>

#include <nlohmann/json.hpp>

using namespace porb;
using namespace porb::test;

TEST_CASE("the command line reads curves, grades, denoises, and refuses nonsense without losing anything") {
    const TempFolder folder;
    sim::SimOptions o;
    o.circle_size = 200;
    const StillTake take = hall_still(folder, o);
    const std::string project = (folder / "p.porb").string(), dir = folder.path().string();
    save_project(take.project, project);
    const auto shot = [&] { return load_project(project).shots[0]; };
    porbit("still " + project + " --width 256 --out " + dir + "/plain.png");

    CHECK(says(porbit("grade " + project + " --exposure 1 --lift 0.02 --gain 1,0.9,0.8 --saturation 0.5"),
               "exposure +1.00 EV"));
    CHECK(shot().look.grade.gain == std::array<double, 3>{1, 0.9, 0.8});
    porbit("still " + project + " --width 256 --out " + dir + "/graded.png");
    CHECK(psnr_db(read_still(dir + "/plain.png"), read_still(dir + "/graded.png")) < 25);
    porbit("grade " + project + " --write-cube " + dir + "/look.cube --off");
    porbit("still " + project + " --width 256 --out " + dir + "/off.png");
    CHECK(psnr_db(read_still(dir + "/plain.png"), read_still(dir + "/off.png")) > 60);
    // The table alone gives the same picture.
    porbit("grade " + project + " --reset --lut " + dir + "/look.cube");
    porbit("still " + project + " --width 256 --out " + dir + "/lut.png");
    CHECK(psnr_db(read_still(dir + "/graded.png"), read_still(dir + "/lut.png")) > 36);
    porbit("grade " + project + " --reset --gain 1.2 --gamma 0.9 --write-cdl " + dir + "/look.cc");
    porbit("grade " + project + " --reset --cdl " + dir + "/look.cc");
    CHECK(shot().look.grade.gamma[1] == Approx(0.9).epsilon(1e-4));

    const std::string before = read_text_file(project);
    write_file_atomically(folder / "none.cube", "this is no table");
    CHECK(says(porbit("grade " + project + " --lut " + dir + "/none.cube", 1), "not a LUT that can be read"));
    CHECK(says(porbit("grade " + project + " --lut " + dir + "/missing.cube", 1), "is not there"));
    CHECK(says(porbit("grade " + project + " --gain 1,2", 2), "one number, or red,green,blue"));
    CHECK(says(porbit("grade " + project + " --exposure 1 --write-cdl " + dir + "/x.cc", 1),
               "more than ASC CDL can say"));
    CHECK(says(porbit("curve " + project + " --all purple", 1), "not a curve known here"));
    CHECK(says(porbit("curve " + project + " --camera Q=hlg", 1), "is not a camera"));
    CHECK(read_text_file(project) == before);

    CHECK(says(porbit("curve " + project + " --all film-log"), "Film log"));
    porbit("still " + project + " --width 256 --out " + dir + "/log.png");
    CHECK(psnr_db(read_still(dir + "/plain.png"), read_still(dir + "/log.png")) < 25);
    porbit("curve " + project + " --all tagged");
    CHECK(says(porbit("denoise " + project + " --on --in-frame 0.5"), "denoising is on"));
    CHECK(shot().look.denoise.in_frame == 0.5);
    const std::string part = (folder / "part.png").string();
    CHECK(says(porbit("denoise " + project + " --camera A --size 48 --at 60,60 --out " + part), "as shot"));
    CHECK(read_still(part).width() == 2 * 48);
    CHECK(says(porbit("denoise " + project + " --camera Q --out " + part, 1), "is no camera"));
    CHECK(says(porbit("denoise " + project + " --camera A", 2), "--out"));
    porbit("still " + project + " --width 256 --out " + dir + "/clean.png");

    CHECK(says(porbit("flow " + project + " --strength 0.8 --key 0=0 --key 1.5=1"), "2 keys"));
    CHECK(says(porbit("flow " + project + " --seam A,B --strength 0.5 --agree 3"), "agrees at 3.00 m"));
    CHECK(shot().seams.flow.seams.size() == 1);
    CHECK(shot().seams.flow.seams[0].keys.size() == 2); // it began as the others
    CHECK(says(porbit("flow " + project + " --seam A,B --clear-keys --key 1=0.4,12,2 --key 2=1"),
               "at 2.00 s: strength 1.00, 12 deg wide, smoothness 2.0"));
    CHECK(values_at(shot().seams.flow.seams[0], Rational(3, 2)).strength == Approx(0.7));
    CHECK(shot().seams.flow.keys.size() == 2);
    CHECK(says(porbit("flow " + project + " --everywhere"), "flow is on, everywhere"));
    CHECK(load_project(project).shots[0].seams.flow.everywhere);
    CHECK_FALSE(says(porbit("flow " + project + " --near-seams"), "everywhere"));
    CHECK(says(porbit("flow " + project + " --fine-edges"), "with fine edges"));
    CHECK_FALSE(says(porbit("flow " + project + " --plain-edges"), "fine"));
    const std::string before_depth = read_text_file(project);
    CHECK(says(porbit("depth " + project + " --width 128 --out " + dir + "/z.exr"), "z.exr"));
    CHECK(says(porbit("depth " + project + " --width 128 --out " + dir + "/z.jpg", 1),
               "End the name in .exr or .png"));
    CHECK(says(porbit("depth " + project + " --out " + project, 1), "End the name"));
    porbit("still " + project + " --width 128 --distance --parts --out " + dir + "/two.exr");
    CHECK(Imf::MultiPartInputFile((dir + "/two.exr").c_str()).parts() == 2);
    CHECK(says(porbit("still " + project + " --parts --out " + dir + "/two.exr", 2), "--distance"));
    porbit("master " + project + " --preset sphere-exr --width 128 --to 0.01 --distances --parts --out " +
           dir + "/m.%04d.exr");
    CHECK(Imf::MultiPartInputFile((dir + "/m.0000.exr").c_str()).parts() == 2);
    CHECK(read_text_file(project) == before_depth);
    CHECK(says(porbit("flow " + project + " --key 1=2", 2), "strength lies between 0 and 1"));
    CHECK(says(porbit("flow " + project + " --key 1=1,200", 2), "the zone lies between 1 and 90"));
    CHECK(says(porbit("flow " + project + " --key 1=1,2,3,4", 2), "SECONDS=STRENGTH,ZONE,SMOOTHNESS"));
    CHECK(says(porbit("flow " + project + " --seam A,Q", 1), "does not name two cameras"));
    CHECK(says(porbit("flow " + project + " --agree 3", 2), "--seam"));
    porbit("flow " + project + " --seam A,B --remove-seam");
    CHECK(shot().seams.flow.keys.size() == 2);
    porbit("flow " + project + " --clear-keys");
    CHECK(shot().seams.flow.seams.empty());
    CHECK(shot().seams.flow.keys.empty());
}

TEST_CASE("pixels that are not numbers are told by still, match and lines, and leave no hole") {
    const TempFolder folder;
    sim::SimOptions o;
    o.circle_size = 240;
    StillTake take = hall_still(folder, o);
    Media& media = take.project.media[0];
    const std::string project = (folder / "p.porb").string(), out = (folder / "o.png").string(),
                      clean = (folder / "clean.png").string();
    save_project(take.project, project);
    porbit("still " + project + " --width 128 --out " + clean);
    const float nan = std::numeric_limits<float>::quiet_NaN();
    write_odd_exr(folder / "odd.exr", read_still(media.ref.path),
                  {{{120, 110}, {nan, 0.2f, 0.2f, 1}}, {{121, 110}, {0.2f, nan, 0.2f, 1}}});
    media.ref = media_ref_for(folder / "odd.exr");
    save_project(take.project, project);
    for (const std::string& words :
         {"still " + project + " --width 128 --out " + out, "match " + project, "lines " + project}) {
        const std::string said = porbit(words);
        INFO(words << "\n" << said);
        CHECK(says(said, "porbit: note: In odd.exr, 2 pixels are not numbers"));
    }
    double most = 0; // in the middle, where they were
    const Picture whole = read_still(clean), filled = read_still(out);
    for (int y = 24; y < 40; ++y)
        for (int x = 52; x < 76; ++x)
            most = std::max(most, double(std::abs(pixel_at(whole, x, y).g - pixel_at(filled, x, y).g)));
    CHECK(most < 0.1);
}

TEST_CASE("the command line finds lines and crossings, closes them, and says what is left") {
    const TempFolder folder;
    const std::string dir = (folder / "take").string();
    porbit("simulate hall --rig ring-of-four --size 240 --seconds 1.5 --rate 20 --truth-width 0 --out " +
           dir);
    std::string project;
    for (const auto& e : std::filesystem::directory_iterator(dir))
        if (e.path().extension() == ".porb") project = e.path().string();
    CHECK(says(porbit("lines " + project), "lines found"));
    CHECK_FALSE(load_project(project).shots[0].seams.seam_lines->keys.empty());
    CHECK(says(porbit("lines " + project + " --off"), "they are off"));
    CHECK(says(porbit("lines " + project + " --remove"), "no lines were found yet"));
    porbit("flow " + project + " --off");
    const auto found = nlohmann::json::parse(porbit("crossings " + project + " --json"));
    REQUIRE(found["crossings"].size() >= 1);
    for (const auto& c : found["crossings"]) {
        CHECK(c["to_s"] > c["from_s"]);
        CHECK(c["apart_px"] > 3);
    }
    CHECK(says(porbit("crossings " + project + " --leave 99", 1), "is not a crossing"));
    porbit("crossings " + project + " --leave 1");
    CHECK((*load_project(project).shots[0].seams.crossings)->crossings[0].dismissed);
    porbit("crossings " + project + " --reopen 1");
    const auto solved = nlohmann::json::parse(porbit("crossings " + project + " --solve --json"));
    CHECK(solved["open"] <= found["open"]);
    CHECK(load_project(project).shots[0].seams.flow.on == (found["open"] > 0));
    const auto again = nlohmann::json::parse(porbit("crossings " + project + " --measure --json --dry-run"));
    CHECK(again["open"] == solved["open"]); // what was ticked stays ticked when it is measured again
}

TEST_CASE("eyes come from distances, are measured and fitted, and every word is checked") {
    const TempFolder folder;
    const std::string project = ring_project(folder), dir = folder.path().string();
    const auto stereo = [&] { return load_project(project).shots[0].stereo; };
    CHECK(says(porbit("eyes " + project), "without depth"));
    CHECK(stereo() == StereoSettings{}); // told, not changed
    porbit("flow " + project + " --near-seams");
    CHECK(says(porbit("eyes " + project + " --from distances --ipd 0.06 --merge 50,70 --converge 3"),
               "wherever two cameras see"));
    CHECK(load_project(project).shots[0].seams.flow.everywhere);
    CHECK(stereo().from == EyesFrom::distances);
    CHECK(stereo().ipd_m == 0.06);
    CHECK(stereo().merge_to_deg == 70);
    CHECK(stereo().converge_m == 3);
    CHECK(
        says(porbit("eyes " + project + " --key 1=2 --key 2.5=none --comfort 1.5,1"), "at 2.50 s: infinity"));
    CHECK(stereo().keys.size() == 2);
    const std::string before = read_text_file(project);
    CHECK(says(porbit("eyes " + project + " --merge 70,50", 1), "above merge_from_deg"));
    CHECK(says(porbit("eyes " + project + " --converge -1", 2), "--converge"));
    CHECK(says(porbit("eyes " + project + " --ipd nan", 2), "--ipd"));
    CHECK(says(porbit("eyes " + project + " --key 1=x", 2), "not a number"));
    CHECK(says(porbit("eyes " + project + " --ipd 0.5 --list"), "wider than the rig"));
    const auto told = nlohmann::json::parse(porbit("eyes " + project + " --measure --time 0.5 --json"));
    REQUIRE(told["moments"].size() == 1);
    CHECK(told["moments"][0]["places"].get<int>() > 20);
    CHECK(told["moments"][0]["told"].get<double>() > 0.2);
    CHECK(read_text_file(project) == before);
    porbit("eyes " + project + " --clear-keys --swap --ipd 0.064");
    CHECK(stereo().swap);
    CHECK(says(porbit("eyes " + project + " --no-swap --ipd 0.2 --fit --time 0.5"), "fitted"));
    CHECK(stereo().ipd_m < 0.2);
    CHECK(nlohmann::json::parse(porbit("eyes " + project + " --fit --list --time 0.5 --json"))["moments"]
              .size() == 1); // one document, nothing beside it
    CHECK(stereo().keys.empty());
    // A second shot that converges elsewhere: its subject begins as it ends in the first.
    Project two = load_project(project);
    Shot second = two.shots[0];
    second.id = "shot-2", second.name = "second", second.stereo.converge_m = 1;
    two.shots.push_back(second);
    save_project(two, project);
    CHECK(says(porbit("eyes " + project + " --shot second --meet shot-2 --at 0,-20", 2), "this shot itself"));
    CHECK(says(porbit("eyes " + project + " --shot second --meet shot-1", 2), "--at"));
    CHECK(says(porbit("eyes " + project + " --shot second --meet shot-1 --at 30,-30"), "converge at"));
    const Project met = load_project(project);
    const auto turn_deg = [](double converge_m) { return 57.3 * 0.064 / converge_m; };
    CHECK(turn_deg(met.shots[1].stereo.converge_m) ==
          Approx(turn_deg(met.shots[0].stereo.converge_m)).margin(0.6)); // it was 3.7 or so

    const std::string still = (folder / "both.png").string();
    porbit("still " + project + " --eye both --width 128 --out " + still);
    const Picture both = read_still(still), left = [&] {
        porbit("still " + project + " --eye left --width 128 --out " + still);
        return read_still(still);
    }();
    REQUIRE(both.height() == 2 * left.height());
    CHECK(both.width() == left.width());
    CHECK(pixel_at(both, 64, 32).g == pixel_at(left, 64, 32).g);
}
