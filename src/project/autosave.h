#pragma once

#include "base/lock_file.h"
#include "project/project.h"

namespace porb {

/// Tells bytes apart (64 bits of FNV-1a; never 0).
std::uint64_t fingerprint_of_bytes(std::string_view bytes);
/// What a project file holds, told by its bytes: 0 when it is not there. Throws Error when it cannot be read.
std::uint64_t fingerprint_of(const std::filesystem::path& file);

/// Unsaved work that a window left behind.
struct Autosave {
    std::filesystem::path file;         ///< the autosave itself
    std::filesystem::path project_file; ///< where the project lives, empty while it was never saved
    std::uint64_t opened = 0;           ///< fingerprint of the project file that the work began from
    Project project;
};

/// Where one window keeps its unsaved work: a file in a folder of ours, with a name of its own and a lock
/// beside it that lasts as long as the window. Nobody else's work is ever written over. Not thread safe.
class AutosaveSlot {
  public:
    /// Throws Error when the folder cannot be used.
    explicit AutosaveSlot(const std::filesystem::path& folder);
    /// Goes on in what another window left behind, which stays there until the work is saved; nothing when
    /// that window lives, or another has taken it up.
    static std::optional<AutosaveSlot> adopt(const Autosave& left);
    AutosaveSlot(AutosaveSlot&&) noexcept = default;
    AutosaveSlot& operator=(AutosaveSlot&&) noexcept = default;

    const std::filesystem::path& file() const { return file_; }
    /// Replaces what is kept. Throws Error.
    void write(const std::filesystem::path& project_file, std::uint64_t opened, const Project& project) const;
    /// Called after a real save and at a clean end.
    void remove() const;

  private:
    AutosaveSlot(std::filesystem::path file, LockFile lock)
        : file_(std::move(file)), lock_(std::move(lock)) {}
    static LockFile lock_for(const std::filesystem::path& file);
    std::filesystem::path file_;
    LockFile lock_;
};

/// What windows that are no longer running left behind, newest first. `unreadable` names files that cannot be
/// read; they are kept.
std::vector<Autosave> find_autosaves(const std::filesystem::path& folder,
                                     std::vector<std::filesystem::path>* unreadable = nullptr);

} // namespace porb
