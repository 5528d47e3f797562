#include "base/cache.h"

#include "base/parallel.h"
#include "support/support.h"

#include <atomic>
#include <thread>

using namespace porb;

TEST_CASE("caches share a bound: what was used longest ago goes first, in whichever it lies") {
    const auto bound = std::make_shared<CacheBound>(100);
    Cache<int, std::string> words(bound);
    Cache<std::string, int> numbers(bound);
    words.keep(1, "one", 40);
    numbers.keep("two", 2, 40);
    CHECK(bound->used() == 80);
    CHECK(words.find(1) == "one"); // used again: "two" is the older one now
    words.keep(3, "three", 40);
    CHECK(bound->used() == 80);
    CHECK_FALSE(numbers.find("two"));
    CHECK(words.find(1) == "one");
    words.keep(1, "another", 10); // in its place
    CHECK(bound->used() == 50);
    CHECK(words.find(1) == "another");
    words.keep(4, "too large to keep", 101);
    CHECK_FALSE(words.find(4));
    CHECK(words.find(1) == "another"); // nothing went for it
    CHECK(bound->used() == 50);

    words.keep(5, "five", 60);
    numbers.keep("six", 6, 30);
    words.forget_if([](int key) { return key == 5; });
    CHECK_FALSE(words.find(5));
    CHECK(numbers.find("six") == 6);
    bound->set_limit(20);
    CHECK(bound->used() <= 20);
    {
        Cache<int, int> passing(bound);
        passing.keep(1, 1, 20);
        CHECK(bound->used() == 20);
    }
    CHECK(bound->used() == 0);
}

TEST_CASE("a part of a bound keeps to its own and to the whole's") {
    const auto whole = std::make_shared<CacheBound>(100);
    const auto part = std::make_shared<CacheBound>(whole, 30);
    Cache<int, int> shown(whole), rendered(part);
    shown.keep(1, 1, 60);
    for (int i = 0; i < 20; ++i) rendered.keep(i, i, 10);
    CHECK(shown.find(1)); // a long render pushed nothing of it out
    CHECK(part->used() == 30);
    CHECK(whole->used() == 90);
    shown.keep(2, 2, 40); // the whole is full: the oldest of either goes
    CHECK(whole->used() <= 100);
    CHECK(part->used() == 0);
    CHECK(shown.find(1));
    rendered.keep(1, 1, 25);
    CHECK(part->used() == 25);
    CHECK_FALSE(shown.find(2)); // used before 1 was
    CHECK(shown.find(1));
    CHECK(whole->used() == 85);
}

TEST_CASE("what passes by, in a share of its own, pushes out nothing of what stays") {
    const auto whole = std::make_shared<CacheBound>(200);
    const auto work = std::make_shared<CacheBound>(whole, 100);
    const auto passing = std::make_shared<CacheBound>(work, CacheBound::Share{0.4});
    CHECK(passing->limit() == 40);
    Cache<int, int> elsewhere(whole), plans(work), frames(passing);
    elsewhere.keep(1, 1, 90);
    plans.keep(1, 1, 60);
    for (int i = 0; i < 20; ++i) frames.keep(i, i, 10);
    CHECK(plans.find(1)); // though frames were used after it
    CHECK(passing->used() == 40);
    CHECK(work->used() == 100);
    CHECK(whole->used() == 190);
    plans.keep(2, 2, 20); // the part is full: its oldest goes, and what lies elsewhere stays
    CHECK(work->used() <= 100);
    CHECK(plans.find(1));
    CHECK(elsewhere.find(1));
    frames.keep(30, 30, 41);
    CHECK_FALSE(frames.find(30)); // larger than the share
    work->set_limit(50);
    CHECK(passing->limit() == 20);
    frames.keep(31, 31, 10);
    CHECK(passing->used() <= 20);
    CHECK(work->used() <= 50);
}

TEST_CASE("what many ask for at once is made once, and again by the next when making it failed") {
    const auto bound = std::make_shared<CacheBound>(1000);
    Cache<int, int> cache(bound);
    std::atomic<int> made = 0;
    std::vector<std::thread> askers;
    std::atomic<int> right = 0;
    for (int i = 0; i < 8; ++i)
        askers.emplace_back([&] {
            right += cache.get(
                         7,
                         [&] {
                             std::this_thread::sleep_for(std::chrono::milliseconds(30));
                             return 40 + ++made;
                         },
                         [](int) { return 10; }) == 41;
        });
    for (auto& t : askers) t.join();
    CHECK(made == 1);
    CHECK(right == 8);
    const auto fails = [&] {
        return cache.get(
            8, []() -> int { throw Cancelled(); }, [](int) { return 1; });
    };
    CHECK_THROWS_AS(fails(), Cancelled);
    CHECK(cache.get(
              8, [] { return 5; }, [](int) { return 1; }) == 5);
    CHECK(CacheBound::default_bytes() > (std::size_t(100) << 20));
}
