#pragma once

#include <cstdint>
#include <filesystem>
#include <functional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace porb {

namespace fs = std::filesystem;

/// Throws Error unless `path` is a regular file, or a link to one: pipes and devices could wait for ever.
void must_be_regular_file(const fs::path& path);

/// Reads a whole regular file of at most `limit` bytes. Throws Error when it is missing, not a file or
/// larger.
std::string read_text_file(const fs::path& path, std::uint64_t limit = 64u << 20);

/// Writes beside `path`, flushes to disk, and moves into place, so that the name holds the old or the new
/// content and never half of one. A file that is replaced gives the new one its permissions; a link stays a
/// link, and the file that it names is replaced. Throws Error and removes its own leftovers on failure.
void write_file_atomically(const fs::path& path, std::string_view content);

/// A name beside `path`, with the same ending, for a file in the making; moved onto `path` by commit() and
/// removed by the destructor otherwise. The file is there, empty, from the beginning, and held by a lock, so
/// that others can tell what a killed program left behind (sweep_parts). Throws Error.
class PartFile {
  public:
    explicit PartFile(fs::path final_path);
    ~PartFile();
    PartFile(const PartFile&) = delete;
    PartFile& operator=(const PartFile&) = delete;

    const fs::path& path() const { return part_; }
    const fs::path& final_path() const { return final_; }
    void commit();

  private:
    fs::path final_, target_, part_;
    int fd_ = -1;
    bool done_ = false;
};

/// A folder beside a numbered sequence for its files in the making, of this run alone.
class PartFolder {
  public:
    explicit PartFolder(const fs::path& beside);
    ~PartFolder(); ///< removes it with all that is in it
    PartFolder(const PartFolder&) = delete;
    PartFolder& operator=(const PartFolder&) = delete;

    const fs::path& path() const { return path_; }
    /// Moves each file of the list (a name in this folder, and its final one beside it) into place. Either
    /// all are moved, or what was there is put back and an Error thrown; a program that is killed meanwhile
    /// leaves a list from which sweep_parts() completes the move. Waits for another run that is moving, too.
    void commit(const std::vector<std::pair<std::string, std::string>>& moves);

  private:
    fs::path beside_, path_;
    int fd_ = -1;
};

/// Whether that is the name of a file or folder in the making: who lists a folder leaves those out.
bool is_part(const fs::path& path);

/// Removes what killed programs left in the making in a folder, and completes what they had begun to move
/// into place. What is still being made stays. Never throws.
void sweep_parts(const fs::path& folder) noexcept;

/// Bytes a user may still write where `path` is or would be.
std::uint64_t free_disk_bytes(const fs::path& path);

/// `path` as seen from `base` when that stays short and on the same tree, else absolute.
std::string relative_or_absolute(const fs::path& path, const fs::path& base);

/// Whether two names lead to one file: through links of both kinds, "..", and other spellings. False while
/// either is not there.
bool same_file(const fs::path& a, const fs::path& b);

} // namespace porb
