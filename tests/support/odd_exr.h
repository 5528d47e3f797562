#pragma once

#include "media/still.h"
#include "picture/mend.h"
#include "picture/picture.h"

#include <ImfArray.h>
#include <ImfRgbaFile.h>

#include <filesystem>
#include <utility>
#include <vector>

namespace porb::test {

/// An OpenEXR still of which some pixels are what they should not be (in linear light): our own writer lets
/// nothing odd out, so they are put into the file behind it.
inline void write_odd_exr(const std::filesystem::path& path, const Picture& picture,
                          const std::vector<std::pair<PixelPlace, Rgba>>& odd) {
    write_still(picture, path);
    const int width = picture.width(), height = picture.height();
    Imf::Array2D<Imf::Rgba> pixels(height, width);
    {
        Imf::RgbaInputFile in(path.c_str());
        in.setFrameBuffer(&pixels[0][0], 1, std::size_t(width));
        in.readPixels(0, height - 1);
    }
    for (const auto& [at, v] : odd) pixels[at.y][at.x] = Imf::Rgba(v.r, v.g, v.b, v.a);
    Imf::RgbaOutputFile out(path.c_str(), width, height, Imf::WRITE_RGBA);
    out.setFrameBuffer(&pixels[0][0], 1, std::size_t(width));
    out.writePixels(height);
}

} // namespace porb::test
