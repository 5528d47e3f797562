#pragma once

#include "base/cache.h"
#include "media/info.h"
#include "media/proxies.h"
#include "picture/yuv_picture.h"

#include <functional>
#include <map>
#include <memory>
#include <mutex>

namespace porb {

/// Whether a source's proxies will do.
enum class Footage { originals, proxies };

/// Memory that a source's frame takes in a library while it is read whole and halved once, bytes a pixel.
double bytes_a_pixel(const MediaInfo& info);

/// The pictures of all sources, decoded when asked for and kept within a bound. Several cameras, views and
/// threads share one library; each file is decoded by one reader at a time. Decoders hold a few frames each
/// beside the bound, and a pool of buffers for reuse at most an eighth of it.
class MediaLibrary {
  public:
    /// Frames take at most that share of the bound: what passes by must not push out what is slow to make and
    /// needed again for the next frame.
    explicit MediaLibrary(std::shared_ptr<CacheBound> bound = std::make_shared<CacheBound>(),
                          double frames_share = 0.75);
    explicit MediaLibrary(std::size_t cache_bytes)
        : MediaLibrary(std::make_shared<CacheBound>(cache_bytes)) {}
    ~MediaLibrary();

    MediaInfo info(const MediaRef& ref);

    /// The working picture on show at source time `t` (frame_index() has what counts as a frame's time),
    /// halved `level` times; nothing outside the source's duration. Throws Error when the file is missing or
    /// breaks off.
    std::optional<Picture> picture(const MediaRef& ref, Seconds t, int level = 0,
                                   Footage footage = Footage::originals);

    /// The same in the file's own samples where these are plain 4:2:0, which is quicker: picture() is this,
    /// converted.
    std::optional<SourcePicture> frame(const MediaRef& ref, Seconds t, int level = 0,
                                       Footage footage = Footage::originals);

    /// For whoever steps back: keeps up to twelve frames of a video that were shown before `t`, which its
    /// reader comes by anyway on its way from a key frame. Nothing is read where half of these are there.
    /// Throws Error as picture() does.
    void go_back(const MediaRef& ref, Seconds t, int level);

    /// Where proxies are looked for from now on; looks anew where there are such. A proxy stands for its
    /// source halved as often, never for a finer one; one that cannot be read is told by remark() and left
    /// out.
    void set_proxies(std::shared_ptr<const ProxyStore> store);

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
    /// Of what picture() is asked for: the source, and the moment that is meant.
    struct Asked {
        std::string key;
        std::shared_ptr<Source> source;
        Seconds t;
    };
    Asked asked_for(const MediaRef& ref, Seconds t);
    std::optional<SourcePicture> frame_at(const Asked& asked, int level, Footage footage, Seconds* begin,
                                          Seconds* end);
    std::optional<SourcePicture> from_proxy(const Asked& asked, int level, Seconds* begin, Seconds* end);
    std::shared_ptr<Source> source_for(const MediaRef& ref);

    std::shared_ptr<CacheBound> bound_, frames_bound_;
    std::shared_ptr<BufferPool> pool_;
    mutable std::mutex mutex_;
    std::shared_ptr<const ProxyStore> proxies_;
    std::uint64_t proxies_since_ = 0;           ///< goes up whenever they are to be looked for anew
    std::map<std::string, std::string> unread_; ///< by a source's key: why its proxy was left out
    std::map<std::string, std::shared_ptr<Source>> sources_;
    std::map<std::string, MediaInfo> infos_; ///< so that nobody waits for a decoder to learn a size
    /// By a source's key: files of it with pixels that were no numbers, and how many.
    std::map<std::string, std::map<std::filesystem::path, std::int64_t>> mended_;
};

} // namespace porb
