#include "app/stations/ground/edge_lane.h"
#include "app/stations/ground/exchange_part.h"
#include "app/stations/ground/ground_panel.h"
#include "app/stations/ground/layers_part.h"
#include "app/stations/ground/paint_part.h"
#include "app/stations/ground/plate_part.h"
#include "app/widgets/number_field.h"
#include "base/angle.h"
#include "base/file.h"
#include "bench.h"
#include "media/still.h"
#include "patch/exchange.h"
#include "project/tile_store.h"

#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QListWidget>
#include <QPushButton>
#include <QTableWidget>

using namespace porb;
using namespace porb::app;
using namespace porb::test;
namespace fs = std::filesystem;

namespace {

struct Ground : Bench {
    Ground() : Bench(false) {
        open_hall(160, [](Shot& s) { s.seams.flow.on = false; });
        REQUIRE(window.set_station("ground"));
        settle();
        panel = &station<GroundPanel>();
    }
    const Patch& patch(std::size_t i = 0) {
        REQUIRE(shot().patches.size() > i);
        return shot().patches[i];
    }
    void wait(const std::function<bool()>& done) { REQUIRE(QTest::qWaitFor(done, 60000)); }
    void add_painted() {
        const auto n = shot().patches.size();
        trigger("New patch to paint on");
        wait([&] { return shot().patches.size() == n + 1; });
        settle();
    }
    /// Where a pixel of the chosen patch's square lies on the widget.
    QPoint at(double x, double y) {
        const auto place = panel->choice().placement();
        REQUIRE(place);
        const double side = panel->choice().patch()->resolution;
        const auto p = window.picture().point_of(direction_of(*place, {2 * x / side - 1, 2 * y / side - 1}));
        REQUIRE(p);
        return p->toPoint();
    }
    GroundPanel* panel;
};

} // namespace

TEST_CASE("Ground looks straight down; a patch is made, moved, keyed, ordered, named and removed") {
    Ground g;
    PictureArea& picture = g.window.picture();
    CHECK(picture.mode() == ViewMode::down);
    CHECK(picture.flat_look().pitch_deg == -90);
    // Straight on: a drag pans once it is zoomed, Shift turns, Ctrl aims; keys and the wheel likewise.
    const Vec3 middle = *picture.direction_at(QPointF(picture.width() / 2.0, picture.height() / 2.0));
    CHECK((middle - Vec3(0, 1, 0)).norm() < 0.02);
    QTest::keyClick(&picture, Qt::Key_Right);
    CHECK(std::abs(std::remainder(picture.flat_look().roll_deg - picture.flat_look().yaw_deg, 360.0)) > 4);
    const double wide = picture.flat_width();
    QTest::keyClick(&picture, Qt::Key_Up);
    CHECK(picture.flat_width() < wide);
    drag(&picture, {picture.width() / 2, picture.height() / 2},
         {picture.width() / 2 + 40, picture.height() / 2}, Qt::ControlModifier);
    CHECK(picture.flat_look().pitch_deg > -88);
    const Turn before = picture.flat_look();
    drag(&picture, {picture.width() / 2 + 80, picture.height() / 2},
         {picture.width() / 2, picture.height() / 2 + 80}, Qt::ShiftModifier);
    CHECK_FALSE(picture.flat_look() == before);
    g.trigger("Look straight up");
    CHECK(picture.flat_look().pitch_deg == 90);
    g.trigger("Look straight down");

    g.add_painted();
    CHECK(g.patch().name == "patch");
    CHECK_FALSE(g.patch().plate.empty());
    CHECK(g.part<QTableWidget>("patches_table")->item(0, 2)->text() == "nothing yet");
    g.panel->layers().add_soft(SoftenKind::blur);
    CHECK(g.shot().patches.size() == 2);
    CHECK(g.part<QTableWidget>("patches_table")->item(0, 1)->text() == "smoothed");
    g.part<QPushButton>("patch_down")->click();
    CHECK(g.patch(0).name == "smoothed");
    CHECK(g.panel->choice().patch()->name == "smoothed");
    // By the mouse: its inside moves it, a corner turns and scales it.
    g.trigger("Look at the patch straight on");
    g.settle();
    const double side = g.panel->choice().patch()->resolution;
    drag(&picture, g.at(side / 2, side / 2), g.at(side * 0.7, side / 2));
    CHECK(place_at(g.patch(0), Seconds(0)).pitch_deg > -88);
    g.trigger("Look at the patch straight on");
    g.settle();
    const double width = place_at(g.patch(0), Seconds(0)).width_deg;
    const QPoint corner = g.at(side, side), towards = g.at(side * 0.8, side * 0.9);
    drag(&picture, corner, towards);
    CHECK(place_at(g.patch(0), Seconds(0)).width_deg < width - 1);
    g.session().undo();
    CHECK(place_at(g.patch(0), Seconds(0)).width_deg == width);
    // By its fields; with keys only the one here.
    const auto type = [&](const char* name, double v) { emit g.part<NumberField>(name)->edited(v); };
    type("patch_opacity", 40);
    CHECK(place_at(g.patch(0), Seconds(0)).opacity == 0.4);
    type("patch_feather", 2.5);
    type("patch_distance", 1.25);
    CHECK(g.patch(0).distance_m == 1.25);
    emit g.part<QComboBox>("patch_surface")->activated(2);
    CHECK(g.patch(0).surface == PatchSurface::facing);
    emit g.part<QComboBox>("patch_hold")->activated(1);
    CHECK(g.patch(0).hold == PatchHold::rig);
    g.part<QPushButton>("patch_from")->click();
    CHECK(g.patch(0).from == Seconds(0));
    g.trigger("Set or remove a key of the patch here"); // there is one: the only one stays
    CHECK(g.patch(0).keys.size() == 1);
    // With and without: the whole picture changes and comes back.
    g.settle();
    const QImage with = picture.grab().toImage();
    g.trigger("With and without patches");
    g.settle();
    CHECK(picture.grab().toImage() != with);
    g.trigger("With and without patches");
    g.settle();
    g.part<QPushButton>("patch_remove")->click();
    CHECK(g.shot().patches.size() == 1);
    QTest::keyClick(&picture, Qt::Key_Delete);
    CHECK(g.shot().patches.empty());
}

TEST_CASE("a patch is painted on with the mouse: source, stroke, mask, selection; one stroke is one undo") {
    Ground g;
    PictureArea& picture = g.window.picture();
    g.add_painted();
    g.panel->show_part(GroundPanel::Part::paint);
    PaintTool& tool = g.panel->paint().tool();
    const double side = g.patch().resolution;
    // Without a source nothing is painted, and it says what is missing.
    drag(&picture, g.at(side * 0.3, side * 0.3), g.at(side * 0.5, side * 0.3));
    CHECK(g.patch().pixels.is_clear());
    QTest::mouseClick(&picture, Qt::RightButton, {}, g.at(side * 0.2, side * 0.7));
    CHECK(tool.has_source());
    const int steps = [&] {
        int n = 0;
        while (g.session().history().can_undo()) g.session().undo(), ++n;
        for (int i = 0; i < n; ++i) g.session().redo();
        return n;
    }();
    g.settle();
    const QImage before = picture.grab().toImage();
    drag(&picture, g.at(side * 0.4, side * 0.4), g.at(side * 0.6, side * 0.45));
    REQUIRE_FALSE(g.patch().pixels.is_clear());
    const int x = int(side / 2), y = int(side * 0.425);
    CHECK(g.patch().pixels.at(x, y, 3) > 0.9f);
    CHECK(g.patch().pixels.at(x, y, 0) ==
          Approx(g.patch().plate.at(int(side * 0.3), int(side * 0.725), 0)).margin(0.08));
    g.settle();
    CHECK(picture.grab().toImage() != before);
    g.session().undo();
    CHECK(g.patch().pixels.is_clear());
    int now = 0;
    while (g.session().history().can_undo()) g.session().undo(), ++now;
    CHECK(now == steps);
    for (int i = 0; i <= now; ++i) g.session().redo();
    CHECK_FALSE(g.patch().pixels.is_clear());

    // Size and softness by keys and drag.
    const Brush was = tool.brush();
    QTest::keyClick(&picture, Qt::Key_Up);
    CHECK(tool.brush().size_px > was.size_px);
    QTest::keyClick(&picture, Qt::Key_Left);
    CHECK(tool.brush().softness < was.softness);
    drag(&picture, {200, 200}, {140, 200}, Qt::ControlModifier);
    CHECK(tool.brush().size_px < was.size_px);
    tool.set_brush(was);
    // A selection limits what is painted.
    g.part<QPushButton>("select_rectangle")->click();
    drag(&picture, g.at(side * 0.1, side * 0.1), g.at(side * 0.3, side * 0.3));
    CHECK(tool.has_selection());
    g.trigger("Brush: paint");
    drag(&picture, g.at(side * 0.2, side * 0.2), g.at(side * 0.6, side * 0.2));
    CHECK(g.patch().pixels.at(int(side * 0.25), int(side * 0.2), 3) > 0.9f);
    CHECK(g.patch().pixels.at(int(side * 0.45), int(side * 0.2), 3) == 0);
    QTest::keyClick(&picture, Qt::Key_Escape);
    CHECK_FALSE(tool.has_selection());
    // The mask: hidden, then painted on again, which shows it.
    g.trigger("Brush: hide");
    drag(&picture, g.at(side * 0.4, side * 0.42), g.at(side * 0.6, side * 0.44));
    CHECK(g.patch().mask.at(x, y, 0) < 0.1f);
    g.trigger("Brush: paint");
    drag(&picture, g.at(side * 0.4, side * 0.42), g.at(side * 0.6, side * 0.44));
    CHECK(g.patch().mask.at(x, y, 0) > 0.9f);
    // A pen: its pressure counts.
    const auto pen = [&](QEvent::Type type, const QPoint& at, double pressure) {
        QTabletEvent event(type, QPointingDevice::primaryPointingDevice(), at, picture.mapToGlobal(at),
                           pressure, 0, 0, 0, 0, 0, {}, Qt::LeftButton, Qt::LeftButton);
        QApplication::sendEvent(&picture, &event);
    };
    const TileImage pixels = g.patch().pixels;
    pen(QEvent::TabletPress, g.at(side * 0.7, side * 0.7), 0.5);
    pen(QEvent::TabletMove, g.at(side * 0.8, side * 0.7), 0.5);
    pen(QEvent::TabletRelease, g.at(side * 0.8, side * 0.7), 0);
    CHECK_FALSE(g.patch().pixels == pixels);
    // In the window view as well.
    picture.set_look({0, -80, 0}, 70);
    picture.set_mode(ViewMode::window);
    g.settle();
    const TileImage flat = g.patch().pixels;
    drag(&picture, g.at(side * 0.5, side * 0.6), g.at(side * 0.6, side * 0.6));
    CHECK(g.patch().pixels.at(int(side * 0.55), int(side * 0.6), 3) > 0.9f);
    CHECK_FALSE(g.patch().pixels == flat);

    // Saved with its pixels; opened again they are there.
    const fs::path file = g.folder / "painted.porb";
    REQUIRE(g.session().save(file) == Session::Saved::yes);
    const Patch painted = g.patch();
    CHECK(load_project(file).shots[0].patches[0] == painted);
    fs::remove_all(tile_folder(file));
    QStringList said;
    QObject::connect(&g.session(), &Session::said, [&](const QString& text, Signal) { said << text; });
    REQUIRE(g.session().open(file));
    CHECK(said.join(" ").contains("are not in"));
}

TEST_CASE("plates, filling, edges and light run beside the window and change the patch when they are done") {
    Ground g;
    g.add_painted();
    g.panel->show_part(GroundPanel::Part::plate);
    auto* from = g.part<QComboBox>("plate_from");
    from->setCurrentIndex(1);
    emit from->activated(1);
    const TileImage first = g.patch().plate;
    g.session().edit_shot("no plate", [](Shot& s) { s.patches[0].plate = {}; });
    g.part<QPushButton>("plate_take")->click();
    g.wait([&] { return g.session().history().undo_label() == "Plate from moments"; });
    CHECK(g.patch().plate == first); // a still is its own median
    g.part<QPushButton>("plate_show")->click();
    CHECK(g.patch().pixels == g.patch().plate);

    g.panel->show_part(GroundPanel::Part::edge);
    g.part<QPushButton>("mask_none")->click();
    CHECK(g.patch().mask.is_clear());
    CHECK_FALSE(g.part<QPushButton>("mask_edge")->isEnabled());
    g.session().edit_shot("mask", [](Shot& s) {
        Patch& p = s.patches[0];
        TileImage::Edit edit(p.mask);
        for (int y = 0; y < 60; ++y)
            for (int x = 0; x < 60; ++x)
                *edit.pixel(p.resolution / 2 + x, p.resolution / 2 + y) = half_from_float(1);
    });
    // On this page nothing is moved by chance.
    const PatchKey place = place_at(g.patch(), Seconds(0));
    drag(&g.window.picture(), g.at(200, 200), g.at(260, 260));
    CHECK(place_at(g.patch(), Seconds(0)) == place);
    g.part<QPushButton>("mask_edge")->click();
    g.wait([&] { return g.session().history().undo_label() == "Edge of a mask"; });
    CHECK(g.patch().mask.at(g.patch().resolution / 2 + 30, g.patch().resolution / 2 + 30, 0) == 1);
    g.trigger("Measure the patch's edge");
    g.wait([&] { return !g.panel->edge().steps().empty(); });
    CHECK(g.part<QLabel>("edge_figures")->text().contains("of full scale"));
    g.station<EdgeLane>().grab();
    g.trigger("Follow the light along the patch's edge");
    g.wait([&] { return g.patch().follows_light; });
    CHECK(g.patch().light[0].gain.x() == Approx(1).margin(0.05));
    CHECK(g.part<QLabel>("edge_figures")->text().contains("Changed since"));
    g.trigger("Fill the patch's mask");
    g.wait([&] { return g.patch().kind == PatchKind::fill; });
    CHECK(g.patch().pixels.at(g.patch().resolution / 2 + 30, g.patch().resolution / 2 + 30, 3) == 1);
    // A job whose patch goes meanwhile changes nothing.
    g.panel->show_part(GroundPanel::Part::plate);
    g.part<QPushButton>("patch_fill")->click();
    g.session().edit_shot("gone", [](Shot& s) { s.patches.clear(); });
    QTest::qWait(50);
    g.wait([&] { return !g.part<QPushButton>("patch_fill")->isEnabled(); });
    CHECK(g.shot().patches.empty());
}

TEST_CASE("a patch goes out as layers and comes back when its file is saved; a broken file changes nothing") {
    Ground g;
    g.add_painted();
    g.part<QPushButton>("plate_show")->click();
    g.panel->show_part(GroundPanel::Part::exchange);
    const fs::path file = g.folder / "patch.ora";
    ExchangePart& out = g.panel->exchange();
    out.send(QString::fromStdString(file.string()));
    g.wait([&] { return out.watched() == QString::fromStdString(file.string()); });
    const TileImage before = g.patch().pixels;
    // Saved elsewhere, changed: it is here the moment after.
    PatchLayers layers = read_layers(file);
    for (int y = 100; y < 140; ++y)
        for (int x = 100; x < 160; ++x) set_pixel(layers.layer, x, y, {1, 0, 1, 1});
    QTest::qWait(20);
    write_layers(layers, file);
    g.wait([&] { return !(g.patch().pixels == before); });
    CHECK(g.patch().pixels.at(120, 120, 0) == 1);
    CHECK(g.patch().pixels.at(200, 200, 0) == before.at(200, 200, 0));
    const TileImage painted = g.patch().pixels;
    QStringList said;
    QObject::connect(&g.session(), &Session::said, [&](const QString& text, Signal) { said << text; });
    write_file_atomically(file, "half of a file");
    g.wait([&] { return said.join(" ").contains("OpenRaster"); });
    CHECK(g.patch().pixels == painted);
    // Nothing that the project uses is written over.
    out.send(QString::fromStdString(g.session().file().string()));
    CHECK(said.last().contains("still.porb"));

    // To another shot: the same place, so the same direction.
    g.session().edit("second", [&](Project& p) {
        Shot other = p.shots[0];
        other.id = "other", other.name = "other";
        other.patches.clear();
        p.shots.push_back(other);
    });
    out.copy_to({"other"}, true);
    g.wait([&] { return !find_shot(*g.session().project(), "other")->patches.empty(); });
    const Patch& copy = find_shot(*g.session().project(), "other")->patches.front();
    CHECK(std::abs(place_at(copy, Seconds(0)).pitch_deg + 90) < 1);
    CHECK(place_at(copy, Seconds(0)).width_deg ==
          Approx(place_at(g.patch(), Seconds(0)).width_deg).margin(1));
    // An emblem in one action, from a file that is dropped.
    const fs::path emblem = source_folder() / "demo/emblem/orrery_hall_emblem.svg";
    g.panel->layers().cover_with(QString::fromStdString(emblem.string()));
    CHECK(g.patch(1).kind == PatchKind::picture);
    CHECK(g.patch(1).name == "orrery_hall_emblem");
    g.settle();
    g.panel->layers().cover_with("/nowhere/none.png");
    CHECK(g.shot().patches.size() == 2);
}
