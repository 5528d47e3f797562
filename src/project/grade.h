#pragma once

#include <array>
#include <filesystem>

namespace porb {

/// How a shot's finished picture is to look: after blending, before encoding, the same for every camera.
/// Exposure, warmth, tint and contrast work in linear light; lift, gamma, gain and saturation on the working
/// curve, as ASC CDL 1.2 has them.
struct Grade {
    bool on = true; ///< otherwise passed by
    double exposure_ev = 0;
    double warmth_ev = 0, tint_ev = 0;    ///< red up and blue down by half of it each; green up
    double contrast = 1, pivot = 0.18;    ///< light v becomes pivot (v / pivot)^contrast
    std::array<double, 3> lift{0, 0, 0};  ///< what 0 becomes
    std::array<double, 3> gamma{1, 1, 1}; ///< above 1: lighter in the middle
    std::array<double, 3> gain{1, 1, 1};  ///< what 1 becomes
    double saturation = 1;                ///< about Rec. 709 luma
    std::filesystem::path lut;            ///< a table applied last, on the working curve; empty: none
    double lut_strength = 1;              ///< 0: without, 1: all of it
    bool operator==(const Grade&) const = default;
};
/// Whether it changes nothing, on or not.
bool is_neutral(const Grade& grade);

/// Taking noise off sources before they are stitched.
struct Denoise {
    bool on = false;
    double over_time = 0.6; ///< 0 to 1: how far a pixel is brought towards its like in the frames beside it
    double in_frame = 0.3;  ///< 0 to 1: and towards its like nearby
    bool operator==(const Denoise&) const = default;
};

} // namespace porb
