#pragma once

#include <cstdint>
#include <filesystem>
#include <functional>
#include <string>
#include <string_view>

namespace porb {

namespace fs = std::filesystem;

/// Reads a whole regular file of at most `limit` bytes. Throws Error when it is missing, not a file or
/// larger.
std::string read_text_file(const fs::path& path, std::uint64_t limit = 64u << 20);

/// Writes beside `path`, flushes to disk, and moves into place, so that the name holds the old or the new
/// content and never half of one. Throws Error and removes its own leftovers on failure.
void write_file_atomically(const fs::path& path, std::string_view content);

/// A name beside `path`, with the same ending, for a file in the making; moved onto `path` by commit() and
/// removed by the destructor otherwise.
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
    fs::path final_, part_;
    bool done_ = false;
};

/// Bytes a user may still write where `path` is or would be.
std::uint64_t free_disk_bytes(const fs::path& path);

/// `path` as seen from `base` when that stays short and on the same tree, else absolute.
std::string relative_or_absolute(const fs::path& path, const fs::path& base);

} // namespace porb
