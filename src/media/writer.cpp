#include "media/writer.h"

#include "base/error.h"
#include "media/av.h"
#include "picture/convert.h"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <thread>

namespace porb {

namespace {
constexpr int kAacFrame = 1024;
constexpr unsigned kFewCores = 4;

/// How many frames an encoder looks ahead to share its bits out: its usual 40 for what is small, fewer where
/// frames are large, since it holds each of them (some 3 bytes a pixel) until it has decided about it.
int lookahead_frames(int width, int height) {
    constexpr double kBytes = 180e6, kBytesOfPixel = 3;
    return std::clamp(int(kBytes / (kBytesOfPixel * width * height)), 8, 40);
}
} // namespace

struct VideoWriter::Impl {
    VideoFormat format;
    std::string where;
    AVFormatContext* muxer = nullptr;
    av::Codec video, sound;
    AVStream* video_stream = nullptr;
    AVStream* sound_stream = nullptr;
    av::Packet packet = av::make_packet();
    std::int64_t next_frame = 0, next_sample = 0;
    std::vector<float> pending;
    bool header_written = false, finished = false;

    ~Impl() {
        if (!muxer) return;
        avio_closep(&muxer->pb);
        avformat_free_context(muxer);
    }

    [[noreturn]] void fail(const std::string& what, int code) const {
        const bool full = code == AVERROR(ENOSPC);
        throw Error(what + " (" + av::error_text(code) + ")", where,
                    full ? "Free some space on that disk" : "Check the folder, the size and the codec");
    }
    void must(int code, const char* what) const {
        if (code < 0) fail(what, code);
    }

    void open(const std::filesystem::path& path) {
        where = path.string();
        const bool mov = path.extension() == ".mov";
        must(avformat_alloc_output_context2(&muxer, nullptr, mov ? "mov" : "mp4", path.c_str()),
             "cannot be written");
        open_video();
        if (format.sound) open_sound();
        must(avio_open(&muxer->pb, ("file:" + path.string()).c_str(), AVIO_FLAG_WRITE), "cannot be created");
        for (const auto& [key, value] : format.metadata)
            av_dict_set(&muxer->metadata, key.c_str(), value.c_str(), 0);
        if (!format.timecode.empty())
            av_dict_set(&video_stream->metadata, "timecode", format.timecode.c_str(), 0);
        AVDictionary* options = nullptr;
        // Entries of our own names go where MOV keeps named metadata.
        if (!format.metadata.empty()) av_dict_set(&options, "movflags", "use_metadata_tags", 0);
        const int begun = avformat_write_header(muxer, &options);
        av_dict_free(&options);
        must(begun, "its header cannot be written");
        header_written = true;
    }

    void open_video() {
        const char* name = format.codec == VideoCodec::h264   ? "libx264"
                           : format.codec == VideoCodec::h265 ? "libx265"
                                                              : "prores_ks";
        const AVCodec* encoder = avcodec_find_encoder_by_name(name);
        if (!encoder)
            throw Error(std::string("this machine has no encoder '") + name + "'", where,
                        "Choose another codec");
        video.reset(avcodec_alloc_context3(encoder));
        AVCodecContext& c = *video;
        c.width = format.width;
        c.height = format.height;
        c.time_base = av::av_rational(Rational(1) / format.rate);
        c.framerate = av::av_rational(format.rate);
        c.pix_fmt = format.codec == VideoCodec::prores ? AV_PIX_FMT_YUV422P10
                    : format.depth > 8                 ? AV_PIX_FMT_YUV420P10
                                                       : AV_PIX_FMT_YUV420P;
        c.color_range = AVCOL_RANGE_MPEG;
        c.colorspace = AVCOL_SPC_BT709;
        c.color_primaries = AVCOL_PRI_BT709;
        c.color_trc = AVCOL_TRC_BT709;
        c.chroma_sample_location = AVCHROMA_LOC_LEFT;
        c.gop_size = std::max(1, int(format.rate.round()));
        c.thread_count = 0; // the encoder chooses
        const unsigned cores = std::max(1u, std::thread::hardware_concurrency());
        if (format.codec == VideoCodec::prores) {
            av_opt_set(c.priv_data, "profile", "hq", 0);
        } else {
            av_opt_set(c.priv_data, "preset", format.fast ? "veryfast" : "medium", 0);
            if (format.bit_rate > 0) {
                c.bit_rate = c.rc_max_rate = format.bit_rate;
                c.rc_buffer_size = int(std::min<std::int64_t>(2 * format.bit_rate, 2'000'000'000));
            } else {
                av_opt_set_double(c.priv_data, "crf", format.crf, 0);
            }
            const int ahead = lookahead_frames(format.width, format.height);
            if (format.codec == VideoCodec::h265) {
                // Its usual 20, where that is less.
                const auto params = "log-level=none:rc-lookahead=" + std::to_string(std::min(20, ahead));
                av_opt_set(c.priv_data, "x265-params", params.c_str(), 0);
                c.codec_tag = MKTAG('h', 'v', 'c', '1');
            } else if (!format.fast) { // which looks ahead no further than 10
                av_opt_set_int(c.priv_data, "rc-lookahead", ahead, 0);
                // Looking ahead in a thread of its own and coding in more threads than there are cores take
                // some ten frames more, and gain nothing where rendering keeps all cores busy.
                if (cores <= kFewCores) {
                    av_opt_set(c.priv_data, "x264-params", "sync-lookahead=0", 0);
                    c.thread_count = int(cores);
                }
            }
        }
        if (muxer->oformat->flags & AVFMT_GLOBALHEADER) c.flags |= AV_CODEC_FLAG_GLOBAL_HEADER;
        must(avcodec_open2(&c, encoder, nullptr), "the encoder refuses these settings");
        video_stream = avformat_new_stream(muxer, nullptr);
        avcodec_parameters_from_context(video_stream->codecpar, &c);
        video_stream->time_base = c.time_base;
        video_stream->avg_frame_rate = c.framerate;
    }

    void open_sound() {
        const bool pcm = format.codec == VideoCodec::prores;
        const AVCodec* encoder = avcodec_find_encoder(pcm ? AV_CODEC_ID_PCM_S24LE : AV_CODEC_ID_AAC);
        if (!encoder) throw Error("this machine has no encoder for the sound", where, "Master without sound");
        sound.reset(avcodec_alloc_context3(encoder));
        AVCodecContext& c = *sound;
        c.sample_rate = format.sound->rate_hz;
        av_channel_layout_default(&c.ch_layout, format.sound->channels);
        c.sample_fmt = pcm ? AV_SAMPLE_FMT_S32 : AV_SAMPLE_FMT_FLTP;
        c.bit_rate = format.sound->bit_rate;
        c.time_base = {1, c.sample_rate};
        if (muxer->oformat->flags & AVFMT_GLOBALHEADER) c.flags |= AV_CODEC_FLAG_GLOBAL_HEADER;
        must(avcodec_open2(&c, encoder, nullptr), "the sound encoder refuses these settings");
        sound_stream = avformat_new_stream(muxer, nullptr);
        avcodec_parameters_from_context(sound_stream->codecpar, &c);
        sound_stream->time_base = c.time_base;
    }

    void encode(AVCodecContext& c, AVStream& stream, const AVFrame* f) {
        must(avcodec_send_frame(&c, f), "a frame cannot be encoded");
        while (true) {
            const int got = avcodec_receive_packet(&c, packet.get());
            if (got == AVERROR(EAGAIN) || got == AVERROR_EOF) return;
            must(got, "a frame cannot be encoded");
            av_packet_rescale_ts(packet.get(), c.time_base, stream.time_base);
            packet->stream_index = stream.index;
            if (&c == video.get()) packet->duration = av_rescale_q(1, c.time_base, stream.time_base);
            must(av_interleaved_write_frame(muxer, packet.get()), "cannot be written");
        }
    }

    /// A new buffer for each frame: encoders hold on to the ones they still look at.
    Frame new_frame() const {
        const std::shared_ptr<AVFrame> made(av_frame_alloc(), av::FrameDeleter());
        if (!made) throw std::bad_alloc();
        made->format = video->pix_fmt;
        made->width = video->width;
        made->height = video->height;
        must(av_frame_get_buffer(made.get(), 64), "no memory for a frame");
        const auto* d = av_pix_fmt_desc_get(video->pix_fmt);
        YuvPlanes<std::uint8_t> out;
        out.width = made->width;
        out.height = made->height;
        for (std::size_t i = 0; i < 3; ++i) {
            out.plane[i] = made->data[i];
            out.stride[i] = made->linesize[i];
        }
        out.chroma_shift_x = d->log2_chroma_w;
        out.chroma_shift_y = d->log2_chroma_h;
        out.depth = d->comp[0].depth;
        return {out, made};
    }

    void write(const Frame& filled) {
        auto* const made = static_cast<AVFrame*>(filled.memory.get());
        made->pts = next_frame++;
        encode(*video, *video_stream, made);
    }

    void encode_sound(std::int64_t count) {
        const auto channels = std::size_t(format.sound->channels);
        const av::Frame f = av::make_frame();
        f->format = sound->sample_fmt;
        f->nb_samples = int(count);
        f->sample_rate = sound->sample_rate;
        av_channel_layout_copy(&f->ch_layout, &sound->ch_layout);
        must(av_frame_get_buffer(f.get(), 0), "no memory for sound");
        for (std::size_t i = 0; i < std::size_t(count); ++i)
            for (std::size_t ch = 0; ch < channels; ++ch) {
                const float v = std::clamp(pending[i * channels + ch], -1.0f, 1.0f);
                if (sound->sample_fmt == AV_SAMPLE_FMT_FLTP)
                    reinterpret_cast<float*>(f->data[ch])[i] = v;
                else
                    reinterpret_cast<std::int32_t*>(f->data[0])[i * channels + ch] =
                        std::int32_t(std::lround(double(v) * 2147483392.0));
            }
        pending.erase(pending.begin(), pending.begin() + std::ptrdiff_t(std::size_t(count) * channels));
        f->pts = next_sample;
        next_sample += count;
        encode(*sound, *sound_stream, f.get());
    }

    void write_sound(std::span<const float> samples) {
        pending.insert(pending.end(), samples.begin(), samples.end());
        while (std::int64_t(pending.size()) / format.sound->channels >= kAacFrame) encode_sound(kAacFrame);
    }

    void finish() {
        if (finished) return;
        finished = true;
        if (sound) {
            const std::int64_t rest = std::int64_t(pending.size()) / format.sound->channels;
            if (rest > 0) encode_sound(rest);
            encode(*sound, *sound_stream, nullptr);
        }
        encode(*video, *video_stream, nullptr);
        must(av_write_trailer(muxer), "its end cannot be written");
        const int closed = avio_closep(&muxer->pb);
        must(closed, "cannot be closed");
    }
};

VideoWriter::VideoWriter(const std::filesystem::path& path, const VideoFormat& format)
    : impl_(std::make_unique<Impl>()) {
    impl_->format = format;
    impl_->open(path);
}
VideoWriter::~VideoWriter() = default;
void VideoWriter::write(const Picture& picture) {
    const Frame frame = new_frame();
    yuv_from_rgba(picture, frame.planes);
    write(frame);
}
VideoWriter::Frame VideoWriter::new_frame() const {
    return impl_->new_frame();
}
void VideoWriter::write(const Frame& frame) {
    impl_->write(frame);
}
void VideoWriter::write_sound(std::span<const float> samples) {
    impl_->write_sound(samples);
}
void VideoWriter::finish() {
    impl_->finish();
}
std::int64_t VideoWriter::bytes_written() const {
    return impl_->muxer->pb ? avio_tell(impl_->muxer->pb) : 0;
}

} // namespace porb
