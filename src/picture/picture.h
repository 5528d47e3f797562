// picture: pixel buffers in the one working format, conversion from and to the pixels of files and screens,
// reduction, transfer curves, comparison. The hot loops are in convert_simd.cpp, dispatched at run time.
#pragma once

#include <cstdint>
#include <memory>
#include <mutex>
#include <span>
#include <vector>

namespace porb {

using Half = std::uint16_t; ///< the bit pattern of an IEEE 754 binary16

/// Buffers handed back by pictures that went away, kept for the next one of about that size: fresh pages cost
/// more than filling them. Bounded; thread-safe; pictures may outlive it.
class BufferPool : public std::enable_shared_from_this<BufferPool> {
  public:
    explicit BufferPool(std::size_t limit_bytes) : limit_(limit_bytes) {}
    std::shared_ptr<Half> take(std::size_t halves);

  private:
    void give_back(Half* memory, std::size_t halves);

    struct Free {
        std::unique_ptr<Half, void (*)(void*)> memory;
        std::size_t halves;
    };
    std::mutex mutex_;
    std::vector<Free> free_;
    std::size_t limit_, held_ = 0;
};

/// The working format, everywhere between decoder and encoder: interleaved R, G, B, A halves, colour encoded
/// with the sRGB curve (extended above 1 and below 0) on Rec. 709 primaries, premultiplied by alpha. Halves
/// keep 11 bits up to 1, so 10-bit sources pass without banding, and hold highlights far above it; 8-bit ones
/// pass exactly. Copies share pixels: a picture is filled once by whoever makes it and only read afterwards.
class Picture {
  public:
    Picture() = default;
    Picture(int width, int height, BufferPool* pool = nullptr);
    /// Of a picture of that size the rows [first, first + rows) alone; no other may be touched.
    static Picture band(int width, int height, int first, int rows, BufferPool* pool);

    int width() const { return width_; }
    int height() const { return height_; }
    bool empty() const { return width_ == 0 || height_ == 0; }
    std::size_t bytes() const { return std::size_t(width_) * std::size_t(height_) * 8; }
    Half* row(int y) { return pixels_.get() + std::size_t(y - first_) * std::size_t(width_) * 4; }
    const Half* row(int y) const { return pixels_.get() + std::size_t(y - first_) * std::size_t(width_) * 4; }

  private:
    int width_ = 0, height_ = 0;
    int first_ = 0; ///< row that there are pixels of
    std::shared_ptr<Half> pixels_;
};

Half half_from_float(float value);
float float_from_half(Half value);

/// One pixel as floats R, G, B, A.
struct Rgba {
    float r = 0, g = 0, b = 0, a = 0;
};
Rgba pixel_at(const Picture& picture, int x, int y);
void set_pixel(Picture& picture, int x, int y, const Rgba& value);

/// Half the size (rounded up), each pixel the mean of the up to four it covers.
Picture halved(const Picture& picture, BufferPool* pool = nullptr);

/// `upper` above `lower`, or beside it at its right; both of one size.
Picture stacked(const Picture& upper, const Picture& lower, bool side_by_side);

/// The pixels [x, x+width) x [y, y+height), which must lie inside.
Picture cropped(const Picture& picture, int x, int y, int width, int height);

} // namespace porb
