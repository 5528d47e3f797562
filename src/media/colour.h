#pragma once

#include "picture/picture.h"

#include <functional>
#include <memory>
#include <string>

namespace porb {

/// Brings decoded R'G'B' of other curves and primaries to the working ones, in place. Curves: linear,
/// smpte2084 (PQ, SMPTE ST 2084, with 203 cd/m2 at 1.0 as ITU-R BT.2408 has it) and arib-std-b67 (HLG, ITU-R
/// BT.2100, displayed at 1000 cd/m2). Video gammas and sRGB count as the working curve. Primaries: bt2020 and
/// smpte432 (P3-D65).
class ColourChange {
  public:
    /// Nothing when the tags already mean the working colours.
    static std::shared_ptr<const ColourChange> for_tags(const std::string& transfer,
                                                        const std::string& primaries);
    /// By a curve that was chosen (media/curves.h) in place of the tagged one; "" for the tagged one. Throws
    /// Error where there is no such curve.
    static std::shared_ptr<const ColourChange>
    for_curve(const std::string& curve, const std::string& transfer, const std::string& primaries);
    /// The same for pixels that were brought to the working curve already as if they were linear.
    static std::shared_ptr<const ColourChange> for_linear_file(const std::string& curve);
    void apply(Picture& picture) const;

  private:
    void tabulate(const std::function<float(float)>& light);
    std::vector<float> linear_; ///< by half bits
    float matrix_[9] = {1, 0, 0, 0, 1, 0, 0, 0, 1};
    bool hlg_ = false;
};

} // namespace porb
