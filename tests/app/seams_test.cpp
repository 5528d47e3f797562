#include "app/picture/timeline.h"
#include "app/stations/seams/seams_panel.h"
#include "app/stations/seams/shapes_part.h"
#include "app/stations/seams/shelters_part.h"
#include "app/widgets/number_field.h"
#include "base/angle.h"
#include "bench.h"
#include "media/still.h"
#include "stitch/plan/coverage.h"
#include "stitch/plan/shapes.h"

#include <QComboBox>
#include <QFileDialog>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTableWidget>
#include <QTimer>
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
    auto& part = b.station<SeamsPanel>().shapes();
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
    auto& part = b.station<SeamsPanel>().shelters();
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
    REQUIRE(b.shot().seams.shelters.size() == 1);
    const ShelterKey drawn = b.shot().seams.shelters[0].keys[0];
    CHECK(drawn.yaw_deg == Approx(88).margin(0.6));
    CHECK(drawn.width_deg == Approx(14).margin(2));
    CHECK(drawn.height_deg == Approx(24).margin(2));
    CHECK(b.part<QLabel>("shelter_sees")->text().contains("whole"));
    CHECK(b.part<QComboBox>("shelter_camera")->itemText(0).endsWith("A"));
    CHECK(supply(93, 0) > 0.9f);

    auto* camera = b.part<QComboBox>("shelter_camera");
    camera->setCurrentIndex(2);
    emit camera->activated(2);
    CHECK(b.shot().seams.shelters[0].camera == "B");
    CHECK(supply(86, 1) > 0.9f);
    // Wider than any lens sees from there: said, with how much it is.
    drag(&b.window.picture(), on_map(b, 95, 0), on_map(b, 175, 0));
    CHECK(b.part<QLabel>("shelter_sees")->text().contains("%"));
    b.session().undo();
    b.part<QPushButton>("shelter_from")->click();
    CHECK(b.shot().seams.shelters[0].from == Seconds(0));
    b.part<QPushButton>("shelter_from")->click(); // once more: with the shot
    CHECK_FALSE(b.shot().seams.shelters[0].from);
    drag(&b.window.picture(), on_map(b, 88, 0), on_map(b, 60, 5));
    CHECK(b.shot().seams.shelters[0].keys[0].yaw_deg == Approx(60).margin(1));
    b.window.picture().setFocus();
    QTest::keyClick(&b.window.picture(), Qt::Key_Delete);
    CHECK(b.shot().seams.shelters.empty());
}

TEST_CASE("a shelter is sized by its handles and nudged by keys, in any view of a shot that is turned") {
    Bench b(false);
    b.open_hall(240, [](Shot& s) {
        s.levelling.orientation = {85, 20, 10}; // the right seam comes to lie about longitude 180
    });
    const Mat3 turn = rotation_of(b.shot().levelling.orientation);
    const auto place = [&](const Vec3& rig_direction) {
        const auto at = b.window.picture().point_of(turn * rig_direction);
        REQUIRE(at);
        return at->toPoint();
    };
    const auto towards = [](double yaw_deg, double pitch_deg) -> Vec3 {
        return rotation_of({yaw_deg, pitch_deg, 0}) * Vec3(0, 0, 1);
    };
    const auto first = [&] { return b.shot().seams.shelters[0].keys[0]; };
    // What lies `right` and `up` of the shelter's middle, degrees.
    const auto beside = [&](double right_deg, double up_deg) -> Vec3 {
        const ShelterKey k = first();
        const double x = radians(right_deg), y = radians(-up_deg), theta = std::hypot(x, y);
        return rotation_of({k.yaw_deg, k.pitch_deg, 0}) *
               Vec3(std::sin(theta) * x / theta, std::sin(theta) * y / theta, std::cos(theta));
    };
    b.trigger("Draw a shelter");
    b.settle();
    QTest::keyClick(&b.window.picture(), Qt::Key_Escape);
    QTest::mouseClick(&b.window.picture(), Qt::LeftButton, {}, place(towards(92, 0)));
    CHECK(b.shot().seams.shelters.empty()); // given up
    b.trigger("Draw a shelter");
    QTest::mouseClick(&b.window.picture(), Qt::LeftButton, {}, place(towards(92, 0)));
    REQUIRE(b.shot().seams.shelters.size() == 1); // a click alone makes one of a person's shape
    CHECK(first().yaw_deg == Approx(92).margin(0.6));
    CHECK(first().height_deg > 1.5 * first().width_deg);

    const ShelterKey drawn = first();
    drag(&b.window.picture(), place(beside(drawn.width_deg / 2, 0)), place(beside(12, 0)));
    CHECK(first().width_deg == Approx(24).margin(1.5));
    CHECK(first().height_deg == drawn.height_deg);
    CHECK(first().yaw_deg == drawn.yaw_deg);
    b.session().undo(); // a drag is one step
    CHECK(first() == drawn);

    b.window.picture().set_mode(ViewMode::window);
    const Vec3 there = turn * towards(92, 0);
    b.window.picture().set_look(
        {degrees(std::atan2(there.x(), there.z())), degrees(-std::asin(there.y())), 0}, 70);
    b.settle();
    drag(&b.window.picture(), place(beside(0, drawn.height_deg / 2)), place(beside(0, 9)));
    CHECK(first().height_deg == Approx(18).margin(1));
    CHECK(first().width_deg == drawn.width_deg);
    drag(&b.window.picture(), place(beside(1, 1)), place(beside(6, -3)));
    CHECK(first().yaw_deg == Approx(drawn.yaw_deg + 5).margin(0.7));
    CHECK(first().pitch_deg == Approx(drawn.pitch_deg - 4).margin(0.7));

    const ShelterKey moved = first();
    QTest::keyClick(&b.window.picture(), Qt::Key_Right);
    QTest::keyClick(&b.window.picture(), Qt::Key_Up, Qt::ShiftModifier);
    CHECK(first().yaw_deg == Approx(moved.yaw_deg + 1));
    CHECK(first().pitch_deg == Approx(moved.pitch_deg + 0.1));
    b.station<SeamsPanel>().shelters().tool().toggle_key(); // the only key stays
    CHECK(b.shot().seams.shelters[0].keys.size() == 1);
    QTest::keyClick(&b.window.picture(), Qt::Key_Escape);
    CHECK(b.station<SeamsPanel>().shelters().tool().selected() == -1);
    QTest::keyClick(&b.window.picture(), Qt::Key_Delete);
    CHECK(b.shot().seams.shelters.size() == 1); // none is selected
}

TEST_CASE("a cut-out drawn on the map lies where it was drawn, across longitude 180 too") {
    Bench b(false);
    b.open_hall(240, [](Shot& s) { s.levelling.orientation = {95, 0, 0}; });
    const auto world = [&](double yaw_deg, double pitch_deg) { return on_map(b, yaw_deg, pitch_deg); };
    b.trigger("Map view");
    b.session().select_camera("A");
    b.trigger("Draw a cut-out");
    b.settle();
    REQUIRE(b.station<SeamsPanel>().shapes().tool().is_drawing());
    const std::vector<std::pair<double, double>> corners = {{174, 6}, {-176, 6}, {-176, -6}, {174, -6}};
    for (const auto& [yaw, pitch] : corners)
        QTest::mouseClick(&b.window.picture(), Qt::LeftButton, {}, world(yaw, pitch));
    QTest::keyClick(&b.window.picture(), Qt::Key_Return);
    const auto& shapes = b.shot().cameras[0].shapes;
    REQUIRE(shapes.size() == 1);
    REQUIRE(shapes[0].keys[0].corners.size() == 4);
    const Camera& camera = b.shot().rig.cameras[0];
    const Mat3 to_rig = rotation_of(b.shot().levelling.orientation).transpose();
    for (std::size_t k = 0; k < 4; ++k) {
        const Vec3 d = to_rig * rotation_of({corners[k].first, corners[k].second, 0}) * Vec3(0, 0, 1);
        const auto at = shape_place(camera, d, b.shot().seams.agree_distance_m);
        REQUIRE(at);
        CHECK((shapes[0].keys[0].corners[k].at - *at).norm() < 0.02);
    }
    View view;
    view.target = equirect_target(720);
    const Coverage coverage(plan_key(b.shot(), view));
    const auto inside = [&](double yaw) {
        return coverage.margin_deg(rotation_of({yaw, 0, 0}) * Vec3(0, 0, 1))[0];
    };
    CHECK(inside(179.9) < 0); // gone on both sides of it
    CHECK(inside(-179.9) < 0);
    CHECK(inside(170) > 0);
}

TEST_CASE("blending is chosen, who supplies what is shown, and tools leave with their station") {
    Bench b(false);
    b.open_hall(240);
    b.window.set_station("seams");
    auto* blending = b.part<QComboBox>("blending");
    blending->setCurrentIndex(2);
    emit blending->activated(2);
    CHECK(b.shot().seams.blend.kind == Blending::multiband);
    CHECK(b.part<QWidget>("widest_band")->isEnabled());
    b.settle();
    const QImage plain = b.window.picture().grab().toImage();
    b.trigger("Show who supplies what");
    b.settle();
    CHECK(b.window.picture().grab().toImage() != plain);
    b.trigger("Show who supplies what");
    b.station<SeamsPanel>().show_part(SeamsPanel::Part::shelters);
    b.station<SeamsPanel>().shelters().tool().begin();
    b.window.set_station("match");
    const std::size_t before = b.shot().seams.shelters.size();
    drag(&b.window.picture(), on_map(b, 10, 0), on_map(b, 20, 10));
    CHECK(b.shot().seams.shelters.size() == before);
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
    for (const char* station : {"match", "points", "match", "seams", "master"}) {
        INFO(station);
        b.window.set_station(station);
        CHECK(rows_fit());
    }
}

TEST_CASE(
    "distances of the playhead are saved from the menu, where there are any and under a name for them") {
    Bench b(false);
    b.open_hall(160, [](Shot& s) { s.seams.flow.on = false, s.seams.agree_distance_m = 4; });
    const auto save_as = [&](const char* name, const char* action = "Save the distances of the playhead…") {
        bool asked = false;
        QTimer::singleShot(200, [&] {
            auto* dialog = qobject_cast<QFileDialog*>(QApplication::activeModalWidget());
            if (!dialog) return;
            asked = true;
            dialog->findChild<QLineEdit*>("fileNameEdit")
                ->setText(QString::fromStdString((b.folder / name).string()));
            QMetaObject::invokeMethod(dialog, "accept");
        });
        b.trigger(action);
        QTest::qWait(250);
        return asked;
    };
    const auto message = [&] { return b.part<QLabel>("message")->toolTip(); };
    CHECK_FALSE(save_as("a.exr"));
    CHECK(message().contains("switch on Parallax in Seams"));
    b.session().edit("Parallax", [](Project& p) { p.shots[0].seams.flow.on = true; });
    CHECK(save_as("a.tif"));
    CHECK(message().contains(".exr or .png"));
    CHECK_FALSE(std::filesystem::exists(b.folder / "a.tif"));
    for (const char* name : {"a.exr", "a.png"}) {
        CHECK(save_as(name));
        REQUIRE(QTest::qWaitFor([&] { return message().contains(QString("Saved ") + name); }, 60000));
    }
    const Picture inverse = read_still(b.folder / "a.png");
    REQUIRE(inverse.width() == 3840);
    // Between the lenses' seams the agree distance stands: a quarter of a quarter.
    CHECK(double(pixel_at(inverse, 1920, 960).g) == Approx(0.25 / 4).margin(1e-3));

    b.session().edit("Fine edges", [](Project& p) { p.shots[0].seams.flow.fine_edges = true; });
    CHECK(save_as("b.exr", "Save a still…"));
    auto* stop = b.part<QPushButton>("still_stop");
    REQUIRE(stop->isVisible());
    stop->click();
    REQUIRE(QTest::qWaitFor([&] { return message().contains("the file stays as it was"); }, 60000));
    CHECK_FALSE(std::filesystem::exists(b.folder / "b.exr"));
    CHECK_FALSE(stop->isVisible());
}
