#include "picture/tiles.h"

#include "base/parallel.h"

#include <opencv2/imgproc.hpp>

#include <cstring>

namespace porb {

Tile::Tile(int channels) : channels_(channels) {
    levels_[0] = std::make_unique<Half[]>(halves());
}

Tile::Tile(int channels, const Half* pixels) : channels_(channels) {
    levels_[0] = std::make_unique_for_overwrite<Half[]>(halves());
    std::copy_n(pixels, halves(), levels_[0].get());
}

Tile::Tile(std::string name, int channels, Loader of)
    : channels_(channels), loader_(std::move(of)), name_(std::move(name)) {}

void Tile::load() const {
    if (levels_[0]) return;
    if (loader_) levels_[0] = loader_();
    if (levels_[0]) return;
    lost_ = true;
    levels_[0] = std::make_unique<Half[]>(halves());
}

const Half* Tile::level(int n) const {
    const std::lock_guard lock(mutex_);
    load();
    for (int i = 1; i <= n; ++i) {
        if (levels_[i]) continue;
        const int side = kSide >> i, from_side = 2 * side;
        const Half* from = levels_[i - 1].get();
        levels_[i] = std::make_unique_for_overwrite<Half[]>(std::size_t(side * side * channels_));
        Half* to = levels_[i].get();
        for (int y = 0; y < side; ++y)
            for (int x = 0; x < side; ++x)
                for (int c = 0; c < channels_; ++c) {
                    const auto value = [&](int dx, int dy) {
                        return float_from_half(from[((2 * y + dy) * from_side + 2 * x + dx) * channels_ + c]);
                    };
                    *to++ = half_from_float((value(0, 0) + value(1, 0) + value(0, 1) + value(1, 1)) / 4);
                }
    }
    return levels_[n].get();
}

Half* Tile::own_pixels() {
    const std::lock_guard lock(mutex_);
    load();
    for (int i = 1; i < kLevels; ++i) levels_[i].reset();
    name_.clear();
    return levels_[0].get();
}

bool Tile::is_lost() const {
    const std::lock_guard lock(mutex_);
    return lost_;
}

bool Tile::is_in_file() const {
    const std::lock_guard lock(mutex_);
    return !levels_[0] || lost_;
}

const std::string& Tile::name(const std::function<std::string(const Tile&)>& name_of) const {
    {
        const std::lock_guard lock(mutex_);
        if (!name_.empty()) return name_;
    }
    std::string made = name_of(*this);
    const std::lock_guard lock(mutex_);
    if (name_.empty()) name_ = std::move(made);
    return name_;
}

TileImage::TileImage(int width, int height, int channels)
    : width_(width), height_(height), channels_(channels),
      tiles_(std::size_t(across()) * std::size_t(down())) {}

bool TileImage::is_clear() const {
    return tile_count() == 0;
}

std::size_t TileImage::tile_count() const {
    return std::size_t(
        std::count_if(tiles_.begin(), tiles_.end(), [](const auto& t) { return t != nullptr; }));
}

std::size_t TileImage::lost_tiles() const {
    return std::size_t(
        std::count_if(tiles_.begin(), tiles_.end(), [](const auto& t) { return t && t->is_lost(); }));
}

void TileImage::read_tiles() const {
    for (const auto& t : tiles_)
        if (t) (void)t->pixels();
}

bool TileImage::operator==(const TileImage& other) const {
    if (width_ != other.width_ || height_ != other.height_ || (width_ > 0 && channels_ != other.channels_))
        return false;
    return std::equal(tiles_.begin(), tiles_.end(), other.tiles_.begin(), [](const auto& a, const auto& b) {
        if (a == b) return true;
        if (!a || !b) return false;
        return std::memcmp(a->pixels(), b->pixels(), a->halves() * sizeof(Half)) == 0;
    });
}

float TileImage::at(int x, int y, int channel) const {
    if (x < 0 || y < 0 || x >= width_ || y >= height_) return 0;
    const Tile* t = tile(x / Tile::kSide, y / Tile::kSide);
    if (!t) return 0;
    const int i = (y % Tile::kSide) * Tile::kSide + x % Tile::kSide;
    return float_from_half(t->pixels()[i * channels_ + channel]);
}

Half* TileImage::Edit::taken(int tx, int ty) {
    auto& there = image_.tiles_[image_.index(tx, ty)];
    const auto own = there ? std::make_shared<Tile>(image_.channels_, there->pixels())
                           : std::make_shared<Tile>(image_.channels_);
    there = own;
    return own->own_pixels();
}

namespace {
/// Fills squares in parallel by `fill(x, y, pixel)`; those that stay clear are left out.
template <class Fill>
TileImage filled(int width, int height, int channels, const Fill& fill) {
    TileImage out(width, height, channels);
    const int across = out.across(), count = across * out.down();
    std::vector<std::shared_ptr<const Tile>> made(static_cast<std::size_t>(count));
    parallel_ranges(count, 1, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            auto tile = std::make_shared<Tile>(channels);
            Half* pixels = tile->own_pixels();
            const int x0 = i % across * Tile::kSide, y0 = i / across * Tile::kSide;
            const int x1 = std::min(width, x0 + Tile::kSide), y1 = std::min(height, y0 + Tile::kSide);
            for (int y = y0; y < y1; ++y)
                for (int x = x0; x < x1; ++x)
                    fill(x, y, pixels + ((y - y0) * Tile::kSide + x - x0) * channels);
            if (std::any_of(pixels, pixels + tile->halves(), [](Half h) { return h != 0; }))
                made[std::size_t(i)] = std::move(tile);
        }
    });
    for (int i = 0; i < count; ++i) out.set_tile(i % across, i / across, made[std::size_t(i)]);
    return out;
}
} // namespace

TileImage tiles_of(const Picture& picture) {
    return filled(picture.width(), picture.height(), 4,
                  [&](int x, int y, Half* to) { std::copy_n(picture.row(y) + 4 * x, 4, to); });
}

TileImage mask_of(const Picture& picture) {
    return filled(picture.width(), picture.height(), 1,
                  [&](int x, int y, Half* to) { *to = picture.row(y)[4 * x + 3]; });
}

TileImage whole_mask(int side) {
    TileImage out(side, side, 1);
    // Inside, at the right, at the lower edge, at the corner: each once.
    std::shared_ptr<const Tile> kinds[2][2];
    const int rest = side - (out.across() - 1) * Tile::kSide;
    for (int ty = 0; ty < out.down(); ++ty)
        for (int tx = 0; tx < out.across(); ++tx) {
            const bool right = tx == out.across() - 1, low = ty == out.down() - 1;
            auto& kind = kinds[right][low];
            if (!kind) {
                auto tile = std::make_shared<Tile>(1);
                for (int y = 0; y < (low ? rest : Tile::kSide); ++y)
                    std::fill_n(tile->own_pixels() + y * Tile::kSide, right ? rest : Tile::kSide,
                                half_from_float(1));
                kind = tile;
            }
            out.set_tile(tx, ty, kind);
        }
    return out;
}

Picture picture_of(const TileImage& image) {
    Picture out(image.width(), image.height());
    parallel_ranges(image.height(), Tile::kSide, [&](int begin, int end) {
        for (int y = begin; y < end; ++y) {
            Half* row = out.row(y);
            for (int tx = 0; tx < image.across(); ++tx) {
                const int x0 = tx * Tile::kSide, n = std::min(Tile::kSide, image.width() - x0);
                const Tile* t = image.tile(tx, y / Tile::kSide);
                if (!t) {
                    std::fill_n(row + 4 * x0, 4 * n, Half(0));
                    continue;
                }
                const Half* from = t->pixels() + (y % Tile::kSide) * Tile::kSide * image.channels();
                if (image.channels() == 4) {
                    std::copy_n(from, 4 * n, row + 4 * x0);
                } else {
                    for (int x = 0; x < n; ++x) std::fill_n(row + 4 * (x0 + x), 4, from[x]);
                }
            }
        }
    });
    return out;
}

TileImage resized(const TileImage& image, int width, int height) {
    if (width == image.width() && height == image.height()) return image;
    const int channels = image.channels();
    cv::Mat from(image.height(), image.width(), CV_32FC(channels)), to;
    parallel_ranges(image.height(), Tile::kSide, [&](int begin, int end) {
        TileImage::Reader read(image);
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < image.width(); ++x) {
                const Half* pixel = read.pixel(x, y);
                float* here = from.ptr<float>(y) + channels * x;
                for (int c = 0; c < channels; ++c) here[c] = float_from_half(pixel[c]);
            }
    });
    const bool smaller = width < image.width() || height < image.height();
    cv::resize(from, to, {width, height}, 0, 0, smaller ? cv::INTER_AREA : cv::INTER_CUBIC);
    from.release();
    return filled(width, height, channels, [&](int x, int y, Half* out) {
        const float* here = to.ptr<float>(y) + channels * x;
        for (int c = 0; c < channels - 1; ++c) out[c] = half_from_float(here[c]);
        out[channels - 1] = half_from_float(std::clamp(here[channels - 1], 0.0f, 1.0f)); // cubic overshoots
    });
}

} // namespace porb
