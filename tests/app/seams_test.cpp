#include "app/number_field.h"
#include "app/seams_panel.h"
#include "app/shapes_part.h"
#include "app/shelters_part.h"
#include "app/timeline.h"
#include "bench.h"
#include "media/still.h"

#include <QComboBox>
#include <QLabel>
#include <QPushButton>
#include <QTableWidget>
#include <QToolButton>

using namespace porb;
using namespace porb::app;
using namespace porb::test;

namespace {

/// Clicks on a place of the selected camera's circle, in lens view.
void click_lens(Bench& b, double x, double y) {
    PictureArea& picture = b.window.picture();
    const Lens& lens = b.shot().rig.cameras[0].lens;
    const QPointF at = picture.lens_point(lens.circle.center_px + lens.circle.radius_px * Vec2(x, y));
    QTest::mouseClick(&picture, Qt::LeftButton, {}, at.toPoint());
}

QPoint on_map(Bench& b, double yaw_deg, double pitch_deg) {
    const auto at = b.window.picture().point_of(rotation_of({yaw_deg, pitch_deg, 0}) * Vec3(0, 0, 1));
    REQUIRE(at);
    return at->toPoint();
}

} // namespace

TEST_CASE("a cut-out is drawn by clicks, reshaped, keyed, copied and removed") {
    Bench b(false);
    b.open_hall(240);
    b.window.picture().set_mode(ViewMode::lens);
    b.settle();
    b.trigger("Draw a cut-out"); // from any station
    b.settle();                  // the lane of crossings takes its room
    auto& part = b.window.seams().shapes();
    REQUIRE(part.tool().is_drawing());
    CHECK(part.tool().words().contains("camera A"));
    for (const auto& [x, y] : std::vector<std::pair<double, double>>{{-0.1, 0.5}, {0.1, 0.5}})
        click_lens(b, x, y);
    QTest::keyClick(&b.window.picture(), Qt::Key_Return); // two corners are none
    CHECK(part.tool().is_drawing());
    click_lens(b, 0.1, 0.7);
    click_lens(b, -0.1, 0.7);
    click_lens(b, -0.1, 0.5); // the first corner closes it
    CHECK_FALSE(part.tool().is_drawing());
    REQUIRE(b.shot().cameras[0].shapes.size() == 1);
    const Shape drawn = b.shot().cameras[0].shapes[0];
    CHECK_FALSE(drawn.restores);
    REQUIRE(drawn.keys[0].corners.size() == 4);
    CHECK((drawn.keys[0].corners[2].at - Vec2(0.1, 0.7)).norm() < 0.01);
    CHECK(part.tool().selected() == 0);
    CHECK(b.part<QTableWidget>("shapes_table")->rowCount() == 1);
    // It takes what the neighbour does not see: the panel says so, and offers a look.
    CHECK(b.part<QLabel>("shapes_hole")->text().contains("square degrees"));

    // A corner dragged is one step of undo.
    const Lens& lens = b.shot().rig.cameras[0].lens;
    const auto place = [&](double x, double y) {
        return b.window.picture()
            .lens_point(lens.circle.center_px + lens.circle.radius_px * Vec2(x, y))
            .toPoint();
    };
    drag(&b.window.picture(), place(0.1, 0.7), place(0.2, 0.8));
    CHECK((b.shot().cameras[0].shapes[0].keys[0].corners[2].at - Vec2(0.2, 0.8)).norm() < 0.02);
    b.session().undo();
    CHECK(b.shot().cameras[0].shapes[0] == drawn);
    // Inside, the whole shape moves; a double click on a side adds a corner.
    drag(&b.window.picture(), place(0, 0.6), place(0.1, 0.6));
    CHECK((b.shot().cameras[0].shapes[0].keys[0].corners[0].at - Vec2(0, 0.5)).norm() < 0.02);
    QTest::mouseDClick(&b.window.picture(), Qt::LeftButton, {}, place(0.1, 0.5));
    CHECK(b.shot().cameras[0].shapes[0].keys[0].corners.size() == 5);

    auto* feather = b.part<QWidget>("shape_feather");
    feather->setFocus();
    QTest::keyClick(feather, Qt::Key_A, Qt::ControlModifier);
    QTest::keyClicks(feather, "5");
    QTest::keyClick(feather, Qt::Key_Return);
    CHECK(b.shot().cameras[0].shapes[0].feather_deg == 5);
    b.part<QPushButton>("shape_copy")->click();
    CHECK(b.shot().cameras[1].shapes.size() == 1);
    b.window.picture().setFocus();
    QTest::keyClick(&b.window.picture(), Qt::Key_Delete);
    CHECK(b.shot().cameras[0].shapes.empty());
    CHECK(b.shot().cameras[1].shapes.size() == 1);

    b.trigger("Draw a restore");
    QTest::keyClick(&b.window.picture(), Qt::Key_Escape);
    CHECK_FALSE(part.tool().is_drawing());
    CHECK(b.shot().cameras[0].shapes.empty());
}

TEST_CASE("a shelter is drawn on the map, given a span and a camera, and says what cannot be") {
    Bench b(false);
    b.open_hall(240);
    b.trigger("Draw a shelter");
    auto& part = b.window.seams().shelters();
    REQUIRE(part.tool().is_drawing());
    CHECK(b.window.picture().mode() == ViewMode::map);
    b.settle();
    const auto supply = [&](double yaw_deg, std::size_t camera) {
        View view;
        view.target = equirect_target(1024);
        return Coverage(plan_key(b.shot(), view))
            .supply(rotation_of({yaw_deg, 0, 0}) * Vec3(0, 0, 1))[camera];
    };
    drag(&b.window.picture(), on_map(b, 88, 0), on_map(b, 95, -12));
    REQUIRE(b.shot().shelters.size() == 1);
    const ShelterKey drawn = b.shot().shelters[0].keys[0];
    CHECK(drawn.yaw_deg == Approx(88).margin(0.6));
    CHECK(drawn.width_deg == Approx(14).margin(2));
    CHECK(drawn.height_deg == Approx(24).margin(2));
    CHECK(b.part<QLabel>("shelter_sees")->text().contains("whole"));
    CHECK(b.part<QComboBox>("shelter_camera")->itemText(0).endsWith("A"));
    CHECK(supply(93, 0) > 0.9f);

    auto* camera = b.part<QComboBox>("shelter_camera");
    camera->setCurrentIndex(2);
    emit camera->activated(2);
    CHECK(b.shot().shelters[0].camera == "B");
    CHECK(supply(86, 1) > 0.9f);
    // Wider than any lens sees from there: said, with how much it is.
    drag(&b.window.picture(), on_map(b, 95, 0), on_map(b, 175, 0));
    CHECK(b.part<QLabel>("shelter_sees")->text().contains("%"));
    b.session().undo();
    b.part<QPushButton>("shelter_from")->click();
    CHECK(b.shot().shelters[0].from == Seconds(0));
    b.part<QPushButton>("shelter_from")->click(); // once more: with the shot
    CHECK_FALSE(b.shot().shelters[0].from);
    drag(&b.window.picture(), on_map(b, 88, 0), on_map(b, 60, 5));
    CHECK(b.shot().shelters[0].keys[0].yaw_deg == Approx(60).margin(1));
    b.window.picture().setFocus();
    QTest::keyClick(&b.window.picture(), Qt::Key_Delete);
    CHECK(b.shot().shelters.empty());
}

TEST_CASE("blending is chosen, who supplies what is shown, and tools leave with their station") {
    Bench b(false);
    b.open_hall(240);
    b.window.set_station(Station::seams);
    auto* blending = b.part<QComboBox>("blending");
    blending->setCurrentIndex(2);
    emit blending->activated(2);
    CHECK(b.shot().blend.kind == Blending::multiband);
    CHECK(b.part<QWidget>("widest_band")->isEnabled());
    b.settle();
    const QImage plain = b.window.picture().grab().toImage();
    b.trigger("Show who supplies what");
    b.settle();
    CHECK(b.window.picture().grab().toImage() != plain);
    b.trigger("Show who supplies what");
    b.window.seams().show_part(SeamsPanel::Part::shelters);
    b.window.seams().shelters().tool().begin();
    b.window.set_station(Station::match);
    const std::size_t before = b.shot().shelters.size();
    drag(&b.window.picture(), on_map(b, 10, 0), on_map(b, 20, 10));
    CHECK(b.shot().shelters.size() == before);
}

TEST_CASE("lanes below the sources have room of their own") {
    Bench b;
    auto* timeline = b.part<Timeline>("timeline");
    const auto rows_fit = [&] {
        QTest::qWait(20);
        const QRect ruler = timeline->ruler().geometry();
        for (const QWidget* lane : timeline->findChildren<QWidget*>())
            if (lane->isVisible() && lane->parentWidget() == timeline && lane != &timeline->ruler() &&
                lane->geometry().left() >= ruler.left() && lane->geometry().intersects(ruler))
                return false;
        return timeline->rect().contains(ruler) && ruler.height() >= timeline->ruler().minimumHeight();
    };
    for (const Station station :
         {Station::match, Station::points, Station::match, Station::seams, Station::master}) {
        INFO(int(station));
        b.window.set_station(station);
        CHECK(rows_fit());
    }
}
