#pragma once

#include "base/rational.h"
#include "media/colour.h"
#include "picture/yuv_picture.h"

#include <memory>

struct AVFrame;

namespace porb {

/// One decoded picture, still in its file's own pixels, on show from `begin` until `end` (source seconds).
struct DecodedFrame {
    std::shared_ptr<const AVFrame> frame;
    Seconds begin, end;
    bool shows_at(Seconds t) const { return begin <= t && t < end; }
};

/// To the working format, with matrix, range and siting as tagged and rotation (clockwise, a multiple of 90)
/// applied.
Picture picture_from_frame(const AVFrame& frame, int rotation_deg, const ColourChange* colour,
                           BufferPool* pool);

/// The same in the frame's own samples, which it holds on to, where they are plain 4:2:0 and nothing is to be
/// turned or changed; else in the working format.
SourcePicture source_from_frame(const std::shared_ptr<const AVFrame>& frame, int rotation_deg,
                                const ColourChange* colour, BufferPool* pool);

/// Bytes a decoded frame holds on to.
std::size_t bytes_of(const AVFrame& frame);

} // namespace porb
