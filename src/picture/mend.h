#pragma once

#include "picture/picture.h"

namespace porb {

struct PixelPlace {
    int x = 0, y = 0;
    bool operator==(const PixelPlace&) const = default;
};

/// Fills the pixels at `places` from those beside them, from the edge of what is to be filled inwards: each
/// becomes the mean of its neighbours that are known. When nothing is known they become transparent black.
/// Each place is filled once, however many they are.
void fill_from_neighbours(Picture& picture, const std::vector<PixelPlace>& places);

} // namespace porb
