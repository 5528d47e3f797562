#pragma once

#include <filesystem>
#include <optional>
#include <string>

namespace porb {

/// A lock that other programs see: a small file that says who holds it, locked by the system (flock), which
/// lets go of it when its holder ends, however that comes about; one that was left behind is taken over.
/// Move-only; released and removed by the destructor.
class LockFile {
  public:
    /// Takes the lock, or returns nothing while another holds it. `holder` says who this is and what it does,
    /// in words; the machine, the process and the time are added. Throws Error when the folder cannot be
    /// written to.
    static std::optional<LockFile> take(const std::filesystem::path& path, const std::string& holder);
    /// Who holds it: "porbit solve, process 81 on hall since 14:03:10", or nothing when nobody does.
    static std::optional<std::string> holder_of(const std::filesystem::path& path);

    LockFile(LockFile&& other) noexcept;
    LockFile& operator=(LockFile&& other) noexcept;
    ~LockFile();

  private:
    LockFile(std::filesystem::path path, int fd) : path_(std::move(path)), fd_(fd) {}
    std::filesystem::path path_;
    int fd_;
};

/// Locks an open file or folder for this process alone without waiting; false when another has it.
bool lock_descriptor(int fd);

} // namespace porb
