#pragma once

#include "base/rational.h"
#include "picture/convert.h"

#include <filesystem>
#include <map>
#include <memory>
#include <optional>
#include <span>

namespace porb {

enum class VideoCodec { h264, h265, prores };

struct SoundFormat {
    int rate_hz = 48000, channels = 2;
    int bit_rate = 192000; ///< AAC in MP4; sound beside ProRes is 24-bit PCM
};

struct VideoFormat {
    VideoCodec codec = VideoCodec::h264;
    int width = 0, height = 0;
    FrameRate rate{30};
    int depth = 8;             ///< 8 or 10; ProRes is 10 whatever is said
    double crf = 18;           ///< used when bit_rate is 0
    std::int64_t bit_rate = 0; ///< bits a second
    bool fast = false;         ///< quicker, larger files at the same quality
    std::optional<SoundFormat> sound;
    std::string timecode;                          ///< of the first frame, or empty
    std::map<std::string, std::string> metadata{}; ///< entries of the whole file
};

/// Encodes pictures at a constant rate, and sound, into an MP4 or MOV file (by the name's ending). The caller
/// names a part file and moves it into place after finish(). Throws Error.
class VideoWriter {
  public:
    VideoWriter(const std::filesystem::path& path, const VideoFormat& format);
    ~VideoWriter();

    void write(const Picture& picture); ///< of the format's size
    /// A frame to be filled by whoever blends, in the encoder's own pixels, from any thread; then written.
    struct Frame {
        YuvPlanes<std::uint8_t> planes;
        std::shared_ptr<void> memory;
    };
    Frame new_frame() const;
    void write(const Frame& frame);
    void write_sound(std::span<const float> interleaved);
    void finish();
    std::int64_t bytes_written() const;

  private:
    struct Impl;
    std::unique_ptr<Impl> impl_;
};

} // namespace porb
