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
    /// The same where it has to be decoded from the key frame before: `tell_before` is told up to `before`
    /// frames that were shown before it, in order, as far as they lie on that way. For whoever steps back.
    using TellFrame = std::function<void(const DecodedFrame&)>;
    std::optional<DecodedFrame> frame_at(Seconds t, int before, const TellFrame& tell_before);

  private:
    struct Impl;
    std::unique_ptr<Impl> impl_;
};

} // namespace porb
