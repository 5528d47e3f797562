#include "picture/picture.h"

#include "base/parallel.h"
#include "picture/convert_simd.h"

#include <algorithm>
#include <bit>
#include <cassert>
#include <cstdlib>
#include <cstring>
#include <new>
#include <sys/mman.h>

namespace porb {

namespace {
constexpr std::size_t kAlignment = 64, kHugePage = 2u << 20;
constexpr std::size_t kSlackHalves = 64; // vector loads may run past the last pixel

/// Large pictures are put on huge pages where the system has them: warping walks all over its source, and
/// with small pages most of its time would go into looking up addresses.
Half* allocate(std::size_t halves) {
    const std::size_t wanted = (halves + kSlackHalves) * sizeof(Half);
    const std::size_t alignment = wanted >= 2 * kHugePage ? kHugePage : kAlignment;
    const std::size_t bytes = (wanted + alignment - 1) / alignment * alignment;
    void* memory = std::aligned_alloc(alignment, bytes);
    if (!memory) throw std::bad_alloc();
    if (alignment == kHugePage) ::madvise(memory, bytes, MADV_HUGEPAGE);
    return static_cast<Half*>(memory);
}
} // namespace

std::shared_ptr<Half> BufferPool::take(std::size_t halves) {
    const auto back = [pool = weak_from_this(), halves](Half* memory) {
        if (const auto owner = pool.lock())
            owner->give_back(memory, halves);
        else
            std::free(memory);
    };
    {
        const std::lock_guard lock(mutex_);
        for (auto it = free_.begin(); it != free_.end(); ++it)
            if (it->halves == halves) {
                Half* memory = it->memory.release();
                held_ -= halves * sizeof(Half);
                free_.erase(it);
                return {memory, back};
            }
    }
    return {allocate(halves), back};
}

void BufferPool::give_back(Half* memory, std::size_t halves) {
    std::unique_ptr<Half, void (*)(void*)> owned(memory, std::free);
    const std::size_t bytes = halves * sizeof(Half);
    const std::lock_guard lock(mutex_);
    while (!free_.empty() && held_ + bytes > limit_) {
        held_ -= free_.front().halves * sizeof(Half);
        free_.erase(free_.begin());
    }
    if (held_ + bytes > limit_) return;
    held_ += bytes;
    free_.push_back({std::move(owned), halves});
}

Picture::Picture(int width, int height, BufferPool* pool) : width_(width), height_(height) {
    assert(width > 0 && height > 0);
    const std::size_t halves = std::size_t(width) * std::size_t(height) * 4;
    pixels_ = pool ? pool->take(halves) : std::shared_ptr<Half>(allocate(halves), std::free);
}

Picture Picture::band(int width, int height, int first, int rows, BufferPool* pool) {
    Picture out(width, rows, pool);
    out.height_ = height;
    out.first_ = first;
    return out;
}

Half half_from_float(float value) {
    Half h;
    simd::halves_from_floats(&value, &h, 1);
    return h;
}

float float_from_half(Half value) {
    float f;
    simd::floats_from_halves(&value, &f, 1);
    return f;
}

Rgba pixel_at(const Picture& picture, int x, int y) {
    Rgba out;
    simd::floats_from_halves(picture.row(y) + std::size_t(x) * 4, &out.r, 4);
    return out;
}

void set_pixel(Picture& picture, int x, int y, const Rgba& value) {
    simd::halves_from_floats(&value.r, picture.row(y) + std::size_t(x) * 4, 4);
}

Picture halved(const Picture& in, BufferPool* pool) {
    Picture out((in.width() + 1) / 2, (in.height() + 1) / 2, pool);
    parallel_ranges(out.height(), 16, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            simd::halve_rows(in.row(2 * y), in.row(std::min(2 * y + 1, in.height() - 1)), in.width(),
                             out.row(y));
    });
    return out;
}

Picture stacked(const Picture& upper, const Picture& lower, bool side_by_side) {
    assert(upper.width() == lower.width() && upper.height() == lower.height());
    const int w = upper.width(), h = upper.height();
    Picture out(side_by_side ? 2 * w : w, side_by_side ? h : 2 * h);
    const std::size_t row_bytes = std::size_t(w) * 8;
    for (int y = 0; y < h; ++y) {
        std::memcpy(out.row(y), upper.row(y), row_bytes);
        std::memcpy(side_by_side ? out.row(y) + std::size_t(w) * 4 : out.row(h + y), lower.row(y), row_bytes);
    }
    return out;
}

Picture cropped(const Picture& in, int x, int y, int width, int height) {
    assert(x >= 0 && y >= 0 && x + width <= in.width() && y + height <= in.height());
    Picture out(width, height);
    for (int row = 0; row < height; ++row)
        std::memcpy(out.row(row), in.row(y + row) + std::size_t(x) * 4, std::size_t(width) * 8);
    return out;
}

} // namespace porb
