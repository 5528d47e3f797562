#pragma once

#include "picture/convert.h"
#include "picture/convert_simd.h"
#include "picture/picture.h"

#include <span>
#include <variant>
#include <vector>

namespace porb {

/// A decoded 4:2:0 picture in the samples of its file, or one that was made of such by halving: a plane of
/// luma and one of Cb and Cr side by side, bytes or 16-bit words. An eighth to a third of the working
/// format's memory, which is what sampling waits for. Copies share the samples, which nobody changes.
struct YuvPicture {
    int width = 0, height = 0; ///< of the luma
    int chroma_width = 0, chroma_height = 0;
    int sample_bytes = 1;
    const std::uint8_t *luma = nullptr, *chroma = nullptr; ///< four bytes past a row's end can be read
    std::ptrdiff_t luma_stride = 0, chroma_stride = 0;     ///< bytes
    simd::YuvToRgb colour{};                               ///< of samples: chroma less `chroma_centre`
    float chroma_centre = 128;
    int depth = 8, chroma_depth = 8; ///< bits, at most kMostDepth
    /// Chroma coordinates (continuous, like the luma's) are u * scale + shift.
    float chroma_scale = 0.5f, chroma_shift_x = 0, chroma_shift_y = 0;
    std::size_t bytes = 0;
    std::shared_ptr<const void> memory; ///< what holds the samples

    static constexpr int kMostDepth = 14; ///< of what was halved: sums are kept, not rounded, up to here
};

/// The chroma of `in` (4:2:0) brought side by side; its luma is used where it lies, as long as `memory`
/// lives.
YuvPicture yuv_picture(const YuvPlanes<const std::uint8_t>& in, std::shared_ptr<const void> memory,
                       BufferPool* pool = nullptr);
/// Half the size (rounded up): luma is the mean of the up to four it covers, and so is chroma once it is as
/// fine as the luma. Runs in parallel over rows.
YuvPicture halved(const YuvPicture& picture, BufferPool* pool = nullptr);
/// In the working format, chroma interpolated linearly at its siting. Runs in parallel over rows.
Picture picture_of(const YuvPicture& picture, BufferPool* pool = nullptr);

/// What a source shows, as the blend samples it: in its file's samples where these are plain 4:2:0, else in
/// the working format.
class SourcePicture {
  public:
    SourcePicture() = default;
    SourcePicture(Picture picture) : pixels_(std::move(picture)) {}
    SourcePicture(YuvPicture picture) : pixels_(std::move(picture)) {}

    int width() const { return yuv() ? yuv()->width : picture()->width(); }
    int height() const { return yuv() ? yuv()->height : picture()->height(); }
    std::size_t bytes() const { return yuv() ? yuv()->bytes : picture()->bytes(); }
    const Picture* picture() const { return std::get_if<Picture>(&pixels_); }
    const YuvPicture* yuv() const { return std::get_if<YuvPicture>(&pixels_); }
    /// In the working format.
    Picture converted(BufferPool* pool = nullptr) const {
        return yuv() ? picture_of(*yuv(), pool) : *picture();
    }

  private:
    std::variant<Picture, YuvPicture> pixels_;
};
inline std::vector<SourcePicture> as_sources(std::span<const Picture> pictures) {
    return {pictures.begin(), pictures.end()};
}
SourcePicture halved(const SourcePicture& picture, BufferPool* pool = nullptr);
/// Brightness on the working curve, (R + 2 G + B) / 4, of rows from `begin` to before `end`: a float for each
/// place, row after row. On one thread.
void brightness_rows(const SourcePicture& picture, int begin, int end, float* out);

} // namespace porb
