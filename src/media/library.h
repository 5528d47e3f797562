#pragma once

#include "media/info.h"
#include "picture/picture.h"

#include <functional>
#include <map>
#include <memory>
#include <mutex>

namespace porb {

/// The pictures of all sources, decoded when asked for and kept within a bound. Several cameras, views and
/// threads share one library; each file is decoded by one reader at a time.
class MediaLibrary {
  public:
    /// `cache_bytes` bounds the converted pictures that are kept; decoders hold a few frames each beside
    /// that.
    explicit MediaLibrary(std::size_t cache_bytes = 768u << 20);
    ~MediaLibrary();

    MediaInfo info(const MediaRef& ref);

    /// The working picture on show at source time `t` (frame_index() has what counts as a frame's time),
    /// halved `level` times; nothing outside the source's duration. Throws Error when the file is missing or
    /// breaks off.
    std::optional<Picture> picture(const MediaRef& ref, Seconds t, int level = 0);

    /// What was odd in a source's pixels that were read so far, for people; empty: nothing.
    std::string remark(const MediaRef& ref) const;

    /// Forgets a file: its reader and pictures (after relinking, or when it changed on disk).
    void forget(const MediaRef& ref);

    BufferPool* pool() { return pool_.get(); }
    std::size_t cached_bytes() const;

  private:
    struct Source;
    struct Kept;

    std::optional<Picture> picture_at(const std::string& key, const MediaRef& ref, Seconds t, int level);
    std::shared_ptr<Source> source_for(const MediaRef& ref);
    std::optional<Picture> find_kept(const std::string& key, Seconds t, int level);
    void keep(const std::string& key, Seconds begin, Seconds end, int level, const Picture& picture);

    std::shared_ptr<BufferPool> pool_;
    mutable std::mutex mutex_;
    std::map<std::string, std::shared_ptr<Source>> sources_;
    std::map<std::string, MediaInfo> infos_; ///< so that nobody waits for a decoder to learn a size
    std::vector<Kept> kept_;                 ///< oldest use first
    /// By a source's key: files of it with pixels that were no numbers, and how many.
    std::map<std::string, std::map<std::filesystem::path, std::int64_t>> mended_;
    std::size_t limit_, bytes_ = 0;
};

} // namespace porb
