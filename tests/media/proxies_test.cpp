#include "base/file.h"
#include "media/library.h"
#include "media/read_ahead.h"
#include "media/video.h"
#include "picture/compare.h"
#include "support/support.h"

#include <csignal>
#include <cstring>
#include <fstream>

#include <sys/resource.h>

using namespace porb;
using namespace porb::test;

namespace {

MediaRef demo_take() { // two circles, 1920 x 960, with frames that others refer to and frames that none does
    return media_ref_for(source_folder() / "demo/dual/hall_dual.mp4");
}

bool same_pixels(const Picture& a, const Picture& b) {
    if (a.width() != b.width() || a.height() != b.height()) return false;
    for (int y = 0; y < a.height(); ++y)
        if (std::memcmp(a.row(y), b.row(y), std::size_t(a.width()) * 8) != 0) return false;
    return true;
}

/// Of luma alone: a proxy's chroma is half as fine.
double luma_psnr_db(const Picture& a, const Picture& b) {
    double sum = 0;
    for (int y = 0; y < a.height(); ++y)
        for (int x = 0; x < a.width(); ++x) {
            const Rgba p = pixel_at(a, x, y), q = pixel_at(b, x, y);
            sum += std::pow(
                0.2126 * double(p.r - q.r) + 0.7152 * double(p.g - q.g) + 0.0722 * double(p.b - q.b), 2);
        }
    return -10 * std::log10(sum / a.width() / a.height());
}

} // namespace

TEST_CASE("frames that nothing refers to are passed by without a trace") {
    MediaLibrary in_order(std::size_t(1) << 30), in_jumps(std::size_t(1) << 30);
    const MediaRef ref = demo_take();
    const FrameRate rate = in_order.info(ref).rate;
    for (int n = 0; n < 24; ++n) in_order.frame(ref, frame_time(n, rate));
    for (const int n : {3, 4, 9, 11, 16, 23, 21, 2}) {
        INFO(n);
        const auto there = in_order.picture(ref, frame_time(n, rate), 1),
                   here = in_jumps.picture(ref, frame_time(n, rate), 1);
        REQUIRE((there && here));
        CHECK(same_pixels(*there, *here));
    }
}

TEST_CASE("stepping back, frames that were shown before come with the one that is asked for") {
    const MediaRef ref = demo_take();
    VideoReader reader(ref.path);
    const FrameRate rate = reader.info().rate;
    std::vector<Seconds> all;
    for (int n = 0; n < 24; ++n) all.push_back(reader.frame_at(frame_time(n, rate))->begin);
    std::vector<Seconds> told;
    const auto tell = [&](const DecodedFrame& f) {
        told.push_back(f.begin);
        CHECK(f.end > f.begin);
    };
    reader.frames_before(frame_time(18, rate), 5, tell);
    CHECK(told == std::vector<Seconds>(all.begin() + 13, all.begin() + 18));
    CHECK(reader.frame_at(frame_time(18, rate))->begin == all[18]);
    CHECK(reader.frame_at(frame_time(20, rate))->begin == all[20]);
    told.clear();
    reader.frames_before(frame_time(2, rate), 5, tell); // there are two before it
    CHECK(told == std::vector<Seconds>(all.begin(), all.begin() + 2));
    reader.frames_before(Seconds(0), 5, tell);
    CHECK(told.size() == 2);

    MediaLibrary in_order(std::size_t(1) << 30), back(std::size_t(1) << 30);
    for (int n = 0; n < 40; ++n) in_order.frame(ref, frame_time(n, rate), 1);
    back.frame(ref, frame_time(39, rate), 1);
    const std::size_t one = back.bound()->used();
    back.go_back(ref, frame_time(39, rate), 1);
    const std::size_t some = back.bound()->used();
    CHECK(some > 3 * one); // twelve halved ones beside a whole one and its half
    back.go_back(ref, frame_time(36, rate), 1);
    CHECK(back.bound()->used() == some); // enough are there
    for (int n = 39; n >= 0; --n) {
        INFO(n);
        back.go_back(ref, frame_time(n, rate), 1);
        CHECK(same_pixels(*in_order.picture(ref, frame_time(n, rate), 1),
                          *back.picture(ref, frame_time(n, rate), 1)));
    }
    back.go_back(ref, Seconds(0), 1);
    back.go_back(media_ref_for(source_folder() / "demo/dual/truth_mono_1.000s.png"), Seconds(1), 0);
}

TEST_CASE("a proxy stands for its source halved, and never for the source itself") {
    const TempFolder folder;
    const MediaRef ref = demo_take();
    const auto store = std::make_shared<const ProxyStore>(folder / "proxies");
    const int level = GENERATE(1, 2, 3);
    double told = 0;
    const ProxyFile made = make_proxy(ref, level, *store, [&](double share) { told = share; });
    CHECK(told > 0.98);
    CHECK(made.level == level);
    CHECK(store->of(ref).size() == 1);

    VideoReader source(ref.path), proxy(made.path);
    CHECK(proxy.info().matrix != "unknown");
    CHECK(proxy.info().full_range == source.info().full_range);
    for (Seconds t(0);;) { // the same frames at the same times
        const auto a = source.frame_at(t), b = proxy.frame_at(t);
        REQUIRE(bool(a) == bool(b));
        if (!a) break;
        REQUIRE(a->begin == b->begin);
        t = a->end;
    }

    MediaLibrary plain(std::size_t(1) << 30), library(std::size_t(1) << 30);
    library.set_proxies(store);
    const FrameRate rate = plain.info(ref).rate;
    for (const int n : {0, 31, 7}) {
        const Seconds t = frame_time(n, rate);
        for (int l = level; l <= 3; ++l) {
            const auto truth = plain.picture(ref, t, l), small = library.picture(ref, t, l, Footage::proxies);
            REQUIRE((truth && small));
            INFO("frame " << n << ", level " << l << " from " << level);
            CHECK(luma_psnr_db(*truth, *small) > 42);
            CHECK(psnr_db(*truth, *small) > 34);
        }
        // Finer than the proxy, and where originals are asked for: not a bit of it.
        CHECK(same_pixels(*plain.picture(ref, t, level - 1),
                          *library.picture(ref, t, level - 1, Footage::proxies)));
        CHECK(same_pixels(*plain.picture(ref, t, level), *library.picture(ref, t, level)));
    }
    CHECK(library.remark(ref).empty());
}

TEST_CASE("proxies that are damaged, out of date or too many") {
    const TempFolder folder;
    fs::copy_file(demo_take().path, folder / "take.mp4");
    const MediaRef ref = media_ref_for(folder / "take.mp4");
    const auto store = std::make_shared<const ProxyStore>(folder / "proxies");
    const ProxyFile made = make_proxy(ref, 3, *store);
    MediaLibrary library(std::size_t(1) << 30);
    library.set_proxies(store);
    const auto right = library.picture(ref, Seconds(1), 3);

    SECTION("one that cannot be read is told and left out") {
        std::ofstream(made.path, std::ios::binary | std::ios::trunc) << "no film";
        const auto shown = library.picture(ref, Seconds(1), 3, Footage::proxies);
        REQUIRE(shown);
        CHECK(same_pixels(*shown, *right));
        MediaLibrary another(std::size_t(1) << 30);
        another.set_proxies(store);
        CHECK(same_pixels(*another.picture(ref, Seconds(1), 3, Footage::proxies), *right));
        CHECK(another.remark(ref).find("The proxy of take.mp4 cannot be read") == 0);
        store->remove(made.path);
        another.set_proxies(store); // as after it was made again
        CHECK(another.remark(ref).empty());
    }
    SECTION("a source that changed has none; one that was moved has its own") {
        fs::rename(ref.path, folder / "moved.mp4");
        CHECK(store->of(media_ref_for(folder / "moved.mp4")).size() == 1);
        std::ofstream(folder / "moved.mp4", std::ios::binary | std::ios::app) << "more";
        CHECK(store->of(media_ref_for(folder / "moved.mp4")).empty());
    }
    SECTION("what was used longest ago goes first") {
        const ProxyFile larger = make_proxy(ref, 2, *store);
        store->touch(made.path);
        const ProxyStore tight(folder / "proxies", made.bytes + larger.bytes / 2);
        CHECK(tight.trim() == 1);
        REQUIRE(tight.all().size() == 1);
        CHECK(tight.all()[0].path == made.path);
        CHECK(tight.trim({made.path}) == 0);
    }
    SECTION("one that is stopped leaves nothing") {
        Cancel cancel;
        CHECK_THROWS_AS(make_proxy(
                            ref, 1, *store, [&](double) { cancel.raise(); }, cancel),
                        Cancelled);
        CHECK(store->of(ref).size() == 1);
        CHECK(std::distance(fs::directory_iterator(store->folder()), fs::directory_iterator()) == 1);
    }
    SECTION("a disk that is full is told, and leaves what was there") {
        // As a disk does that takes no more: files end at a few kilobytes.
        rlimit before{};
        getrlimit(RLIMIT_FSIZE, &before);
        const auto handler = std::signal(SIGXFSZ, SIG_IGN);
        const rlimit little{20000, before.rlim_max};
        setrlimit(RLIMIT_FSIZE, &little);
        std::string words;
        try {
            make_proxy(ref, 1, *store);
        } catch (const Error& e) {
            words = e.what();
        }
        setrlimit(RLIMIT_FSIZE, &before);
        std::signal(SIGXFSZ, handler);
        INFO(words);
        CHECK_FALSE(words.empty());
        REQUIRE(store->of(ref).size() == 1);
        CHECK(store->of(ref)[0].path == made.path);
        CHECK(std::distance(fs::directory_iterator(store->folder()), fs::directory_iterator()) == 1);
        CHECK(make_proxy(ref, 1, *store).level == 1); // and now there is room
    }
    SECTION("a folder that cannot be made is told") {
        std::ofstream(folder / "file") << "x";
        CHECK_THROWS_AS(make_proxy(ref, 3, ProxyStore(folder / "file" / "proxies")), Error);
        CHECK_THROWS_AS(
            make_proxy(media_ref_for(source_folder() / "demo/dual/truth_mono_1.000s.png"), 1, *store), Error);
    }
}

TEST_CASE("what is read ahead is what would have been read") {
    const MediaRef ref = demo_take();
    const auto library = std::make_shared<MediaLibrary>(std::size_t(1) << 30);
    MediaLibrary plain(std::size_t(1) << 30);
    const FrameRate rate = library->info(ref).rate;
    {
        ReadAhead ahead(library);
        ahead.want({{media_ref_for("/nowhere.mp4"), 0, Footage::originals, {Seconds(0)}, false}}); // left to
                                                                                                   // who asks
        for (const int first : {0, 5, 12}) {
            ReadAhead::Run run{ref, 2, Footage::originals, {}, false};
            for (int k = 0; k < 4; ++k) run.times.push_back(frame_time(first + 2 * k, rate));
            ahead.want({run});
            CHECK(same_pixels(*library->picture(ref, run.times[1], 2), *plain.picture(ref, run.times[1], 2)));
        }
    }
    CHECK(same_pixels(*library->picture(ref, frame_time(18, rate), 2),
                      *plain.picture(ref, frame_time(18, rate), 2)));
}
