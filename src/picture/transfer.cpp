#include "picture/transfer.h"

#include <cmath>

namespace porb {

float encoded_from_linear(float linear) {
    const float v = std::abs(linear);
    const float e = v <= 0.0031308f ? 12.92f * v : 1.055f * std::pow(v, 1 / 2.4f) - 0.055f;
    return std::copysign(e, linear);
}

float linear_from_encoded(float encoded) {
    const float v = std::abs(encoded);
    const float l = v <= 0.04045f ? v / 12.92f : std::pow((v + 0.055f) / 1.055f, 2.4f);
    return std::copysign(l, encoded);
}

namespace {
template <float (*curve)(float)>
void apply(float* rgba, std::size_t pixels) {
    for (std::size_t i = 0; i < pixels; ++i, rgba += 4) {
        const float a = rgba[3];
        const float back = a > 1e-6f ? 1 / a : 1;
        for (int c = 0; c < 3; ++c) rgba[c] = curve(rgba[c] * back) / back;
    }
}
} // namespace

void encode_rgba(float* rgba, std::size_t pixels) {
    apply<encoded_from_linear>(rgba, pixels);
}
void linearise_rgba(float* rgba, std::size_t pixels) {
    apply<linear_from_encoded>(rgba, pixels);
}

} // namespace porb
