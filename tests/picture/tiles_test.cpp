// Pictures in tiles: what copies share, what an edit costs, and what comes back.
#include "picture/tiles.h"
#include "support/support.h"

using namespace porb;
using namespace porb::test;

TEST_CASE("a picture in tiles is the same picture, and clear tiles take nothing") {
    Picture p = gradient(300, 200);
    TileImage tiles = tiles_of(p);
    CHECK(tiles.across() == 3);
    CHECK(tiles.down() == 2);
    const Picture back = picture_of(tiles);
    for (int y = 0; y < p.height(); y += 7)
        for (int x = 0; x < p.width(); x += 5)
            for (int c = 0; c < 4; ++c) REQUIRE(back.row(y)[4 * x + c] == p.row(y)[4 * x + c]);
    CHECK(tiles == tiles_of(back));

    Picture corner(300, 200);
    for (int y = 0; y < 200; ++y) std::fill_n(corner.row(y), 1200, Half(0));
    CHECK(tiles_of(corner).is_clear());
    set_pixel(corner, 299, 199, {0.5f, 0.25f, 0, 1});
    CHECK(tiles_of(corner).tile_count() == 1);
    CHECK(tiles_of(corner).at(299, 199, 0) == 0.5f);
    CHECK(tiles_of(corner).at(300, 199, 0) == 0);
    CHECK(mask_of(corner).at(299, 199, 0) == 1);
    CHECK(whole_mask(300).at(255, 255, 0) == 1);
}

TEST_CASE("an edit copies the tiles it touches and no others, and what was before stays as it was") {
    const TileImage before = tiles_of(gradient(512, 512));
    TileImage after = before;
    {
        TileImage::Edit edit(after);
        for (int i = 0; i < 20; ++i) edit.pixel(130 + i, 130)[0] = half_from_float(2);
    }
    int shared = 0;
    for (int ty = 0; ty < 4; ++ty)
        for (int tx = 0; tx < 4; ++tx) shared += after.tile(tx, ty) == before.tile(tx, ty);
    CHECK(shared == 15);
    CHECK(after.at(135, 130, 0) == 2);
    CHECK(before.at(135, 130, 0) < 1.5f);
    CHECK_FALSE(after == before);
    {
        TileImage::Edit edit(after); // back again: equal by content
        for (int i = 0; i < 20; ++i)
            edit.pixel(130 + i, 130)[0] = half_from_float(before.at(130 + i, 130, 0));
    }
    CHECK(after == before);
}

TEST_CASE("levels of a tile are means, and another size keeps everything at its place") {
    Picture p(128, 128);
    for (int y = 0; y < 128; ++y)
        for (int x = 0; x < 128; ++x) set_pixel(p, x, y, {float((x + y) % 2), 0, 0, 1});
    const TileImage tiles = tiles_of(p);
    for (int level = 1; level < Tile::kLevels; ++level)
        CHECK(float_from_half(tiles.tile(0, 0)->level(level)[0]) == Approx(0.5));

    // A soft spot's middle, found again at half, at twice and at an odd size.
    Picture spot(256, 256);
    for (int y = 0; y < 256; ++y)
        for (int x = 0; x < 256; ++x) {
            const float v = std::exp(-float((x - 100) * (x - 100) + (y - 60) * (y - 60)) / 300);
            set_pixel(spot, x, y, {v, v, v, 1});
        }
    for (const int side : {128, 512, 200}) {
        const TileImage other = resized(tiles_of(spot), side, side);
        double sx = 0, sy = 0, sum = 0;
        for (int y = 0; y < side; ++y)
            for (int x = 0; x < side; ++x) {
                const double v = other.at(x, y, 0);
                sum += v, sx += v * (x + 0.5), sy += v * (y + 0.5);
            }
        CHECK(sx / sum * 256 / side == Approx(100.5).margin(0.1));
        CHECK(sy / sum * 256 / side == Approx(60.5).margin(0.1));
    }
}
