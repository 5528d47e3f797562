// Gather and Rig as an artist works in them: by mouse alone, by keyboard alone.
#include "app/bench.h"
#include "app/picture/rig_view.h"
#include "app/stations/gather/align_strip.h"
#include "app/stations/gather/gather_panel.h"
#include "app/stations/gather/shot_list.h"
#include "app/stations/gather/take_tree.h"
#include "app/stations/rig/rig_dialogs.h"
#include "app/stations/rig/rig_panel.h"
#include "base/angle.h"
#include "media/writer.h"
#include "optics/calibration.h"
#include "project/origins.h"

#include <QCheckBox>
#include <QDialog>
#include <QLineEdit>
#include <QMessageBox>
#include <QMimeData>
#include <QTableWidget>
#include <QToolButton>

#include <catch2/catch.hpp>

using namespace porb;
using namespace porb::app;
using namespace porb::test;

namespace {

/// A grey disc on black in each half or the whole, with the hall's sound from `start_s` on.
void write_disc_movie(const std::filesystem::path& path, int circles, double start_s, unsigned microphone) {
    VideoFormat format;
    format.width = 160 * circles, format.height = 160;
    format.fast = true;
    format.sound = SoundFormat{48000, 1, 96000};
    format.metadata["creation_time"] = circles == 2 ? "2026-05-01T11:00:00Z" : "2026-05-01T10:00:00Z";
    VideoWriter writer(path, format);
    for (int n = 0; n < 120; ++n) {
        Picture p(format.width, format.height);
        for (int y = 0; y < 160; ++y)
            for (int x = 0; x < format.width; ++x) {
                const bool in = std::hypot(x % 160 + 0.5 - 80, y + 0.5 - 80) < 74;
                const float v = in ? 0.3f + 0.4f * float((x / 8 + y / 8 + n) % 2) : 0.0f;
                set_pixel(p, x, y, {v, v, v, 1});
            }
        writer.write(p);
    }
    writer.write_sound(sim::hall_sound(start_s, 4 * 48000, 48000, {microphone, 1, true, 15.0}));
    writer.finish();
}

const double kStarts[] = {0, 0.35, -0.2, 0.1, 0.433, -0.05};

/// Six files of a ring and one with two circles.
void write_takes(const TempFolder& folder) {
    for (int i = 0; i < 6; ++i)
        write_disc_movie(folder / (std::string("hall_") + char('A' + i) + ".mp4"), 1, kStarts[i],
                         unsigned(i));
    write_disc_movie(folder / "floor.mp4", 2, 0, 9);
}

/// Presses what is in an open dialog a moment from now, since exec() does not come back before.
template <class Work>
void soon(Work work) {
    QTimer::singleShot(150, [work] {
        auto* dialog = QApplication::activeModalWidget();
        if (dialog) work(*dialog);
    });
}

QString message(Bench& b) {
    return b.part<QLabel>("message")->toolTip();
}
} // namespace

TEST_CASE("by mouse: seven files become two aligned shots with profiles and found circles") {
    Bench b(false);
    TempFolder media;
    write_takes(media);
    QMimeData data;
    data.setUrls({QUrl::fromLocalFile(QString::fromStdString(media.path().string()))});
    QDragEnterEvent enter(QPoint(300, 300), Qt::CopyAction, &data, Qt::LeftButton, {});
    QApplication::sendEvent(&b.window, &enter);
    QDropEvent drop(QPointF(300, 300), Qt::CopyAction, &data, Qt::LeftButton, {});
    QApplication::sendEvent(&b.window, &drop);
    auto* make = b.part<QPushButton>("make_shots");
    REQUIRE(QTest::qWaitFor([&] { return make->isVisible(); }, 20000));
    CHECK(make->text() == "Make 2 shots");
    CHECK(b.part<QLabel>("take_words")->text().contains("names differ only in"));
    QTest::mouseClick(make, Qt::LeftButton);
    REQUIRE(b.session().project()->shots.size() == 2);
    CHECK(b.shot().rig.cameras.size() == 6);
    CHECK(QString::fromStdString(b.shot().rig.name).contains("ring of six"));
    CHECK(b.part<ShotList>("shot_list")->count() == 2);

    QTest::mouseClick(b.part<QPushButton>("align_time"), Qt::LeftButton);
    CHECK(b.part<AlignStrip>("align_strip")->isVisible());
    QTest::mouseClick(b.part<QPushButton>("find_offsets"), Qt::LeftButton);
    REQUIRE(QTest::qWaitFor([&] { return !b.station<AlignStrip>().is_busy(); }, 60000));
    for (std::size_t i = 0; i < 6; ++i) {
        INFO(message(b).toStdString());
        CHECK(b.shot().cameras[i].offset.to_double() == Approx(-kStarts[i]).margin(0.05 / 30));
        if (i) CHECK(origin_of(b.shot().cameras[i], CameraValue::offset).kind == OriginKind::found);
    }
    CHECK(b.session().history().undo_label() == "Align time by sound");
    const auto aligned_offset = b.shot().cameras[1].offset;
    b.session().undo(); // one step
    CHECK(b.shot().cameras[1].offset == Seconds(0));
    b.session().redo();
    CHECK(b.shot().cameras[1].offset == aligned_offset);

    // A lane dragged to the right makes its source later, as one step by hand.
    auto* lanes = b.part<AlignLanes>("align_lanes");
    drag(lanes, QPoint(400, 45), QPoint(440, 45));
    CHECK(b.shot().cameras[1].offset < aligned_offset);
    CHECK(origin_of(b.shot().cameras[1], CameraValue::offset).kind == OriginKind::hand);
    b.session().undo();
    CHECK(b.shot().cameras[1].offset == aligned_offset);

    b.window.set_station("rig");
    QTest::mouseClick(b.part<QPushButton>("find_circles"), Qt::LeftButton);
    REQUIRE(QTest::qWaitFor([&] { return b.part<QPushButton>("find_circles")->isEnabled(); }, 60000));
    for (const auto& c : b.shot().rig.cameras) {
        CHECK(c.lens.circle.radius_px == Approx(74).margin(0.003 * 160 + 0.2));
        CHECK(field_of_view_deg(c.lens) == Approx(190).margin(0.01)); // the glass sees as much as before
    }
    CHECK(message(b).contains("6 image circles found"));
}

TEST_CASE("by keyboard: the same, from the proposal to the second shot") {
    Bench b(false);
    TempFolder media;
    write_takes(media);
    b.window.add_files({QString::fromStdString(media.path().string())});
    auto* tree = b.part<TakeTree>("take_tree");
    REQUIRE(QTest::qWaitFor([&] { return tree->isVisible(); }, 20000));
    QApplication::setActiveWindow(&b.window);
    tree->setFocus();
    QTest::keyClick(tree, Qt::Key_Return);
    REQUIRE(b.session().project()->shots.size() == 2);
    QTest::keyClick(&b.window, Qt::Key_L, Qt::ControlModifier);
    REQUIRE(QTest::qWaitFor([&] { return !b.station<AlignStrip>().is_busy(); }, 60000));
    CHECK(b.shot().cameras[4].offset.to_double() == Approx(-kStarts[4]).margin(0.05 / 30));
    QTest::keyClick(&b.window, Qt::Key_PageDown, Qt::ControlModifier);
    CHECK(b.shot().rig.cameras.size() == 2);
    CHECK(b.shot().cameras[0].media == b.shot().cameras[1].media);
    QTest::keyClick(&b.window, Qt::Key_C); // circles
    REQUIRE(QTest::qWaitFor(
        [&] {
            return b.part<QPushButton>("find_circles")->isEnabled() &&
                   origin_of(b.shot().cameras[1], CameraValue::circle).kind == OriginKind::found;
        },
        60000));
    CHECK(b.shot().rig.cameras[1].lens.circle.center_px.x() == Approx(240).margin(1));
    // A single source has nothing to be aligned with, and that is said.
    QTest::keyClick(&b.window, Qt::Key_L, Qt::ControlModifier);
    REQUIRE(QTest::qWaitFor([&] { return !b.station<AlignStrip>().is_busy(); }, 60000));
    CHECK(message(b).contains("single source"));
    for (auto* box : b.window.findChildren<QMessageBox*>()) box->close();
    // Offsets by keys: a frame, a tenth.
    QApplication::setActiveWindow(&b.window);
    QTest::keyClick(&b.window, Qt::Key_PageUp, Qt::ControlModifier);
    b.session().select_camera("B");
    const Seconds before = b.shot().cameras[1].offset;
    QTest::keyClick(&b.window, Qt::Key_Right, Qt::ControlModifier);
    QTest::keyClick(&b.window, Qt::Key_Left, Qt::ControlModifier | Qt::ShiftModifier);
    CHECK(b.shot().cameras[1].offset - before == Rational(9, 300));
}

TEST_CASE("a file is moved to another take by keys, and odd takes say what is odd") {
    TakeTree tree;
    tree.show();
    std::vector<FoundFile> files;
    for (const char* name : {"/t/hall_A.mp4", "/t/hall_B.mp4", "/t/hall_D.mp4", "/t/other.mp4"}) {
        FoundFile f;
        f.info.ref = {name, MediaKind::video, FrameRate(30)};
        f.info.width = f.info.height = 960;
        f.info.duration = Seconds(name[3] == 'o' ? 40 : 10);
        f.circles = 1;
        files.push_back(f);
    }
    tree.set_takes(propose_takes(files), files);
    REQUIRE(tree.wanted().size() == 2);
    CHECK(tree.words().contains("camera C is absent"));
    tree.setCurrentItem(tree.topLevelItem(1)->childCount() ? tree.topLevelItem(1)->child(0) : nullptr);
    const auto moved = tree.current_file();
    REQUIRE(moved == 3u);
    QTest::keyClick(&tree, Qt::Key_X, Qt::ControlModifier);
    tree.setCurrentItem(tree.topLevelItem(0));
    QTest::keyClick(&tree, Qt::Key_V, Qt::ControlModifier);
    REQUIRE(tree.wanted().size() == 1);
    CHECK(tree.wanted()[0].files.size() == 4);
    CHECK(tree.words().contains("shorter"));
    tree.move_file(0, 1); // onto free ground: a take of its own
    CHECK(tree.wanted().size() == 2);
    tree.topLevelItem(0)->setCheckState(0, Qt::Unchecked);
    CHECK(tree.wanted().size() == 1);
}

TEST_CASE("every command is safe in an empty window") {
    Bench b(false);
    for (const char* name :
         {"Use the video's own rig…", "Copy the lens", "Paste the pose", "Lock or unlock the lens",
          "Find the image circles", "Compare with the profile…", "Copy the circle to alike cameras",
          "Find the time offsets", "Next shot", "Set a marker here…", "To the next marker",
          "Later source: nudge by a frame", "Reset the lens to the profile"})
        b.trigger(name);
    CHECK(b.session().project()->shots.empty());
    CHECK_FALSE(b.session().history().can_undo());
}

TEST_CASE("shots are chosen, renamed and removed; the picture follows") {
    Bench b;
    b.session().edit("another", [&](Project& p) {
        Shot second = p.shots[0];
        second.id = free_shot_id(p), second.name = "second";
        second.rig.cameras[0].pose.turn.yaw_deg = 40;
        p.shots.push_back(second);
    });
    auto* list = b.part<ShotList>("shot_list");
    REQUIRE(list->count() == 2);
    list->setCurrentRow(1);
    CHECK(b.shot().name == "second");
    b.session().edit_shot("turn", [](Shot& s) { s.levelling.orientation.yaw_deg = 5; });
    CHECK(b.session().project()->shots[0].levelling.orientation.yaw_deg == 0);
    CHECK(b.session().project()->shots[1].levelling.orientation.yaw_deg == 5);
    list->item(1)->setText("north door");
    CHECK(b.shot().name == "north door");
    QTest::mouseClick(b.part<QPushButton>("remove_shot"), Qt::LeftButton);
    CHECK(b.session().project()->shots.size() == 1);
    CHECK(b.session().project()->media.size() == 1); // still needed by the first
    b.session().undo();
    CHECK(b.session().project()->shots.size() == 2);
}

TEST_CASE("lens facts are views of one value, and say where they come from") {
    Bench b;
    b.window.set_station("rig");
    auto* table = b.part<RigTable>("rig_table");
    auto* model = qobject_cast<RigModel*>(table->model());
    const auto row = [&](const QString& name) {
        for (int r = 0; r < model->rowCount(); ++r)
            if (model->headerData(r, Qt::Vertical, Qt::DisplayRole).toString() == name) return r;
        FAIL("no row " << name.toStdString());
        return 0;
    };
    const auto set = [&](const QString& name, const char* text, int column = 0) {
        return model->setData(model->index(row(name), column), text, Qt::EditRole);
    };
    const auto shown = [&](const QString& name) {
        return model->data(model->index(row(name), 0), Qt::DisplayRole).toString();
    };
    CHECK(shown("Focal length  mm") == "—");
    CHECK_FALSE(set("Focal length  mm", "2"));
    CHECK(message(b).contains("pixel pitch"));
    CHECK(set("Sensor width  mm", "4.8"));
    CHECK(set("Focal length  mm", "0.6"));
    const Lens& lens = b.shot().rig.cameras[0].lens;
    CHECK(lens.focal_px == Approx(0.6 / 4.8 * lens.width));
    CHECK(set("View across circle  °", "180"));
    CHECK(shown("Focal length  mm").toDouble() ==
          Approx(b.shot().rig.cameras[0].lens.focal_px * 4.8 / lens.width).margin(1e-4));
    table->setCurrentIndex(model->index(row("Focal length  px"), 0));
    CHECK(b.part<QLabel>("value_origin")->text().contains("set by hand"));
    // Alike cameras together: values alike, places and directions moved alike.
    b.part<QCheckBox>("alike_together")->setChecked(true);
    CHECK(set("View across circle  °", "184"));
    CHECK(field_of_view_deg(b.shot().rig.cameras[1].lens) == Approx(184));
    const double x0 = b.shot().rig.cameras[0].lens.center_px.x(),
                 x1 = b.shot().rig.cameras[1].lens.center_px.x();
    CHECK(model->setData(model->index(row("Centre x  px"), 0), QString::number(x0 + 2), Qt::EditRole));
    CHECK(b.shot().rig.cameras[1].lens.center_px.x() == Approx(x1 + 2));
    b.part<QCheckBox>("alike_together")->setChecked(false);
    // Lock, and the edit is refused with words; undo of the lock opens it.
    table->setCurrentIndex(model->index(row("Focal length  px"), 0));
    b.trigger("Lock or unlock the lens");
    CHECK(b.shot().cameras[0].lens_locked);
    CHECK_FALSE(set("View across circle  °", "170"));
    CHECK(message(b).contains("lens of camera A is locked"));
    b.trigger("Lock or unlock the lens");
    CHECK(set("View across circle  °", "170"));
    // Copy and paste keep the circle where the light is.
    b.trigger("Copy the lens");
    const Vec2 circle = b.shot().rig.cameras[1].lens.circle.center_px;
    table->setCurrentIndex(model->index(4, 1));
    b.trigger("Paste the lens");
    CHECK(field_of_view_deg(b.shot().rig.cameras[1].lens) == Approx(170));
    CHECK((b.shot().rig.cameras[1].lens.circle.center_px - circle).norm() < 1e-9);
    for (auto* box : b.window.findChildren<QMessageBox*>()) box->close();
}

TEST_CASE("a profile is searched and taken, saved, and returned to") {
    Bench b;
    TempFolder home;
    qputenv("XDG_DATA_HOME", QByteArray::fromStdString(home.path().string()));
    b.window.set_station("rig");
    soon([](QWidget& dialog) {
        auto* words = dialog.findChild<QLineEdit*>("profile_words");
        REQUIRE(words);
        QTest::keyClicks(words, "two fisheyes 960");
        QTest::keyClick(words, Qt::Key_Return);
    });
    QTest::keyClick(&b.window, Qt::Key_P);
    CHECK(b.shot().rig.name == "two fisheyes in one picture, 960 px");
    CHECK(b.shot().rig.cameras[0].lens.width == 400); // scaled to the pictures
    CHECK(origin_of(b.shot().cameras[0], CameraValue::turn) ==
          Origin{OriginKind::profile, "two fisheyes in one picture, 960 px"});
    CHECK(!b.shot().cameras[0].media.empty());
    const Rig started = b.shot().rig;
    b.session().edit_shot("turn", [](Shot& s) { s.rig.cameras[1].pose.turn.pitch_deg = 3; });
    soon([](QWidget& dialog) {
        auto* line = dialog.findChild<QLineEdit*>();
        line->setText("workshop pair");
        QTest::keyClick(line, Qt::Key_Return);
    });
    b.trigger("Save the rig as a profile…");
    CHECK(saved_profiles(profile_folders()).size() == 1);
    soon([](QWidget& dialog) { // what has changed since: the pitch of B alone
        CHECK(dialog.findChild<QTableWidget*>("comparison_table")->rowCount() == 1);
        QTest::keyClick(&dialog, Qt::Key_Escape);
    });
    b.trigger("Compare with the profile…");
    CHECK(b.shot().rig.cameras[1].pose.turn.pitch_deg == 3);
    auto* table = b.part<RigTable>("rig_table");
    table->setCurrentIndex(table->model()->index(4, 1));
    b.trigger("Reset the pose to the profile");
    CHECK(b.shot().rig.cameras[1].pose == started.cameras[1].pose);
    qunsetenv("XDG_DATA_HOME");
}

TEST_CASE("a video's own rig is offered, compared, and taken or left") {
    Bench b(false);
    sim::SimOptions o;
    o.circle_size = 96, o.seconds = 0.2, o.truth_width = 0, o.faults.pose = o.faults.lens = true;
    sim::simulate(o, b.folder / "sim", {}, {});
    b.window.add_files({QString::fromStdString((b.folder / "sim/hall_dual.mp4").string())});
    REQUIRE(QTest::qWaitFor([&] { return b.session().shot() != nullptr; }, 20000));
    CHECK(b.shot().calibration.motion); // its motion track is kept with the shot
    b.window.set_station("rig");
    CHECK(b.part<QLabel>("embedded_words")->text().contains("carries a rig of its own"));
    const Rig before = b.shot().rig;
    soon([](QWidget& dialog) {
        CHECK(dialog.findChild<QTableWidget*>("comparison_table")->rowCount() > 4);
        QTest::keyClick(&dialog, Qt::Key_Escape);
    });
    QTest::mouseClick(b.part<QPushButton>("use_embedded"), Qt::LeftButton);
    CHECK(b.shot().rig == before);
    soon([](QWidget& dialog) {
        QTest::mouseClick(dialog.findChild<QPushButton*>("use_rig"), Qt::LeftButton);
    });
    QTest::mouseClick(b.part<QPushButton>("use_embedded"), Qt::LeftButton);
    const Rig truth = load_rig(b.folder / "sim/truth.rig.json");
    CHECK(b.shot().rig.cameras[1].lens == truth.cameras[1].lens);
    CHECK(b.shot().rig.cameras[1].pose == truth.cameras[1].pose);
    CHECK(origin_of(b.shot().cameras[1], CameraValue::turn).kind == OriginKind::file);
    CHECK_FALSE(b.part<QLabel>("embedded_words")->isVisible());
    b.session().undo();
    CHECK(b.shot().rig == before);
}

TEST_CASE("the rig view turns, and a click on a camera chooses it") {
    Bench b;
    b.window.picture().set_mode(ViewMode::rig);
    auto* view = b.part<RigView>("rig_view");
    REQUIRE(view->isVisible());
    const QImage before = view->grab().toImage();
    drag(view, QPoint(200, 300), QPoint(320, 340));
    CHECK(view->grab().toImage() != before);
    b.session().select_camera("A");
    QTest::mouseClick(view, Qt::LeftButton, {}, view->body_of(1).toPoint());
    CHECK(b.session().selected_camera() == "B");
    QTest::keyClick(view, Qt::Key_Left);
    b.window.picture().set_mode(ViewMode::map);
    CHECK_FALSE(view->isVisible());
}

TEST_CASE("markers are set, named, gone to, and bound the used part") {
    Bench b;
    const auto name_marker = [&](const char* name) {
        auto* box = b.window.findChild<QDialog*>("marker_box");
        REQUIRE(box);
        QTest::keyClicks(box->findChild<QLineEdit*>("marker_name"), name);
        QTest::keyClick(box, Qt::Key_Return);
        QTest::qWait(20);
        QApplication::setActiveWindow(&b.window);
    };
    b.session().set_playhead(Rational(6, 30));
    QTest::keyClick(&b.window, Qt::Key_M);
    name_marker("door");
    b.session().set_playhead(Rational(21, 30));
    QTest::keyClick(&b.window, Qt::Key_M);
    name_marker("bow");
    REQUIRE(b.shot().timing.markers.size() == 2);
    CHECK(b.shot().timing.markers[0].name == "door");
    b.session().set_playhead(Rational(10, 30));
    QTest::keyClick(&b.window, Qt::Key_M, Qt::ControlModifier);
    CHECK(b.shot().timing.in == Rational(6, 30));
    CHECK(b.shot().timing.out == Rational(21, 30));
    b.trigger("To the next marker");
    CHECK(b.session().playhead() == Rational(21, 30));
    b.trigger("To the previous marker");
    CHECK(b.session().playhead() == Rational(6, 30));
    auto* ruler = b.part<TimeRuler>("time_ruler");
    const QPoint at(int(ruler->x_of(0.2)), ruler->height() - 6);
    drag(ruler, at, at + QPoint(80, 0));
    CHECK(Rational(6, 30) < b.shot().timing.markers[0].time);
}

TEST_CASE("flicker shows one camera at a time; the circle is moved by keys in the lens view") {
    Bench b;
    b.part<QToolButton>("show_flicker")->setChecked(true);
    QTest::qWait(1500);
    b.part<QToolButton>("show_flicker")->setChecked(false);
    b.settle();
    CHECK(b.shot().cameras[0].used); // nothing of the project was touched
    b.window.picture().set_mode(ViewMode::lens);
    b.settle();
    const double x = b.shot().rig.cameras[0].lens.circle.center_px.x(),
                 r = b.shot().rig.cameras[0].lens.circle.radius_px;
    QTest::keyClick(&b.window.picture(), Qt::Key_Right);
    QTest::keyClick(&b.window.picture(), Qt::Key_Right, Qt::ShiftModifier);
    QTest::keyClick(&b.window.picture(), Qt::Key_BracketLeft);
    CHECK(b.shot().rig.cameras[0].lens.circle.center_px.x() == Approx(x + 1.1));
    CHECK(b.shot().rig.cameras[0].lens.circle.radius_px == Approx(r - 1));
    const QImage before = b.window.picture().grab().toImage();
    const QPointF rim = b.window.picture().lens_point(b.shot().rig.cameras[0].lens.circle.center_px +
                                                      Vec2(b.shot().rig.cameras[0].lens.circle.radius_px, 0));
    QTest::mouseMove(&b.window.picture(), rim.toPoint());
    QTest::qWait(200);
    CHECK(b.window.picture().grab().toImage() != before); // the magnifier
}
