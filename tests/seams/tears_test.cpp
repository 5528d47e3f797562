// Edges that no source shows.
#include "seams/tears.h"
#include "support/support.h"

using namespace porb;
using namespace porb::test;

TEST_CASE(
    "a wrong distance tears what it cuts through; at even distances, and as found, hardly anything is torn") {
    const TempFolder folder;
    StillTake take = ring_still(folder, 480);
    Shot& shot = take.project.shots[0];
    shot.levelling = {};
    Composer composer(std::make_shared<MediaLibrary>());
    Shelter shelter;
    shelter.name = "x";
    shelter.feather_deg = 0.05;
    shelter.keys = {{Seconds(0), 30, -8, 16, 16}};
    const View view = view_about(shelter.keys[0], 6);
    CHECK(view.target.width >= 280); // as dense as a picture 3840 wide
    const auto torn = [&](const AreaDistance& distance) {
        shelter.distance = distance;
        shot.seams.shelters = {shelter};
        const Tears t = tears_in(take.project, shot, composer, Seconds(0), view, {});
        CHECK(t.torn.size() == std::size_t(t.width) * std::size_t(t.height));
        CHECK(t.torn_px <= t.edges_px);
        CHECK(t.edges_px > 100);
        return t.torn_px;
    };
    const double wrong = torn({DistanceRule::metres, 0.8, {0, 0, 1}, {}}), even = torn({});
    shot.seams.shelters.clear();
    const double found = tears_in(take.project, shot, composer, Seconds(0), view, {}).torn_px;
    INFO(wrong << " px torn at a wrong distance, " << even << " at an even one, " << found << " as found");
    CHECK(wrong > 3 * kVisibleTear_px);
    CHECK(even < kVisibleTear_px);
    CHECK(found < kVisibleTear_px);
    // An eye stands elsewhere than the centre: along its own rays no more is torn.
    shot.stereo.from = EyesFrom::distances;
    shot.stereo.converge_m = 2;
    View eye = view;
    for (const Eye which : {Eye::left, Eye::right}) {
        eye.eye = which;
        const Tears t = tears_in(take.project, shot, composer, Seconds(0), eye, {});
        CHECK(t.edges_px > 100);
        CHECK(t.torn_px < kVisibleTear_px);
    }
    shot.stereo = {};
    Cancel cancel;
    cancel.raise();
    CHECK_THROWS_AS(tears_in(take.project, shot, composer, Seconds(0), view, cancel), Cancelled);
    // With parallax left open all is drawn at one distance: there is nothing to tear.
    shot.seams.flow.on = false;
    CHECK(tears_in(take.project, shot, composer, Seconds(0), view, {}).torn_px == 0);
}
