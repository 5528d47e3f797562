#include "media/still.h"

#include "base/error.h"
#include "base/file.h"
#include "media/av.h"
#include "media/frame.h"
#include "media/video.h"
#include "picture/compare.h"
#include "picture/convert.h"

#include <algorithm>
#include <cctype>
#include <cmath>

namespace porb {

namespace {

std::string ending_of(const std::filesystem::path& path) {
    std::string e = path.extension().string();
    std::transform(e.begin(), e.end(), e.begin(), [](unsigned char c) { return char(std::tolower(c)); });
    return e;
}

std::string encoded(AVCodecID id, av::Frame frame, int quality_scale, const std::string& where) {
    const AVCodec* encoder = avcodec_find_encoder(id);
    if (!encoder)
        throw Error("this machine has no encoder for that kind of still", where, "Choose another ending");
    av::Codec codec(avcodec_alloc_context3(encoder));
    codec->width = frame->width;
    codec->height = frame->height;
    codec->pix_fmt = static_cast<AVPixelFormat>(frame->format);
    codec->color_range = frame->color_range;
    codec->time_base = {1, 25};
    if (quality_scale > 0) {
        codec->flags |= AV_CODEC_FLAG_QSCALE;
        codec->global_quality = FF_QP2LAMBDA * quality_scale;
        frame->quality = codec->global_quality;
    }
    if (id == AV_CODEC_ID_TIFF) av_opt_set(codec->priv_data, "compression_algo", "deflate", 0);
    int e = avcodec_open2(codec.get(), encoder, nullptr);
    frame->pts = 0;
    const av::Packet packet = av::make_packet();
    if (e >= 0) e = avcodec_send_frame(codec.get(), frame.get());
    if (e >= 0) e = avcodec_send_frame(codec.get(), nullptr);
    if (e >= 0) e = avcodec_receive_packet(codec.get(), packet.get());
    if (e < 0)
        throw Error("the still cannot be encoded (" + av::error_text(e) + ")", where,
                    "Choose another size or ending");
    return {reinterpret_cast<const char*>(packet->data), std::size_t(packet->size)};
}

av::Frame new_frame(int width, int height, AVPixelFormat format) {
    av::Frame frame = av::make_frame();
    frame->width = width;
    frame->height = height;
    frame->format = format;
    if (av_frame_get_buffer(frame.get(), 64) < 0) throw std::bad_alloc();
    return frame;
}

av::Frame jpeg_frame(const Picture& picture) {
    av::Frame frame = new_frame(picture.width(), picture.height(), AV_PIX_FMT_YUVJ444P);
    frame->color_range = AVCOL_RANGE_JPEG;
    YuvPlanes<std::uint8_t> out;
    for (std::size_t i = 0; i < 3; ++i) {
        out.plane[i] = frame->data[i];
        out.stride[i] = frame->linesize[i];
    }
    out.width = picture.width();
    out.height = picture.height();
    out.chroma_shift_x = out.chroma_shift_y = 0;
    out.matrix = kRec601;
    out.full_range = true;
    yuv_from_rgba(picture, out);
    return frame;
}

/// RGB or RGBA, 8 or 16 bits, alpha only where there are holes.
av::Frame rgb_frame(const Picture& picture, int depth, bool big_endian) {
    const bool alpha = hole_share(picture) > 0;
    const int channels = alpha ? 4 : 3;
    const AVPixelFormat format = depth == 8   ? (alpha ? AV_PIX_FMT_RGBA : AV_PIX_FMT_RGB24)
                                 : big_endian ? (alpha ? AV_PIX_FMT_RGBA64BE : AV_PIX_FMT_RGB48BE)
                                              : (alpha ? AV_PIX_FMT_RGBA64LE : AV_PIX_FMT_RGB48LE);
    av::Frame frame = new_frame(picture.width(), picture.height(), format);
    const std::ptrdiff_t stride = std::ptrdiff_t(picture.width()) * 4;
    std::vector<std::uint16_t> words(std::size_t(stride) * std::size_t(picture.height()));
    words_from_rgba(picture, words.data(), stride);
    for (int y = 0; y < picture.height(); ++y) {
        const std::uint16_t* from = words.data() + stride * y;
        std::uint8_t* to = frame->data[0] + std::ptrdiff_t(frame->linesize[0]) * y;
        for (int x = 0; x < picture.width(); ++x, from += 4)
            for (int c = 0; c < channels; ++c) {
                const std::uint16_t v = from[c];
                if (depth == 8) {
                    *to++ = std::uint8_t((v + 128u) / 257u);
                } else {
                    *to++ = std::uint8_t(big_endian ? v >> 8 : v);
                    *to++ = std::uint8_t(big_endian ? v : v >> 8);
                }
            }
    }
    return frame;
}

} // namespace

bool is_still_name(const std::filesystem::path& path) {
    const std::string e = ending_of(path);
    return e == ".png" || e == ".jpg" || e == ".jpeg" || e == ".tif" || e == ".tiff" || e == ".exr";
}

Picture read_still(const std::filesystem::path& path, BufferPool* pool, std::int64_t* mended) {
    if (mended) *mended = 0;
    if (ending_of(path) == ".exr") return read_exr(path, pool, mended);
    VideoReader reader(path, 1);
    const auto frame = reader.frame_at(Rational(0));
    if (!frame)
        throw Error("the picture cannot be decoded", path.string(), "The file is damaged; copy it again");
    return picture_from_frame(*frame->frame, reader.info().rotation_deg, nullptr, pool);
}

void write_still(const Picture& picture, const std::filesystem::path& path, const StillOptions& options) {
    const std::string ending = ending_of(path);
    if (ending == ".exr") {
        PartFile part(path);
        const bool full = options.spherical && options.spherical->mapping == SphereMapping::equirect;
        write_exr(picture, part.path(), full, options);
        part.commit();
        return;
    }
    std::string bytes;
    if (ending == ".jpg" || ending == ".jpeg") {
        const int scale = std::clamp(int(std::lround(2 + (95 - options.jpeg_quality) * 0.3)), 1, 31);
        bytes = encoded(AV_CODEC_ID_MJPEG, jpeg_frame(picture), scale, path.string());
        if (options.spherical)
            bytes =
                jpeg_with_xmp(bytes, photo_sphere_xmp(*options.spherical, picture.width(), picture.height()));
    } else if (ending == ".png") {
        bytes = encoded(AV_CODEC_ID_PNG, rgb_frame(picture, options.depth, true), 0, path.string());
        if (options.spherical)
            bytes =
                png_with_xmp(bytes, photo_sphere_xmp(*options.spherical, picture.width(), picture.height()));
    } else if (ending == ".tif" || ending == ".tiff") {
        bytes = encoded(AV_CODEC_ID_TIFF, rgb_frame(picture, options.depth, false), 0, path.string());
    } else {
        throw Error("'" + ending + "' is not a still we write", path.string(),
                    "End the name in .png, .jpg, .tif or .exr");
    }
    write_file_atomically(path, bytes);
}

void write_png_grey16(const std::vector<std::uint16_t>& values, int width, int height,
                      const std::filesystem::path& path) {
    av::Frame frame = new_frame(width, height, AV_PIX_FMT_GRAY16BE);
    for (int y = 0; y < height; ++y) {
        std::uint8_t* to = frame->data[0] + std::ptrdiff_t(frame->linesize[0]) * y;
        const std::uint16_t* from = values.data() + std::size_t(y) * std::size_t(width);
        for (int x = 0; x < width; ++x) {
            *to++ = std::uint8_t(from[x] >> 8);
            *to++ = std::uint8_t(from[x]);
        }
    }
    write_file_atomically(path, encoded(AV_CODEC_ID_PNG, std::move(frame), 0, path.string()));
}

} // namespace porb
