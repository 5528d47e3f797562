// Background work of the window: jobs, the render queue, the residual lane, and what hangs on them.
#include "app/bench.h"
#include "app/session/background_job.h"
#include "app/session/render_queue.h"
#include "app/stations/points/points_panel.h"
#include "app/stations/points/residual_lane.h"
#include "base/angle.h"
#include "base/error.h"
#include "media/still.h"
#include "project/orientation.h"
#include "solve/pictures/grey.h"

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

TEST_CASE("jobs that are added run in turn, and a stop ends those that wait too") {
    QObject keeper;
    auto* job = new BackgroundJob(&keeper);
    std::vector<int> done;
    const auto work = [&](int n) {
        return [&, n](const BackgroundJob::Tell&, const Cancel& cancel) -> BackgroundJob::Finish {
            QThread::msleep(20);
            cancel.check();
            return [&, n] { done.push_back(n); };
        };
    };
    for (const int n : {1, 2, 3}) job->add(work(n));
    REQUIRE(QTest::qWaitFor([&] { return done.size() == 3; }, 5000));
    CHECK(done == std::vector<int>{1, 2, 3});
    REQUIRE(QTest::qWaitFor([&] { return !job->is_running(); }, 5000));
    for (const int n : {4, 5}) job->add(work(n));
    job->stop();
    REQUIRE(QTest::qWaitFor([&] { return !job->is_running(); }, 5000));
    QTest::qWait(60);
    CHECK(done.size() == 3);
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
    RenderQueue queue(std::make_shared<CacheBound>());
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
    b.open_ring();
    b.window.set_station("points");
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
    b.open_ring();
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
        s.calibration.points = std::move(list);
    });
    b.window.set_station("seams");
    b.trigger("Window view");
    const Eyepiece first(b.shot().rig, 0, nullptr), second(b.shot().rig, 1, nullptr);
    const Vec3 middle =
        orientation_at(b.shot(), Seconds(0)) * (first.to_rig.col(2) + second.to_rig.col(2)).normalized();
    b.window.picture().set_look(
        {degrees(std::atan2(middle.x(), middle.z())), degrees(std::asin(-middle.y())), 0}, 60);
    b.settle();
    b.trigger("Converge here");
    CHECK(b.shot().seams.agree_distance_m == Approx(2).epsilon(0.03));
    b.session().undo();
    CHECK(b.shot().seams.agree_distance_m != Approx(2).epsilon(0.03));

    // Two kept solves in the list; a double click goes back to one as a step of undo.
    const Rig now = b.shot().rig;
    b.session().edit_shot("two solves", [](Shot& s) {
        for (const double turn : {0.5, 1.0}) {
            KeptSolve k;
            k.id = int(s.calibration.solves.size()) + 1;
            k.name = "Solve " + std::to_string(k.id);
            k.rig = s.rig;
            k.rig.cameras[1].pose.turn.roll_deg += turn;
            k.rms_px = turn;
            k.values = {{k.rig.cameras[1].id, "roll", "deg", turn, 0, 0.02, true}};
            s.calibration.solves.push_back(std::move(k));
        }
    });
    b.window.set_station("points");
    auto* kept = b.part<QListWidget>("kept_solves");
    REQUIRE(kept->count() == 2);
    CHECK(kept->item(0)->toolTip().contains("roll"));
    emit kept->itemActivated(kept->item(0));
    const double first_roll = b.shot().rig.cameras[1].pose.turn.roll_deg - now.cameras[1].pose.turn.roll_deg;
    CHECK((first_roll == Approx(0.5) || first_roll == Approx(1.0)));
    b.session().undo();
    CHECK(b.shot().rig == now);
}

TEST_CASE("closing the window waits for nothing, whatever runs") {
    Bench b(false);
    b.open_hall(320);
    b.trigger("Find points and solve");
    REQUIRE(QTest::qWaitFor([&] { return b.station<PointsPanel>().job().is_running(); }, 5000));
    QElapsedTimer clock;
    clock.start();
    CHECK(b.window.close());
    CHECK(clock.elapsed() < 200);
    CHECK_FALSE(b.window.isVisible());
}

TEST_CASE("two viewers of one project do not starve each other") {
    Bench b(false);
    b.open_hall(320);
    PictureService one(b.session().library()), two(b.session().library());
    int shown[2] = {};
    const auto ask = [&](PictureService& service, int which) {
        PictureRequest request;
        request.project = b.session().project();
        request.shot = b.shot().id;
        View view;
        // Another look each time, so that plans are made anew as they are while one turns round.
        view.target = window_target(320, 200, {3.0 * shown[which] + 40 * which, 0, 0}, 90);
        request.view = view;
        service.ask(request);
    };
    QObject::connect(&one, &PictureService::ready, &one, [&] { ++shown[0], ask(one, 0); });
    QObject::connect(&two, &PictureService::ready, &two, [&] { ++shown[1], ask(two, 1); });
    ask(one, 0);
    ask(two, 1);
    // Over so many, that what else the machine does meanwhile evens out.
    REQUIRE(QTest::qWaitFor([&] { return shown[0] + shown[1] >= 160; }, 120000));
    INFO(shown[0] << " and " << shown[1]);
    CHECK(shown[0] > 40);
    CHECK(shown[1] > 40);
}
