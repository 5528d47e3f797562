// The window where work could be lost: odd values, another program on the same project, exceptions.
#include "app/bench.h"
#include "app/session/application.h"
#include "app/widgets/number_field.h"
#include "base/file.h"
#include "project/outputs.h"

#include <QLineEdit>
#include <QMessageBox>
#include <QPushButton>
#include <QTimer>

using namespace porb;
using namespace porb::app;
using namespace porb::test;

namespace {

/// Presses a button of the next modal box.
struct Answer {
    explicit Answer(const QString& press) {
        QObject::connect(&timer, &QTimer::timeout, [this, press] {
            auto* box = qobject_cast<QMessageBox*>(QApplication::activeModalWidget());
            for (auto* button : box ? box->buttons() : QList<QAbstractButton*>())
                if (button->text() == press) {
                    timer.stop();
                    pressed = true;
                    button->click();
                    return;
                }
        });
        timer.start(20);
    }
    QTimer timer;
    bool pressed = false;
};

void change_on_disk(const std::filesystem::path& file, double yaw) {
    Project p = load_project(file);
    p.shots[0].levelling.orientation.yaw_deg = yaw;
    save_project(p, file);
}

} // namespace

TEST_CASE("whatever is typed into any number field, the project is saved and read again to the byte") {
    Bench b;
    const auto file = b.folder / "p.porb";
    int typed = 0;
    for (const auto& station : b.window.stations()) {
        REQUIRE(b.window.set_station(station->id()));
        QTest::qWait(20);
        for (auto* field : b.window.findChildren<NumberField*>()) {
            if (!field->isEnabled()) continue;
            for (const char* text : {"1e308", "-1e308", "nan", "0", "-0.001", "99999999999", "inf"}) {
                field->findChild<QLineEdit*>()->setText(text);
                field->interpretText();
                ++typed;
            }
            for (const double v : {field->maximum(), field->minimum()}) {
                field->setValue(v);
                ++typed;
            }
            INFO(field->objectName().toStdString());
            const std::string text = project_to_text(*b.session().project(), file);
            CHECK(project_to_text(parse_project(text, file), file) == text);
        }
    }
    CHECK(typed > 150);
}

TEST_CASE("an edit that could not be read again is refused in words, and nothing changes") {
    Bench b;
    const ProjectPtr before = b.session().project();
    QString said;
    QObject::connect(&b.session(), &Session::said, [&](const QString& text, Signal) { said = text; });
    CHECK_FALSE(b.session().edit_shot("odd", [](Shot& s) { s.look.grade.exposure_ev = std::nan(""); }));
    CHECK(said.contains("exposure: is not a number. It must be between -16 and 16."));
    CHECK(b.session().project() == before);
    CHECK_FALSE(b.session().edit_shot("odd", [](Shot& s) { s.seams.shelters.push_back({}); }));
    CHECK_FALSE(b.session().edit_shot("odd", [](Shot&) { throw std::runtime_error("broken"); }));
    CHECK(said == "broken");
    CHECK(b.session().project() == before);
}

TEST_CASE("a project changed on disk is noticed, and saving loses nothing without being told to") {
    Bench b;
    const auto file = b.session().file();
    REQUIRE(b.session().save(file) == Session::Saved::yes);
    b.session().edit_shot("yaw", [](Shot& s) { s.levelling.orientation.yaw_deg = 5; });
    QSignalSpy noticed(&b.session(), &Session::disk_changed);
    change_on_disk(file, 50);
    CHECK(QTest::qWaitFor([&] { return noticed.count() == 1; }, 5000));
    for (auto* box : b.window.findChildren<QMessageBox*>("disk_told_box")) box->close();
    CHECK(b.session().save(file) == Session::Saved::changed_on_disk);
    CHECK(load_project(file).shots[0].levelling.orientation.yaw_deg == 50);
    CHECK(b.session().is_dirty());
    const auto press_save = [&](const QString& answer) {
        Answer a(answer);
        for (QAction* action : b.window.all_actions())
            if (action->text() == "Save project") action->trigger();
        CHECK(a.pressed);
    };
    press_save("Cancel");
    CHECK(load_project(file).shots[0].levelling.orientation.yaw_deg == 50);
    press_save("Save mine over it");
    CHECK(load_project(file).shots[0].levelling.orientation.yaw_deg == 5);
    b.session().edit_shot("yaw", [](Shot& s) { s.levelling.orientation.yaw_deg = 6; });
    change_on_disk(file, 60);
    press_save("Open it again");
    CHECK(b.shot().levelling.orientation.yaw_deg == 60);
    CHECK_FALSE(b.session().is_dirty());
    for (auto* box : b.window.findChildren<QMessageBox*>("disk_told_box")) box->close();
}

TEST_CASE("while a verb has the project the window does not save, and says who has it") {
    Bench b;
    b.session().edit_shot("yaw", [](Shot& s) { s.levelling.orientation.yaw_deg = 5; });
    QString said;
    QObject::connect(&b.session(), &Session::said, [&](const QString& text, Signal) { said = text; });
    const auto lock = LockFile::take(lock_of_project(b.session().file()), "porbit solve");
    CHECK(b.session().save(b.session().file()) == Session::Saved::no);
    CHECK(said.contains("is being changed by porbit solve"));
    CHECK(b.session().is_dirty());
}

TEST_CASE("recovered work is kept until it is saved, and never replaces a newer project unasked") {
    Bench b;
    const auto file = b.session().file();
    REQUIRE(b.session().save(file) == Session::Saved::yes);
    Project work = *b.session().project();
    work.shots[0].levelling.orientation.yaw_deg = 11;
    {
        AutosaveSlot left(b.folder / "autosave");
        left.write(file, fingerprint_of(file), work);
    } // its window is gone
    change_on_disk(file, 22);
    const auto found = find_autosaves(b.folder / "autosave");
    REQUIRE(found.size() == 1);
    REQUIRE(b.session().recover(found[0]));
    CHECK(b.shot().levelling.orientation.yaw_deg == 11);
    CHECK(std::filesystem::exists(found[0].file)); // a kill now loses nothing
    CHECK(b.session().save(file) == Session::Saved::changed_on_disk);
    CHECK(load_project(file).shots[0].levelling.orientation.yaw_deg == 22);
    CHECK(std::filesystem::exists(found[0].file));
    CHECK(b.session().save(b.folder / "mine.porb") == Session::Saved::yes);
    CHECK(load_project(b.folder / "mine.porb").shots[0].levelling.orientation.yaw_deg == 11);
    CHECK_FALSE(std::filesystem::exists(found[0].file));
}

TEST_CASE("an exception in painting or a timer is a message, not the end") {
    struct Broken : QWidget {
        void paintEvent(QPaintEvent*) override {
            throw Error("is not a camera of the rig", "camera Q", "Mend it");
        }
    } broken;
    auto* application = dynamic_cast<Application*>(QApplication::instance());
    REQUIRE(application);
    QString said;
    application->set_reporter([&](const QString& words) { said = words; });
    broken.show();
    CHECK(QTest::qWaitFor([&] { return said.contains("camera Q: is not a camera of the rig"); }, 3000));
    said.clear();
    QTimer::singleShot(0, &broken, [] { throw std::runtime_error("in a timer"); });
    CHECK(QTest::qWaitFor([&] { return said.contains("in a timer"); }, 3000));
    application->set_reporter({});
}

TEST_CASE("the same value of another camera is another step of undo") {
    Bench b;
    b.session().edit_shot(
        "Set reach of A", [](Shot& s) { s.cameras[0].reach_deg = 80; }, "reach 0");
    b.session().edit_shot(
        "Set reach of B", [](Shot& s) { s.cameras[1].reach_deg = 80; }, "reach 1");
    b.session().undo();
    CHECK(b.shot().cameras[0].reach_deg == 80);
    CHECK(b.shot().cameras[1].reach_deg != 80);
}

TEST_CASE("what a job found for another shot, or another rig, is left away") {
    Bench b;
    const Shot then = b.shot();
    CHECK(b.session().still_holds(then));
    b.session().edit_shot("grade", [](Shot& s) { s.look.grade.exposure_ev = 1; });
    CHECK(b.session().still_holds(then)); // of no account to it
    b.session().edit_shot("turn", [](Shot& s) { s.rig.cameras[0].pose.turn.yaw_deg += 1; });
    CHECK_FALSE(b.session().still_holds(then));
}
