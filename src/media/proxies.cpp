#include "media/proxies.h"

#include "base/error.h"
#include "base/file.h"
#include "media/digest.h"

#include <algorithm>
#include <cstdlib>
#include <fstream>

namespace porb {

namespace fs = std::filesystem;

namespace {
constexpr const char* kEnding = ".mp4";
constexpr std::size_t kLooked = 64 << 10; ///< bytes of each part of a file that tell it from others

/// The level in "<content>.<level>.mp4", or 0.
int level_of(const fs::path& file) {
    if (file.extension() != kEnding) return 0;
    const std::string level = file.stem().extension().string();
    return level.size() == 2 && level[1] >= '1' && level[1] <= '0' + kMostProxyLevel ? level[1] - '0' : 0;
}

std::optional<ProxyFile> proxy_at(const fs::path& path) {
    std::error_code code;
    const int level = level_of(path);
    if (level == 0 || !fs::is_regular_file(path, code)) return std::nullopt;
    const auto bytes = fs::file_size(path, code);
    if (code) return std::nullopt;
    const auto used = fs::last_write_time(path, code);
    if (code) return std::nullopt;
    return ProxyFile{path, level, bytes, used};
}
} // namespace

ProxyStore::ProxyStore(fs::path folder, std::uint64_t most_bytes)
    : folder_(std::move(folder)), most_bytes_(most_bytes) {}

fs::path ProxyStore::usual_folder() {
    const auto variable = [](const char* name) {
        const char* value = std::getenv(name);
        return fs::path(value && *value ? value : "");
    };
    fs::path cache = variable("XDG_CACHE_HOME");
    if (!cache.is_absolute()) cache = variable("HOME") / ".cache";
    return cache / "pale-orbit" / "proxies";
}

std::string ProxyStore::content_of(const fs::path& file) const {
    std::error_code code;
    const auto bytes = fs::file_size(file, code);
    const auto written = fs::last_write_time(file, code);
    if (code)
        throw Error("cannot be read: " + code.message(), file.string(),
                    "Check that it is there, or relink it");
    {
        const std::lock_guard lock(mutex_);
        const auto known = known_.find(file);
        if (known != known_.end() && known->second.bytes == bytes && known->second.written == written)
            return known->second.content;
    }
    std::string looked = std::to_string(bytes);
    std::ifstream in(file, std::ios::binary);
    std::vector<char> part(kLooked);
    for (const std::uintmax_t at : {std::uintmax_t(0), bytes / 2, bytes > kLooked ? bytes - kLooked : 0}) {
        in.clear();
        in.seekg(std::streamoff(at));
        in.read(part.data(), std::streamsize(part.size()));
        looked.append(part.data(), std::size_t(in.gcount()));
    }
    std::string content = sha256_hex(looked, 'p');
    const std::lock_guard lock(mutex_);
    known_[file] = {bytes, written, content};
    return content;
}

fs::path ProxyStore::path_for(const MediaRef& ref, int level) const {
    return folder_ / (content_of(ref.path) + "." + std::to_string(level) + kEnding);
}

std::vector<ProxyFile> ProxyStore::of(const MediaRef& ref) const {
    std::vector<ProxyFile> out;
    std::error_code code;
    if (ref.kind != MediaKind::video || !fs::is_regular_file(ref.path, code)) return out;
    try {
        for (int level = 1; level <= kMostProxyLevel; ++level)
            if (auto file = proxy_at(path_for(ref, level))) out.push_back(std::move(*file));
    } catch (const Error&) {
        // a source that cannot be read is told where it is read
    }
    return out;
}

std::vector<ProxyFile> ProxyStore::all() const {
    std::vector<ProxyFile> out;
    std::error_code code;
    for (fs::directory_iterator it(folder_, code), end; !code && it != end; it.increment(code))
        if (auto file = proxy_at(it->path())) out.push_back(std::move(*file));
    std::sort(out.begin(), out.end(), [](const ProxyFile& a, const ProxyFile& b) {
        return a.used != b.used ? a.used > b.used : a.path < b.path;
    });
    return out;
}

void ProxyStore::touch(const fs::path& proxy) const {
    std::error_code code; // a folder that cannot be written is no reason not to play
    fs::last_write_time(proxy, fs::file_time_type::clock::now(), code);
}

bool ProxyStore::remove(const fs::path& proxy) const {
    std::error_code code;
    const bool was = fs::remove(proxy, code);
    if (code)
        throw Error("cannot be removed: " + code.message(), proxy.string(), "Check the folder's permissions");
    return was;
}

int ProxyStore::trim(const std::vector<fs::path>& keep) const {
    std::uint64_t sum = 0;
    int gone = 0;
    for (const ProxyFile& file : all()) {
        const bool stays = std::find(keep.begin(), keep.end(), file.path) != keep.end();
        if (stays || sum + file.bytes <= most_bytes_)
            sum += file.bytes;
        else
            gone += remove(file.path);
    }
    return gone;
}

} // namespace porb
