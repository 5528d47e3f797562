#include "grade/grader.h"

#include "base/error.h"
#include "picture/convert_simd.h"
#include "picture/transfer.h"

#include <OpenColorIO/OpenColorIO.h>

#include <algorithm>
#include <cmath>

namespace porb {

namespace {
namespace ocio = OCIO_NAMESPACE;
constexpr float kLuma[3] = {0.2126f, 0.7152f, 0.0722f}; ///< ITU-R BT.709, as ASC CDL 1.2
constexpr float kMostHalf = 65504;

/// One channel, from its value on the working curve to what the table holds.
float graded(const Grade& g, std::size_t channel, float e) {
    const double warmth = channel == 0 ? g.warmth_ev / 2 : channel == 2 ? -g.warmth_ev / 2 : g.tint_ev;
    double light = double(linear_from_encoded(e)) * std::exp2(g.exposure_ev + warmth);
    if (g.contrast != 1 && light > 0) light = g.pivot * std::pow(light / g.pivot, g.contrast);
    const double v = double(encoded_from_linear(float(light)));
    const double lifted = v * (g.gain[channel] - g.lift[channel]) + g.lift[channel];
    if (g.gamma[channel] == 1 || lifted <= 0) return float(lifted);
    return float(std::pow(lifted, 1 / g.gamma[channel]));
}
} // namespace

struct Grader::Lut {
    ocio::ConstCPUProcessorRcPtr cpu;
};

Grader::~Grader() = default;
Grader::Grader(Grader&&) noexcept = default;

Grader::Grader(const Grade& grade)
    : saturation_(float(grade.saturation)), lut_strength_(float(grade.lut_strength)) {
    for (std::size_t c = 0; c < 3; ++c) {
        table_[c].resize(65536);
        for (std::size_t bits = 0; bits < 65536; ++bits) {
            const float e = float_from_half(Half(bits)), out = std::isfinite(e) ? graded(grade, c, e) : 0;
            table_[c][bits] = std::isfinite(out) ? std::clamp(out, -kMostHalf, kMostHalf) : 0;
        }
    }
    if (grade.lut.empty() || grade.lut_strength == 0) return;
    std::error_code none;
    if (!std::filesystem::is_regular_file(grade.lut, none))
        throw Error("The grade's LUT is not there", grade.lut.string(),
                    "Choose the file again, or take the LUT off the grade");
    try {
        const auto file = ocio::FileTransform::Create();
        file->setSrc(grade.lut.string().c_str());
        file->setInterpolation(ocio::INTERP_BEST);
        lut_.reset(new Lut{ocio::Config::CreateRaw()->getProcessor(file)->getDefaultCPUProcessor()});
    } catch (const ocio::Exception&) {
        throw Error("is not a LUT that can be read", grade.lut.string(),
                    "Choose a .cube or CLF file, or take the LUT off the grade");
    }
}

std::array<float, 3> Grader::apply(std::array<float, 3> rgb) const {
    for (std::size_t c = 0; c < 3; ++c) rgb[c] = table_[c][half_from_float(rgb[c])];
    if (saturation_ != 1) {
        const float luma = kLuma[0] * rgb[0] + kLuma[1] * rgb[1] + kLuma[2] * rgb[2];
        for (float& v : rgb) v = luma + saturation_ * (v - luma);
    }
    if (lut_) {
        std::array<float, 3> by_lut = rgb;
        lut_->cpu->applyRGB(by_lut.data());
        for (std::size_t c = 0; c < 3; ++c) rgb[c] += lut_strength_ * (by_lut[c] - rgb[c]);
    }
    return rgb;
}

void Grader::apply(Half* rgba, std::size_t pixels) const {
    constexpr Half kOne = 0x3c00;
    std::vector<float> row(pixels * 4);
    for (std::size_t i = 0; i < row.size(); i += 4) {
        Half p[3] = {rgba[i], rgba[i + 1], rgba[i + 2]};
        if (rgba[i + 3] != kOne && rgba[i + 3] != 0) { // colours are divided by alpha first
            const float back = 1 / float_from_half(rgba[i + 3]);
            for (Half& v : p) v = half_from_float(float_from_half(v) * back);
        }
        float* to = &row[i];
        for (std::size_t c = 0; c < 3; ++c) to[c] = table_[c][p[c]];
        if (saturation_ == 1) continue;
        const float luma = kLuma[0] * to[0] + kLuma[1] * to[1] + kLuma[2] * to[2];
        for (std::size_t c = 0; c < 3; ++c) to[c] = luma + saturation_ * (to[c] - luma);
    }
    if (lut_) {
        std::vector<float> by_lut = row;
        ocio::PackedImageDesc image(by_lut.data(), long(pixels), 1, 4);
        lut_->cpu->apply(image);
        for (std::size_t i = 0; i < row.size(); ++i) row[i] += lut_strength_ * (by_lut[i] - row[i]);
    }
    for (std::size_t i = 0; i < row.size(); i += 4) {
        const float alpha = float_from_half(rgba[i + 3]);
        row[i + 3] = alpha;
        if (rgba[i + 3] != kOne)
            for (std::size_t c = 0; c < 3; ++c) row[i + c] *= alpha;
    }
    simd::halves_from_floats(row.data(), rgba, row.size());
}

} // namespace porb
