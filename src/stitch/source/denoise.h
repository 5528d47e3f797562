#pragma once

#include "media/library.h"
#include "project/grade.h"
#include "stitch/plan/view.h"

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

/// Denoised pictures of sources, kept within the bound with all else. Thread-safe.
class Cleaner {
  public:
    static constexpr int kBefore = 2; ///< frames
    explicit Cleaner(const std::shared_ptr<CacheBound>& bound) : kept_(bound), raw_(bound) {}
    /// As MediaLibrary::picture, denoised. `frame` is the length of one of its frames.
    std::optional<Picture> picture(MediaLibrary& library, const MediaRef& ref, Seconds t, Seconds frame,
                                   int level, const Denoise& settings);

  private:
    struct Key {
        MediaRef ref;
        Seconds t;
        Denoise settings;
        int level;
        bool operator==(const Key&) const = default;
    };
    /// A source's latest frames as they were shot, so that its reader need not go back.
    using Frames = std::vector<std::pair<Seconds, Picture>>;
    Cache<Key, Picture> kept_;
    Cache<MediaRef, Frames> raw_;
};

} // namespace porb
