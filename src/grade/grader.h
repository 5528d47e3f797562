// grade: how a finished picture is to look: a shot's grade applied to pixels, and its exchange with others as
// ASC CDL and .cube. OpenColorIO stays behind these headers.
#pragma once

#include "picture/picture.h"
#include "project/grade.h"

#include <memory>
#include <span>

namespace porb {

/// A grade ready for many pixels: what acts on each channel alone is a table over all halves, exactly; then
/// saturation; then the LUT, between its entries as OpenColorIO has it (tetrahedral).
class Grader {
  public:
    /// Throws Error when the LUT's file cannot be read.
    explicit Grader(const Grade& grade);
    ~Grader();
    Grader(Grader&&) noexcept;
    /// Pixels of the working format, premultiplied, in place.
    void apply(Half* rgba, std::size_t pixels) const;
    /// One colour on the working curve.
    std::array<float, 3> apply(std::array<float, 3> rgb) const;

  private:
    struct Lut;
    std::array<std::vector<float>, 3> table_; ///< by half bits
    float saturation_ = 1, lut_strength_ = 1;
    std::unique_ptr<const Lut> lut_;
};

} // namespace porb
