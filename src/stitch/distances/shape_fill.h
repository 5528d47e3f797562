#pragma once

#include "optics/sphere_grid.h"

#include <cstdint>
#include <span>
#include <vector>

namespace porb {

/// Goes on with a field into cut-outs and restores: there two lenses show different things and nothing can be
/// matched, but mostly one surface lies behind what was cut out and around it.
class ShapeFill {
  public:
    ShapeFill() = default;
    /// `clear`: by cell of a square of side x side, 0 in and beside shapes to 1 clear of them.
    ShapeFill(int side, std::span<const float> clear);

    /// Draws the field's first channel in cells that are not clear, the less clear the more, to the mean of
    /// the clear cells around, each by how near it is.
    void apply(SphereGrid& field) const;
    std::size_t bytes() const { return filled_.size() * sizeof(Filled) + around_.size() * sizeof(Around); }

  private:
    struct Around {
        std::int32_t cell;
        float weight; ///< of all around, 1 together
    };
    struct Filled {
        std::int32_t cell;
        float own; ///< share of what it says itself
        std::uint32_t first, count;
    };
    std::vector<Filled> filled_;
    std::vector<Around> around_;
};

} // namespace porb
