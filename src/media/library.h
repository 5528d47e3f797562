#pragma once

#include "base/cache.h"
#include "media/info.h"
#include "picture/picture.h"

#include <functional>
#include <map>
#include <memory>
#include <mutex>

namespace porb {

/// The pictures of all sources, decoded when asked for and kept within a bound. Several cameras, views and
/// threads share one library; each file is decoded by one reader at a time. Decoders hold a few frames each
/// beside the bound, and a pool of buffers for reuse at most an eighth of it.
class MediaLibrary {
  public:
    explicit MediaLibrary(std::shared_ptr<CacheBound> bound = std::make_shared<CacheBound>());
    explicit MediaLibrary(std::size_t cache_bytes)
        : MediaLibrary(std::make_shared<CacheBound>(cache_bytes)) {}
    ~MediaLibrary();

    MediaInfo info(const MediaRef& ref);

    /// The working picture on show at source time `t` (frame_index() has what counts as a frame's time),
    /// halved `level` times; nothing outside the source's duration. Throws Error when the file is missing or
    /// breaks off.
    std::optional<Picture> picture(const MediaRef& ref, Seconds t, int level = 0);

    /// Whether picture() has something to show at `t`. Answered from the file's headers, except near its end,
    /// where it is read to be sure.
    bool shows(const MediaRef& ref, Seconds t);

    /// What was odd in a source's pixels that were read so far, for people; empty: nothing.
    std::string remark(const MediaRef& ref) const;

    /// Forgets a file: its reader and pictures (after relinking, or when it changed on disk).
    void forget(const MediaRef& ref);

    BufferPool* pool() { return pool_.get(); }
    /// For what else is kept of its pictures.
    const std::shared_ptr<CacheBound>& bound() const { return bound_; }

  private:
    struct Source;

    /// What is asked for with every picture.
    struct Clock {
        Seconds duration, frame;
        bool guessed; ///< the duration
    };
    Clock clock_of(const MediaRef& ref);
    std::optional<Picture> picture_at(const std::string& key, const MediaRef& ref, Seconds t, int level);
    std::shared_ptr<Source> source_for(const MediaRef& ref);

    std::shared_ptr<CacheBound> bound_;
    std::shared_ptr<BufferPool> pool_;
    mutable std::mutex mutex_;
    std::map<std::string, std::shared_ptr<Source>> sources_;
    std::map<std::string, MediaInfo> infos_; ///< so that nobody waits for a decoder to learn a size
    /// By a source's key: files of it with pixels that were no numbers, and how many.
    std::map<std::string, std::map<std::filesystem::path, std::int64_t>> mended_;
};

} // namespace porb
