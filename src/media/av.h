#pragma once

// FFmpeg's C types in owning pointers; for the media room only.
extern "C" {
#include <libavcodec/avcodec.h>
#include <libavformat/avformat.h>
#include <libavutil/display.h>
#include <libavutil/imgutils.h>
#include <libavutil/opt.h>
#include <libavutil/parseutils.h>
#include <libavutil/pixdesc.h>
#include <libswresample/swresample.h>
#include <libswscale/swscale.h>
}

#include "base/rational.h"

#include <filesystem>
#include <memory>
#include <string>

namespace porb::av {

struct FormatDeleter {
    void operator()(AVFormatContext* c) const;
};
struct CodecDeleter {
    void operator()(AVCodecContext* c) const { avcodec_free_context(&c); }
};
struct FrameDeleter {
    void operator()(AVFrame* f) const { av_frame_free(&f); }
};
struct PacketDeleter {
    void operator()(AVPacket* p) const { av_packet_free(&p); }
};
struct ScaleDeleter {
    void operator()(SwsContext* c) const { sws_freeContext(c); }
};
struct ResampleDeleter {
    void operator()(SwrContext* c) const { swr_free(&c); }
};

using Format = std::unique_ptr<AVFormatContext, FormatDeleter>; ///< input contexts with their file
using Codec = std::unique_ptr<AVCodecContext, CodecDeleter>;
using Frame = std::unique_ptr<AVFrame, FrameDeleter>;
using Packet = std::unique_ptr<AVPacket, PacketDeleter>;
using Scale = std::unique_ptr<SwsContext, ScaleDeleter>;
using Resample = std::unique_ptr<SwrContext, ResampleDeleter>;

Frame make_frame();
Packet make_packet();

std::string error_text(int code);
inline Rational rational(AVRational r) {
    return r.den == 0 ? Rational(0) : Rational(r.num, r.den);
}
inline AVRational av_rational(Rational r) {
    return {static_cast<int>(r.num()), static_cast<int>(r.den())};
}

/// Opens a local regular file for demuxing and reads its stream headers. Whatever the file refers to, nothing
/// else is opened: other protocols and nested opens are refused. Throws Error.
Format open_input(const std::filesystem::path& path);

/// A decoder for one stream, on `threads` threads, with a bound on picture size. Throws Error.
Codec open_decoder(const AVStream& stream, const std::string& where, int threads);

} // namespace porb::av
