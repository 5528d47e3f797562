#include "base/lock_file.h"

#include "base/error.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <ctime>
#include <fcntl.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <thread>
#include <unistd.h>
#include <utility>

namespace porb {

namespace {

std::string clock_words() {
    const std::time_t now = std::time(nullptr);
    std::tm local{};
    ::localtime_r(&now, &local);
    char text[32];
    std::strftime(text, sizeof text, "%H:%M:%S", &local);
    return text;
}

std::string host_name() {
    char name[256] = "";
    ::gethostname(name, sizeof name - 1);
    return name;
}

/// Whether the file behind `fd` is still the one at `path`: its last holder may have removed it meanwhile.
bool is_at(const std::filesystem::path& path, int fd) {
    struct stat held {
    }, named{};
    return ::fstat(fd, &held) == 0 && ::stat(path.c_str(), &named) == 0 && held.st_dev == named.st_dev &&
           held.st_ino == named.st_ino;
}

} // namespace

bool lock_descriptor(int fd) {
    int got = 0;
    do got = ::flock(fd, LOCK_EX | LOCK_NB);
    while (got != 0 && errno == EINTR);
    // A file system without locks cannot tell; two programs there are as before there were any.
    return got == 0 || errno == ENOLCK || errno == EOPNOTSUPP || errno == EINVAL;
}

std::optional<LockFile> LockFile::take(const std::filesystem::path& path, const std::string& holder) {
    constexpr int kTries = 100; // each fails only when another took and removed it in between
    for (int i = 0; i < kTries; ++i) {
        const int fd = ::open(path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0666);
        if (fd < 0)
            throw Error(std::string("cannot be locked: ") + std::strerror(errno), path.string(),
                        "Check that the folder exists and is writable");
        // Whoever looks who holds it (holder_of) has it for a moment.
        constexpr int kLooks = 5;
        bool locked = false;
        for (int look = 0; look < kLooks && !(locked = lock_descriptor(fd)); ++look)
            std::this_thread::sleep_for(std::chrono::milliseconds(2));
        if (!locked) {
            ::close(fd);
            return std::nullopt;
        }
        if (!is_at(path, fd)) {
            ::close(fd);
            continue;
        }
        const std::string words = holder + ", process " + std::to_string(::getpid()) + " on " + host_name() +
                                  " since " + clock_words() + "\n";
        if (::ftruncate(fd, 0) != 0 || ::pwrite(fd, words.data(), words.size(), 0) < 0) {
            // Only the words for others are missing; the lock itself holds.
        }
        return LockFile(path, fd);
    }
    return std::nullopt;
}

std::optional<std::string> LockFile::holder_of(const std::filesystem::path& path) {
    const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK);
    if (fd < 0) return std::nullopt;
    const bool free = lock_descriptor(fd);
    char text[512];
    const ssize_t n = ::pread(fd, text, sizeof text, 0);
    ::close(fd);
    if (free) return std::nullopt;
    std::string words(text, std::size_t(std::max<ssize_t>(n, 0)));
    words = words.substr(0, words.find('\n'));
    return words.empty() ? "another program" : words;
}

LockFile::LockFile(LockFile&& other) noexcept
    : path_(std::move(other.path_)), fd_(std::exchange(other.fd_, -1)) {}

LockFile& LockFile::operator=(LockFile&& other) noexcept {
    std::swap(path_, other.path_);
    std::swap(fd_, other.fd_);
    return *this;
}

LockFile::~LockFile() {
    if (fd_ < 0) return;
    if (is_at(path_, fd_)) ::unlink(path_.c_str()); // while it is held: nobody else's is removed
    ::close(fd_);
}

} // namespace porb
