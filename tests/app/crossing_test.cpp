#include "app/stations/match/grade_part.h"
#include "app/stations/match/match_panel.h"
#include "app/stations/match/noise_view.h"
#include "app/stations/seams/crossing_lane.h"
#include "app/stations/seams/crossings_part.h"
#include "app/stations/seams/parallax_part.h"
#include "app/stations/seams/seams_panel.h"
#include "app/stations/seams/shelters_part.h"
#include "app/widgets/number_field.h"
#include "base/angle.h"
#include "bench.h"
#include "media/still.h"

#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QPushButton>
#include <QTableWidget>
#include <QToolButton>

using namespace porb;
using namespace porb::app;
using namespace porb::test;

namespace {

/// A second and a bit of the hall through a wide ring of four, in which planets pass its seams; or through
/// two fisheyes.
void open_moving(Bench& b, bool ring = false) {
    sim::SimOptions o;
    if (ring) o.rig = sim::SimRig::ring_of_four;
    o.circle_size = ring ? 240 : 200;
    o.seconds = ring ? 1.6 : 1.2;
    o.rate = FrameRate(10);
    o.truth_width = 0;
    (void)sim::simulate(o, b.folder / "take", [](double) {}, {});
    std::filesystem::path file;
    for (const auto& e : std::filesystem::directory_iterator(b.folder / "take"))
        if (e.path().extension() == ".porb") file = e.path();
    REQUIRE(b.window.open_project(file));
    b.settle();
}

void wait_for(BackgroundJob& job) {
    REQUIRE(QTest::qWaitFor([&] { return !job.is_running(); }, 240000));
    QTest::qWait(30);
}

} // namespace

TEST_CASE(
    "crossings are looked for, listed, shown in the lane, left and taken up, and one undo takes each away") {
    Bench b(false);
    open_moving(b, true);
    b.window.set_station("seams");
    auto* lane = b.part<CrossingLane>("crossing_lane");
    CHECK(lane->isVisible());
    b.trigger("Look for crossings");
    auto& part = b.station<SeamsPanel>().crossings();
    CHECK(part.job().is_running());
    wait_for(part.job());
    REQUIRE(b.shot().seams.crossings);
    const auto count = (*b.shot().seams.crossings)->crossings.size();
    auto* table = b.part<QTableWidget>("crossings_table");
    REQUIRE(count >= 1);
    CHECK(table->rowCount() == int(count));
    CHECK(table->item(0, 1)->text().contains("–"));
    CHECK(table->item(0, 3)->text().endsWith("px"));

    // A row goes there; the picture and the lane show it.
    table->selectRow(0);
    CHECK(part.tool().selected() == 0);
    const Crossing& first = (*b.shot().seams.crossings)->crossings[0];
    CHECK(b.session().playhead() >= first.path.front().time);
    CHECK(b.session().playhead() <= first.path.back().time);
    b.window.picture().set_mode(ViewMode::window);
    b.settle();
    const Vec3 at = rotation_of({b.window.picture().look().yaw_deg, b.window.picture().look().pitch_deg, 0}) *
                    Vec3(0, 0, 1);
    Shelter along;
    along.keys = first.path;
    const ShelterKey o = oval_at(along, b.session().playhead());
    CHECK((at - rotation_of({o.yaw_deg, o.pitch_deg, 0}) * Vec3(0, 0, 1)).norm() < 0.05);
    b.window.picture().set_mode(ViewMode::map);

    b.part<QPushButton>("crossing_leave")->click();
    CHECK((*b.shot().seams.crossings)->crossings[0].dismissed);
    CHECK(table->item(0, 4)->text() == "left");
    b.session().undo();
    CHECK_FALSE((*b.shot().seams.crossings)->crossings[0].dismissed);

    // What the work changed meanwhile is not overwritten.
    part.measure();
    b.session().edit_shot("Another", [](Shot& s) { s.name = "changed"; });
    wait_for(part.job());
    CHECK(b.shot().name == "changed");
    b.session().undo();
    b.session().undo(); // the scan itself
    CHECK_FALSE(b.shot().seams.crossings);
    CHECK(b.part<QLabel>("crossings_figure")->text() == "not looked for");
}

TEST_CASE(
    "lines are found and forgotten, a seam has settings of its own, strength has keys, trust is shown") {
    Bench b(false);
    open_moving(b, true);
    b.trigger("Find lines where neighbours differ least");
    auto& part = b.station<SeamsPanel>().parallax();
    wait_for(part.job());
    REQUIRE(!b.shot().seams.seam_lines->keys.empty());
    CHECK(b.part<QCheckBox>("lines_on")->isChecked());
    CHECK(b.part<QLabel>("lines_told")->text().contains("differ least"));
    b.part<QCheckBox>("lines_on")->click();
    CHECK_FALSE(b.shot().seams.seam_lines->on);
    b.part<QPushButton>("lines_forget")->click();
    CHECK(b.shot().seams.seam_lines->keys.empty());

    auto* pairs = b.part<QTableWidget>("seam_pairs");
    REQUIRE(pairs->rowCount() >= 4);
    auto* strength = b.part<NumberField>("flow_strength");
    strength->setValue(0.6); // of all seams
    CHECK(b.shot().seams.flow.strength == 0.6);
    b.part<QPushButton>("flow_key")->click();
    b.session().set_playhead(Seconds(1));
    strength->setValue(0.2);
    REQUIRE(b.shot().seams.flow.keys.size() == 2);
    CHECK(values_at(b.shot().seams.flow, Rational(1, 2)).strength == Approx(0.4));
    b.part<NumberField>("flow_zone")->setValue(12); // a key has all three
    CHECK(b.shot().seams.flow.keys.size() == 2);
    CHECK(values_at(b.shot().seams.flow, Rational(1, 2)).zone_deg == Approx(22));
    CHECK(b.shot().seams.flow.zone_deg == 32);
    b.session().set_playhead(Rational(1, 2));
    b.settle();
    CHECK(b.part<NumberField>("flow_zone")->value() == Approx(22));
    b.part<QPushButton>("flow_key")->click();
    CHECK(b.shot().seams.flow.keys.size() == 3);
    CHECK(b.part<QLabel>("flow_for")->text() == "ALL SEAMS, 3 KEYS, ONE HERE");
    b.part<QPushButton>("flow_key")->click(); // away again
    CHECK(b.shot().seams.flow.keys.size() == 2);
    b.session().set_playhead(Seconds(1));
    pairs->selectRow(0);
    strength->setValue(0.5);
    REQUIRE(b.shot().seams.flow.seams.size() == 1);
    REQUIRE(b.shot().seams.flow.seams[0].keys.size() == 2); // it began as the others
    CHECK(values_at(b.shot().seams.flow.seams[0], Seconds(1)).strength == 0.5);
    CHECK(values_at(b.shot().seams.flow, Seconds(1)).strength == 0.2);
    CHECK(pairs->item(0, 1)->text() == "0.50");
    b.part<NumberField>("seam_agree")->setValue(2.5);
    CHECK(*b.shot().seams.flow.seams[0].agree_distance_m == 2.5);
    b.part<QPushButton>("seam_distance")->click();
    wait_for(part.job());
    CHECK(*b.shot().seams.flow.seams[0].agree_distance_m != 2.5);
    b.part<QPushButton>("seam_as_shot")->click();
    CHECK(b.shot().seams.flow.seams.empty());

    b.trigger("Show where parallax is trusted");
    CHECK(b.part<QCheckBox>("show_trust")->isChecked());
    b.settle();
    b.part<QCheckBox>("show_trust")->click();
    CHECK_FALSE(b.window.picture().shows_trust());
}

TEST_CASE("a second is looped from pictures made before, and any change ends it") {
    Bench b(false);
    open_moving(b);
    b.session().set_playhead(Rational(6, 10));
    b.settle();
    b.trigger("Loop the second round the playhead");
    PictureArea& picture = b.window.picture();
    CHECK(picture.loop().is_on());
    REQUIRE(QTest::qWaitFor([&] { return picture.loop().pictures() > 0; }, 120000));
    CHECK(picture.loop().pictures() == 11); // half a second either side
    const QImage one = picture.grab().toImage();
    bool moved = false;
    for (int i = 0; i < 40 && !moved; ++i) {
        QTest::qWait(50);
        moved = picture.grab().toImage() != one;
    }
    CHECK(moved);
    CHECK(b.session().playhead() == Rational(6, 10));
    QTest::keyClick(&picture, Qt::Key_Escape);
    CHECK_FALSE(picture.loop().is_on());
    b.settle();
    b.trigger("Loop the second round the playhead");
    b.session().edit_shot("Turn", [](Shot& s) { s.levelling.orientation.yaw_deg += 5; });
    CHECK_FALSE(picture.loop().is_on());
}

TEST_CASE(
    "the grade is set in numbers, passed by and shown again, and goes to all shots; sources take a curve") {
    Bench b(false);
    open_moving(b);
    b.trigger("Grade the shot");
    const QPoint middle = b.window.picture().rect().center();
    b.settle();
    const int before = b.grey(middle);
    b.part<NumberField>("grade_exposure")->setValue(1.5);
    CHECK(b.shot().look.grade.exposure_ev == 1.5);
    b.settle();
    CHECK(b.grey(middle) > before + 20);
    b.trigger("Bypass the grade");
    CHECK_FALSE(b.shot().look.grade.on);
    b.settle();
    CHECK(std::abs(b.grey(middle) - before) <= 2);
    b.part<NumberField>("grade_gain_blue")->setValue(0.8);
    CHECK(b.shot().look.grade.gain[2] == 0.8);
    b.session().edit("Another shot", [](Project& p) {
        Shot copy = p.shots[0];
        copy.id = "shot-2";
        copy.look.grade = {};
        p.shots.push_back(copy);
    });
    b.part<QPushButton>("grade_copy")->click();
    CHECK(b.session().project()->shots[1].look.grade == b.shot().look.grade);
    b.part<QPushButton>("grade_reset")->click();
    CHECK(is_neutral(b.shot().look.grade));

    b.part<QToolButton>("match_sources")->click();
    auto* curve = b.part<QComboBox>("curve");
    curve->setCurrentIndex(curve->findData("acescct"));
    emit curve->activated(curve->currentIndex());
    CHECK(find_media(*b.session().project(), b.shot().cameras[0].media)->ref.curve == "acescct");
    CHECK(b.part<QTableWidget>("curves_table")->item(0, 1)->text() == "ACEScct");
    b.settle();
    b.part<QCheckBox>("denoise_on")->click();
    CHECK(b.shot().look.denoise.on);
    b.part<NumberField>("denoise_time")->setValue(80);
    CHECK(b.shot().look.denoise.over_time == Approx(0.8));
    b.settle();

    // The region at full size: the selected camera's pixels, moved and enlarged by hand.
    auto* view = b.part<NoiseView>("noise_view");
    const auto settled = [&] {
        REQUIRE(QTest::qWaitFor([&] { return view->is_settled() && view->shown(); }, 20000));
    };
    settled();
    const Region first = view->shown()->part;
    CHECK(first.width > 100);
    QTest::keyClick(view, Qt::Key_Plus);
    settled();
    CHECK(view->shown()->part.width == (first.width + 1) / 2);
    const int x = view->shown()->part.x;
    QTest::keyClick(view, Qt::Key_Right);
    settled();
    CHECK(view->shown()->part.x == x + 12); // 24 of the screen's
    const Region part = view->shown()->part;
    QTest::mousePress(view, Qt::LeftButton, {}, {60, 60});
    QTest::mouseMove(view, {40, 70});
    QTest::mouseRelease(view, Qt::LeftButton, {}, {40, 70});
    settled();
    CHECK(view->shown()->part.x == part.x + 10);
    CHECK(view->shown()->part.y == part.y - 5);
    b.part<QCheckBox>("denoise_on")->click();
    CHECK_FALSE(view->isVisible());
    b.settle();
}

TEST_CASE("a shelter grows from a click on a subject") {
    Bench b(false);
    open_moving(b);
    b.window.set_station("seams");
    b.session().set_playhead(Rational(1, 2));
    b.settle();
    b.trigger("Grow a shelter from a click");
    auto& part = b.station<SeamsPanel>().shelters();
    CHECK(part.tool().words().contains("Click on the middle"));
    // The keeper, who walks past at x = 2.3 m.
    const Vec3 keeper = Vec3(2.3, 0.35, -1.9 + 0.9 * 0.5).normalized();
    const auto at = b.window.picture().point_of(keeper);
    REQUIRE(at);
    QTest::mouseClick(&b.window.picture(), Qt::LeftButton, {}, at->toPoint());
    wait_for(part.job());
    REQUIRE(b.shot().seams.shelters.size() == 1);
    const ShelterKey& oval = b.shot().seams.shelters[0].keys[0];
    CHECK((rotation_of({oval.yaw_deg, oval.pitch_deg, 0}) * Vec3(0, 0, 1) - keeper).norm() < 0.2);
    CHECK(oval.height_deg > 15);
    CHECK(oval.height_deg < 60);
    CHECK(part.tool().selected() == 0);
}
