// Background work of the window: jobs, the render queue, the residual lane, and what hangs on them.
#include "app/background_job.h"
#include "app/bench.h"
#include "app/render_queue.h"
#include "app/residual_lane.h"
#include "base/angle.h"
#include "base/error.h"
#include "media/still.h"
#include "project/orientation.h"
#include "solve/calibrate.h"

#include <QLabel>
#include <QListWidget>
#include <QPushButton>

#include <latch>

using namespace porb;
using namespace porb::app;
using namespace porb::test;

TEST_CASE("a job tells how far it is, ends on the window's thread, and one runs at a time") {
    BackgroundJob job;
    std::vector<double> shares;
    QString error;
    int ends = 0;
    bool stopped = false;
    QObject::connect(&job, &BackgroundJob::progressed, &job,
                     [&](double share, const QString&) { shares.push_back(share); });
    QObject::connect(&job, &BackgroundJob::ended, &job, [&](const QString& e, bool s) {
        error = e, stopped = s;
        ++ends;
    });
    const auto window_thread = std::this_thread::get_id();
    std::thread::id worked, finished;
    std::latch go(1);
    job.start([&](const BackgroundJob::Tell& tell, const Cancel&) -> BackgroundJob::Finish {
        worked = std::this_thread::get_id();
        tell(0.25, "a quarter");
        go.wait();
        tell(1, "all");
        return [&] { finished = std::this_thread::get_id(); };
    });
    CHECK(job.is_running());
    bool second = false;
    job.start([&](const BackgroundJob::Tell&, const Cancel&) -> BackgroundJob::Finish {
        second = true;
        return {};
    });
    go.count_down();
    REQUIRE(QTest::qWaitFor([&] { return ends > 0; }, 5000));
    CHECK(ends == 1);
    CHECK_FALSE(second);
    CHECK(error.isEmpty());
    CHECK(worked != window_thread);
    CHECK(finished == window_thread);
    CHECK(shares.back() == 1);

    SECTION("what goes wrong is said in the error's words") {
        job.start([](const BackgroundJob::Tell&, const Cancel&) -> BackgroundJob::Finish {
            throw Error("cannot be read", "reel.mp4", "Look at it");
        });
        REQUIRE(QTest::qWaitFor([&] { return ends == 2; }, 5000));
        CHECK(error.contains("reel.mp4"));
        CHECK(error.contains("Look at it"));
        CHECK_FALSE(stopped);
    }
    SECTION("stopping it ends it without a result") {
        bool edited = false;
        job.start([&](const BackgroundJob::Tell&, const Cancel& cancel) -> BackgroundJob::Finish {
            while (true) {
                cancel.check();
                QThread::msleep(2);
            }
            return [&] { edited = true; };
        });
        job.stop();
        REQUIRE(QTest::qWaitFor([&] { return ends == 2; }, 5000));
        CHECK(stopped);
        CHECK_FALSE(edited);
        CHECK_FALSE(job.is_running());
    }
}

TEST_CASE("the queue renders one after the other, each as it was queued, and says what failed") {
    const TempFolder folder;
    Picture grey(200, 100);
    for (int y = 0; y < 100; ++y)
        for (int x = 0; x < 200; ++x) set_pixel(grey, x, y, {0.4f, 0.4f, 0.4f, 1});
    write_still(grey, folder / "s.png", {8, 95, {}});
    Project project;
    Shot shot = shot_for_rig(tiny_rig(100), "t");
    for (auto& c : shot.cameras) c.media = add_media(project, media_ref_for(folder / "s.png"));
    project.shots.push_back(shot);
    for (const char* name : {"one", "two", "three"}) {
        Deliverable d;
        d.id = d.name = name;
        d.shot = shot.id;
        d.container = Container::png_sequence;
        d.width = 64;
        std::filesystem::create_directories(folder / name);
        d.path = folder / name / "f.%04d.png";
        project.deliverables.push_back(d);
    }
    project.deliverables[1].path = folder / "s.png" / "below a file" / "f.%04d.png"; // cannot be written
    RenderQueue queue;
    std::vector<QString> said;
    QObject::connect(&queue, &RenderQueue::finished, &queue,
                     [&](const QString& words, bool) { said.push_back(words); });
    const auto value = std::make_shared<const Project>(project);
    for (const char* name : {"one", "two", "three"}) queue.add(value, name);
    CHECK(queue.is_busy());
    CHECK(queue.count(RenderQueue::State::waiting) + queue.count(RenderQueue::State::running) == 3);
    queue.stop("three"); // before its turn
    REQUIRE(QTest::qWaitFor([&] { return !queue.is_busy(); }, 30000));
    INFO(queue.job("one")->words.toStdString());
    CHECK(queue.job("one")->state == RenderQueue::State::done);
    CHECK(queue.job("two")->state == RenderQueue::State::failed);
    CHECK_FALSE(queue.job("two")->words.isEmpty());
    CHECK(queue.job("three")->state == RenderQueue::State::stopped);
    CHECK(queue.job("four") == nullptr);
    CHECK(std::filesystem::exists(folder / "one" / "f.0000.png"));
    CHECK_FALSE(std::filesystem::exists(folder / "three" / "f.0000.png"));
    CHECK(said.size() >= 2);
}

TEST_CASE("the residual lane measures in the background, and again when the rig changes") {
    Bench b(false);
    b.window.open_demo("ring");
    b.window.set_station(Station::points);
    auto* lane = b.window.findChild<ResidualLane*>();
    REQUIRE(lane);
    REQUIRE(lane->isVisible());
    REQUIRE(QTest::qWaitFor([&] { return lane->measured() >= 2; }, 60000));
    const Rig before = b.shot().rig;
    b.session().edit_shot("turned", [](Shot& s) { s.rig.cameras[0].pose.turn.yaw_deg += 0.4; });
    QTest::qWait(20);
    CHECK(lane->measured() < 2); // nothing of another rig is shown
    b.session().undo();
    QTest::qWait(20);
    CHECK(b.shot().rig == before);
    CHECK(lane->measured() >= 2); // and what was measured is kept
}

TEST_CASE("what the window looks at is made single, and kept solves are gone back to") {
    Bench b(false);
    b.window.open_demo("ring");
    // Points on a wall 2 m away between two cameras, as a solve leaves them.
    b.session().edit_shot("points", [](Shot& s) {
        const Eyepiece first(s.rig, 0, nullptr), second(s.rig, 1, nullptr);
        const Vec3 middle = (first.to_rig.col(2) + second.to_rig.col(2)).normalized();
        ControlPoints list;
        for (int i = 0; i < 60; ++i) {
            const Vec3 d =
                (middle + 0.15 * Vec3(std::sin(1.3 * i), std::cos(2.1 * i), std::sin(0.7 * i))).normalized();
            ControlPoint p;
            p.id = i + 1, p.a = s.rig.cameras[0].id, p.b = s.rig.cameras[1].id;
            p.a_px = first.place_of(2 * d - first.position),
            p.b_px = second.place_of(2 * d - second.position);
            list.push_back(p);
        }
        s.points = std::move(list);
    });
    b.window.set_station(Station::seams);
    b.trigger("Window view");
    const Eyepiece first(b.shot().rig, 0, nullptr), second(b.shot().rig, 1, nullptr);
    const Vec3 middle =
        orientation_at(b.shot(), Seconds(0)) * (first.to_rig.col(2) + second.to_rig.col(2)).normalized();
    b.window.picture().set_look(
        {degrees(std::atan2(middle.x(), middle.z())), degrees(std::asin(-middle.y())), 0}, 60);
    b.settle();
    b.trigger("Make what the window looks at single");
    CHECK(b.shot().agree_distance_m == Approx(2).epsilon(0.03));
    b.session().undo();
    CHECK(b.shot().agree_distance_m != Approx(2).epsilon(0.03));

    // Two kept solves in the list; a double click goes back to one as a step of undo.
    const Rig now = b.shot().rig;
    b.session().edit_shot("two solves", [](Shot& s) {
        for (const double turn : {0.5, 1.0}) {
            KeptSolve k;
            k.id = int(s.solves.size()) + 1;
            k.name = "Solve " + std::to_string(k.id);
            k.rig = s.rig;
            k.rig.cameras[1].pose.turn.roll_deg += turn;
            k.rms_px = turn;
            k.values = {{k.rig.cameras[1].id, "roll", "deg", turn, 0, 0.02, true}};
            s.solves.push_back(std::move(k));
        }
    });
    b.window.set_station(Station::points);
    auto* kept = b.part<QListWidget>("kept_solves");
    REQUIRE(kept->count() == 2);
    CHECK(kept->item(0)->toolTip().contains("roll"));
    emit kept->itemActivated(kept->item(0));
    const double first_roll = b.shot().rig.cameras[1].pose.turn.roll_deg - now.cameras[1].pose.turn.roll_deg;
    CHECK((first_roll == Approx(0.5) || first_roll == Approx(1.0)));
    b.session().undo();
    CHECK(b.shot().rig == now);
}
