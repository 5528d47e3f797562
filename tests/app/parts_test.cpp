// The window's parts one by one: fields, rail, views, palette, files, forms.
#include "app/bench.h"

#include "app/picture/overlays.h"
#include "app/shell/command_palette.h"
#include "app/shell/memory_dialog.h"
#include "app/shell/shortcut_sheet.h"
#include "app/stations/gather/gather_panel.h"
#include "app/widgets/number_field.h"
#include "base/angle.h"
#include "media/library.h"
#include "media/still.h"

#include <QComboBox>
#include <QDialogButtonBox>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QMessageBox>
#include <QPushButton>
#include <QSettings>
#include <QToolButton>

#include <random>

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
    const int count = int(b.window.stations().size());
    CHECK(count >= 7);
    for (int i = count - 1; i >= 0; --i) {
        QTest::mouseClick(rail, Qt::LeftButton, {}, rail->body_rect(i).center().toPoint());
        CHECK(rail->station() == i);
    }
    for (int i = 0; i < count; ++i) {
        QTest::keyClick(&b.window, Qt::Key(Qt::Key_1 + i), Qt::AltModifier);
        CHECK(rail->station() == i);
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
    const Overlays o = make_overlays(plan_key(shot, view, shot.timing.in, Sources::all));
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
    const Overlays wide = make_overlays(plan_key(shot, view, shot.timing.in, Sources::all));
    CHECK(tinted(wide, 90));
    CHECK(tinted(wide, -85));
    CHECK_FALSE(tinted(wide, 0));
    CHECK_FALSE(tinted(wide, 170));
    shot.rig.cameras[0].eyes = Eyes::left;
    shot.rig.cameras[1].eyes = Eyes::right;
    view.eye = Eye::right;
    CHECK(make_overlays(plan_key(shot, view, shot.timing.in, Sources::all)).lenses.at(0).camera ==
          1); // only the eye on show
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

TEST_CASE("a view state knows which place shows what, zoomed, panned and turned") {
    ViewState v;
    v.size = {800, 500};
    v.lens = {960, 1200};
    std::mt19937 random(4);
    const auto any = [&](double low, double high) {
        return low + (high - low) * double(random()) / 4294967296.0;
    };
    for (int i = 0; i < 60; ++i) {
        v.mode = i % 3 == 0 ? ViewMode::map : i % 3 == 1 ? ViewMode::window : ViewMode::lens;
        v.half_map = i % 2;
        v.fit();
        v.look_at({any(-400, 400), any(-100, 100), any(-20, 20)}, any(10, 200));
        const QPointF held(any(300, 500), any(150, 350));
        const auto lens = v.lens_pixel(held);
        const auto direction = v.direction_at(held);
        v.zoom_at(held, any(1, 5));
        if (v.mode == ViewMode::lens) {
            CHECK((v.lens_pixel(held) - lens).norm() < 1e-6);
            const QPointF back = v.lens_point(lens);
            CHECK(std::hypot(back.x() - held.x(), back.y() - held.y()) < 1e-6);
        } else if (direction) {
            const auto at = v.point_of(*direction);
            REQUIRE(at);
            const QPointF d = *at - held;
            CHECK(std::hypot(d.x(), d.y()) < 1e-3);
        }
        if (const auto part = v.view(0.5, Filter::linear); part && v.mode == ViewMode::map)
            CHECK(part->region.x + part->region.width <= part->target.width);
        v.pan_by({any(-3000, 3000), any(-3000, 3000)});
        CHECK((v.pan.x() >= 0 && v.pan.x() <= 1 && v.pan.y() >= 0 && v.pan.y() <= 1));
    }
    v.mode = ViewMode::sheet;
    CHECK_FALSE(v.direction_at({10, 10}));
    CHECK_FALSE(v.view(1, Filter::cubic));
    v.lens = {};
    CHECK(v.lens_rect().isEmpty());
}

TEST_CASE("projects are saved, titles say so, recent ones are remembered") {
    Bench b;
    CHECK(b.window.windowTitle().startsWith("p.porb —"));
    b.session().edit_shot("yaw", [](Shot& s) { s.levelling.orientation.yaw_deg = 5; });
    CHECK(b.window.windowTitle().startsWith("p.porb •"));
    QTest::keyClick(&b.window, Qt::Key_S, Qt::ControlModifier);
    CHECK(b.window.windowTitle().startsWith("p.porb —"));
    CHECK(load_project(b.folder / "p.porb").shots[0].levelling.orientation.yaw_deg == 5);
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
    b.window.set_station("seams");
    b.trigger("Sheet view");
    b.window.close();
    MainWindow again(b.folder.path());
    again.restore_session();
    REQUIRE(again.session().shot());
    CHECK(again.session().playhead() == Rational(12, 30));
    CHECK(again.picture().mode() == ViewMode::sheet);
    const int station = again.findChild<OrbitRail*>("orbit_rail")->station();
    CHECK(again.stations()[std::size_t(station)]->id() == "seams");
}

TEST_CASE("a deliverable's form changes its file's ending and what can be set") {
    Bench b;
    b.window.set_station("master");
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
    CHECK(b.shot().timing.rate == FrameRate(30000, 1001));
    b.session().undo();
    CHECK(b.shot().timing.rate == FrameRate(30));
    b.window.set_station("master");
    b.part<QPushButton>("add_deliverable")->click();
    b.part<NumberField>("bit_rate")->setValue(45.5);
    CHECK(b.session().project()->deliverables[0].bit_rate == 45'500'000);
    b.part<NumberField>("bit_rate")->setValue(0);
    CHECK(b.session().project()->deliverables[0].bit_rate == 0);
}

TEST_CASE("the window fits the smallest screen, with its title bar, at every station") {
    Bench b;
    for (const auto& station : b.window.stations()) {
        REQUIRE(b.window.set_station(station->id()));
        QTest::qWait(20);
        INFO(station->id().toStdString() << " " << b.window.minimumSizeHint().height());
        CHECK(b.window.minimumSizeHint().height() <= 690);
        CHECK(b.window.minimumSizeHint().width() <= 1280);
        // Nothing of the panel lies beyond its edge: it does not scroll sideways.
        INFO(station->panel()->minimumSizeHint().width());
        CHECK(station->panel()->minimumSizeHint().width() <= station->panel()->parentWidget()->width());
    }
    // The panel can be made wider, and the picture gives way.
    auto* middle = b.part<QSplitter>("picture_and_panel");
    const int before = middle->sizes().back();
    b.window.resize(2560, 1400);
    QTest::qWait(20);
    CHECK(middle->sizes().back() > before + 300); // all of six cameras beside each other
    drag(middle->handle(1), middle->handle(1)->rect().center(),
         middle->handle(1)->rect().center() - QPoint(100, 0));
    CHECK(middle->sizes().back() > before + 380);
    b.window.close();
    MainWindow again(b.folder.path());
    again.restore_session();
    again.show();
    QTest::qWait(20);
    CHECK(again.findChild<QSplitter*>("picture_and_panel")->sizes().back() > before + 200);
}

TEST_CASE("the memory of all caches is set in the window, shown there, and kept") {
    Bench b;
    b.trigger("Memory for pictures…");
    auto* field = b.part<NumberField>("memory_gb");
    CHECK(field->value() == Approx(double(b.session().library()->bound()->limit()) / 1e9).margin(0.006));
    field->setValue(0.5);
    b.part<QDialog>("memory_dialog")->accept(); // closed otherwise than by its button: nothing is set
    CHECK(b.session().library()->bound()->limit() != 500'000'000);
    QTest::qWait(20);
    b.trigger("Memory for pictures…");
    b.part<NumberField>("memory_gb")->setValue(0.5);
    b.part<QDialog>("memory_dialog")->findChild<QDialogButtonBox*>()->button(QDialogButtonBox::Ok)->click();
    CHECK(b.session().library()->bound()->limit() == 500'000'000);
    CHECK(chosen_memory()->limit() == 500'000'000);
    QSettings().setValue("memory_gb", "nan");
    CHECK(chosen_memory()->limit() == CacheBound::default_bytes());
    QSettings().remove("memory_gb");
}

TEST_CASE("what is traced ends with its station, and dropped files lead to where they belong") {
    Bench b;
    b.trigger("Trace a region to avoid");
    REQUIRE(b.part<QToolButton>("avoid_region")->isChecked());
    REQUIRE(b.window.set_station("match"));
    CHECK(b.window.picture().tool() == nullptr);
    CHECK_FALSE(b.part<QToolButton>("avoid_region")->isChecked());
    save_rig(b.shot().rig, b.folder / "own.rig.json");
    QTimer::singleShot(50, [] { // what the rig would change is looked at first
        if (auto* look = qobject_cast<QDialog*>(QApplication::activeModalWidget())) look->reject();
    });
    b.window.add_files({QString::fromStdString((b.folder / "own.rig.json").string())});
    const auto station = std::size_t(b.part<OrbitRail>("orbit_rail")->station());
    CHECK(b.window.stations()[station]->id() == "rig");
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
    REQUIRE(list->count() == 1);
    CHECK(list->item(0)->text().startsWith("Nothing is called that"));
    CHECK_FALSE(list->item(0)->flags() & Qt::ItemIsEnabled);
    go.setProperty("also", "lens camera");
    line->setText("camera"); // another word for it
    REQUIRE(list->count() == 1);
    CHECK(list->item(0)->text() == "Go to Rig");
    line->setText("save");
    QTest::keyClick(line, Qt::Key_Down);
    QTest::keyClick(line, Qt::Key_Return);
    CHECK(saved == 1);
}

TEST_CASE("lists of shortcuts name every key once") {
    QAction a("One"), b("Two");
    a.setShortcut(QKeySequence("Ctrl+1"));
    a.setProperty("group", "Seams");
    a.setProperty("also", "ghost");
    ShortcutSheet sheet({&a, &b}, nullptr);
    sheet.show();
    CHECK(sheet.height() <= QGuiApplication::primaryScreen()->availableSize().height());
    const auto shown = [&](const QString& text) {
        const auto labels = sheet.findChildren<QLabel*>();
        return std::count_if(labels.begin(), labels.end(),
                             [&](const QLabel* l) { return l->text() == text && l->isVisible(); });
    };
    CHECK(shown("One") == 1);
    CHECK(shown("SEAMS") == 1);
    CHECK(shown("Two") == 0); // it has no key
    auto* search = sheet.findChild<QLineEdit*>("shortcut_search");
    search->setText("ghost"); // by another word of the trade
    CHECK(shown("One") == 1);
    search->setText("nowhere");
    CHECK(shown("One") == 0);
    CHECK(shown("SEAMS") == 0);
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
    const int right = eye->findText("Right eye");
    REQUIRE(right > 0);
    eye->setCurrentIndex(right);
    emit eye->activated(right);
    b.settle();
    CHECK(b.grey(middle) > left + 80);
}
