#pragma once

#include "picture/picture.h"

namespace porb {

/// The sRGB curve of IEC 61966-2-1, carried on above 1 and mirrored below 0, so that highlights survive.
float encoded_from_linear(float linear);
float linear_from_encoded(float encoded);

/// Whole rows of premultiplied RGBA floats, in place; alpha is left alone. Colour is divided by alpha first.
void encode_rgba(float* rgba, std::size_t pixels);
void linearise_rgba(float* rgba, std::size_t pixels);

} // namespace porb
