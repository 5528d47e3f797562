#include "app/picture/comparison.h"
#include "app/stations/depth/comfort_lane.h"
#include "app/stations/depth/depth_panel.h"
#include "app/stations/depth/disparity_plot.h"
#include "app/stations/depth/region_map.h"
#include "app/widgets/number_field.h"
#include "bench.h"

#include <QComboBox>
#include <QLabel>
#include <QPushButton>
#include <QTableWidget>
#include <QToolButton>

using namespace porb;
using namespace porb::app;
using namespace porb::test;

TEST_CASE("Depth draws eyes from distances, converges by click, measures them and fits them to the budget") {
    Bench b(false);
    b.open_ring();
    b.settle();
    REQUIRE(b.window.set_station("depth"));
    PictureArea& picture = b.window.picture();
    CHECK_FALSE(b.part<QComboBox>("eye_choice")->isVisible());
    CHECK(b.part<QLabel>("eyes_finding")->text().contains("without depth"));
    b.part<QToolButton>("depth_comfort")->click();
    CHECK_FALSE(b.part<QPushButton>("eyes_measure")->isEnabled());
    CHECK(b.part<QTableWidget>("eye_findings")->item(0, 1)->text().contains("without depth"));
    b.part<QToolButton>("depth_eyes")->click();
    b.trigger("Show the two eyes in the next way"); // says why not
    CHECK(picture.eyes() == EyesLook::mono);

    b.session().edit_shot("plain", [](Shot& s) { s.seams.flow.everywhere = false; });
    auto* from = b.part<QComboBox>("eyes_from");
    from->setCurrentIndex(2);
    emit from->activated(2);
    CHECK(b.shot().stereo.from == EyesFrom::distances);
    CHECK(b.shot().seams.flow.everywhere);
    CHECK(picture.eyes() == EyesLook::anaglyph);
    b.settle();

    // Every way of showing them makes a picture of its own.
    std::vector<QImage> seen;
    for (const EyesLook look : all_eyes_looks()) {
        picture.set_eyes(look);
        b.settle();
        seen.push_back(picture.grab().toImage());
    }
    for (std::size_t i = 0; i < seen.size(); ++i)
        for (std::size_t j = 0; j < i; ++j)
            if (!(j == 1 && i == 8)) CHECK(seen[i] != seen[j]); // by turns begins with the left one
    QTest::qWait(600);
    CHECK(picture.grab().toImage() != seen[8]);
    picture.set_eyes(EyesLook::parallel);
    b.settle();
    const QPointF left(picture.width() * 0.3, picture.height() * 0.5),
        right(left.x() + picture.width() / 2.0, left.y());
    REQUIRE(picture.direction_at(left));
    CHECK((*picture.direction_at(left) - *picture.direction_at(right)).norm() < 1e-9);
    CHECK(QLineF(*picture.point_of(*picture.direction_at(left)), left).length() < 0.5);
    picture.comparison().set_on(true); // of both, too
    b.settle();
    picture.comparison().set_on(false);
    picture.set_eyes(EyesLook::left);
    b.settle();

    // A click: as far as what is there.
    b.trigger("Converge on what I click");
    REQUIRE(b.part<QToolButton>("converge_pick")->isChecked());
    QTest::mouseClick(&picture, Qt::LeftButton, {}, QPoint(picture.width() / 2, picture.height() * 3 / 4));
    REQUIRE(QTest::qWaitFor([&] { return b.shot().stereo.converge_m > 0; }, 20000));
    CHECK(b.shot().stereo.converge_m > 0.7);
    CHECK(b.shot().stereo.converge_m < 6);
    QTest::keyClick(&picture, Qt::Key_Escape);
    CHECK_FALSE(b.part<QToolButton>("converge_pick")->isChecked());
    const double clicked = b.shot().stereo.converge_m;
    b.trigger("Converge nearer");
    CHECK(b.shot().stereo.converge_m == Approx(clicked / 1.05));
    b.trigger("Set or remove a key of convergence here");
    CHECK(b.shot().stereo.keys.size() == 1);
    b.session().undo();
    b.session().undo();
    CHECK(b.shot().stereo.converge_m == clicked);

    auto* apart = b.part<NumberField>("eyes_apart");
    apart->setValue(140);
    CHECK(b.shot().stereo.ipd_m == Approx(0.14));
    b.part<NumberField>("eyes_merge_from")->setValue(85); // the other goes along
    CHECK(b.shot().stereo.merge_from_deg < b.shot().stereo.merge_to_deg);
    b.session().undo();

    // Measured over a second; then fitted, which measures them once more.
    b.session().edit_shot("short", [](Shot& s) { s.timing.out = Seconds(1); });
    auto& panel = b.station<DepthPanel>();
    b.trigger("Measure both eyes");
    REQUIRE(QTest::qWaitFor([&] { return !panel.measures().moments().empty(); }, 60000));
    CHECK(panel.measures().moments().size() == 1);
    CHECK(b.part<QLabel>("eyes_figures")->text().contains("vertical"));
    CHECK(b.part<DisparityPlot>("disparity_plot")->isVisible());
    const double near = summary_of(panel.measures().moments()[0], b.shot()).nearest_deg;
    b.session().edit_shot("converge", [](Shot& s) { s.stereo.converge_m = 1; });
    REQUIRE_FALSE(panel.measures().is_out_of_date()); // it only moves
    CHECK(summary_of(panel.measures().moments()[0], b.shot()).nearest_deg < near - 2);
    auto* lane = b.part<ComfortLane>("comfort_lane");
    CHECK(lane->isVisible());
    QTest::mouseClick(lane, Qt::LeftButton, {}, QPoint(2, 8));
    auto* table = b.part<QTableWidget>("eye_findings");
    REQUIRE(table->rowCount() >= 1);
    table->setCurrentCell(0, 0);
    CHECK_FALSE(b.part<QLabel>("eye_mend")->text().isEmpty());
    // The worst places: with both eyes' pictures, and a way there.
    const auto& worst = panel.measures().worst();
    REQUIRE_FALSE(worst.empty());
    const int row = table->rowCount() - 1;
    REQUIRE(QTest::qWaitFor([&] { return !table->item(row, 0)->icon().isNull(); }, 20000));
    table->setCurrentCell(row, 0);
    b.settle();
    CHECK(picture.mode() == ViewMode::window);
    CHECK(forward_of(picture.look()).dot(*worst.back().direction) > 0.99);
    auto* map = b.part<RegionMap>("region_map");
    QTest::mouseClick(map, Qt::LeftButton, {}, QPoint(map->width() / 2, map->height() - 6));
    CHECK(forward_of(picture.look()).y() > 0.99); // what lies below
    b.part<QPushButton>("eyes_fit")->click();
    CHECK(b.shot().stereo.ipd_m < 0.14);
    CHECK(panel.measures().is_out_of_date()); // drawn from elsewhere
    REQUIRE(QTest::qWaitFor([&] { return !panel.measures().is_out_of_date(); }, 60000));
    b.session().edit_shot("swap", [](Shot& s) { s.stereo.swap = true; });
    CHECK(panel.measures().moments().empty());
    b.session().undo();
    CHECK_FALSE(panel.measures().moments().empty());

    // By itself, when it rests, while somebody looks; an edit taken back has its measures again.
    EyeMeasures::set_by_themselves(true);
    b.session().edit_shot("apart", [](Shot& s) { s.stereo.ipd_m = 0.03; });
    CHECK(panel.measures().moments().empty());
    REQUIRE(QTest::qWaitFor([&] { return !panel.measures().moments().empty(); }, 60000));
    EyeMeasures::set_by_themselves(false);
    b.session().undo();
    CHECK_FALSE(panel.measures().moments().empty());
}
