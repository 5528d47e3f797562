// Making proxies, and reading their frames as their source's.
#include "base/error.h"
#include "base/file.h"
#include "media/av.h"
#include "media/proxies.h"
#include "media/video.h"

#include <algorithm>
#include <mutex>
#include <thread>

namespace porb {

namespace fs = std::filesystem;

namespace {
constexpr std::uint64_t kDiskReserve = 256u << 20; ///< bytes that stay free

int halved_side(int side, int level) {
    for (int l = 0; l < level; ++l) side = (side + 1) / 2;
    return side;
}
int even(int side) {
    return side + (side & 1);
}

/// Writes frames of a proxy with the tags of its source's.
class ProxyWriter {
  public:
    ProxyWriter(const fs::path& path, const AVFrame& like, const MediaInfo& info, int level, Seconds tick)
        : where_(path.string()), width_(halved_side(like.width, level)),
          height_(halved_side(like.height, level)), tick_(tick) {
        must(avformat_alloc_output_context2(&muxer_, nullptr, "mp4", nullptr), "cannot be made");
        const AVCodec* encoder = avcodec_find_encoder_by_name("libx264");
        if (!encoder) throw Error("this machine has no encoder 'libx264'", where_, "Install FFmpeg with it");
        codec_.reset(avcodec_alloc_context3(encoder));
        AVCodecContext& c = *codec_;
        c.width = even(width_);
        c.height = even(height_);
        c.time_base = av::av_rational(tick);
        c.framerate = av::av_rational(info.rate);
        c.pix_fmt = info.depth > 8 ? AV_PIX_FMT_YUV420P10 : AV_PIX_FMT_YUV420P;
        const bool j = info.pixel_format.starts_with("yuvj");
        c.color_range = j ? AVCOL_RANGE_JPEG : like.color_range;
        // What is not tagged goes by the picture's size, and this one is another.
        c.colorspace = like.colorspace != AVCOL_SPC_UNSPECIFIED ? like.colorspace
                       : j || like.height < 576                 ? AVCOL_SPC_SMPTE170M
                                                                : AVCOL_SPC_BT709;
        c.chroma_sample_location = j && like.chroma_location == AVCHROMA_LOC_UNSPECIFIED
                                       ? AVCHROMA_LOC_CENTER
                                       : like.chroma_location;
        c.color_primaries = like.color_primaries;
        c.color_trc = like.color_trc;
        c.gop_size = 1;
        c.max_b_frames = 0;
        c.thread_count = 1; // several are made at once
        if (muxer_->oformat->flags & AVFMT_GLOBALHEADER) c.flags |= AV_CODEC_FLAG_GLOBAL_HEADER;
        av_opt_set(c.priv_data, "preset", "ultrafast", 0);
        av_opt_set(c.priv_data, "tune", "fastdecode", 0);
        av_opt_set_int(c.priv_data, "qp", 18, 0); // the same for every frame
        av_opt_set(c.priv_data, "x264-params", "rc-lookahead=0:sync-lookahead=0:keyint=1", 0);
        must(avcodec_open2(&c, encoder, nullptr), "the encoder refuses this size");
        stream_ = avformat_new_stream(muxer_, nullptr);
        must(avcodec_parameters_from_context(stream_->codecpar, &c), "cannot be made");
        stream_->time_base = c.time_base;
        if (!info.timecode.empty()) av_dict_set(&stream_->metadata, "timecode", info.timecode.c_str(), 0);
        av_dict_set(&muxer_->metadata, "title", info.ref.path.filename().string().c_str(), 0);
        must(avio_open(&muxer_->pb, ("file:" + where_).c_str(), AVIO_FLAG_WRITE), "cannot be created");
        must(avformat_write_header(muxer_, nullptr), "its header cannot be written");
    }
    ~ProxyWriter() {
        if (muxer_ && muxer_->pb) avio_closep(&muxer_->pb);
        avformat_free_context(muxer_);
    }
    ProxyWriter(const ProxyWriter&) = delete;
    ProxyWriter& operator=(const ProxyWriter&) = delete;

    void write(const YuvPicture& picture, Seconds begin, Seconds length) {
        const av::Frame frame = new_frame(begin, length);
        const int chroma_w = halved_side(width_, 1), chroma_h = halved_side(height_, 1);
        const int to_depth = codec_->pix_fmt == AV_PIX_FMT_YUV420P10 ? 10 : 8;
        for (int y = 0; y < codec_->height; ++y)
            copy_row(picture, picture.luma + picture.luma_stride * std::min(y, height_ - 1), 1, 0,
                     picture.depth, to_depth, width_, codec_->width, frame->data[0] + frame->linesize[0] * y);
        for (int y = 0; y < codec_->height / 2; ++y)
            for (const int plane : {1, 2}) {
                const std::uint8_t* from = picture.chroma + picture.chroma_stride * std::min(y, chroma_h - 1);
                copy_row(picture, from, 2, plane - 1, picture.chroma_depth, to_depth, chroma_w,
                         codec_->width / 2, frame->data[plane] + frame->linesize[plane] * y);
            }
        last_ticks_ = frame->pkt_duration;
        encode(frame.get());
    }
    /// Anything that is no plain 4:2:0, through the scaler.
    void write_scaled(const AVFrame& in, Seconds begin, Seconds length) {
        const av::Frame frame = new_frame(begin, length);
        if (!scale_)
            scale_.reset(sws_getContext(in.width, in.height, AVPixelFormat(in.format), codec_->width,
                                        codec_->height, codec_->pix_fmt, SWS_AREA | SWS_ACCURATE_RND, nullptr,
                                        nullptr, nullptr));
        if (!scale_)
            throw Error("its kind of pixels cannot be made smaller", where_, "Play it without a proxy");
        sws_scale(scale_.get(), in.data, in.linesize, 0, in.height, frame->data, frame->linesize);
        last_ticks_ = frame->pkt_duration;
        encode(frame.get());
    }
    void finish() {
        encode(nullptr);
        must(av_write_trailer(muxer_), "its end cannot be written");
        must(avio_closep(&muxer_->pb), "cannot be closed");
    }

  private:
    void must(int code, const char* what) const {
        if (code < 0)
            throw Error(std::string(what) + " (" + av::error_text(code) + ")", where_,
                        "Check the disk's space and the folder's permissions");
    }
    av::Frame new_frame(Seconds begin, Seconds length) const {
        av::Frame frame = av::make_frame();
        frame->format = codec_->pix_fmt;
        frame->width = codec_->width;
        frame->height = codec_->height;
        frame->color_range = codec_->color_range;
        must(av_frame_get_buffer(frame.get(), 0), "no memory for a frame");
        frame->pts = (begin / tick_).round();
        frame->pkt_duration = std::max<std::int64_t>(1, (length / tick_).round());
        return frame;
    }
    /// One of `channels` that lie side by side, rounded to fewer bits; what is past its end repeats the last.
    static void copy_row(const YuvPicture& picture, const std::uint8_t* from, int channels, int channel,
                         int depth, int to_depth, int count, int to_count, std::uint8_t* to) {
        const int shift = depth - to_depth;
        const unsigned half = shift > 0 ? 1u << (shift - 1) : 0, most = (1u << to_depth) - 1;
        for (int x = 0; x < to_count; ++x) {
            const auto at = std::size_t(std::min(x, count - 1) * channels + channel);
            const unsigned code = picture.sample_bytes == 1
                                      ? from[at]
                                      : unsigned(reinterpret_cast<const std::uint16_t*>(from)[at]);
            const unsigned out = std::min(most, (code + half) >> shift);
            if (to_depth > 8)
                reinterpret_cast<std::uint16_t*>(to)[x] = std::uint16_t(out);
            else
                to[x] = std::uint8_t(out);
        }
    }
    void encode(const AVFrame* frame) {
        must(avcodec_send_frame(codec_.get(), frame), "a frame cannot be encoded");
        while (true) {
            const int got = avcodec_receive_packet(codec_.get(), packet_.get());
            if (got == AVERROR(EAGAIN) || got == AVERROR_EOF) return;
            must(got, "a frame cannot be encoded");
            av_packet_rescale_ts(packet_.get(), codec_->time_base, stream_->time_base);
            packet_->stream_index = stream_->index;
            if (packet_->duration <= 0) // a frame's own packet comes at once
                packet_->duration = av_rescale_q(last_ticks_, codec_->time_base, stream_->time_base);
            must(av_interleaved_write_frame(muxer_, packet_.get()), "cannot be written");
        }
    }

    std::string where_;
    int width_, height_;
    Seconds tick_;
    AVFormatContext* muxer_ = nullptr;
    av::Codec codec_;
    AVStream* stream_ = nullptr;
    std::int64_t last_ticks_ = 1;
    av::Packet packet_ = av::make_packet();
    av::Scale scale_;
};

/// 4:2:0 of a picture whose chroma may be as fine as its luma.
YuvPicture with_coarse_chroma(const YuvPicture& picture) {
    if (picture.chroma_scale < 1) return picture;
    const YuvPicture half = halved(picture); // whose chroma is this one's, halved
    YuvPicture out = picture;
    out.chroma = half.chroma;
    out.chroma_stride = half.chroma_stride;
    out.chroma_width = half.chroma_width;
    out.chroma_height = half.chroma_height;
    out.chroma_depth = half.chroma_depth;
    out.memory = std::make_shared<const std::pair<std::shared_ptr<const void>, std::shared_ptr<const void>>>(
        picture.memory, half.memory);
    return out;
}
} // namespace

ProxyFile make_proxy(const MediaRef& ref, int level, const ProxyStore& store, const TellShare& tell,
                     const Cancel& cancel) {
    if (level < 1 || level > kMostProxyLevel)
        throw Error("a proxy is a half, a quarter or an eighth of its source", ref.path.string(),
                    "Ask for one of these");
    if (ref.kind != MediaKind::video)
        throw Error("is no video, and is read as quickly as its proxy would be", ref.path.string(),
                    "Play it as it is");
    const fs::path path = store.path_for(ref, level);
    for (const ProxyFile& there : store.of(ref))
        if (there.path == path) {
            store.touch(path);
            return there;
        }
    std::error_code code;
    fs::create_directories(store.folder(), code);
    if (code)
        throw Error("cannot be made: " + code.message(), store.folder().string(), "Check its permissions");
    sweep_parts(store.folder());

    VideoReader reader(ref.path, 2);
    const MediaInfo& info = reader.info();
    if (info.rotation_deg != 0 && ((info.width | info.height) & ((1 << (level + 1)) - 1)))
        throw Error("is turned, and its sides are no multiple of what a proxy needs", ref.path.string(),
                    "Play it without a proxy");
    PartFile part(path);
    std::unique_ptr<ProxyWriter> writer;
    const double length = std::max(1e-3, info.duration.to_double());
    for (Seconds t(0);;) {
        cancel.check();
        const auto frame = reader.frame_at(t);
        if (!frame) break;
        if (!writer)
            writer = std::make_unique<ProxyWriter>(part.path(), *frame->frame, info, level, reader.tick());
        SourcePicture picture = source_from_frame(frame->frame, 0, nullptr, nullptr);
        const Seconds lasts = frame->end - frame->begin;
        if (const YuvPicture* yuv = picture.yuv()) {
            YuvPicture small = *yuv;
            for (int l = 0; l < level; ++l) small = halved(small);
            writer->write(with_coarse_chroma(small), frame->begin, lasts);
        } else {
            writer->write_scaled(*frame->frame, frame->begin, lasts);
        }
        if (free_disk_bytes(store.folder()) < kDiskReserve)
            throw Error("the disk of the proxies is full", store.folder().string(),
                        "Free some space, or remove proxies (porbit proxy --remove-all)");
        if (tell) tell(std::min(1.0, frame->end.to_double() / length));
        t = frame->end;
    }
    if (!writer) throw Error("shows nothing", ref.path.string(), "Copy it from the camera's card again");
    writer->finish();
    writer.reset();
    part.commit();
    store.trim({path});
    for (const ProxyFile& made : store.of(ref))
        if (made.path == path) return made;
    throw Error("changed while its proxy was made", ref.path.string(), "Make it again");
}

void make_proxies(const std::vector<MediaRef>& refs, int level, const ProxyStore& store,
                  const TellShare& tell, const Cancel& cancel) {
    const std::size_t workers =
        std::min<std::size_t>(refs.size(), std::max(1u, std::thread::hardware_concurrency()));
    std::mutex mutex;
    std::size_t next = 0;
    std::vector<double> shares(refs.size(), 0.0);
    std::exception_ptr failed;
    const auto work = [&] {
        while (true) {
            std::size_t n = 0;
            {
                const std::lock_guard lock(mutex);
                if (next == refs.size() || cancel.raised()) return;
                n = next++;
            }
            try {
                make_proxy(
                    refs[n], level, store,
                    [&](double share) {
                        double sum = 0;
                        {
                            const std::lock_guard lock(mutex);
                            shares[n] = share;
                            for (const double s : shares) sum += s;
                        }
                        if (tell) tell(sum / double(refs.size()));
                    },
                    cancel);
            } catch (...) {
                const std::lock_guard lock(mutex);
                if (!failed) failed = std::current_exception();
            }
        }
    };
    {
        std::vector<std::jthread> threads;
        for (std::size_t n = 0; n < workers; ++n) threads.emplace_back(work);
    }
    cancel.check();
    if (failed) std::rethrow_exception(failed);
}

SourcePicture proxy_picture(const DecodedFrame& frame, const MediaInfo& source, int level,
                            const ColourChange* colour, BufferPool* pool) {
    const int width = halved_side(source.width, level), height = halved_side(source.height, level);
    SourcePicture picture = source_from_frame(frame.frame, source.rotation_deg, colour, pool);
    if (picture.width() < width || picture.height() < height || picture.width() > even(width) ||
        picture.height() > even(height))
        throw Error("is " + std::to_string(picture.width()) + " x " + std::to_string(picture.height()) +
                        ", not its source's size halved",
                    "", "");
    if (const YuvPicture* yuv = picture.yuv()) {
        YuvPicture out = *yuv;
        out.width = width;
        out.height = height;
        // Where the source's chroma lay, seen in pixels of the proxy (yuv_picture.h).
        if (out.chroma_shift_x > 0) out.chroma_shift_x = 0.25f / float(1 << level);
        return out;
    }
    if (picture.width() == width && picture.height() == height) return picture;
    return cropped(*picture.picture(), 0, 0, width, height);
}

} // namespace porb
