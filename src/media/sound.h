#pragma once

#include "base/rational.h"

#include <filesystem>
#include <memory>
#include <span>
#include <vector>

namespace porb {

/// Sound of one file as interleaved floats at a chosen rate and channel count. Sample 0 sounds at source time
/// 0, the start of the file's first picture. Reading on from where the last read ended is cheap; elsewhere it
/// seeks.
class SoundReader {
  public:
    /// Throws Error when the file has no sound or it cannot be decoded.
    SoundReader(const std::filesystem::path& path, int rate_hz, int channels);
    ~SoundReader();

    /// `count` sample frames from `first` on; silence before the beginning, after the end and in gaps.
    std::vector<float> read(std::int64_t first, std::int64_t count);

  private:
    struct Impl;
    std::unique_ptr<Impl> impl_;
};

} // namespace porb
