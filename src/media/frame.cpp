#include "media/frame.h"

#include "base/error.h"
#include "media/av.h"
#include "picture/convert.h"

#include <cstring>

namespace porb {

namespace {

YuvMatrix matrix_of(const AVFrame& f) {
    switch (f.colorspace) {
    case AVCOL_SPC_BT470BG:
    case AVCOL_SPC_SMPTE170M:
        return kRec601;
    case AVCOL_SPC_FCC:
        return {0.30, 0.11};
    case AVCOL_SPC_SMPTE240M:
        return {0.212, 0.087};
    case AVCOL_SPC_BT2020_NCL:
    case AVCOL_SPC_BT2020_CL:
        return kRec2020;
    case AVCOL_SPC_BT709:
        return kRec709;
    default:
        break;
    }
    // Untagged: JPEG files are BT.601 by their standard; small video is by custom.
    const bool jpeg =
        f.format == AV_PIX_FMT_YUVJ420P || f.format == AV_PIX_FMT_YUVJ422P || f.format == AV_PIX_FMT_YUVJ444P;
    return jpeg || f.height < 576 ? kRec601 : kRec709;
}

/// Planar Y'CbCr of 8 to 16 bits in host order goes straight to our own loops.
bool is_plain_yuv(const AVPixFmtDescriptor& d) {
    const auto forbidden = AV_PIX_FMT_FLAG_RGB | AV_PIX_FMT_FLAG_PAL | AV_PIX_FMT_FLAG_BE |
                           AV_PIX_FMT_FLAG_HWACCEL | AV_PIX_FMT_FLAG_BITSTREAM | AV_PIX_FMT_FLAG_FLOAT |
                           AV_PIX_FMT_FLAG_ALPHA;
    return d.nb_components == 3 && (d.flags & AV_PIX_FMT_FLAG_PLANAR) && !(d.flags & forbidden) &&
           d.comp[0].plane == 0 && d.comp[1].plane == 1 && d.comp[2].plane == 2 && d.comp[0].shift == 0 &&
           d.log2_chroma_w <= 1 && d.log2_chroma_h <= 1 && d.comp[1].step == (d.comp[0].depth > 8 ? 2 : 1);
}

YuvPlanes<const std::uint8_t> planes_of(const AVFrame& f, const AVPixFmtDescriptor& d) {
    YuvPlanes<const std::uint8_t> in;
    in.width = f.width;
    in.height = f.height;
    for (std::size_t i = 0; i < 3; ++i) {
        in.plane[i] = f.data[i];
        in.stride[i] = f.linesize[i];
    }
    in.chroma_shift_x = d.log2_chroma_w;
    in.chroma_shift_y = d.log2_chroma_h;
    in.depth = d.comp[0].depth;
    in.matrix = matrix_of(f);
    const bool j = std::strncmp(d.name, "yuvj", 4) == 0;
    in.full_range = f.color_range == AVCOL_RANGE_JPEG || j;
    in.chroma_centred =
        f.chroma_location == AVCHROMA_LOC_CENTER || (j && f.chroma_location == AVCHROMA_LOC_UNSPECIFIED);
    return in;
}

/// Whether four bytes after the last sample of the luma can be read, which samplers do.
bool can_read_past_end(const AVFrame& f) {
    constexpr std::ptrdiff_t kPast = 4;
    const std::uint8_t* const end = f.data[0] + std::ptrdiff_t(f.linesize[0]) * f.height + kPast;
    for (const AVBufferRef* buffer : f.buf)
        if (buffer && f.data[0] >= buffer->data && end <= buffer->data + buffer->size)
            return f.linesize[0] > 0;
    return false;
}

/// Anything else goes through the scaler, without scaling: 8-bit RGB and palettes exactly to RGBA bytes, the
/// rest to 16-bit RGBA.
Picture through_scaler(const AVFrame& f, BufferPool* pool) {
    const auto format = static_cast<AVPixelFormat>(f.format);
    const AVPixFmtDescriptor* d = av_pix_fmt_desc_get(format);
    const bool rgb = d && (d->flags & (AV_PIX_FMT_FLAG_RGB | AV_PIX_FMT_FLAG_PAL));
    const bool bytes = rgb && d->comp[0].depth <= 8;
    const av::Scale scale(sws_getContext(
        f.width, f.height, format, f.width, f.height, bytes ? AV_PIX_FMT_RGBA : AV_PIX_FMT_RGBA64LE,
        SWS_BICUBIC | SWS_ACCURATE_RND | SWS_FULL_CHR_H_INT | SWS_FULL_CHR_H_INP, nullptr, nullptr, nullptr));
    if (!scale)
        throw Error(std::string("pixels of the kind '") + (d ? d->name : "unknown") + "' cannot be read", "",
                    "Convert the file to 8- or 10-bit video or a plain still");
    const YuvMatrix m = matrix_of(f);
    const int space = m.kr == kRec601.kr    ? SWS_CS_ITU601
                      : m.kr == kRec2020.kr ? SWS_CS_BT2020
                                            : SWS_CS_ITU709;
    sws_setColorspaceDetails(scale.get(), sws_getCoefficients(space),
                             rgb || f.color_range == AVCOL_RANGE_JPEG, sws_getCoefficients(space), 1, 0,
                             1 << 16, 1 << 16);
    std::vector<std::uint16_t> words(std::size_t(f.width) * std::size_t(f.height) * 4 + 64);
    std::uint8_t* planes[4] = {reinterpret_cast<std::uint8_t*>(words.data())};
    const int strides[4] = {f.width * (bytes ? 4 : 8)};
    sws_scale(scale.get(), f.data, f.linesize, 0, f.height, planes, strides);
    if (bytes) // widened in place, from the back
        for (std::size_t i = std::size_t(f.width) * std::size_t(f.height) * 4; i-- > 0;)
            words[i] = std::uint16_t(planes[0][i] * 257);
    Picture out(f.width, f.height, pool);
    rgba_from_words(words.data(), std::ptrdiff_t(f.width) * 4, out);
    return out;
}

Picture rotated(const Picture& in, int clockwise_deg) {
    const int turns = ((clockwise_deg / 90) % 4 + 4) % 4;
    if (turns == 0) return in;
    const int w = in.width(), h = in.height();
    Picture out(turns % 2 ? h : w, turns % 2 ? w : h);
    for (int y = 0; y < h; ++y)
        for (int x = 0; x < w; ++x) {
            const int ox = turns == 1 ? h - 1 - y : turns == 2 ? w - 1 - x : y;
            const int oy = turns == 1 ? x : turns == 2 ? h - 1 - y : w - 1 - x;
            std::memcpy(out.row(oy) + std::size_t(ox) * 4, in.row(y) + std::size_t(x) * 4, 8);
        }
    return out;
}

} // namespace

SourcePicture source_from_frame(const std::shared_ptr<const AVFrame>& frame, int rotation_deg,
                                const ColourChange* colour, BufferPool* pool) {
    const AVFrame& f = *frame;
    const AVPixFmtDescriptor* d = av_pix_fmt_desc_get(static_cast<AVPixelFormat>(f.format));
    if (colour || rotation_deg != 0 || !d || !is_plain_yuv(*d) || d->log2_chroma_w != 1 ||
        d->log2_chroma_h != 1 || d->comp[0].depth > YuvPicture::kMostDepth || f.width < 4 || f.height < 4 ||
        !can_read_past_end(f))
        return picture_from_frame(f, rotation_deg, colour, pool);
    return yuv_picture(planes_of(f, *d), frame, pool);
}

Picture picture_from_frame(const AVFrame& f, int rotation_deg, const ColourChange* colour, BufferPool* pool) {
    const AVPixFmtDescriptor* d = av_pix_fmt_desc_get(static_cast<AVPixelFormat>(f.format));
    Picture out;
    if (d && is_plain_yuv(*d)) {
        const auto in = planes_of(f, *d);
        out = Picture(f.width, f.height, pool);
        rgba_from_yuv(in, out);
    } else {
        out = through_scaler(f, pool);
    }
    if (colour) colour->apply(out);
    return rotated(out, rotation_deg);
}

std::size_t bytes_of(const AVFrame& f) {
    const int n = av_image_get_buffer_size(static_cast<AVPixelFormat>(f.format), f.width, f.height, 64);
    return n > 0 ? std::size_t(n) : 0;
}

} // namespace porb
