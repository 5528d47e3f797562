#include "base/file.h"

#include "base/error.h"

#include <atomic>
#include <cerrno>
#include <cstring>
#include <fcntl.h>
#include <fstream>
#include <unistd.h>

namespace porb {

namespace {
std::string reason(int code) {
    return std::strerror(code);
}

fs::path temporary_beside(const fs::path& path) {
    static std::atomic<unsigned> counter{0};
    const std::string stem = "." + path.stem().string() + "." + std::to_string(::getpid()) + "-" +
                             std::to_string(counter++) + ".part";
    return path.parent_path() / (stem + path.extension().string());
}

void flush_folder(const fs::path& file) {
    const fs::path folder = file.parent_path().empty() ? fs::path(".") : file.parent_path();
    if (const int fd = ::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC); fd >= 0) {
        ::fsync(fd);
        ::close(fd);
    }
}
} // namespace

std::string read_text_file(const fs::path& path, std::uint64_t limit) {
    std::error_code code;
    const auto status = fs::status(path, code);
    if (!fs::exists(status)) throw Error("no such file", path.string(), "Check the name and the folder");
    if (!fs::is_regular_file(status)) throw Error("this is not a file", path.string(), "Name a file");
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
    const fs::path part = temporary_beside(path);
    const auto failed = [&](const char* step) {
        const int code = errno;
        ::unlink(part.c_str());
        throw Error(std::string("cannot be ") + step + ": " + reason(code), path.string(),
                    "Check that the folder exists, is writable and has space");
    };
    const int fd = ::open(part.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0644);
    if (fd < 0) failed("created");
    while (!content.empty()) {
        const ssize_t n = ::write(fd, content.data(), content.size());
        if (n < 0 && errno == EINTR) continue;
        if (n < 0) {
            ::close(fd);
            failed("written");
        }
        content.remove_prefix(static_cast<std::size_t>(n));
    }
    if (::fsync(fd) != 0 || ::close(fd) != 0) failed("flushed");
    if (::rename(part.c_str(), path.c_str()) != 0) failed("moved into place");
    flush_folder(path);
}

PartFile::PartFile(fs::path final_path) : final_(std::move(final_path)), part_(temporary_beside(final_)) {}

PartFile::~PartFile() {
    std::error_code code;
    if (!done_) fs::remove(part_, code);
}

void PartFile::commit() {
    if (const int fd = ::open(part_.c_str(), O_RDONLY | O_CLOEXEC); fd >= 0) {
        ::fsync(fd);
        ::close(fd);
    }
    if (::rename(part_.c_str(), final_.c_str()) != 0)
        throw Error("cannot be moved into place: " + reason(errno), final_.string(),
                    "Check that the folder is writable and the name is not a folder");
    done_ = true;
    flush_folder(final_);
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

} // namespace porb
