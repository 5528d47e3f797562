#pragma once

#include "media/library.h"
#include "project/grade.h"
#include "stitch/view.h"

#include <mutex>
#include <span>

namespace porb {

/// A picture with less noise. Over time: the frames before it (`before`, latest first) are brought to it
/// along dense optical flow (OpenCV's DIS; Kroeger et al. 2016, "Fast optical flow using dense inverse
/// search") and averaged in as far as they look alike; in the frame: a bilateral filter (Tomasi and Manduchi
/// 1998). Both measure themselves by the picture's own noise (Immerkaer 1996, "Fast noise variance
/// estimation"), so that clean pictures are hardly touched. Alpha stays.
Picture denoised(const Picture& now, std::span<const Picture> before, const Denoise& settings,
                 BufferPool* pool);

/// A part of that, which must lie inside, without making the rest: as much the same as flow that sees only
/// what is near allows.
Picture denoised_part(const Picture& now, std::span<const Picture> before, const Denoise& settings,
                      const Region& part);

/// The noise of a picture: standard deviation of its green on the working curve.
double noise_of(const Picture& picture);

/// Denoised pictures of sources, kept within a bound. Thread-safe.
class Cleaner {
  public:
    static constexpr int kBefore = 2; ///< frames
    explicit Cleaner(std::size_t limit_bytes) : limit_(limit_bytes) {}
    /// As MediaLibrary::picture, denoised. `frame` is the length of one of its frames.
    std::optional<Picture> picture(MediaLibrary& library, const MediaRef& ref, Seconds t, Seconds frame,
                                   int level, const Denoise& settings);

  private:
    struct Kept {
        MediaRef ref;
        Seconds t;
        Denoise settings;
        int level;
        Picture picture;
    };
    struct Raw { ///< a source's latest frames as they were shot, so that its reader need not go back
        MediaRef ref;
        std::vector<std::pair<Seconds, Picture>> frames;
    };
    std::optional<Picture> find(const MediaRef& ref, Seconds t, const Denoise& settings, int level);
    void keep(Kept kept);
    std::mutex mutex_;
    std::vector<Kept> kept_; ///< oldest first
    std::vector<Raw> raw_;
    std::size_t limit_, bytes_ = 0;
};

} // namespace porb
