#include "app/stations/match/match_panel.h"
#include "app/widgets/number_field.h"
#include "bench.h"
#include "media/still.h"

#include <QCheckBox>
#include <QComboBox>
#include <QDialog>
#include <QLabel>
#include <QPushButton>
#include <QSpinBox>
#include <QTableWidget>
#include <QToolButton>

using namespace porb;
using namespace porb::app;
using namespace porb::test;

namespace {

/// The hall through two lenses of which one is a stop brighter, as a still.
void open_uneven_still(Bench& b) {
    sim::SimOptions o;
    o.circle_size = 240;
    StillTake take = hall_still(b.folder, o);
    MediaLibrary library;
    const auto file = take.project.media[0].ref.path;
    Picture p = *library.picture(take.project.media[0].ref, Seconds(0));
    Picture non_radial(p.width(), p.height());
    for (int y = 0; y < p.height(); ++y)
        for (int x = 0; x < p.width(); ++x) {
            Rgba v = pixel_at(p, x, y);
            if (x < p.width() / 2) v.r *= 0.7f, v.g *= 0.7f, v.b *= 0.7f;
            set_pixel(non_radial, x, y, v);
        }
    write_still(non_radial, file, {16, 95, {}});
    save_project(take.project, b.folder / "uneven.porb");
    REQUIRE(b.window.open_project(b.folder / "uneven.porb"));
    b.settle();
}

} // namespace

TEST_CASE("cameras are matched, shown as shot and back, and it is all one step of undo") {
    Bench b(false);
    open_uneven_still(b);
    b.trigger("Match the cameras' colours"); // from any station
    auto& panel = b.station<MatchPanel>();
    REQUIRE(
        QTest::qWaitFor([&] { return !panel.job().is_running() && b.shot().colour.match.apart_ev; }, 30000));
    const auto first = gains_at(b.shot().cameras[0].colour, Seconds(0)),
               second = gains_at(b.shot().cameras[1].colour, Seconds(0));
    CHECK(std::abs(first[1] - second[1]) > 0.8); // 0.7 of the encoded value is about 1.2 EV
    CHECK(*b.shot().colour.match.apart_ev < 0.1);
    CHECK(b.part<QLabel>("match_figure")->text().endsWith("EV"));
    auto* table = b.part<QTableWidget>("match_table");
    REQUIRE(table->rowCount() == 2);
    CHECK(table->item(0, 1)->text() != table->item(1, 1)->text());

    b.trigger("Show matched or as shot");
    CHECK_FALSE(b.shot().colour.match.on);
    CHECK_FALSE(b.part<QCheckBox>("match_on")->isChecked());
    b.session().undo();
    CHECK(b.shot().colour.match.on);
    b.session().undo();
    CHECK(b.shot().cameras[0].colour == CameraColour{});
    CHECK_FALSE(b.shot().colour.match.apart_ev);
}

TEST_CASE("trims go to the chosen cameras, brighten the picture, and survive matching") {
    Bench b(false);
    open_uneven_still(b);
    b.window.set_station("match");
    auto* table = b.part<QTableWidget>("match_table");
    table->selectRow(1);
    auto* exposure = b.part<QWidget>("trim_exposure");
    b.settle();
    const auto brightness = [&] {
        b.settle();
        const QImage seen = b.window.picture().grab().toImage();
        double sum = 0;
        for (int y = 0; y < seen.height(); y += 5)
            for (int x = 0; x < seen.width(); x += 5) sum += qGray(seen.pixel(x, y));
        return sum;
    };
    const double before = brightness();
    exposure->setFocus();
    QTest::keyClick(exposure, Qt::Key_A, Qt::ControlModifier);
    QTest::keyClicks(exposure, "0.75");
    QTest::keyClick(exposure, Qt::Key_Return);
    CHECK(b.shot().cameras[1].colour.exposure_ev == 0.75);
    CHECK(b.shot().cameras[0].colour.exposure_ev == 0);
    CHECK(brightness() > 1.03 * before);

    b.station<MatchPanel>().match_now();
    REQUIRE(QTest::qWaitFor(
        [&] { return !b.station<MatchPanel>().job().is_running() && b.shot().colour.match.apart_ev; },
        30000));
    CHECK(b.shot().cameras[1].colour.exposure_ev == 0.75);
    CHECK_FALSE(b.shot().cameras[1].colour.gains.empty());
    b.part<QPushButton>("match_clear")->click();
    CHECK(b.shot().cameras[1].colour == CameraColour{});
    CHECK_FALSE(b.shot().cameras[0].colour == CameraColour{}); // it was not chosen
}

TEST_CASE("a reference camera stays as it is; a rig without overlap is refused with words") {
    Bench b(false);
    open_uneven_still(b);
    b.window.set_station("match");
    auto* reference = b.part<QComboBox>("match_reference");
    REQUIRE(reference->count() == 3);
    reference->setCurrentIndex(2);
    emit reference->activated(2);
    b.station<MatchPanel>().match_now();
    REQUIRE(QTest::qWaitFor(
        [&] { return !b.station<MatchPanel>().job().is_running() && b.shot().colour.match.apart_ev; },
        30000));
    for (const double ev : gains_at(b.shot().cameras[1].colour, Seconds(0)))
        CHECK(ev == Approx(0).margin(1e-9));

    // Figures are of the rig that they were measured under; samples are one step of undo however many digits.
    CHECK(b.part<QLabel>("match_figure")->text().endsWith("EV"));
    b.session().edit_shot("turn", [](Shot& s) { s.rig.cameras[0].pose.turn.yaw_deg += 1; });
    CHECK(b.part<QLabel>("match_figure")->text() == "matched");
    b.session().undo();
    auto* samples = b.part<QSpinBox>("match_samples");
    samples->setFocus();
    QTest::keyClick(samples, Qt::Key_A, Qt::ControlModifier);
    QTest::keyClicks(samples, "12");
    QTest::keyClick(samples, Qt::Key_Return);
    CHECK(b.shot().colour.match.samples == 12);
    b.session().undo();
    CHECK(b.shot().colour.match.samples == MatchSettings().samples);

    b.session().edit_shot("narrow", [](Shot& s) {
        for (auto& c : s.rig.cameras) c.lens.focal_px *= 1.5, c.lens.circle.radius_px *= 0.9;
    });
    const Shot before = b.shot();
    b.station<MatchPanel>().match_now();
    REQUIRE(QTest::qWaitFor([&] { return !b.station<MatchPanel>().job().is_running(); }, 30000));
    QTest::qWait(30);
    CHECK(b.part<QLabel>("message")->toolTip().contains("overlap"));
    CHECK(b.shot() == before);
    for (auto* box : b.window.findChildren<QDialog*>()) box->close();
}

TEST_CASE("parallax is closed by a key, tuned in the panel, and every step can be undone") {
    Bench b(false);
    open_uneven_still(b);
    CHECK(b.shot().seams.flow.on); // new shots begin with it
    b.trigger("Close parallax where lenses meet");
    b.window.set_station("seams");
    b.part<QToolButton>("seams_parallax")->click();
    auto* box = b.part<QCheckBox>("flow_on");
    auto* nearest = b.part<NumberField>("flow_nearest");
    CHECK_FALSE(box->isChecked());
    CHECK_FALSE(nearest->isEnabled());
    b.trigger("Close parallax where lenses meet");
    CHECK(b.shot().seams.flow.on);
    CHECK(box->isChecked());
    auto* fine = b.part<QCheckBox>("flow_fine_edges");
    fine->click();
    CHECK(b.shot().seams.flow.fine_edges);
    b.session().undo();
    CHECK_FALSE(fine->isChecked());
    b.trigger("Fine edges of near things, or plain ones");
    CHECK(fine->isChecked());
    b.settle(); // the picture is made so
    CHECK(b.grey(b.window.picture().rect().center()) > 10);
    b.session().undo();
    b.settle(); // the picture is made with it
    CHECK(b.grey(b.window.picture().rect().center()) > 10);
    nearest->setFocus();
    QTest::keyClick(nearest, Qt::Key_A, Qt::ControlModifier);
    QTest::keyClicks(nearest, "1.5 m");
    QTest::keyClick(nearest, Qt::Key_Return);
    CHECK(b.shot().seams.flow.nearest_m == 1.5);
    b.settle();
    b.session().undo();
    CHECK(b.shot().seams.flow.nearest_m == FlowSettings().nearest_m);
    b.session().undo();
    CHECK_FALSE(b.shot().seams.flow.on);
    CHECK_FALSE(box->isChecked());
}
