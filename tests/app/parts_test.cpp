// The window's parts one by one: fields, rail, views, palette, files, forms.
#include "app/bench.h"

#include "app/command_palette.h"
#include "app/gather_panel.h"
#include "app/number_field.h"
#include "app/overlays.h"
#include "base/angle.h"
#include "media/still.h"

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QMessageBox>
#include <QPushButton>
#include <QSettings>
#include <QToolButton>

using namespace porb;
using namespace porb::app;
using namespace porb::test;

TEST_CASE("number fields understand units, commas and signs, and refuse words") {
    NumberField field({-100, 100}, 0.5, 2, "m");
    double edited = 0;
    int times = 0;
    QObject::connect(&field, &NumberField::edited, &field, [&](double v) {
        edited = v;
        ++times;
    });
    const auto type = [&](const QString& text) {
        field.findChild<QLineEdit*>()->setText(text);
        field.interpretText();
    };
    type("2.25 m");
    CHECK(edited == 2.25);
    type("-3,5");
    CHECK(edited == -3.5);
    type("4.5deg");
    CHECK(edited == 4.5);
    type(".5");
    CHECK(edited == 0.5);
    type("500");
    CHECK(edited == 100); // limited to its range
    const int before = times;
    type("far away");
    CHECK(times == before);
    CHECK(field.value() == 100);
    field.set_quietly(7);
    CHECK(times == before);
    CHECK(field.text() == "7.00 m");
}

TEST_CASE("number fields are dragged sideways, finely with Shift, as one step") {
    NumberField field({-100, 100}, 0.5, 2, "m");
    field.resize(120, 26);
    field.show();
    field.clearFocus();
    int ended = 0;
    QObject::connect(&field, &NumberField::drag_ended, &field, [&] { ++ended; });
    auto* line = field.findChild<QLineEdit*>();
    drag(line, QPoint(40, 10), QPoint(60, 10));
    CHECK(field.value() == Approx(10));
    drag(line, QPoint(40, 10), QPoint(60, 10), Qt::ShiftModifier);
    CHECK(field.value() == Approx(11));
    CHECK(ended == 2);
}

TEST_CASE("the rail is clicked through and tells how far each station is") {
    Bench b;
    auto* rail = b.part<OrbitRail>("orbit_rail");
    for (int i = kStations - 1; i >= 0; --i) {
        QTest::mouseClick(rail, Qt::LeftButton, {}, rail->body_rect(Station(i)).center().toPoint());
        CHECK(rail->station() == Station(i));
    }
    for (int i = 0; i < kStations; ++i) {
        QTest::keyClick(&b.window, Qt::Key(Qt::Key_1 + i), Qt::AltModifier);
        CHECK(rail->station() == Station(i));
    }
    const QImage before = rail->grab().toImage();
    b.session().edit_shot("open a hole",
                          [](Shot& s) { s.cameras[0].reach_deg = s.cameras[1].reach_deg = 60; });
    CHECK(rail->grab().toImage() != before); // Seams now wants care
}

TEST_CASE("overlays: outlines at the reach, centres on the axes, overlaps where both see") {
    Rig rig = tiny_rig(400);
    Shot shot = shot_for_rig(rig, "t");
    shot.cameras[0].reach_deg = 60;
    View view;
    view.target = equirect_target(1000);
    const Overlays o = make_overlays(plan_key(shot, view));
    REQUIRE(o.lenses.size() == 2);
    CHECK(o.lenses[0].centre == QPointF(500, 250));
    const TargetMap map(view.target);
    for (const auto& line : o.lenses[0].outline)
        for (const auto& p : line) {
            const double theta = degrees(std::acos(map.direction({p.x(), p.y()})->z()));
            CHECK(theta == Approx(60).margin(0.01));
        }
    const auto tinted = [&](const Overlays& of, double lon) {
        const QImage& m = of.overlaps;
        return qAlpha(m.pixel(int((lon / 360 + 0.5) * m.width()), m.height() / 2)) > 0;
    };
    CHECK_FALSE(tinted(o, 90)); // 60 degrees against 100: no overlap there
    shot.cameras[0].reach_deg = 100;
    const Overlays wide = make_overlays(plan_key(shot, view));
    CHECK(tinted(wide, 90));
    CHECK(tinted(wide, -85));
    CHECK_FALSE(tinted(wide, 0));
    CHECK_FALSE(tinted(wide, 170));
    shot.rig.cameras[0].eyes = Eyes::left;
    shot.rig.cameras[1].eyes = Eyes::right;
    view.eye = Eye::right;
    CHECK(make_overlays(plan_key(shot, view)).lenses.at(0).camera == 1); // only the eye on show
}

TEST_CASE("sheet view chooses cameras, and a double click opens one") {
    Bench b;
    b.trigger("Sheet view");
    b.settle();
    auto& picture = b.window.picture();
    b.session().select_camera("A");
    QTest::mouseClick(&picture, Qt::LeftButton, {},
                      QPoint(picture.width() / 2, picture.height() * 3 / 4)); // the lower of two
    CHECK(b.session().selected_camera() == "B");
    QTest::keyClick(&b.window, Qt::Key_N);
    CHECK(b.session().selected_camera() == "A");
    QTest::mouseDClick(&picture, Qt::LeftButton, {}, QPoint(picture.width() / 2, picture.height() * 3 / 4));
    CHECK(picture.mode() == ViewMode::lens);
    b.settle();
}

TEST_CASE("a double click in the map opens the window there") {
    Bench b;
    auto& picture = b.window.picture();
    const Vec3 wanted = rotation_of({40, 20, 0}) * Vec3(0, 0, 1);
    const auto at = picture.point_of(wanted);
    REQUIRE(at);
    QTest::mouseDClick(&picture, Qt::LeftButton, {}, at->toPoint());
    CHECK(picture.mode() == ViewMode::window);
    CHECK(picture.look().yaw_deg == Approx(40).margin(0.6));
    CHECK(picture.look().pitch_deg == Approx(20).margin(0.6));
    const auto centre = picture.point_of(wanted);
    REQUIRE(centre);
    CHECK(std::hypot(centre->x() - picture.width() / 2.0, centre->y() - picture.height() / 2.0) < 8);
}

TEST_CASE("zooming the map keeps what is under the pointer") {
    Bench b;
    auto& picture = b.window.picture();
    const Vec3 there = rotation_of({-50, 15, 0}) * Vec3(0, 0, 1);
    const QPointF at = *picture.point_of(there);
    for (int i = 0; i < 5; ++i) {
        QWheelEvent wheel(at, picture.mapToGlobal(at), {}, QPoint(0, 120), Qt::NoButton, {},
                          Qt::NoScrollPhase, false);
        QApplication::sendEvent(&picture, &wheel);
    }
    const auto after = picture.point_of(there);
    REQUIRE(after);
    CHECK(std::abs(after->x() - at.x()) < 2);
    CHECK(std::abs(after->y() - at.y()) < 2);
    b.settle();
    CHECK(b.window.picture().had_picture());
    b.trigger("Look ahead, fit the picture");
    CHECK(std::abs(picture.point_of(there)->x() - at.x()) < 1);
}

TEST_CASE("projects are saved, titles say so, recent ones are remembered") {
    Bench b;
    CHECK(b.window.windowTitle().startsWith("p.porb —"));
    b.session().edit_shot("yaw", [](Shot& s) { s.orientation.yaw_deg = 5; });
    CHECK(b.window.windowTitle().startsWith("p.porb •"));
    QTest::keyClick(&b.window, Qt::Key_S, Qt::ControlModifier);
    CHECK(b.window.windowTitle().startsWith("p.porb —"));
    CHECK(load_project(b.folder / "p.porb").shots[0].orientation.yaw_deg == 5);
    const QString file = QString::fromStdString((b.folder / "p.porb").string());
    CHECK(QSettings().value("recent").toStringList().contains(file));
    b.session().undo();
    CHECK(b.session().is_dirty());
    b.session().redo();
    CHECK_FALSE(b.session().is_dirty()); // the saved value again, by identity
}

TEST_CASE("the session comes back: project, place, station and view") {
    Bench b;
    b.session().set_playhead(Rational(12, 30));
    b.window.set_station(Station::seams);
    b.trigger("Sheet view");
    b.window.close();
    MainWindow again(b.folder.path());
    again.restore_session();
    REQUIRE(again.session().shot());
    CHECK(again.session().playhead() == Rational(12, 30));
    CHECK(again.picture().mode() == ViewMode::sheet);
    CHECK(again.findChild<OrbitRail*>("orbit_rail")->station() == Station::seams);
}

TEST_CASE("a deliverable's form changes its file's ending and what can be set") {
    Bench b;
    b.window.set_station(Station::master);
    b.part<QPushButton>("add_deliverable")->click();
    const auto path = [&] { return b.session().project()->deliverables[0].path.filename().string(); };
    CHECK(path() == "p-sphere-h264.mp4");
    QComboBox* forms = nullptr;
    for (auto* box : b.part<QWidget>("master_panel")->findChildren<QComboBox*>())
        if (box->findText("ProRes 422 HQ in MOV") >= 0) forms = box;
    REQUIRE(forms);
    for (const auto& [form, name] : {std::pair{"ProRes 422 HQ in MOV", "p-sphere-h264.mov"},
                                     {"PNG pictures, 16 bit", "p-sphere-h264.%05d.png"},
                                     {"OpenEXR pictures", "p-sphere-h264.%05d.exr"},
                                     {"H.265 in MP4", "p-sphere-h264.mp4"}}) {
        forms->setCurrentText(form);
        emit forms->activated(forms->currentIndex());
        CHECK(path() == name);
    }
    CHECK(b.session().project()->deliverables[0].codec == VideoCodec::h265);
    auto* file = b.part<QLineEdit>("deliverable_file");
    file->setText(QString::fromStdString((b.folder / "none/x.mp4").string()));
    emit file->editingFinished();
    CHECK(b.part<QLabel>("preflight")->text().contains("does not exist"));
    QTest::mouseClick(b.part<QPushButton>("render_button"), Qt::LeftButton);
    CHECK_FALSE(b.window.queue().is_busy());
    for (auto* box : b.window.findChildren<QMessageBox*>()) box->close();
}

TEST_CASE("frame rate and bit rate are set in their panels") {
    Bench b;
    b.part<NumberField>("frame_rate")->setValue(29.97);
    CHECK(b.shot().rate == FrameRate(30000, 1001));
    b.session().undo();
    CHECK(b.shot().rate == FrameRate(30));
    b.window.set_station(Station::master);
    b.part<QPushButton>("add_deliverable")->click();
    b.part<NumberField>("bit_rate")->setValue(45.5);
    CHECK(b.session().project()->deliverables[0].bit_rate == 45'500'000);
    b.part<NumberField>("bit_rate")->setValue(0);
    CHECK(b.session().project()->deliverables[0].bit_rate == 0);
}

TEST_CASE("the picture alone, and overlays by command") {
    Bench b;
    b.trigger("Picture alone");
    CHECK_FALSE(b.part<OrbitRail>("orbit_rail")->isVisible());
    b.trigger("Picture alone");
    CHECK(b.part<OrbitRail>("orbit_rail")->isVisible());
    b.trigger("Show footprints");
    CHECK(b.part<QToolButton>("show_footprints")->isChecked());
    b.trigger("Show overlaps");
    b.settle();
    b.trigger("Show footprints");
    CHECK_FALSE(b.part<QToolButton>("show_footprints")->isChecked());
}

TEST_CASE("the palette narrows as words are typed, in any order") {
    QAction save("Save project"), as("Save project as…"), go("Go to Rig");
    int saved = 0;
    QObject::connect(&as, &QAction::triggered, &as, [&] { ++saved; });
    CommandPalette palette({&save, &as, &go}, nullptr);
    auto* line = palette.findChild<QLineEdit*>("command_line");
    auto* list = palette.findChild<QListWidget*>();
    CHECK(list->count() == 3);
    line->setText("project save");
    CHECK(list->count() == 2);
    line->setText("nothing like it");
    CHECK(list->count() == 0);
    line->setText("save");
    QTest::keyClick(line, Qt::Key_Down);
    QTest::keyClick(line, Qt::Key_Return);
    CHECK(saved == 1);
}

TEST_CASE("lists of shortcuts name every key once") {
    QAction a("One"), b("Two");
    a.setShortcut(QKeySequence("Ctrl+1"));
    const QString text = shortcuts_text({&a, &b});
    CHECK(text.contains("One"));
    CHECK_FALSE(text.contains("Two")); // it has no key
}

TEST_CASE("stereo rigs offer an eye, and each shows its own camera") {
    Bench b;
    b.session().edit_shot("eyes", [](Shot& s) {
        s.rig.cameras[0].eyes = Eyes::left;
        s.rig.cameras[1].eyes = Eyes::right;
        s.rig.cameras[1].pose.turn = {};
        s.cameras[1].offset = Rational(1, 2); // so that the two differ
    });
    auto* eye = b.part<QComboBox>("eye_choice");
    CHECK(eye->isVisible());
    b.settle();
    const QPoint middle = b.window.picture().rect().center();
    const int left = b.grey(middle);
    eye->setCurrentIndex(1);
    emit eye->activated(1);
    b.settle();
    CHECK(b.grey(middle) > left + 80);
}
