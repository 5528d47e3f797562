#pragma once

#include "picture/picture.h"

namespace porb {

struct PixelPlace {
    int x = 0, y = 0;
    bool operator==(const PixelPlace&) const = default;
};

/// Fills the pixels at `places` from those beside them, from the edge of what is to be filled inwards: each
/// becomes the mean of its neighbours that are known. Where nothing is known they become transparent black.
/// The work grows with the number of places, whatever the picture's size.
void fill_from_neighbours(Picture& picture, std::vector<PixelPlace> places);

} // namespace porb
