#include "app/stations/level/level_panel.h"
#include "app/stations/points/points_desk.h"
#include "app/stations/points/points_panel.h"
#include "app/stations/points/residual_lane.h"
#include "base/angle.h"
#include "bench.h"
#include "project/orientation.h"
#include "solve/pictures/grey.h"
#include "solve/pictures/matching.h"
#include "solve/pictures/samples.h"

#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QSpinBox>
#include <QTableView>
#include <QTest>
#include <QToolButton>

using namespace porb;
using namespace porb::app;
using namespace porb::test;

namespace {
/// Points on a sphere about the demo's two lenses, where both see.
void add_points(Session& session, int count) {
    session.edit_shot("points", [count](Shot& s) {
        const Eyepiece a(s.rig, 0, nullptr), b(s.rig, 1, nullptr);
        ControlPoints list;
        for (int i = 0; int(list.size()) < count && i < 100000; ++i) {
            const double angle = 0.37 * i, z = 0.1 * std::sin(1.7 * i);
            const Vec3 d = Vec3(std::cos(angle), std::sin(angle), z).normalized();
            const auto pa = a.sees(d, 4), pb = b.sees(d, 4);
            if (!pa || !pb) continue;
            ControlPoint p;
            p.id = int(list.size()) + 1, p.a = s.rig.cameras[0].id, p.b = s.rig.cameras[1].id;
            p.a_px = *pa, p.b_px = *pb + Vec2(i % 10 == 0 ? 4 : 0.1, 0);
            p.correlation = 0.9;
            list.push_back(p);
        }
        s.calibration.points = std::move(list);
    });
}
} // namespace

TEST_CASE("thousands of points are listed, filtered, left out and used again") {
    Bench b(false);
    b.window.open_demo("dual");
    b.window.set_station("points");
    add_points(b.session(), 3000);
    QTest::qWait(30);
    auto& table = b.station<PointsDesk>().table();
    REQUIRE(table.model()->rowCount() == 3000);
    CHECK(table.model()->data(table.model()->index(0, 4)).toDouble() > 1); // the worst first
    auto* filter = b.window.findChild<QLineEdit*>("point_filter");
    QTest::keyClicks(filter, "out");
    CHECK(table.model()->rowCount() == 0);
    b.window.findChild<QPushButton*>("drop_above")->click();
    CHECK(table.model()->rowCount() > 0);
    const int out = table.model()->rowCount();
    table.selectRow(0);
    for (auto* button : b.station<PointsDesk>().findChildren<QPushButton*>())
        if (button->text() == "Use again") button->click();
    CHECK(table.model()->rowCount() == out - 1);
    b.session().undo();
    b.session().undo();
    filter->clear();
    CHECK(std::none_of(b.session().shot()->calibration.points->begin(),
                       b.session().shot()->calibration.points->end(),
                       [](const ControlPoint& p) { return !p.dropped.empty(); }));
}

TEST_CASE("a point is chosen in the table and nudged by a tenth of a pixel") {
    Bench b(false);
    b.window.open_demo("dual");
    b.window.set_station("points");
    add_points(b.session(), 20);
    QTest::qWait(30);
    auto& pair = b.station<PointsDesk>().pair();
    pair.show_point(5);
    CHECK(pair.point() == 5);
    const double before = (*b.session().shot()->calibration.points)[4].b_px.x();
    pair.setFocus();
    QTest::keyClick(&pair, Qt::Key_Right);
    QTest::keyClick(&pair, Qt::Key_Right);
    CHECK((*b.session().shot()->calibration.points)[4].b_px.x() == Approx(before + 0.2));
    CHECK((*b.session().shot()->calibration.points)[4].by_hand);
    // Dragging takes it along as one step of undo.
    const QPointF at = pair.widget_place(1, (*b.session().shot()->calibration.points)[4].b_px);
    QTest::mousePress(&pair, Qt::LeftButton, {}, at.toPoint());
    QTest::mouseMove(&pair, (at + QPointF(10, 0)).toPoint());
    QTest::mouseMove(&pair, (at + QPointF(25, 0)).toPoint());
    QTest::mouseRelease(&pair, Qt::LeftButton, {}, (at + QPointF(25, 0)).toPoint());
    QTest::keyClick(&pair, Qt::Key_Delete);
    CHECK(b.session().shot()->calibration.points->size() == 19);
}

TEST_CASE("regions are traced on a lens and on the map, and are kept with the shot") {
    Bench b(false);
    b.window.open_demo("dual");
    b.window.set_station("points");
    b.trigger("Map view");
    b.settle();
    auto& area = b.window.picture();
    const auto trace = [&](const QPointF& middle, double radius) {
        QPolygonF round;
        for (int i = 0; i <= 12; ++i)
            round << middle + radius * QPointF(std::cos(i * kPi / 6), std::sin(i * kPi / 6));
        QTest::mousePress(&area, Qt::LeftButton, {}, round.first().toPoint());
        for (const auto& at : round) QTest::mouseMove(&area, at.toPoint());
        QTest::mouseRelease(&area, Qt::LeftButton, {}, round.last().toPoint());
    };
    b.trigger("Trace a region to avoid");
    CHECK(b.part<QToolButton>("avoid_region")->isChecked());
    const Vec3 meant = rotation_of({100, 20, 0}) * Vec3(0, 0, 1);
    const auto at = area.point_of(meant);
    REQUIRE(at);
    trace(*at, 20);
    REQUIRE(b.shot().calibration.regions.size() == 1);
    CHECK(b.shot().calibration.regions[0].avoid);
    CHECK(b.shot().calibration.regions[0].camera.empty());
    CHECK_FALSE(regions_allow(b.shot().calibration.regions, "A", Vec2(0, 0), meant));
    CHECK(regions_allow(b.shot().calibration.regions, "A", Vec2(0, 0),
                        rotation_of({-100, 20, 0}) * Vec3(0, 0, 1)));

    b.trigger("Lens view");
    b.settle();
    b.trigger("Trace a region to look in");
    CHECK_FALSE(b.part<QToolButton>("avoid_region")->isChecked());
    CHECK(b.part<QToolButton>("only_region")->isChecked());
    REQUIRE(area.mode() == ViewMode::lens);
    const Lens& lens = b.shot().rig.cameras[0].lens; // one of two circles in a picture that fills the view
    const double scale = std::min(double(area.width()) / lens.width, double(area.height()) / lens.height);
    const QPointF corner((area.width() - scale * lens.width) / 2, (area.height() - scale * lens.height) / 2);
    trace(corner + scale * QPointF(lens.center_px.x(), lens.center_px.y()), 40);
    REQUIRE(b.shot().calibration.regions.size() == 2);
    const PointRegion& only = b.shot().calibration.regions[1];
    CHECK_FALSE(only.avoid);
    REQUIRE(find_camera(b.shot().rig, only.camera));
    const Vec2 centre = find_camera(b.shot().rig, only.camera)->lens.center_px;
    CHECK(regions_allow({only}, only.camera, centre, Vec3(0, 0, 1)));
    CHECK_FALSE(regions_allow({only}, only.camera, centre + Vec2(0, 0.9 * centre.y()), Vec3(0, 1, 0)));
    // A mere click is no outline, and says so.
    QTest::mouseClick(&area, Qt::LeftButton, {}, area.rect().center());
    CHECK(b.shot().calibration.regions.size() == 2);
    b.part<QPushButton>("clear_regions")->click();
    CHECK(b.shot().calibration.regions.empty());
    b.session().undo();
    CHECK(b.shot().calibration.regions.size() == 2);
}

TEST_CASE("a point that was set roughly is refined by comparing the pictures") {
    Bench b(false);
    b.open_ring();
    b.window.set_station("points");
    b.settle();
    MediaLibrary library;
    const auto moment = read_moment(*b.session().project(), b.shot(), Seconds(0), library);
    const auto eyes = eyepieces(b.shot().rig, moment);
    const auto overlaps = overlapping_pairs(b.shot().rig, std::vector<bool>(eyes.size(), true));
    REQUIRE_FALSE(overlaps.empty());
    const auto [first, second, share] = overlaps[0];
    MatchOptions options;
    options.wanted = 30;
    const auto good = match_pair(
        *eyes[first], *eyes[second], corners_of(*eyes[first]), options, [](const Corner&) { return true; },
        Cancel());
    REQUIRE_FALSE(good.empty());
    ControlPoint rough;
    rough.id = 1, rough.a = b.shot().rig.cameras[first].id, rough.b = b.shot().rig.cameras[second].id;
    rough.a_px = good[0].a_px, rough.b_px = good[0].b_px + Vec2(0.8, -0.6), rough.by_hand = true;
    b.session().edit_shot("a rough point", [&](Shot& s) { s.calibration.points = ControlPoints{rough}; });
    auto& pair = b.station<PointsDesk>().pair();
    pair.show_point(1);
    pair.setFocus();
    QTest::keyClick(&pair, Qt::Key_Return);
    REQUIRE(QTest::qWaitFor([&] { return (*b.shot().calibration.points)[0].b_px != rough.b_px; }, 10000));
    CHECK(((*b.shot().calibration.points)[0].b_px - good[0].b_px).norm() < 0.15);
    b.session().undo();
    CHECK((*b.shot().calibration.points)[0].b_px == rough.b_px);
}

TEST_CASE("a solve in the window finds points, is one step of undo, and can be returned to") {
    Bench b(false);
    b.window.open_demo("dual");
    b.window.set_station("points");
    b.settle();
    const Rig before = b.shot().rig;
    b.part<QSpinBox>("samples")->setValue(2);
    b.trigger("Find points and solve");
    CHECK_FALSE(b.part<QPushButton>("find_and_solve")->isEnabled()); // not twice at once
    REQUIRE(QTest::qWaitFor([&] { return b.shot().calibration.solves.size() == 1; }, 120000));
    CHECK(b.shot().calibration.points->size() > 60);
    CHECK(b.shot().rig != before);
    CHECK(b.part<QPushButton>("find_and_solve")->isEnabled());
    CHECK(b.shot().calibration.solves[0].rms_px < 0.5);
    CHECK(std::any_of(b.shot().calibration.lines.begin(), b.shot().calibration.lines.end(),
                      [](const LineMark& l) { return l.found; }));
    b.session().undo();
    CHECK(b.shot().rig == before);
    CHECK(b.shot().calibration.points->empty());
    b.session().redo();
    CHECK(b.shot().calibration.solves.size() == 1);
}

TEST_CASE("samples and freedoms are set in the panel and kept with the shot") {
    Bench b(false);
    b.window.open_demo("dual");
    b.window.set_station("points");
    auto* samples = b.window.findChild<QSpinBox*>("samples");
    samples->setValue(7);
    emit samples->editingFinished();
    CHECK(b.session().shot()->calibration.solving.samples == 7);
    b.session().set_playhead(Seconds(1));
    b.trigger("Add a sample here");
    REQUIRE(b.session().shot()->calibration.solving.by_hand.size() == 1);
    auto* focal = b.window.findChild<QComboBox*>("freedom_2");
    focal->setCurrentIndex(1);
    emit focal->activated(1);
    CHECK(b.session().shot()->calibration.solving.focal == Freedom::shared);
    // Nothing to solve from is said, and leaves everything as it was.
    const Rig before = b.session().shot()->rig;
    CHECK_FALSE(b.window.findChild<QPushButton*>("solve_again")->isEnabled());
    CHECK(b.session().shot()->rig == before);
}

TEST_CASE("lines are traced in the window view and set the shot upright") {
    Bench b(false);
    b.window.open_demo("dual");
    const Mat3 lean = rotation_of({0, 6, -5});
    b.session().edit_shot("lean", [&](Shot& s) { s.levelling.orientation = turn_of(lean); });
    b.window.set_station("level");
    b.trigger("Window view");
    b.settle();
    int drawn = 0;
    for (const double yaw : {20.0, 70.0, -60.0, 160.0}) {
        b.window.picture().set_look({yaw, 0, 0}, 70);
        b.settle();
        b.trigger("Trace an upright line");
        // Where an edge that is upright in the rig's own axes is drawn now.
        const Vec3 foot = rotation_of({yaw, 0, 0}) * Vec3(0, 0, 1);
        const auto p0 = b.window.picture().point_of(lean * (foot + Vec3(0, -0.25, 0)).normalized());
        const auto p1 = b.window.picture().point_of(lean * (foot + Vec3(0, 0.25, 0)).normalized());
        if (!p0 || !p1) continue;
        auto& area = b.window.picture();
        QTest::mousePress(&area, Qt::LeftButton, {}, p0->toPoint());
        for (int i = 1; i <= 6; ++i) QTest::mouseMove(&area, (*p0 + (*p1 - *p0) * (i / 6.0)).toPoint());
        QTest::mouseRelease(&area, Qt::LeftButton, {}, p1->toPoint());
        ++drawn;
    }
    REQUIRE(drawn >= 3);
    CHECK(b.session().shot()->calibration.lines.size() == std::size_t(drawn));
    b.trigger("Stand upright by drawn lines");
    const Vec3 up = rotation_of(b.session().shot()->levelling.orientation) * Vec3(0, -1, 0);
    CHECK(degrees(std::acos(std::clamp(-up.y(), -1.0, 1.0))) < 0.6); // drawn on whole widget pixels
}

TEST_CASE("edges that a solve used are not lines to level by, and survive clearing those") {
    Bench b(false);
    b.window.open_demo("dual");
    LineMark edge, drawn;
    edge.id = 1, edge.camera = "A", edge.kind = LineKind::straight, edge.found = true;
    edge.places_px = {Vec2(100, 100), Vec2(120, 140), Vec2(140, 180)};
    drawn = edge;
    drawn.id = 2, drawn.kind = LineKind::vertical, drawn.found = false;
    b.session().edit_shot("lines", [&](Shot& s) { s.calibration.lines = {edge}; });
    b.window.set_station("level");
    QTest::qWait(20);
    CHECK(b.part<QLabel>("lines_label")->text().contains("No lines yet"));
    CHECK_FALSE(b.part<QPushButton>("by_lines")->isEnabled());
    b.session().edit_shot("draw", [&](Shot& s) { s.calibration.lines.push_back(drawn); });
    QTest::qWait(20);
    CHECK(b.part<QLabel>("lines_label")->text().contains("1 upright, 0 level, 0 straight"));
    b.part<QPushButton>("clear_lines")->click();
    REQUIRE(b.shot().calibration.lines.size() == 1);
    CHECK(is_solve_edge(b.shot().calibration.lines[0]));
    b.session().undo();
    CHECK(b.shot().calibration.lines.size() == 2);
}

TEST_CASE("orientation keys are set and removed at the playhead, and the picture follows them") {
    Bench b(false);
    b.window.open_demo("dual");
    b.window.set_station("level");
    b.trigger("Set an orientation key here");
    b.session().set_playhead(Seconds(2));
    b.trigger("Set an orientation key here");
    REQUIRE(b.session().shot()->levelling.orientation_keys.size() == 2);
    auto* yaw = b.window.findChild<QDoubleSpinBox*>("level_yaw");
    yaw->setValue(40);
    CHECK(b.session().shot()->levelling.orientation_keys.size() == 2);
    const Turn middle = turn_of(orientation_at(*b.session().shot(), Seconds(1)));
    CHECK(middle.yaw_deg > 5);
    CHECK(middle.yaw_deg < 35);
    b.trigger("Remove the orientation key here");
    CHECK(b.session().shot()->levelling.orientation_keys.size() == 1);
}

TEST_CASE("keys are dragged in the curves: pitch, with Shift yaw, with Ctrl roll, one step of undo each") {
    Bench b(false);
    b.window.open_demo("dual");
    b.window.set_station("level");
    b.session().edit_shot("keys", [](Shot& s) {
        s.levelling.orientation_keys = {{Seconds(0), {}}, {Seconds(2), {10, 0, 0}}};
    });
    QTest::qWait(30);
    auto* curves = b.window.findChild<TurnCurves*>();
    REQUIRE(curves);
    const double length = b.session().length().to_double();
    const auto grip = [&] { // where the second key stands, found by pressing until the playhead jumps there
        for (int x = curves->width() / 8; x < curves->width(); x += 2) {
            b.session().set_playhead(Seconds(0));
            QTest::mouseClick(curves, Qt::LeftButton, Qt::NoModifier, QPoint(x, 40));
            if (b.session().playhead() == Seconds(2)) return QPoint(x + 2, 40);
        }
        return QPoint(-1, -1);
    }();
    REQUIRE(grip.x() > 0);
    CHECK(grip.x() == Approx(curves->width() * 2 / length).margin(16));
    const auto pulled = [&](Qt::KeyboardModifiers modifiers) {
        const Turn from = b.shot().levelling.orientation_keys[1].turn;
        drag(curves, grip, grip - QPoint(0, 30), modifiers);
        const Turn to = b.shot().levelling.orientation_keys[1].turn;
        b.session().undo();
        CHECK(b.shot().levelling.orientation_keys[1].turn == from);
        return Vec3(to.yaw_deg - from.yaw_deg, to.pitch_deg - from.pitch_deg, to.roll_deg - from.roll_deg);
    };
    CHECK((pulled(Qt::NoModifier) - Vec3(0, 3, 0)).norm() < 0.01);
    CHECK((pulled(Qt::ShiftModifier) - Vec3(3, 0, 0)).norm() < 0.01);
    CHECK((pulled(Qt::ControlModifier) - Vec3(0, 0, 3)).norm() < 0.01);
}

TEST_CASE("a click in one picture sets a point in both, and nothing is set where nothing matches") {
    Bench b(false);
    b.open_ring();
    b.window.set_station("points");
    b.settle();
    auto& pair = b.station<PointsDesk>().pair();
    const Eyepiece first(b.shot().rig, 0, nullptr), second(b.shot().rig, 1, nullptr);
    // Several places between the two cameras: one of them at least shows something to hold on to.
    const Vec3 between = (first.to_rig.col(2) + second.to_rig.col(2)).normalized();
    std::size_t set = 0;
    for (int i = 0; i < 8 && set == 0; ++i) {
        const Vec3 d = (between + Vec3(0, -0.35 + 0.1 * i, 0)).normalized();
        const QPointF at = pair.widget_place(0, first.place_of(d));
        QTest::mouseClick(&pair, Qt::LeftButton, Qt::NoModifier, at.toPoint());
        if (!QTest::qWaitFor([&] { return !b.shot().calibration.points->empty(); }, 1500)) continue;
        set = b.shot().calibration.points->size();
        const ControlPoint& p = (*b.shot().calibration.points)[0];
        CHECK(p.by_hand);
        CHECK(p.a == b.shot().rig.cameras[0].id);
        CHECK(p.b == b.shot().rig.cameras[1].id);
        CHECK(pair.point() == p.id);
        const double metres_apart = (*second.direction(p.b_px) - *first.direction(p.a_px)).norm();
        CHECK(metres_apart < 0.2); // the same thing, but for parallax
    }
    CHECK(set == 1);
    QTest::mouseClick(&pair, Qt::LeftButton, Qt::NoModifier, QPoint(3, pair.height() - 3)); // off the picture
    QTest::qWait(200);
    CHECK(b.shot().calibration.points->size() == set);
}
