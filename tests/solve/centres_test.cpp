#include "solve/calibrate.h"
#include "solve/pictures/centres.h"
#include "support/support.h"

using namespace porb;
using namespace porb::test;

TEST_CASE("lens centres go to the circles that the pictures show, and the profile with them") {
    const TempFolder folder;
    sim::SimOptions o;
    o.circle_size = 320;
    o.seed = 9;
    o.faults.lens = true;
    StillTake take = hall_still(folder, o);
    Shot& shot = take.project.shots[0];
    MediaLibrary library;
    const auto off_px = [&](const Rig& rig) {
        double most = 0;
        for (std::size_t c = 0; c < 2; ++c)
            most = std::max(
                most, (rig.cameras[c].lens.center_px - take.truth.actual.cameras[c].lens.center_px).norm());
        return most;
    };
    shot.rig = take.truth.nominal;
    REQUIRE(off_px(shot.rig) > 0.5);
    const Shot first = with_centres_seen(take.project, shot, library, Cancel());
    CHECK(off_px(first.rig) < 0.3);
    REQUIRE(first.calibration.profile);
    CHECK(off_px(*first.calibration.profile) < 0.3);
    CHECK(first.calibration.solving.centre_sigma_percent < shot.calibration.solving.centre_sigma_percent);
    for (std::size_t c = 0; c < 2; ++c)
        CHECK(first.rig.cameras[c].lens.focal_px == shot.rig.cameras[c].lens.focal_px);

    // Solved again: the rig is right already, its profile is still the nominal one.
    shot.rig = take.truth.actual;
    shot.calibration.profile = take.truth.nominal;
    const Shot again = with_centres_seen(take.project, shot, library, Cancel());
    CHECK(off_px(again.rig) < 0.3);
    CHECK(off_px(*again.calibration.profile) < 0.3);

    shot.rig = take.truth.nominal;
    shot.cameras[0].lens_locked = true;
    const Shot locked = with_centres_seen(take.project, shot, library, Cancel());
    CHECK(locked.rig.cameras[0] == shot.rig.cameras[0]);
    CHECK_FALSE(locked.rig.cameras[1] == shot.rig.cameras[1]);
    shot.calibration.solving.centre = Freedom::locked;
    CHECK(with_centres_seen(take.project, shot, library, Cancel()) == shot);
}

TEST_CASE("circles that are not seen, or not where they should be, change nothing") {
    const TempFolder folder;
    sim::SimOptions o;
    o.circle_size = 240;
    StillTake take = hall_still(folder, o);
    Shot& shot = take.project.shots[0];
    MediaLibrary library;
    for (auto& c : shot.rig.cameras) { // a quarter of the radius away
        c.lens.center_px += Vec2(0, 30);
        c.lens.circle.center_px += Vec2(0, 30);
        c.lens.circle.radius_px -= 30;
    }
    const Shot after = with_centres_seen(take.project, shot, library, Cancel());
    CHECK(after.rig == shot.rig);
    CHECK(after.calibration.solving == shot.calibration.solving);
}
