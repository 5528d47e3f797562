#pragma once

#include "base/progress.h"
#include "media/frame.h"
#include "media/info.h"

#include <map>
#include <mutex>

namespace porb {

/// How often a proxy is halved: to a half, a quarter or an eighth of its source's size.
inline constexpr int kMostProxyLevel = 3;

/// A small copy of a video, quick to decode and to seek: key frames alone, at the source's frame times, with
/// its colour tags, range and timecode.
struct ProxyFile {
    std::filesystem::path path;
    int level = 1;
    std::uint64_t bytes = 0;
    std::filesystem::file_time_type used; ///< last
};

/// Proxies in a folder, found by their source's content: a file that was changed has none, one that was moved
/// or copied has those it had. What was used longest ago goes when they take more than the bound. Safe to use
/// from several threads and programs.
class ProxyStore {
  public:
    static constexpr std::uint64_t kUsualBytes = std::uint64_t(64) << 30;
    explicit ProxyStore(std::filesystem::path folder = usual_folder(),
                        std::uint64_t most_bytes = kUsualBytes);
    /// In the user's cache folder ($XDG_CACHE_HOME, or ~/.cache).
    static std::filesystem::path usual_folder();

    /// Those of a source, finest first; nothing where there is no such file, or it is no video.
    std::vector<ProxyFile> of(const MediaRef& ref) const;
    std::vector<ProxyFile> all() const; ///< latest used first
    /// Where one would be. Throws Error when the source cannot be read.
    std::filesystem::path path_for(const MediaRef& ref, int level) const;
    /// That it was used now.
    void touch(const std::filesystem::path& proxy) const;
    /// Whether it was there.
    bool remove(const std::filesystem::path& proxy) const;
    /// Removes what was used longest ago until all fit the bound; `keep` stay. Says how many went.
    int trim(const std::vector<std::filesystem::path>& keep = {}) const;
    std::uint64_t most_bytes() const { return most_bytes_; }
    const std::filesystem::path& folder() const { return folder_; }

  private:
    /// SHA-256 of a file's size and of its beginning, middle and end.
    std::string content_of(const std::filesystem::path& file) const;

    std::filesystem::path folder_;
    std::uint64_t most_bytes_;
    struct Known {
        std::uintmax_t bytes;
        std::filesystem::file_time_type written;
        std::string content;
    };
    mutable std::mutex mutex_;
    mutable std::map<std::filesystem::path, Known> known_; ///< contents, by file
};

/// Makes the proxy of a video and puts it into the store; one that is there already stays. The file appears
/// when it is complete. Throws Error (which file, how to mend it) or Cancelled; then nothing is left behind.
/// About as long as decoding the source takes.
ProxyFile make_proxy(const MediaRef& ref, int level, const ProxyStore& store, const TellShare& tell = {},
                     const Cancel& cancel = {});

/// Makes those of several, some side by side, and goes on with the others when one fails. `tell` is called
/// from several threads, and may hold them up. Throws Cancelled, or at the end the first Error; what was
/// finished stays.
void make_proxies(const std::vector<MediaRef>& refs, int level, const ProxyStore& store,
                  const TellShare& tell = {}, const Cancel& cancel = {});

/// What a frame of a proxy shows, as its source halved `level` times would. Throws Error where the proxy's
/// size is not that.
SourcePicture proxy_picture(const DecodedFrame& frame, const MediaInfo& source, int level,
                            const ColourChange* colour, BufferPool* pool);

} // namespace porb
