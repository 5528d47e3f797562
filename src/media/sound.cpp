#include "media/sound.h"

#include "base/error.h"
#include "media/av.h"

#include <algorithm>

namespace porb {

struct SoundReader::Impl {
    av::Format format;
    av::Codec codec;
    av::Resample resample;
    av::Packet packet = av::make_packet();
    int stream_index = -1, rate_hz, channels;
    Seconds origin{0};
    std::vector<float> held; ///< interleaved, from sample frame `held_first` on
    std::int64_t held_first = 0;
    bool placed = false, at_end = false;
    int damaged = 0;

    Impl(const std::filesystem::path& path, int rate, int count) : rate_hz(rate), channels(count) {
        format = av::open_input(path);
        stream_index = av_find_best_stream(format.get(), AVMEDIA_TYPE_AUDIO, -1, -1, nullptr, 0);
        if (stream_index < 0)
            throw Error("holds no sound", path.string(), "Choose another source's sound, or none");
        const int video = av_find_best_stream(format.get(), AVMEDIA_TYPE_VIDEO, -1, -1, nullptr, 0);
        if (video >= 0) {
            const AVStream& v = *format->streams[video];
            if (v.start_time != AV_NOPTS_VALUE) origin = Rational(v.start_time) * av::rational(v.time_base);
        }
        for (unsigned i = 0; i < format->nb_streams; ++i)
            format->streams[i]->discard = int(i) == stream_index ? AVDISCARD_DEFAULT : AVDISCARD_ALL;
        codec = av::open_decoder(*format->streams[stream_index], path.string(), 1);
        open_resampler();
    }

    void open_resampler() {
        AVChannelLayout to;
        av_channel_layout_default(&to, channels);
        AVChannelLayout from = codec->ch_layout;
        if (from.order == AV_CHANNEL_ORDER_UNSPEC)
            av_channel_layout_default(&from, std::max(1, codec->ch_layout.nb_channels));
        SwrContext* raw = nullptr;
        swr_alloc_set_opts2(&raw, &to, AV_SAMPLE_FMT_FLT, rate_hz, &from, codec->sample_fmt,
                            codec->sample_rate, 0, nullptr);
        resample.reset(raw);
        if (!raw || swr_init(raw) < 0)
            throw Error("its sound cannot be resampled", format->url ? format->url : "", "Convert the sound");
    }

    std::int64_t held_end() const { return held_first + std::int64_t(held.size()) / channels; }

    void seek(std::int64_t sample) {
        const AVStream& s = *format->streams[stream_index];
        const Seconds t = Rational(sample, rate_hz) + origin;
        const std::int64_t pts = (t / av::rational(s.time_base)).floor();
        held.clear();
        placed = at_end = false;
        if (av_seek_frame(format.get(), stream_index, pts, AVSEEK_FLAG_BACKWARD) < 0)
            av_seek_frame(format.get(), stream_index, pts, AVSEEK_FLAG_ANY);
        avcodec_flush_buffers(codec.get());
        open_resampler();
    }

    void append(const AVFrame& frame) {
        if (!placed && frame.best_effort_timestamp != AV_NOPTS_VALUE) {
            const AVStream& s = *format->streams[stream_index];
            const Seconds t = Rational(frame.best_effort_timestamp) * av::rational(s.time_base) - origin;
            held_first = (t * Rational(rate_hz)).round();
        }
        placed = true;
        const int room = swr_get_out_samples(resample.get(), frame.nb_samples);
        const std::size_t before = held.size();
        held.resize(before + std::size_t(room) * std::size_t(channels));
        auto* out = reinterpret_cast<std::uint8_t*>(held.data() + before);
        const int made = swr_convert(resample.get(), &out, room,
                                     const_cast<const std::uint8_t**>(frame.extended_data), frame.nb_samples);
        held.resize(before + std::size_t(std::max(made, 0)) * std::size_t(channels));
    }

    bool decode_more() {
        const av::Frame frame = av::make_frame();
        while (!at_end) {
            const int got = avcodec_receive_frame(codec.get(), frame.get());
            if (got == 0) {
                append(*frame);
                return true;
            }
            if (got == AVERROR_EOF || (got != AVERROR(EAGAIN) && ++damaged > 1000)) {
                at_end = true;
                break;
            }
            const int read = av_read_frame(format.get(), packet.get());
            if (read < 0)
                avcodec_send_packet(codec.get(), nullptr);
            else if (packet->stream_index == stream_index)
                avcodec_send_packet(codec.get(), packet.get());
            av_packet_unref(packet.get());
        }
        return false;
    }

    std::vector<float> read(std::int64_t first, std::int64_t count) {
        const std::int64_t far = rate_hz; // a second ahead is decoded through, more is sought
        if (!placed || first < held_first || first > held_end() + far) {
            if (placed || first > far) seek(std::max<std::int64_t>(0, first - rate_hz / 10));
        }
        while (held_end() < first + count && decode_more()) {
            const std::int64_t drop = std::min(first - held_first, std::int64_t(held.size()) / channels);
            if (drop > 4 * rate_hz) {
                held.erase(held.begin(), held.begin() + drop * channels);
                held_first += drop;
            }
        }
        std::vector<float> out(std::size_t(count * channels), 0.0f);
        const std::int64_t begin = std::max(first, held_first), end = std::min(first + count, held_end());
        if (begin < end)
            std::copy(held.begin() + (begin - held_first) * channels,
                      held.begin() + (end - held_first) * channels, out.begin() + (begin - first) * channels);
        const std::int64_t keep_from = std::min(end, first + count);
        if (keep_from > held_first + 2 * rate_hz) {
            const std::int64_t drop = keep_from - held_first - rate_hz;
            held.erase(held.begin(),
                       held.begin() + std::min<std::int64_t>(drop * channels, std::int64_t(held.size())));
            held_first += drop;
        }
        return out;
    }
};

SoundReader::SoundReader(const std::filesystem::path& path, int rate_hz, int channels)
    : impl_(std::make_unique<Impl>(path, rate_hz, channels)) {}
SoundReader::~SoundReader() = default;
std::vector<float> SoundReader::read(std::int64_t first, std::int64_t count) {
    return impl_->read(first, count);
}

} // namespace porb
