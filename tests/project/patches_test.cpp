// Patches as values, and the folder that painted pixels are kept in.
#include "base/file.h"
#include "project/autosave.h"
#include "project/history.h"
#include "project/tile_store.h"
#include "support/support.h"

#include <fstream>

using namespace porb;
using namespace porb::test;
namespace fs = std::filesystem;

namespace {

Picture noise(int side, unsigned seed) {
    Picture p(side, side);
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) {
            const auto v = [&](unsigned c) {
                return float((std::size_t(x) * 7919 + std::size_t(y) * 104729 + c * 31 + seed * 65537) %
                             997) /
                       997;
            };
            set_pixel(p, x, y, {v(0), v(1), v(2), 1});
        }
    return p;
}

Project painted_project(unsigned seed = 1) {
    Project p;
    Shot shot = shot_for_rig(tiny_rig(), "hall");
    shot.id = "shot";
    Patch patch;
    patch.name = "ground";
    patch.keys.resize(1);
    patch.resolution = 300;
    patch.pixels = tiles_of(noise(300, seed));
    patch.mask = whole_mask(300);
    shot.patches.push_back(patch);
    p.shots.push_back(shot);
    return p;
}

std::set<std::string> files_in(const fs::path& folder) {
    std::set<std::string> out;
    std::error_code code;
    for (const auto& e : fs::directory_iterator(folder, code))
        if (e.path().extension() == ".tile") out.insert(e.path().filename().string());
    return out;
}

void make_old(const fs::path& folder) {
    for (const auto& e : fs::directory_iterator(folder))
        fs::last_write_time(e.path(), fs::file_time_type::clock::now() - std::chrono::hours(30));
}

const Patch& patch_of(const Project& p) {
    return p.shots[0].patches[0];
}

} // namespace

TEST_CASE("a patch passes evenly from key to key, turns the short way, comes and goes softly") {
    Patch p;
    p.keys = {{Seconds(0), 170, -90, 350, 40, 1, {}}, {Seconds(2), -170, -70, 10, 60, 0.5, {}}};
    const PatchKey half = place_at(p, Seconds(1));
    CHECK(std::abs(std::remainder(half.yaw_deg - 180, 360.0)) < 1e-9);
    CHECK(std::abs(std::remainder(half.roll_deg, 360.0)) < 1e-9);
    CHECK(half.pitch_deg == -80);
    CHECK(half.width_deg == 50);
    CHECK(half.opacity == 0.75);
    CHECK(place_at(p, Seconds(-3)) == PatchKey{Seconds(-3), 170, -90, 350, 40, 1, {}});
    CHECK(place_at(p, Seconds(9)).width_deg == 60);

    p.from = Seconds(1), p.to = Seconds(2), p.ease_s = 0.5;
    CHECK(presence_at(p, Rational(1, 2)) == 0);
    CHECK(presence_at(p, Rational(3, 4)) == Approx(0.5));
    CHECK(presence_at(p, Rational(3, 2)) == 1);
    CHECK(presence_at(p, Rational(5, 2)) == 0);
    p.on = false;
    CHECK(presence_at(p, Rational(3, 2)) == 0);

    Patch one;
    one.keys.resize(1);
    PatchKey moved = place_at(one, Seconds(3));
    moved.yaw_deg = 20;
    set_place(one, Seconds(3), moved); // without keys: for ever
    CHECK(one.keys.size() == 1);
    CHECK(one.keys[0].time == Seconds(0));
    toggle_place_key(one, Seconds(3));
    moved.yaw_deg = 40;
    set_place(one, Seconds(3), moved);
    CHECK(place_at(one, Seconds(0)).yaw_deg == 20);
    CHECK(place_at(one, Seconds(3)).yaw_deg == 40);
    set_place(one, Seconds(5), moved);
    CHECK(one.keys.size() == 3);
    toggle_place_key(one, Seconds(5));
    toggle_place_key(one, Seconds(3));
    toggle_place_key(one, Seconds(0)); // the last one stays
    CHECK(one.keys.size() == 1);

    one.light = {{Seconds(0), {1, 1, 1}, {0, 0, 0}, {}}, {Seconds(2), {3, 1, 1}, {0, 0.1, 0}, {}}};
    CHECK(light_at(one, Seconds(1)).gain.x() == 1); // it does not follow
    one.follows_light = true;
    CHECK(light_at(one, Seconds(1)).gain.x() == 2);
    CHECK(light_at(one, Seconds(1)).offset.y() == Approx(0.05));
    // As fine as a sphere: 3840 pixels round are 0.09375 degrees each.
    CHECK(matching_resolution(60, 3840) == 768); // 705.8, up to the next 64
    CHECK(matching_resolution(150, 16384) == 8192);
}

TEST_CASE("painted pixels are kept beside the project by content, once, and come back exactly") {
    TempFolder folder;
    const fs::path file = folder / "hall.porb";
    Project p = painted_project();
    save_project(p, file);
    CHECK(files_in(tile_folder(file)).size() == 9 + 4); // the mask's inner and outer tiles
    const Project back = load_project(file);
    CHECK(patch_of(back).pixels.tile(0, 0)->is_in_file());
    CHECK(patch_of(back) == patch_of(p));

    // Another save writes nothing new; a changed tile is one more file.
    const auto before = files_in(tile_folder(file));
    const auto written = fs::last_write_time(tile_folder(file) / *before.begin());
    Patch& patch = p.shots[0].patches[0];
    {
        TileImage::Edit edit(patch.pixels);
        edit.pixel(5, 5)[0] = half_from_float(0.123f);
    }
    save_project(p, file);
    CHECK(files_in(tile_folder(file)).size() == before.size() + 1);
    CHECK(fs::last_write_time(tile_folder(file) / *before.begin()) == written);

    // A copy elsewhere takes its own along, and stands alone.
    const fs::path copy = folder / "other.porb";
    save_project(load_project(file), copy);
    fs::remove_all(tile_folder(file));
    CHECK(patch_of(load_project(copy)) == patch_of(p));
}

TEST_CASE("a project without its folder, or with damaged files, loads, says so, and goes on naming them") {
    TempFolder folder;
    const fs::path file = folder / "hall.porb", d = tile_folder(file), away = folder / "away";
    const Project p = painted_project();
    save_project(p, file);
    fs::rename(d, away);
    std::vector<std::string> remarks;
    Project back = load_project(file, &remarks);
    REQUIRE(remarks.size() == 2);
    CHECK(remarks[0].find("9 of 9 squares of patch 'ground'") != std::string::npos);
    CHECK(patch_of(back).pixels.at(1, 1, 0) == 0);
    CHECK(patch_of(back).pixels.lost_tiles() == 1); // that was asked for
    back.name = "changed meanwhile";
    save_project(back, file); // refuses nothing, forgets nothing
    fs::remove_all(d);
    fs::rename(away, d);
    CHECK(patch_of(load_project(file)) == patch_of(p));

    // Damage: cut short, another tile's content, rubbish.
    const auto names = files_in(d);
    const fs::path first = d / *names.begin(), last = d / *names.rbegin();
    fs::resize_file(first, fs::file_size(first) / 2);
    CHECK_NOTHROW(read_all_tiles(load_project(file)));
    fs::copy_file(last, first, fs::copy_options::overwrite_existing);
    const Project wrong = load_project(file);
    read_all_tiles(wrong);
    CHECK(patch_of(wrong).pixels.lost_tiles() + patch_of(wrong).mask.lost_tiles() >= 1);
    std::ofstream(first, std::ios::trunc) << std::string(3000, 'x');
    CHECK_NOTHROW(read_all_tiles(load_project(file)));
}

TEST_CASE("what nothing names goes after a day, unless somebody has the project open") {
    TempFolder folder;
    const fs::path file = folder / "hall.porb", d = tile_folder(file);
    save_project(painted_project(1), file);
    {
        const Project open = load_project(file); // its tiles are not read yet
        save_project(painted_project(2), file);
        CHECK(files_in(d).size() == 22);
        make_old(d);
        (void)load_project(file);
        CHECK(files_in(d).size() == 22);
        CHECK(patch_of(open) == patch_of(painted_project(1)));
    }
    (void)load_project(file);
    CHECK(files_in(d).size() == 13);
    CHECK(patch_of(load_project(file)) == patch_of(painted_project(2)));
    // What is named again is as young as what is new.
    make_old(d);
    save_project(painted_project(2), file);
    const auto age = fs::file_time_type::clock::now() - fs::last_write_time(d / *files_in(d).begin());
    CHECK(age < std::chrono::hours(1));
    save_project(painted_project(3), file);
    save_project(painted_project(1), file);
    (void)load_project(file); // young ones stay
    CHECK(files_in(d).size() == 31);
    CHECK(patch_of(load_project(file)) == patch_of(painted_project(1)));
}

TEST_CASE("a window's unsaved strokes survive it, and go with its autosave") {
    TempFolder folder;
    const Project p = painted_project();
    std::optional<AutosaveSlot> slot(std::in_place, folder.path());
    slot->write({}, 0, p);
    const fs::path kept = tile_folder(slot->file());
    CHECK(files_in(kept).size() == 13);
    CHECK(find_autosaves(folder.path()).empty()); // its window lives
    slot.reset();
    const auto found = find_autosaves(folder.path());
    REQUIRE(found.size() == 1);
    CHECK(patch_of(found[0].project) == patch_of(p));
    const auto mine = AutosaveSlot::adopt(found[0]);
    REQUIRE(mine);
    read_all_tiles(found[0].project);
    mine->remove();
    CHECK_FALSE(fs::exists(kept));
    CHECK(patch_of(found[0].project) == patch_of(p));
}

TEST_CASE("two hundred strokes cost what they changed") {
    Project p = painted_project();
    History history(p);
    std::set<const Tile*> tiles;
    const auto count = [&] {
        const TileImage& image = patch_of(*history.now()).pixels;
        for (int ty = 0; ty < image.down(); ++ty)
            for (int tx = 0; tx < image.across(); ++tx) tiles.insert(image.tile(tx, ty));
    };
    count();
    for (int i = 0; i < 200; ++i) {
        Project next = *history.now();
        TileImage::Edit edit(next.shots[0].patches[0].pixels);
        edit.pixel(i, 20)[0] = half_from_float(float(i));
        history.apply(std::move(next), "stroke");
        count();
    }
    CHECK(tiles.size() == 9 + 200); // one tile a stroke
    for (int i = 0; i < 200; ++i) history.undo();
    CHECK(patch_of(*history.now()) == patch_of(p));
}
