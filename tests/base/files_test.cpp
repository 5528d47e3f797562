#include "base/error.h"
#include "base/file.h"
#include "base/lock_file.h"
#include "base/utf8.h"
#include "support/support.h"

#include <csignal>
#include <fstream>
#include <set>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

using namespace porb;
using namespace porb::test;

namespace {
std::size_t files_in(const fs::path& folder) {
    return std::size_t(std::distance(fs::directory_iterator(folder), fs::directory_iterator()));
}
mode_t mode_of(const fs::path& file) {
    struct stat s {};
    REQUIRE(::stat(file.c_str(), &s) == 0);
    return s.st_mode & 07777;
}
} // namespace

TEST_CASE("a file that is replaced keeps its permissions, and a link stays one") {
    const TempFolder folder;
    write_file_atomically(folder / "plain", "1");
    const mode_t usual = ::umask(0);
    ::umask(usual);
    CHECK(mode_of(folder / "plain") == (0666 & ~usual));
    for (const mode_t mode : {0600, 0640, 0755}) {
        REQUIRE(::chmod((folder / "plain").c_str(), mode) == 0);
        write_file_atomically(folder / "plain", "2");
        CHECK(mode_of(folder / "plain") == mode);
    }
    fs::create_directory(folder / "elsewhere");
    fs::create_symlink("../plain", folder / "elsewhere/link");
    fs::create_symlink("elsewhere/link", folder / "link to a link");
    write_file_atomically(folder / "link to a link", "3");
    CHECK(fs::is_symlink(folder / "link to a link"));
    CHECK(fs::is_symlink(folder / "elsewhere/link"));
    CHECK(read_text_file(folder / "plain") == "3");
    CHECK(files_in(folder.path()) == 3);
    CHECK(files_in(folder / "elsewhere") == 1);
}

TEST_CASE("names as long as names can be are written, pipes are neither read nor replaced") {
    const TempFolder folder;
    const fs::path longest = folder.path() / (std::string(250, 'n') + ".porb");
    write_file_atomically(longest, "x");
    CHECK(read_text_file(longest) == "x");
    CHECK(error_of([&] {
              write_file_atomically(folder.path() / std::string(300, 'n'), "x");
          }).find("too long") != std::string::npos);
    REQUIRE(::mkfifo((folder / "pipe.exr").c_str(), 0600) == 0);
    CHECK(error_of([&] { read_text_file(folder / "pipe.exr"); }).find("not a file") != std::string::npos);
    CHECK(error_of([&] { write_file_atomically(folder / "pipe.exr", "x"); }).find("no regular file") !=
          std::string::npos);
    CHECK(files_in(folder.path()) == 2);
}

TEST_CASE("what a killed program left in the making is swept, what is being made stays") {
    const TempFolder folder;
    const pid_t child = ::fork();
    if (child == 0) {
        PartFile part(folder / "movie.mp4");
        PartFolder frames(folder.path());
        std::ofstream(part.path()) << "half";
        std::ofstream(frames.path() / "0") << "half";
        ::pause();
    }
    while (files_in(folder.path()) < 2 || fs::is_empty(fs::directory_iterator(folder.path())->path()))
        ::usleep(1000);
    sweep_parts(folder.path());
    CHECK(files_in(folder.path()) == 2); // its owner lives
    ::kill(child, SIGKILL);
    ::waitpid(child, nullptr, 0);
    PartFile mine(folder / "mine.mp4");
    std::ofstream(mine.path()) << "mine";
    sweep_parts(folder.path());
    CHECK(files_in(folder.path()) == 1);
    mine.commit();
    CHECK(read_text_file(folder / "mine.mp4") == "mine");
}

TEST_CASE("a sequence is moved into place whole, or what was there stays") {
    const TempFolder folder;
    const auto frames = [&](PartFolder& parts, const std::string& text) {
        std::vector<std::pair<std::string, std::string>> moves;
        for (int i = 0; i < 5; ++i) {
            const std::string name = std::to_string(i) + ".png";
            std::ofstream(parts.path() / name) << text;
            moves.emplace_back(name, name);
        }
        return moves;
    };
    {
        PartFolder parts(folder.path());
        parts.commit(frames(parts, "old"));
    }
    CHECK(files_in(folder.path()) == 5);
    {
        PartFolder parts(folder.path());
        auto moves = frames(parts, "new");
        fs::remove(parts.path() / "3.png"); // the fourth move fails
        CHECK(error_of([&] { parts.commit(moves); }).find("as it was") != std::string::npos);
    }
    for (int i = 0; i < 5; ++i) CHECK(read_text_file(folder / (std::to_string(i) + ".png")) == "old");
    CHECK(files_in(folder.path()) == 5);
    { // the list of moves cannot be written, after the old frames were set aside
        PartFolder parts(folder.path());
        fs::create_directory(parts.path() / "moves.list");
        auto moves = frames(parts, "new");
        CHECK_THROWS_AS(parts.commit(moves), Error);
    }
    for (int i = 0; i < 5; ++i) CHECK(read_text_file(folder / (std::to_string(i) + ".png")) == "old");
    { // what was left by a kill and cannot be moved now is not removed either
        const auto left = folder / ".porb-left.parts";
        fs::create_directory(left);
        fs::create_directory(folder / "9.png");
        std::ofstream(left / "9.png") << "new";
        write_file_atomically(left / "moves.list", std::string("9.png\0"
                                                               "9.png\0",
                                                               12));
        sweep_parts(folder.path());
        CHECK(read_text_file(left / "9.png") == "new");
        fs::remove(folder / "9.png");
        sweep_parts(folder.path());
        CHECK(read_text_file(folder / "9.png") == "new");
        CHECK_FALSE(fs::exists(left));
        fs::remove(folder / "9.png");
    }
    {
        PartFolder parts(folder.path());
        parts.commit(frames(parts, "new"));
    }
    for (int i = 0; i < 5; ++i) CHECK(read_text_file(folder / (std::to_string(i) + ".png")) == "new");
    CHECK(files_in(folder.path()) == 5);
}

TEST_CASE("a kill while a sequence is moved leaves the old frames or the new ones, once that was swept") {
    const TempFolder folder;
    const auto render = [&](int run) {
        PartFolder parts(folder.path());
        std::vector<std::pair<std::string, std::string>> moves;
        for (int i = 0; i < 40; ++i) {
            const std::string name = std::to_string(i);
            std::ofstream(parts.path() / name) << run;
            moves.emplace_back(name, name);
        }
        parts.commit(moves);
    };
    render(0); // on a slow machine the first kill may come before anything is in place
    for (int round = 0; round < 12; ++round) {
        const pid_t child = ::fork();
        if (child == 0)
            for (int n = 1;; ++n) render(round * 1000 + n);
        ::usleep(useconds_t(20000 + 3700 * round));
        ::kill(child, SIGKILL);
        ::waitpid(child, nullptr, 0);
        sweep_parts(folder.path());
        std::set<std::string> runs;
        for (int i = 0; i < 40; ++i) runs.insert(read_text_file(folder / std::to_string(i)));
        CHECK(runs.size() == 1);
        CHECK(files_in(folder.path()) <= 41); // at most the lock of the move
    }
}

TEST_CASE("a lock is held by one, says by whom, and is let go of by a killed holder") {
    const TempFolder folder;
    const auto path = folder / "x.lock";
    {
        const auto mine = LockFile::take(path, "porbit solve");
        REQUIRE(mine);
        CHECK_FALSE(LockFile::take(path, "porbit shot"));
        const auto holder = LockFile::holder_of(path);
        REQUIRE(holder);
        CHECK(holder->find("porbit solve, process " + std::to_string(::getpid()) + " on ") == 0);
    }
    CHECK_FALSE(fs::exists(path));
    CHECK_FALSE(LockFile::holder_of(path));
    const pid_t child = ::fork();
    if (child == 0) {
        const auto its = LockFile::take(path, "porbit grade");
        ::pause();
    }
    while (!LockFile::holder_of(path)) ::usleep(1000);
    CHECK_FALSE(LockFile::take(path, "porbit shot"));
    ::kill(child, SIGKILL);
    ::waitpid(child, nullptr, 0);
    CHECK(fs::exists(path)); // left behind, and taken over
    CHECK(LockFile::take(path, "porbit shot"));
}

TEST_CASE("UTF-8 is told from other bytes") {
    CHECK(is_utf8("plain, é, 火, 😀"));
    for (const char* bad : {"caf\xe9", "\xc0\xaf", "\xed\xa0\x80", "\xf4\x90\x80\x80", "\x80", "\xe2\x82"})
        CHECK_FALSE(is_utf8(bad));
    CHECK(as_utf8("caf\xe9!") == "caf\xEF\xBF\xBD!");
}
