// The window, driven with real events through the names of its parts. Runs offscreen or on any display.
#include "app/bench.h"

#include "app/shell/main_window.h"
#include "app/stations/rig/rig_panel.h"
#include "app/widgets/number_field.h"
#include "base/angle.h"
#include "base/file.h"
#include "master/inspect.h"
#include "media/still.h"
#include "project/autosave.h"
#include "support/odd_exr.h"

#include <QAction>
#include <QApplication>
#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QMessageBox>
#include <QMimeData>
#include <QPushButton>
#include <QSettings>
#include <QTableWidget>
#include <QTest>
#include <QTimer>
#include <QToolButton>

#include <fstream>
#include <limits>
#include <sys/wait.h>
#include <unistd.h>

using namespace porb;
using namespace porb::app;
using namespace porb::test;

TEST_CASE("an empty window says what to do and offers to do it") {
    Bench b(false);
    QTest::qWait(50);
    bool offers_files = false, offers_demo = false;
    for (auto* button : b.window.picture().findChildren<QPushButton*>()) {
        if (!button->isVisible()) continue;
        offers_files = offers_files || button->text() == "Add files…";
        offers_demo = offers_demo || button->text() == "Open the demo take";
    }
    CHECK(offers_files);
    CHECK(offers_demo);
    CHECK(b.session().shot() == nullptr);
    for (const char* name : {"Undo", "Set in here", "Play or pause", "Next camera",
                             "Render the selected deliverable", "Turn the selected camera to the back"})
        b.trigger(name);
    for (const auto& s : b.window.stations()) CHECK(b.window.set_station(s->id())); // nothing may fall over
    CHECK_FALSE(b.window.set_station("nowhere"));
    for (const char* name : {"Window view", "Lens view", "Sheet view", "Map view"}) b.trigger(name);
    QTest::qWait(50);
}

TEST_CASE("every demo take opens, its sources there") {
    Bench b(false);
    for (const char* name : {"dual", "pair", "ring", "stereo"}) {
        INFO(name);
        b.window.open_demo(name);
        REQUIRE(b.session().shot());
        CHECK(missing_media(*b.session().project()).empty());
        for (const ShotCamera& c : b.shot().cameras) CHECK_FALSE(c.media.empty());
        CHECK((b.shot().stereo.from == EyesFrom::distances) == (std::string(name) == "stereo"));
    }
}

TEST_CASE("the demo loads, and a lens changed by mouse shows at once and is undone") {
    Bench b(false);
    b.window.open_demo("dual");
    REQUIRE(b.session().shot());
    b.settle();
    b.window.set_station("rig");
    const QImage before = b.window.picture().grab().toImage();

    auto* table = b.part<RigTable>("rig_table");
    int yaw_row = -1;
    for (int r = 0; r < table->model()->rowCount(); ++r)
        if (table->model()->headerData(r, Qt::Vertical, Qt::DisplayRole).toString().startsWith("Yaw"))
            yaw_row = r;
    REQUIRE(yaw_row > 0);
    table->scrollTo(table->model()->index(yaw_row, 1));
    const QPoint cell = table->visualRect(table->model()->index(yaw_row, 1)).center();
    drag(table->viewport(), cell, cell + QPoint(-60, 0));
    CHECK(b.shot().rig.cameras[1].pose.turn.yaw_deg == Approx(174).margin(0.01)); // 60 steps of 0.1 degree
    b.settle();
    const QImage turned = b.window.picture().grab().toImage();
    CHECK(turned != before);
    CHECK(b.session().history().undo_label() == "Set yaw of B");

    b.session().undo();
    b.settle();
    CHECK(b.window.picture().grab().toImage() == before); // the same value gives the same picture
}

TEST_CASE("the whole of it: change by mouse, undo, scrub, render") {
    Bench b;
    b.window.set_station("rig");
    auto* table = b.part<RigTable>("rig_table");
    const QPoint cell = table->visualRect(table->model()->index(2, 0)).center(); // field of view of A
    const double fov = field_of_view_deg(b.shot().rig.cameras[0].lens);
    drag(table->viewport(), cell, cell + QPoint(-50, 0));
    CHECK(field_of_view_deg(b.shot().rig.cameras[0].lens) == Approx(fov - 5).margin(0.05));
    QTest::keyClick(&b.window, Qt::Key_Z, Qt::ControlModifier);
    CHECK(field_of_view_deg(b.shot().rig.cameras[0].lens) ==
          Approx(fov).margin(1e-9)); // the whole drag was one step
    QTest::keyClick(&b.window, Qt::Key_Z, Qt::ControlModifier | Qt::ShiftModifier);
    CHECK(field_of_view_deg(b.shot().rig.cameras[0].lens) == Approx(fov - 5).margin(0.05));
    QTest::keyClick(&b.window, Qt::Key_Z, Qt::ControlModifier);

    b.settle();
    const QPoint middle = b.window.picture().rect().center();
    auto* ruler = b.part<TimeRuler>("time_ruler");
    drag(ruler, QPoint(int(ruler->x_of(0.1)), 40), QPoint(int(ruler->x_of(0.7)), 40));
    CHECK(b.session().playhead() == Rational(21, 30));
    b.settle();
    CHECK(b.grey(middle) == Approx(255 * 21.5 / 30).margin(4));
    CHECK(b.part<QLabel>("time_label")->text() == "00:00.700");

    b.window.set_station("master");
    b.part<QPushButton>("add_deliverable")->click();
    REQUIRE(b.session().project()->deliverables.size() == 1);
    auto* width = b.part<NumberField>("deliverable_width");
    width->setFocus();
    width->selectAll();
    QTest::keyClicks(width, "256 px");
    QTest::keyClick(width, Qt::Key_Return);
    CHECK(b.session().project()->deliverables[0].width == 256);
    CHECK(b.part<QLabel>("preflight")->text().startsWith("●"));
    const auto file = b.session().project()->deliverables[0].path;
    CHECK(file == b.folder / "p-sphere-h264.mp4");
    QTest::mouseClick(b.part<QPushButton>("render_button"), Qt::LeftButton);
    REQUIRE(QTest::qWaitFor([&] { return !b.window.queue().is_busy(); }, 60000));
    CHECK(b.window.queue().count(RenderQueue::State::done) == 1);
    CHECK(b.part<QLabel>("render_state")->text().startsWith("Done"));
    const Inspection i = inspect(file);
    CHECK(i.info.width == 256);
    CHECK(i.problems.empty());
}

TEST_CASE("the map shows the rig's truth and the window looks where it is dragged") {
    Bench b;
    b.trigger("Window view");
    b.settle();
    drag(&b.window.picture(), QPoint(400, 200), QPoint(200, 200));
    CHECK(b.window.picture().look().yaw_deg == Approx(200 * 90.0 / b.window.picture().width()).margin(0.5));
    const double fov = b.window.picture().field_of_view();
    QWheelEvent wheel(QPointF(100, 100), b.window.picture().mapToGlobal(QPointF(100, 100)), {},
                      QPoint(0, 240), Qt::NoButton, {}, Qt::NoScrollPhase, false);
    QApplication::sendEvent(&b.window.picture(), &wheel);
    CHECK(b.window.picture().field_of_view() < fov);
    QTest::keyClick(&b.window.picture(), Qt::Key_Up);
    CHECK(b.window.picture().look().pitch_deg == Approx(5));
    b.trigger("Look ahead, fit the picture");
    CHECK(b.window.picture().look().yaw_deg == 0);
}

TEST_CASE("the image circle is dragged on the picture") {
    Bench b;
    b.trigger("Lens view");
    b.settle();
    const Lens before = b.shot().rig.cameras[0].lens;
    auto& picture = b.window.picture();
    const QPoint rim =
        picture.lens_point(before.circle.center_px + Vec2(0, before.circle.radius_px)).toPoint();
    const QPoint inner =
        picture.lens_point(before.circle.center_px + Vec2(0, before.circle.radius_px * 0.9)).toPoint();
    drag(&picture, rim, inner);
    const Lens smaller = b.shot().rig.cameras[0].lens;
    CHECK(smaller.circle.radius_px == Approx(before.circle.radius_px * 0.9).margin(1));
    CHECK(field_of_view_deg(smaller) ==
          Approx(field_of_view_deg(before)).margin(0.01)); // the glass is the same
    const QPoint centre = picture.lens_point(before.circle.center_px).toPoint();
    drag(&picture, centre, centre + QPoint(20, 0));
    CHECK(b.shot().rig.cameras[0].lens.circle.center_px.x() > before.circle.center_px.x() + 3);
    b.session().undo();
    b.session().undo();
    CHECK(b.shot().rig.cameras[0].lens == before);
}

TEST_CASE("an impossible lens is refused with words and nothing changes") {
    Bench b;
    b.window.set_station("rig");
    const Rig before = b.shot().rig;
    auto* model = b.part<RigTable>("rig_table")->model();
    CHECK_FALSE(model->setData(model->index(4, 0), "-40", Qt::EditRole));   // focal length
    CHECK_FALSE(model->setData(model->index(13, 0), "-0.9", Qt::EditRole)); // k1 that bends back
    CHECK_FALSE(model->setData(model->index(4, 0), "long", Qt::EditRole));
    CHECK(b.shot().rig == before);
    CHECK_FALSE(b.part<QLabel>("message")->toolTip().isEmpty());
    CHECK(model->setData(model->index(4, 0), "60.5 px", Qt::EditRole)); // units are understood
    CHECK(b.shot().rig.cameras[0].lens.focal_px == 60.5);
    for (auto* box : b.window.findChildren<QMessageBox*>()) box->close();
}

TEST_CASE("the sphere is levelled by dragging what is under the pointer") {
    Bench b;
    b.window.set_station("level");
    auto& picture = b.window.picture();
    const auto from = picture.point_of(Vec3(0.1, 0, 1).normalized()),
               to = picture.point_of(Vec3(0.5, -0.3, 1).normalized());
    REQUIRE(from);
    REQUIRE(to);
    drag(&picture, from->toPoint(), to->toPoint());
    // What was at `from` is now at `to`: rotate it by the new orientation and look.
    const Vec3 moved = rotation_of(b.shot().levelling.orientation) * Vec3(0.1, 0, 1).normalized();
    CHECK((moved - Vec3(0.5, -0.3, 1).normalized()).norm() < 0.02);
    b.session().undo();
    CHECK(b.shot().levelling.orientation == Turn{});
    b.part<QCheckBox>("hold_pitch_roll")->setChecked(true);
    drag(&picture, from->toPoint(), to->toPoint());
    CHECK(b.shot().levelling.orientation.pitch_deg == Approx(0).margin(1e-9));
    CHECK(b.shot().levelling.orientation.roll_deg == Approx(0).margin(1e-9));
    CHECK(b.shot().levelling.orientation.yaw_deg ==
          Approx(degrees(std::atan2(0.5, 1) - std::atan2(0.1, 1))).margin(1));
    auto* roll = b.part<NumberField>("level_roll");
    roll->setFocus();
    roll->selectAll();
    QTest::keyClicks(roll, "-3.5 deg");
    QTest::keyClick(roll, Qt::Key_Return);
    CHECK(b.shot().levelling.orientation.roll_deg == Approx(-3.5));
}

TEST_CASE("reach and feather are set for several cameras together") {
    Bench b;
    b.window.set_station("seams");
    auto* table = b.part<QTableWidget>("seams_table");
    auto* reach = b.part<NumberField>("reach");
    table->clearSelection();
    reach->setValue(95); // none selected: all
    CHECK(b.shot().cameras[0].reach_deg == 95);
    CHECK(b.shot().cameras[1].reach_deg == 95);
    b.session().undo();
    table->selectRow(1);
    b.part<NumberField>("feather")->setValue(7);
    CHECK(b.shot().cameras[0].feather_deg == 4);
    CHECK(b.shot().cameras[1].feather_deg == 7);
    table->item(0, 0)->setCheckState(Qt::Unchecked);
    CHECK_FALSE(b.shot().cameras[0].used);
    b.settle();
}

TEST_CASE("one action turns the back lens round") {
    Bench b;
    b.window.set_station("rig");
    b.session().edit_shot("start", [](Shot& s) { s.rig.cameras[1].pose.turn = {}; });
    b.session().select_camera("B");
    QTest::mouseClick(b.part<QPushButton>("turn_back"), Qt::LeftButton);
    CHECK(b.shot().rig.cameras[1].pose.turn.yaw_deg == 180);
}

TEST_CASE("dropped files become a shot: one file with two circles, then sources by hand") {
    Bench b(false);
    write_counting_movie(b.folder / "two.mp4", {.width = 320, .height = 160});
    QMimeData data;
    data.setUrls({QUrl::fromLocalFile(QString::fromStdString((b.folder / "two.mp4").string()))});
    QDragEnterEvent enter(QPoint(300, 300), Qt::CopyAction, &data, Qt::LeftButton, {});
    QApplication::sendEvent(&b.window, &enter);
    CHECK(enter.isAccepted());
    QDropEvent drop(QPointF(300, 300), Qt::CopyAction, &data, Qt::LeftButton, {});
    QApplication::sendEvent(&b.window, &drop);
    REQUIRE(QTest::qWaitFor([&] { return b.session().shot() != nullptr; }, 20000));
    REQUIRE(b.shot().rig.cameras.size() == 2);
    CHECK(b.shot().cameras[0].media == b.shot().cameras[1].media); // the same file, not a copy
    CHECK(b.shot().rig.cameras[1].pose.turn.yaw_deg == 180);
    CHECK(b.shot().timing.sound == "two");
    CHECK(b.part<QListWidget>("file_list")->count() == 1);
    b.settle();
    auto* table = b.part<QTableWidget>("camera_sources");
    auto* choice = qobject_cast<QComboBox*>(table->cellWidget(1, 1));
    choice->setCurrentIndex(0);
    emit choice->activated(0);
    CHECK(b.shot().cameras[1].media.empty());
    table->item(0, 2)->setText("0.125 s");
    CHECK(b.shot().cameras[0].offset == Rational(1, 8));
}

TEST_CASE("a file that cannot be read is said, the others are taken") {
    Bench b(false);
    std::ofstream(b.folder / "bad.mp4") << "no movie";
    write_counting_movie(b.folder / "a.mp4", {.width = 160, .height = 160});
    b.window.add_files({QString::fromStdString((b.folder / "bad.mp4").string()),
                        QString::fromStdString((b.folder / "a.mp4").string())});
    auto* make = b.part<QPushButton>("make_shots");
    REQUIRE(QTest::qWaitFor([&] { return make->isVisible(); }, 20000));
    CHECK(b.part<QLabel>("message")->toolTip().contains("bad.mp4"));
    QTest::mouseClick(make, Qt::LeftButton);
    REQUIRE(b.session().shot());
    CHECK(b.session().project()->media.size() == 1);
    for (auto* box : b.window.findChildren<QMessageBox*>()) box->close();
}

TEST_CASE("pixels of a source that are not numbers are told once for each shot") {
    Bench b;
    sim::SimOptions o;
    o.circle_size = 160;
    StillTake take = hall_still(b.folder, o);
    Media& media = take.project.media[0];
    write_odd_exr(b.folder / "odd.exr", read_still(media.ref.path),
                  {{{80, 80}, {std::numeric_limits<float>::infinity(), 0, 0, 1}},
                   {{90, 80}, {0, std::numeric_limits<float>::quiet_NaN(), 0, 1}}});
    media.ref = media_ref_for(b.folder / "odd.exr");
    save_project(take.project, b.folder / "odd.porb");
    REQUIRE(b.window.open_project(b.folder / "odd.porb"));
    b.settle();
    CHECK(b.part<QLabel>("message")->toolTip().contains("1 pixel is not a number"));
    b.session().say("Something else.", Signal::good);
    b.trigger("Window view");
    b.settle();
    CHECK(b.part<QLabel>("message")->toolTip() == "Something else."); // it was told
}

TEST_CASE("a damaged project is refused and the open one stays; missing media are said") {
    Bench b;
    std::ofstream(b.folder / "bad.porb") << "{ \"format\": 1 }";
    CHECK_FALSE(b.window.open_project(b.folder / "bad.porb"));
    CHECK(b.session().shot());
    CHECK(b.session().file() == b.folder / "p.porb");
    std::filesystem::rename(b.folder / "c.mp4", b.folder / "moved.mp4");
    b.session().library()->forget(b.session().project()->media[0].ref);
    CHECK(b.window.open_project(b.folder / "p.porb"));
    CHECK(b.part<QListWidget>("file_list")->item(0)->text().contains("missing"));
    const std::string id = b.session().project()->media[0].id;
    b.session().edit("relink", [&](Project& p) { p = relinked(p, id, b.folder / "moved.mp4"); });
    CHECK_FALSE(b.part<QListWidget>("file_list")->item(0)->text().contains("missing"));
    b.settle();
    CHECK(b.window.picture().had_picture());
    for (auto* box : b.window.findChildren<QMessageBox*>()) box->close();
}

TEST_CASE("in and out by keys and by dragging their handles") {
    Bench b;
    b.session().set_playhead(Rational(6, 30));
    QTest::keyClick(&b.window, Qt::Key_I);
    b.session().set_playhead(Rational(20, 30));
    QTest::keyClick(&b.window, Qt::Key_O);
    CHECK(b.shot().timing.in == Rational(6, 30));
    CHECK(b.shot().timing.out == Rational(21, 30)); // the frame on show is used
    auto* ruler = b.part<TimeRuler>("time_ruler");
    drag(ruler, QPoint(int(std::lround(ruler->x_of(0.2))), 40),
         QPoint(int(std::lround(ruler->x_of(0.4))), 40));
    CHECK(b.shot().timing.in == Rational(12, 30));
    QTest::keyClick(&b.window, Qt::Key_Comma);
    CHECK(b.session().playhead() == Rational(19, 30));
    ruler->zoom(3, ruler->x_of(0.5));
    CHECK(ruler->x_of(1.0) - ruler->x_of(0.0) > ruler->width() * 2);
}

TEST_CASE("playing moves the playhead in real time and stays within the used part") {
    Bench b;
    b.session().edit_shot("in", [](Shot& s) {
        s.timing.in = Rational(10, 30);
        s.timing.out = Rational(20, 30);
    });
    b.session().set_playhead(Rational(0));
    QTest::keyClick(&b.window, Qt::Key_Space);
    std::vector<Seconds> seen;
    QObject::connect(&b.session(), &Session::playhead_changed, &b.window,
                     [&] { seen.push_back(b.session().playhead()); });
    REQUIRE(QTest::qWaitFor([&] { return seen.size() > 12; }, 20000));
    QTest::keyClick(&b.window, Qt::Key_Space);
    for (const Seconds t : seen) {
        CHECK(t >= Rational(10, 30));
        CHECK(t < Rational(20, 30));
    }
}

TEST_CASE("the command palette finds and does") {
    Bench b;
    QTest::keyClick(&b.window, Qt::Key_Space, Qt::ControlModifier);
    auto* line = b.window.findChild<QLineEdit*>("command_line");
    REQUIRE(line);
    QTest::keyClicks(line, "sheet");
    QTest::keyClick(line, Qt::Key_Return);
    CHECK(b.window.picture().mode() == ViewMode::sheet);
}

TEST_CASE("shortcuts do not collide, and every action has a name") {
    Bench b(false);
    QSet<QString> seen;
    for (QAction* a : b.window.all_actions()) {
        CHECK_FALSE(a->text().isEmpty());
        if (a->shortcut().isEmpty()) continue;
        const QString key = a->shortcut().toString();
        INFO(key.toStdString());
        CHECK_FALSE(seen.contains(key));
        seen.insert(key);
    }
    CHECK(seen.size() > 20);
}

TEST_CASE("a render is stopped by its button and leaves nothing") {
    Bench b;
    b.window.set_station("master");
    b.part<QPushButton>("add_deliverable")->click(); // 3840 wide: long enough to be stopped
    QTest::mouseClick(b.part<QPushButton>("render_button"), Qt::LeftButton);
    REQUIRE(QTest::qWaitFor([&] { return b.window.queue().is_busy(); }, 5000));
    QTest::mouseClick(b.part<QPushButton>("stop_button"), Qt::LeftButton);
    REQUIRE(QTest::qWaitFor([&] { return !b.window.queue().is_busy(); }, 60000));
    CHECK(b.window.queue().count(RenderQueue::State::stopped) == 1);
    CHECK_FALSE(std::filesystem::exists(b.session().project()->deliverables[0].path));
}

namespace {
std::filesystem::path find_file(const std::filesystem::path& folder, const char* ending) {
    std::error_code code;
    for (const auto& entry : std::filesystem::directory_iterator(folder, code))
        if (entry.path().extension() == ending && !is_part(entry.path())) return entry.path();
    return {};
}
} // namespace

TEST_CASE("unsaved work of a killed process is found and taken up") {
    Bench b;
    Project changed = *b.session().project();
    changed.name = "changed";
    const auto folder = b.folder / "autosave";
    const pid_t child = ::fork();
    if (child == 0) {
        AutosaveSlot(folder).write(b.folder / "p.porb", fingerprint_of(b.folder / "p.porb"), changed);
        ::_exit(0);
    }
    ::waitpid(child, nullptr, 0);
    const auto found = find_autosaves(folder);
    REQUIRE(found.size() == 1);
    REQUIRE(b.session().recover(found[0]));
    CHECK(b.session().project()->name == "changed");
    CHECK(b.session().is_dirty());
    CHECK(std::filesystem::exists(found[0].file)); // the only copy of the work stays until it is saved
    CHECK(b.session().save(b.session().file()) == Session::Saved::yes);
    CHECK_FALSE(std::filesystem::exists(found[0].file));
    CHECK_FALSE(b.session().is_dirty());
    CHECK(load_project(b.folder / "p.porb").name == "changed");
}

TEST_CASE("unsaved work is asked about, one project after the other, and lost only when told so") {
    Bench b;
    const auto folder = b.folder / "autosave";
    const auto leave_behind = [&](const char* name) {
        Project p = *b.session().project();
        p.name = name;
        const pid_t child = ::fork();
        if (child == 0) {
            AutosaveSlot(folder).write(b.folder / (std::string(name) + ".porb"), 0, p);
            ::_exit(0);
        }
        ::waitpid(child, nullptr, 0);
    };
    leave_behind("one");
    leave_behind("two");
    const auto answer = [&](QStringList presses) {
        QTimer clicker;
        QObject::connect(&clicker, &QTimer::timeout, [&] {
            auto* box = qobject_cast<QMessageBox*>(QApplication::activeModalWidget());
            if (!box || presses.isEmpty()) return;
            for (auto* button : box->buttons())
                if (button->text() == presses[0]) return presses.removeFirst(), button->click();
        });
        clicker.start(20);
        b.window.offer_recovery();
        CHECK(presses.isEmpty());
    };
    answer({"Ask again next time", "Ask again next time"});
    REQUIRE(find_autosaves(folder).size() == 2);
    answer({"Throw it away", "Ask again next time"});
    REQUIRE(find_autosaves(folder).size() == 1);
    const std::string kept = find_autosaves(folder)[0].project.name;
    answer({"Bring it back"});
    CHECK(b.session().project()->name == kept);
    CHECK(b.session().is_dirty());
    CHECK(find_autosaves(folder).empty());
}

TEST_CASE("an edit is kept safe within seconds") {
    Bench b;
    b.session().edit_shot("yaw", [](Shot& s) { s.levelling.orientation.yaw_deg = 33; });
    const auto folder = b.folder / "autosave";
    REQUIRE(QTest::qWaitFor([&] { return !find_file(folder, ".porb-autosave").empty(); }, 9000));
    const auto file = find_file(folder, ".porb-autosave");
    CHECK(read_text_file(file).find("\"yaw_deg\": 33") != std::string::npos);
}
