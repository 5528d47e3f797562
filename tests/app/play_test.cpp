// Playing: proxies, every frame, what is shown and told.
#include "app/bench.h"

#include <QPushButton>

using namespace porb;
using namespace porb::app;
using namespace porb::test;

TEST_CASE("proxies are made, shown while it plays and taken away; every frame means every frame") {
    const TempFolder cache;
    qputenv("XDG_CACHE_HOME", QByteArray::fromStdString(cache.path().string()));
    Bench b;
    const auto proxies = [&] {
        std::error_code code;
        const std::filesystem::directory_iterator files(cache / "pale-orbit/proxies", code);
        return code ? 0 : int(std::distance(files, std::filesystem::directory_iterator()));
    };
    auto* pause = b.part<QPushButton>("proxies_pause");
    PictureArea& picture = b.window.picture();
    b.trigger("Proxies of half the size");
    REQUIRE(QTest::qWaitFor([&] { return proxies() == 1 && pause->isHidden(); }, 30000));
    CHECK(picture.shown_proxy_level() == 0); // at rest: never

    const auto play = [&](int pictures) {
        const int before = picture.painted();
        b.trigger("Play or pause");
        REQUIRE(QTest::qWaitFor([&] { return picture.painted() >= before + pictures; }, 30000));
    };
    play(4);
    CHECK(picture.shown_proxy_level() == 1);
    b.trigger("Play from proxies");
    play(0); // which pauses
    b.settle();
    CHECK(picture.shown_proxy_level() == 0);
    play(4);
    CHECK(picture.shown_proxy_level() == 0);
    b.trigger("Play or pause");
    b.settle();

    b.session().set_playhead(Seconds(0));
    b.settle();
    b.trigger("Every frame, however long it takes");
    std::vector<std::int64_t> frames;
    const FrameRate rate = b.session().shot()->timing.rate;
    QObject::connect(&picture, &PictureArea::picture_shown, &picture,
                     [&] { frames.push_back(frame_index(picture.shown_time(), rate)); });
    play(12);
    b.trigger("Play or pause");
    b.settle();
    REQUIRE(frames.size() >= 12);
    for (std::size_t i = 1; i < 12; ++i) CHECK(frames[i] - frames[i - 1] == 1);

    b.trigger("Play from proxies"); // as the next window will begin
    b.trigger("Remove this shot's proxies");
    CHECK(proxies() == 0);
}

TEST_CASE("a shot that drops frames has proxies made once it rests, unless that is switched off") {
    const TempFolder cache;
    qputenv("XDG_CACHE_HOME", QByteArray::fromStdString(cache.path().string()));
    Bench b;
    PictureService service(b.session().library());
    ProxyJobs jobs(b.session(), service);
    CHECK_FALSE(jobs.plays_late()); // the tests' own setting
    jobs.rests();
    CHECK_FALSE(jobs.is_running());

    ProxyJobs::set_by_themselves(true);
    CHECK(jobs.plays_late());
    CHECK_FALSE(jobs.is_running()); // not while it plays
    jobs.rests();
    REQUIRE(QTest::qWaitFor([&] { return jobs.state().startsWith("1 of 1") && !jobs.is_running(); }, 30000));
    CHECK_FALSE(jobs.plays_late()); // they are there

    jobs.remove();
    CHECK(jobs.plays_late());
    b.open_hall(120); // another take meanwhile
    jobs.rests();
    CHECK_FALSE(jobs.is_running());
    ProxyJobs::set_by_themselves(false);
}
