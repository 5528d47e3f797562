#pragma once

#include "optics/vec.h"
#include "picture/tiles.h"

#include <memory>
#include <random>

namespace porb {

enum class BrushKind {
    clone,  ///< what lies elsewhere
    heal,   ///< the same, with brightness and colour of what it is painted on
    paint,  ///< a colour
    smudge, ///< what the brush was pulled over
    soften, ///< smoother
    erase,  ///< back to the plate; where there is none, to nothing
    reveal, ///< of the mask: the patch shows
    hide,   ///< of the mask: the footage shows
};
inline bool paints_mask(BrushKind kind) {
    return kind == BrushKind::reveal || kind == BrushKind::hide;
}

/// Lengths in pixels of the patch's square.
struct Brush {
    BrushKind kind = BrushKind::clone;
    double size_px = 60;   ///< its diameter
    double softness = 0.6; ///< share of the radius over which it fades
    double opacity = 1;
    bool pressure_sizes = true;                    ///< a pen's pressure makes it smaller; else weaker
    std::array<float, 3> colour{0.5f, 0.5f, 0.5f}; ///< of paint, on the working curve
    // Of clone and heal:
    double source_turn_deg = 0, source_scale = 1;
    bool source_mirrored = false;
    bool fresh = false;          ///< the source wanders by itself, so that nothing repeats
    double fresh_reach_px = 120; ///< within this of where it was set
    unsigned seed = 1;           ///< of its wandering
};

struct StrokePoint {
    Vec2 at{0, 0};
    double pressure = 1;
};

/// One stroke on a layer, as it is drawn: each point changes the squares it touches, and nothing else is
/// copied. Not thread safe. A point of a brush of 100 pixels takes about 2 ms.
class Stroke {
  public:
    /// `layer` is painted on (4 channels, or the mask's one); `under` is what lies below it, to take from
    /// (empty: nothing). `from` and `to`: the place taken from that belongs to a place painted on. Pixels
    /// outside `selection`, a closed outline, stay as they are; fewer than three corners: all may change.
    Stroke(TileImage layer, TileImage under, const Brush& brush, const Vec2& from, const Vec2& to,
           std::span<const Vec2> selection = {});
    ~Stroke();
    Stroke(Stroke&&) noexcept;

    void add(const StrokePoint& point);
    /// Ends it: heals what was cloned.
    void finish();
    const TileImage& result() const { return layer_; }
    const TileImage& cover() const { return cover_; } ///< how much of each pixel it covered, one channel
    /// Where the brush takes from while it is at a place.
    Vec2 source_of(const Vec2& at) const;

  private:
    void dab(const Vec2& at, double radius, double strength);
    Rgba seen(double x, double y) const; ///< layer over what is under it, as they were when it began
    TileImage layer_, start_, under_, cover_;
    TileImage sources_; ///< of heal: what was taken, wherever the brush came near
    Brush brush_;
    Vec2 from_, to_;
    std::vector<Vec2> selection_; ///< empty: all
    std::optional<StrokePoint> last_;
    double left_ = 0; ///< of the way to the next dab
    std::mt19937 random_;
    Vec2 wandered_{0, 0};
    struct Samplers;
    std::unique_ptr<Samplers> samplers_;
    std::vector<Rgba> carried_; ///< of smudge
    int carried_side_ = 0;
};

/// A mask that shows what it did, and what a stroke covered.
TileImage revealed(const TileImage& mask, const TileImage& cover);

/// A stroke drawn at once.
TileImage stroked(const TileImage& layer, const TileImage& under, const Brush& brush, const Vec2& from,
                  std::span<const StrokePoint> points, std::span<const Vec2> selection = {});

} // namespace porb
