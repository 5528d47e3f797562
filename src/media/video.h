#pragma once

#include "media/frame.h"
#include "media/info.h"

#include <functional>
#include <optional>

namespace porb {

/// Exact frames from one video file. Source time 0 is the start of its first frame, whatever the container
/// calls it. Asking for rising times decodes straight on; any other time seeks to the key frame before it and
/// decodes up to it. Not for use from two threads at once.
class VideoReader {
  public:
    /// Opens the file and decodes its first frame. Throws Error.
    explicit VideoReader(const std::filesystem::path& path, int threads = 2);
    ~VideoReader();
    VideoReader(const VideoReader&) = delete;
    VideoReader& operator=(const VideoReader&) = delete;

    const MediaInfo& info() const;
    /// What its frames' times are multiples of.
    Seconds tick() const;
    /// The frame on show at `t`, or nothing before the first and after the last. Throws Error when the file
    /// breaks off.
    std::optional<DecodedFrame> frame_at(Seconds t);
    /// Tells up to `most` frames that were shown before the one at `t`, in order, as far as they lie between
    /// it and the key frame before. For whoever steps back. Throws Error as frame_at() does.
    using TellFrame = std::function<void(const DecodedFrame&)>;
    void frames_before(Seconds t, int most, const TellFrame& tell);

  private:
    struct Impl;
    std::unique_ptr<Impl> impl_;
};

} // namespace porb
