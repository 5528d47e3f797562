#pragma once

#include "picture/picture.h"

#include <functional>
#include <mutex>
#include <string>

namespace porb {

/// A square piece of a TileImage, never changed once others share it. Its pixels may lie in a file until they
/// are asked for. Safe to use from several threads.
class Tile {
  public:
    static constexpr int kSide = 128;
    /// Reads the pixels of a tile (kSide x kSide x channels halves); nothing when they cannot be had.
    using Loader = std::function<std::unique_ptr<Half[]>()>;

    explicit Tile(int channels);                     ///< clear
    Tile(int channels, const Half* pixels);          ///< a copy of these
    Tile(std::string name, int channels, Loader of); ///< known by the name of its content, read when needed

    int channels() const { return channels_; }
    std::size_t halves() const { return std::size_t(kSide) * kSide * std::size_t(channels_); }
    /// Row by row; clear when they could not be read.
    const Half* pixels() const { return level(0); }
    /// Halved `n` times, each pixel the mean of four: kSide >> n a side, down to one.
    const Half* level(int n) const;
    static constexpr int kLevels = 8;
    /// For whoever made it, before it is shared.
    Half* own_pixels();
    /// Whether its pixels were asked for and could not be read.
    bool is_lost() const;
    /// The name of its content as files have it, made by `name_of` the first time; empty when it is lost.
    const std::string& name(const std::function<std::string(const Tile&)>& name_of) const;
    /// Whether it is known by a name and was not read yet.
    bool is_in_file() const;

  private:
    void load() const;
    int channels_;
    Loader loader_;
    mutable std::mutex mutex_;
    mutable std::string name_;
    mutable std::unique_ptr<Half[]> levels_[kLevels];
    mutable bool lost_ = false;
};

/// A picture whose copies share what they have in common, in squares: painted layers of which every undo step
/// is a copy. The working format with 4 channels (premultiplied), or one, as masks are. Squares that were
/// never touched are clear and take no memory. Copying costs a pointer a square.
class TileImage {
  public:
    TileImage() = default;
    TileImage(int width, int height, int channels);

    bool empty() const { return width_ == 0; }
    int width() const { return width_; }
    int height() const { return height_; }
    int channels() const { return channels_; }
    int across() const { return (width_ + Tile::kSide - 1) / Tile::kSide; }
    int down() const { return (height_ + Tile::kSide - 1) / Tile::kSide; }
    /// nullptr where it is clear.
    const Tile* tile(int tx, int ty) const { return tiles_[index(tx, ty)].get(); }
    const std::shared_ptr<const Tile>& shared_tile(int tx, int ty) const { return tiles_[index(tx, ty)]; }
    void set_tile(int tx, int ty, std::shared_ptr<const Tile> tile) {
        tiles_[index(tx, ty)] = std::move(tile);
    }
    /// Takes copies of the squares that [x0, x1) x [y0, y1) touches, for changing their pixels through
    /// own_pixel(); they are this image's alone until it is copied.
    class Edit;
    class Reader;
    /// Whether nothing was ever drawn on it.
    bool is_clear() const;
    std::size_t tile_count() const; ///< that are not clear
    std::size_t lost_tiles() const; ///< whose pixels could not be read, of those that were asked for
    /// Reads what is not in memory yet, so that lost_tiles() counts all that are lost. Waits for the disk.
    void read_tiles() const;
    /// Shared squares are equal; others are compared.
    bool operator==(const TileImage& other) const;

    /// One channel of one pixel; 0 outside.
    float at(int x, int y, int channel) const;

  private:
    std::size_t index(int tx, int ty) const {
        return std::size_t(ty) * std::size_t(across()) + std::size_t(tx);
    }
    int width_ = 0, height_ = 0, channels_ = 4;
    std::vector<std::shared_ptr<const Tile>> tiles_; ///< row by row
};

/// Changes some pixels of an image: each square is copied when it is first written to.
class TileImage::Edit {
  public:
    explicit Edit(TileImage& image) : image_(image), own_(image.tiles_.size()) {}
    /// The channels of a pixel inside the image.
    Half* pixel(int x, int y) {
        const int tx = x / Tile::kSide, ty = y / Tile::kSide;
        return square(tx, ty) + std::size_t((y - ty * Tile::kSide) * Tile::kSide + x - tx * Tile::kSide) *
                                    std::size_t(image_.channels_);
    }
    /// All pixels of a square.
    Half* square(int tx, int ty) {
        Half*& own = own_[image_.index(tx, ty)];
        return own ? own : own = taken(tx, ty);
    }

  private:
    Half* taken(int tx, int ty);
    TileImage& image_;
    std::vector<Half*> own_; ///< of tiles that the image holds
};

/// Reads many pixels that lie near each other: a square is asked for once, not once a pixel. The image's
/// squares stay as they are meanwhile. For one thread.
class TileImage::Reader {
  public:
    explicit Reader(const TileImage& image) : image_(image) {}
    /// The channels of a pixel inside the image.
    const Half* pixel(int x, int y) {
        const int tx = x / Tile::kSide, ty = y / Tile::kSide;
        if (tx != tx_ || ty != ty_) {
            tx_ = tx, ty_ = ty;
            const Tile* tile = image_.tile(tx, ty);
            square_ = tile ? tile->pixels() : nullptr;
        }
        static constexpr Half kClear[4] = {};
        return square_ ? square_ + std::size_t((y - ty * Tile::kSide) * Tile::kSide + x - tx * Tile::kSide) *
                                       std::size_t(image_.channels_)
                       : kClear;
    }

  private:
    const TileImage& image_;
    int tx_ = -1, ty_ = -1;
    const Half* square_ = nullptr;
};

/// A whole picture as tiles; squares that are clear throughout are left out.
TileImage tiles_of(const Picture& picture);
/// Alpha alone, as a mask of one channel.
TileImage mask_of(const Picture& picture);
/// A square mask that is 1 everywhere; its tiles share their pixels.
TileImage whole_mask(int side);
/// Back. A mask becomes white of that alpha.
Picture picture_of(const TileImage& image);
/// To another size, by means of areas or cubic; every pixel at its place.
TileImage resized(const TileImage& image, int width, int height);

} // namespace porb
