#include "base/file.h"

#include "base/error.h"
#include "base/lock_file.h"

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <cstring>
#include <ctime>
#include <fcntl.h>
#include <fstream>
#include <random>
#include <sys/stat.h>
#include <thread>
#include <unistd.h>

namespace porb {

namespace {

constexpr std::string_view kPartBegins = ".porb-", kPartMark = ".part", kFolderEnds = ".parts",
                           kMoves = "moves.list";
constexpr std::size_t kLongestEnding = 16;

std::string reason(int code) {
    return std::strerror(code);
}

std::string unlikely_name() {
    static std::atomic<unsigned> counter{0};
    std::random_device random;
    char text[40];
    std::snprintf(text, sizeof text, "%08x%08x%x", random(), random(), counter++);
    return text;
}

/// The name is short whatever `path`'s is: there may be no room for more.
fs::path temporary_beside(const fs::path& path) {
    std::string ending = path.extension().string();
    if (ending.size() > kLongestEnding) ending.clear();
    return path.parent_path() /
           (std::string(kPartBegins) + unlikely_name() + std::string(kPartMark) + ending);
}

/// The file that a chain of links names, whether it is there or not.
fs::path link_target(fs::path path) {
    std::error_code code;
    for (int i = 0; i < 40 && fs::is_symlink(path, code); ++i) {
        const fs::path to = fs::read_symlink(path, code);
        if (code) break;
        path = to.is_absolute() ? to : path.parent_path() / to;
    }
    return path;
}

void flush_folder(const fs::path& file) {
    const fs::path folder = file.parent_path().empty() ? fs::path(".") : file.parent_path();
    if (const int fd = ::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC); fd >= 0) {
        ::fsync(fd);
        ::close(fd);
    }
}

/// An empty file with the permissions and owner of the one it is to replace, locked.
int created_part(const fs::path& part, const fs::path& target, const fs::path& named) {
    const auto failed = [&] {
        throw Error("cannot be created: " + reason(errno), named.string(),
                    "Check that the folder exists, is writable and has space");
    };
    struct stat old {};
    const bool replaces = ::stat(target.c_str(), &old) == 0;
    if (replaces && !S_ISREG(old.st_mode))
        throw Error("is no regular file, and is not replaced", named.string(), "Choose another name");
    const int fd = ::open(part.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, replaces ? 0600 : 0666);
    if (fd < 0) failed();
    // Whoever sweeps may just be looking whether it is locked.
    for (int i = 0; i < 100 && !lock_descriptor(fd); ++i)
        std::this_thread::sleep_for(std::chrono::milliseconds(1));
    if (replaces) {
        // Another's file stays another's where this user may do that.
        if ((old.st_uid != ::geteuid() || old.st_gid != ::getegid()) &&
            ::fchown(fd, old.st_uid, old.st_gid) != 0)
            old.st_mode &= ~mode_t(S_ISUID | S_ISGID);
        ::fchmod(fd, old.st_mode & 07777);
    }
    return fd;
}

void write_all(int fd, std::string_view content, const std::string& where) {
    while (!content.empty()) {
        const ssize_t n = ::write(fd, content.data(), content.size());
        if (n < 0 && errno == EINTR) continue;
        if (n < 0)
            throw Error("cannot be written: " + reason(errno), where,
                        "Check that the folder is writable and has space");
        content.remove_prefix(static_cast<std::size_t>(n));
    }
}

} // namespace

void must_be_regular_file(const fs::path& path) {
    std::error_code code;
    const auto status = fs::status(path, code);
    if (!fs::exists(status))
        throw Error(code && code != std::errc::no_such_file_or_directory ? code.message() : "no such file",
                    path.string(), "Check the name and the folder");
    if (!fs::is_regular_file(status)) throw Error("this is not a file", path.string(), "Name a file");
}

std::string read_text_file(const fs::path& path, std::uint64_t limit) {
    must_be_regular_file(path);
    std::error_code code;
    const auto size = fs::file_size(path, code);
    if (!code && size > limit)
        throw Error("the file is too large to be one of ours (" + std::to_string(size) + " bytes)",
                    path.string(), "Files of this kind hold at most " + std::to_string(limit) + " bytes");
    std::ifstream in(path, std::ios::binary);
    if (!in) throw Error("cannot be read: " + reason(errno), path.string(), "Check its permissions");
    std::string text(code ? 0 : size, '\0');
    in.read(text.data(), static_cast<std::streamsize>(text.size()));
    text.resize(static_cast<std::size_t>(std::max<std::streamsize>(in.gcount(), 0)));
    return text;
}

void write_file_atomically(const fs::path& path, std::string_view content) {
    PartFile part(path);
    const int fd = ::open(part.path().c_str(), O_WRONLY | O_CLOEXEC);
    if (fd < 0)
        throw Error("cannot be written: " + reason(errno), path.string(),
                    "Check that the folder is writable and has space");
    try {
        write_all(fd, content, path.string());
    } catch (...) {
        ::close(fd);
        throw;
    }
    ::close(fd);
    part.commit();
}

PartFile::PartFile(fs::path final_path)
    : final_(std::move(final_path)), target_(link_target(final_)), part_(temporary_beside(target_)) {
    fd_ = created_part(part_, target_, final_);
}

PartFile::~PartFile() {
    std::error_code code;
    if (!done_) fs::remove(part_, code);
    if (fd_ >= 0) ::close(fd_);
}

void PartFile::commit() {
    const auto failed = [&](const char* step) {
        throw Error(std::string("cannot be ") + step + ": " + reason(errno), final_.string(),
                    "Check that the folder is writable, has space, and that the name is not a folder");
    };
    if (::fsync(fd_) != 0 && errno != EINVAL) failed("flushed");
    if (::rename(part_.c_str(), target_.c_str()) != 0) failed("moved into place");
    done_ = true;
    flush_folder(target_);
}

PartFolder::PartFolder(const fs::path& beside) : beside_(beside.empty() ? fs::path(".") : beside) {
    constexpr int kTries = 100; // whoever sweeps may take it for one that was left, before it is locked
    for (int i = 0; i < kTries && fd_ < 0; ++i) {
        path_ = beside_ / (std::string(kPartBegins) + unlikely_name() + std::string(kFolderEnds));
        if (::mkdir(path_.c_str(), 0777) != 0)
            throw Error("a folder for the frames in the making cannot be made: " + reason(errno),
                        beside_.string(), "Choose a place that is writable");
        fd_ = ::open(path_.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
        if (fd_ >= 0 && !(lock_descriptor(fd_) && fs::exists(path_))) {
            ::close(fd_);
            fd_ = -1;
        }
    }
}

PartFolder::~PartFolder() {
    std::error_code code;
    fs::remove_all(path_, code);
    if (fd_ >= 0) ::close(fd_);
}

void PartFolder::commit(const std::vector<std::pair<std::string, std::string>>& moves) {
    // Two runs that end at once move one after the other, so that the frames under final names are one run's.
    const fs::path lock = beside_ / (std::string(kPartBegins) + "moving.lock");
    std::optional<LockFile> turn;
    while (!(turn = LockFile::take(lock, "moving a sequence into place")))
        std::this_thread::sleep_for(std::chrono::milliseconds(20));

    std::string list;
    for (const auto& [from, to] : moves) list += from + '\0' + to + '\0';
    const fs::path before = path_ / "before";
    std::error_code code;
    fs::create_directory(before, code);
    std::size_t moved = 0;
    const auto back = [&] {
        const int cause = errno;
        for (std::size_t i = moved; i-- > 0;)
            ::rename((beside_ / moves[i].second).c_str(), (path_ / moves[i].first).c_str());
        for (const auto& [from, to] : moves) ::rename((before / to).c_str(), (beside_ / to).c_str());
        throw Error("the frames cannot be moved into place: " + reason(cause), beside_.string(),
                    "What was there before is as it was. Check that the folder is writable");
    };
    for (const auto& [from, to] : moves)
        if (::rename((beside_ / to).c_str(), (before / to).c_str()) != 0 && errno != ENOENT) back();
    try {
        write_file_atomically(path_ / kMoves, list); // from here on a move that was begun is completed
    } catch (const Error&) { // a full disk: the frames set aside must not go with this folder
        errno = ENOSPC;
        back();
    }
    for (; moved < moves.size(); ++moved)
        if (::rename((path_ / moves[moved].first).c_str(), (beside_ / moves[moved].second).c_str()) != 0) {
            fs::remove(path_ / kMoves, code);
            back();
        }
    flush_folder(beside_ / "x");
    // Before the list goes: without one, frames that were set aside are put back.
    fs::remove_all(before, code);
}

namespace {

void sweep_folder(const fs::path& parts) {
    const int fd = ::open(parts.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW);
    if (fd < 0) return;
    if (lock_descriptor(fd)) {
        std::error_code code;
        bool done = true; // what could not be moved must not be removed
        const auto move = [&](const fs::path& from, const fs::path& to) {
            done &= ::rename(from.c_str(), to.c_str()) == 0 || errno == ENOENT; // moved already
        };
        if (fs::exists(parts / kMoves, code)) {
            const std::string list = read_text_file(parts / kMoves);
            for (std::size_t at = 0; at < list.size();) {
                const std::string from = list.c_str() + at;
                at += from.size() + 1;
                const std::string to = at < list.size() ? list.c_str() + at : "";
                at += to.size() + 1;
                const bool plain = from.find('/') == from.npos && to.find('/') == to.npos;
                if (plain && !to.empty()) move(parts / from, parts.parent_path() / to);
            }
        } else if (fs::exists(parts / "before", code)) { // killed while it set the old frames aside
            for (const auto& entry : fs::directory_iterator(parts / "before", code))
                move(entry.path(), parts.parent_path() / entry.path().filename());
        }
        if (done) fs::remove_all(parts, code);
    }
    ::close(fd);
}

void sweep_file(const fs::path& part) {
    const int fd = ::open(part.c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK);
    if (fd < 0) return;
    struct stat status {};
    if (::fstat(fd, &status) == 0 && S_ISREG(status.st_mode) && lock_descriptor(fd)) {
        // One that is being created is not locked yet.
        constexpr std::time_t kYoung_s = 10;
        if (status.st_mtime + kYoung_s < std::time(nullptr) || status.st_size > 0) ::unlink(part.c_str());
    }
    ::close(fd);
}

} // namespace

bool is_part(const fs::path& path) {
    const std::string name = path.filename().string();
    return name.starts_with(kPartBegins) && name.find(kPartMark) != name.npos;
}

void sweep_parts(const fs::path& folder) noexcept try {
    std::error_code code;
    for (const auto& entry : fs::directory_iterator(folder.empty() ? fs::path(".") : folder, code)) {
        if (!is_part(entry.path())) continue;
        if (entry.path().string().ends_with(kFolderEnds))
            sweep_folder(entry.path());
        else
            sweep_file(entry.path());
    }
} catch (const std::exception&) {
    return; // what cannot be swept stays; nothing of the user's is in it
}

std::uint64_t free_disk_bytes(const fs::path& path) {
    fs::path folder = fs::absolute(path).parent_path();
    std::error_code code;
    while (!folder.empty() && !fs::exists(folder, code) && folder != folder.parent_path())
        folder = folder.parent_path();
    const auto space = fs::space(folder, code);
    return code ? 0 : space.available;
}

std::string relative_or_absolute(const fs::path& path, const fs::path& base) {
    const fs::path full = fs::absolute(path).lexically_normal();
    const fs::path from = fs::absolute(base).lexically_normal();
    const fs::path relative = full.lexically_relative(from);
    int climbs = 0;
    for (const auto& part : relative) climbs += part == "..";
    return relative.empty() || climbs > 4 ? full.string() : relative.string();
}

bool same_file(const fs::path& a, const fs::path& b) {
    struct stat x {
    }, y{};
    return ::stat(a.c_str(), &x) == 0 && ::stat(b.c_str(), &y) == 0 && x.st_dev == y.st_dev &&
           x.st_ino == y.st_ino;
}

} // namespace porb
