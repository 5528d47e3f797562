#include "project/tile_store.h"

#include "base/error.h"
#include "base/file.h"
#include "base/parallel.h"
#include "media/digest.h"
#include "project/fields_patches.h"

#include <fmt/format.h>
#include <zlib.h>

#include <atomic>
#include <chrono>
#include <cstring>
#include <fcntl.h>
#include <map>
#include <sys/file.h>
#include <unistd.h>

namespace porb {

namespace {

constexpr const char* kTileEnding = ".tile";
constexpr char kMagic[8] = {'P', 'O', 'R', 'B', 'T', 'I', 'L', '1'};
constexpr std::size_t kNameLength = 32;
constexpr std::uint64_t kMostBytes = 1u << 20; ///< of a tile's file
constexpr auto kKept = std::chrono::hours(24); ///< of what no document names

/// The lock file of a folder: a dot keeps it out of sight.
fs::path lock_path(const fs::path& folder) {
    return folder / ".in-use";
}

/// A folder that is read from or written to: held by a shared lock, so that nobody sweeps it meanwhile.
class TileFolder {
  public:
    explicit TileFolder(const fs::path& path)
        : fd_(::open(lock_path(path).c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0666)) {
        share();
    }
    ~TileFolder() {
        if (fd_ >= 0) ::close(fd_);
    }
    TileFolder(const TileFolder&) = delete;
    TileFolder& operator=(const TileFolder&) = delete;
    /// Runs `work` if nobody else holds the folder.
    template <class Work>
    void alone(const Work& work) const {
        if (fd_ < 0 || ::flock(fd_, LOCK_EX | LOCK_NB) != 0) return share();
        work();
        share();
    }

  private:
    void share() const {
        if (fd_ >= 0) ::flock(fd_, LOCK_SH);
    }
    int fd_;
};

fs::path file_of(const fs::path& folder, const std::string& name) {
    return folder / (name + kTileEnding);
}

/// Bytes of the low halves first, then those of the high ones: neighbours differ little in these.
std::string packed(const Tile& tile) {
    const auto* pixels = reinterpret_cast<const unsigned char*>(tile.pixels());
    const std::size_t n = tile.halves();
    std::vector<unsigned char> bytes(2 * n);
    for (std::size_t i = 0; i < n; ++i) bytes[i] = pixels[2 * i], bytes[n + i] = pixels[2 * i + 1];
    uLongf size = compressBound(uLong(bytes.size()));
    std::string out(sizeof kMagic + 4 + size, '\0');
    std::memcpy(out.data(), kMagic, sizeof kMagic);
    out[sizeof kMagic] = char(tile.channels());
    constexpr int kQuick = 1;
    if (compress2(reinterpret_cast<Bytef*>(out.data() + sizeof kMagic + 4), &size, bytes.data(),
                  uLong(bytes.size()), kQuick) != Z_OK)
        throw std::bad_alloc();
    out.resize(sizeof kMagic + 4 + size);
    return out;
}

std::unique_ptr<Half[]> unpacked(const std::string& file, int channels) {
    if (file.size() < sizeof kMagic + 4 || std::memcmp(file.data(), kMagic, sizeof kMagic) != 0 ||
        file[sizeof kMagic] != char(channels))
        return nullptr;
    const std::size_t n = std::size_t(Tile::kSide) * Tile::kSide * std::size_t(channels);
    std::vector<unsigned char> bytes(2 * n);
    uLongf size = uLongf(bytes.size());
    if (uncompress(bytes.data(), &size, reinterpret_cast<const Bytef*>(file.data() + sizeof kMagic + 4),
                   uLong(file.size() - sizeof kMagic - 4)) != Z_OK ||
        size != bytes.size())
        return nullptr;
    auto out = std::make_unique_for_overwrite<Half[]>(n);
    auto* pixels = reinterpret_cast<unsigned char*>(out.get());
    for (std::size_t i = 0; i < n; ++i) pixels[2 * i] = bytes[i], pixels[2 * i + 1] = bytes[n + i];
    return out;
}

std::unique_ptr<Half[]> read_tile(const fs::path& file, const std::string& name, int channels) {
    try {
        auto pixels = unpacked(read_text_file(file, kMostBytes), channels);
        // A damaged file must not pass for what was painted.
        if (pixels && tile_name(Tile(channels, pixels.get())) != name) return nullptr;
        return pixels;
    } catch (const Error&) {
        return nullptr;
    }
}

template <class Shots, class Work>
void for_all_images(Shots& shots, const Work& work) {
    for (auto& shot : shots)
        for (auto& patch : shot.patches)
            for (auto* image : {&patch.pixels, &patch.plate, &patch.mask, &patch.reference})
                work(shot, patch, *image);
}

std::vector<std::shared_ptr<const Tile>> tiles_of_project(const Project& project) {
    std::vector<std::shared_ptr<const Tile>> out;
    for_all_images(project.shots, [&](const Shot&, const Patch&, const TileImage& image) {
        for (int ty = 0; ty < image.down(); ++ty)
            for (int tx = 0; tx < image.across(); ++tx)
                if (const auto& tile = image.shared_tile(tx, ty)) out.push_back(tile);
    });
    std::sort(out.begin(), out.end());
    out.erase(std::unique(out.begin(), out.end()), out.end());
    return out;
}

/// Removes the files of a folder that are not among `names`, once they are a day old: an earlier version of
/// the document may be fetched back until then.
void sweep(const fs::path& folder, const std::set<std::string>& names) {
    std::error_code code;
    sweep_parts(folder);
    for (const auto& entry : fs::directory_iterator(folder, code)) {
        if (entry.path().extension() != kTileEnding || names.contains(entry.path().stem().string())) continue;
        const auto age = fs::file_time_type::clock::now() - fs::last_write_time(entry.path(), code);
        if (!code && age > kKept) fs::remove(entry.path(), code);
    }
}

bool has_patches(const Project& project) {
    return std::any_of(project.shots.begin(), project.shots.end(),
                       [](const Shot& s) { return !s.patches.empty(); });
}

} // namespace

fs::path tile_folder(const fs::path& document) {
    return document.string() + ".d";
}

std::string tile_name(const Tile& tile) {
    return tile.name([](const Tile& t) {
        const std::string_view bytes(reinterpret_cast<const char*>(t.pixels()), t.halves() * sizeof(Half));
        return sha256_hex(bytes, char(t.channels())).substr(0, kNameLength);
    });
}

std::set<std::string> tile_names(const Project& project) {
    std::set<std::string> out;
    for (const auto& tile : tiles_of_project(project)) out.insert(tile_name(*tile));
    return out;
}

void find_tiles(Project& project, const fs::path& document, std::vector<std::string>* remarks) {
    if (!has_patches(project)) return;
    const fs::path path = tile_folder(document);
    std::error_code code;
    std::shared_ptr<const TileFolder> folder;
    if (fs::is_directory(path, code)) {
        folder = std::make_shared<const TileFolder>(path);
        // Nobody else has the document open: what it does not name was undone, or replaced.
        const auto names = tile_names(project);
        folder->alone([&] { sweep(path, names); });
    }
    std::map<std::string, std::shared_ptr<const Tile>> known; // pictures share what is alike
    Project& p = project;
    for_all_images(p.shots, [&](const Shot& shot, const Patch& patch, TileImage& image) {
        std::size_t missing = 0, all = 0;
        for (int ty = 0; ty < image.down(); ++ty)
            for (int tx = 0; tx < image.across(); ++tx) {
                const Tile* tile = image.tile(tx, ty);
                if (!tile) continue;
                ++all;
                const std::string name = tile_name(*tile);
                const fs::path file = file_of(path, name);
                if (!folder || !fs::exists(file, code)) ++missing;
                auto& shared = known[name];
                if (!shared)
                    shared = std::make_shared<const Tile>(
                        name, image.channels(),
                        [folder, file, name, channels = image.channels()]() -> std::unique_ptr<Half[]> {
                            return folder ? read_tile(file, name, channels) : nullptr;
                        });
                image.set_tile(tx, ty, shared);
            }
        if (missing > 0 && remarks)
            remarks->push_back(fmt::format("shot {}: {} of {} squares of patch '{}' are not in {}. Put that "
                                           "folder back beside the project, and open it again",
                                           shot.name, missing, all, patch.name, path.string()));
    });
}

void write_tiles(const Project& project, const fs::path& document) {
    const auto tiles = tiles_of_project(project);
    if (tiles.empty()) return;
    const fs::path folder = tile_folder(document);
    std::error_code code;
    fs::create_directories(folder, code);
    if (!fs::is_directory(folder, code))
        throw Error("cannot be made", folder.string(),
                    "Painted pixels are kept in it: make room beside the project, or save elsewhere");
    const TileFolder held(folder);
    std::atomic<bool> wrote = false;
    parallel_ranges(int(tiles.size()), 4, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const Tile& tile = *tiles[std::size_t(i)];
            const std::string& name = tile_name(tile);
            const fs::path file = file_of(folder, name);
            std::error_code none;
            if (fs::exists(file, none)) {
                // Named again: nobody who reads the old document meanwhile may take it for left over.
                if (fs::file_time_type::clock::now() - fs::last_write_time(file, none) > kKept / 2)
                    fs::last_write_time(file, fs::file_time_type::clock::now(), none);
                continue;
            }
            (void)tile.pixels();
            if (tile.is_lost()) continue; // it was not there when it was read: nothing can be kept of it
            PartFile part(file);
            const std::string bytes = packed(tile);
            const int fd = ::open(part.path().c_str(), O_WRONLY | O_TRUNC | O_CLOEXEC);
            bool ok = fd >= 0;
            for (std::size_t at = 0; ok && at < bytes.size();) {
                const auto n = ::write(fd, bytes.data() + at, bytes.size() - at);
                ok = n > 0;
                if (ok) at += std::size_t(n);
            }
            if (fd >= 0) ok &= ::close(fd) == 0;
            if (!ok)
                throw Error("cannot be written", file.string(),
                            "Make room on the disk, or save the project elsewhere");
            part.commit();
            wrote = true;
        }
    });
    if (!wrote) return;
    // One flush for all of them: each alone would take a turn of the disk.
    const int fd = ::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (fd < 0) return;
    const bool flushed = ::syncfs(fd) == 0;
    ::close(fd);
    if (!flushed)
        throw Error("cannot be written", folder.string(), "The disk reports a fault: save elsewhere");
}

void read_all_tiles(const Project& project) {
    const auto tiles = tiles_of_project(project);
    parallel_ranges(int(tiles.size()), 4, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) (void)tiles[std::size_t(i)]->pixels();
    });
}

} // namespace porb
