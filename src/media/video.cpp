#include "media/video.h"

#include "base/error.h"
#include "media/av.h"

#include <algorithm>
#include <cmath>
#include <deque>

namespace porb {

namespace {

/// Clockwise degrees from a display matrix, to the nearest quarter turn.
int rotation_from_matrix(const std::uint8_t* side_data) {
    if (!side_data) return 0;
    const double counter = av_display_rotation_get(reinterpret_cast<const std::int32_t*>(side_data));
    if (!(counter == counter)) return 0;
    return (int(std::lround(-counter / 90)) * 90 % 360 + 360) % 360;
}

const char* or_unknown(const char* name) {
    return name ? name : "unknown";
}

} // namespace

namespace {
/// Frames that are told on the way to the one that is wanted.
struct Before {
    int frames = 0;
    VideoReader::TellFrame tell;
};
} // namespace

struct VideoReader::Impl {
    std::string where;
    MediaInfo info;
    av::Format format;
    av::Codec codec;
    av::Packet packet = av::make_packet();
    int stream_index = -1;
    std::int64_t first_pts = 0; ///< of the first frame, in the stream's time base
    std::int64_t last_pts = AV_NOPTS_VALUE;
    std::deque<std::shared_ptr<const AVFrame>> decoded; ///< oldest first; at most a handful
    bool at_end = false, draining = false;
    int damaged = 0;
    /// What begins before and nothing refers to need not be decoded, on the way to a frame; its own stamps.
    std::int64_t passed_by = INT64_MIN;
    std::vector<std::int64_t> left_out; ///< of such, perhaps

    AVStream& stream() const { return *format->streams[stream_index]; }
    Seconds seconds_of(std::int64_t pts) const {
        return Rational(pts - first_pts) * av::rational(stream().time_base);
    }
    std::int64_t frame_ticks() const {
        return std::max<std::int64_t>(1,
                                      (Rational(1) / info.rate / av::rational(stream().time_base)).round());
    }

    void open(const std::filesystem::path& path, int threads) {
        where = path.string();
        format = av::open_input(path);
        stream_index = av_find_best_stream(format.get(), AVMEDIA_TYPE_VIDEO, -1, -1, nullptr, 0);
        if (stream_index < 0) throw Error("holds no pictures", where, "Expected a file with a video stream");
        for (unsigned i = 0; i < format->nb_streams; ++i)
            format->streams[i]->discard = int(i) == stream_index ? AVDISCARD_DEFAULT : AVDISCARD_ALL;
        codec = av::open_decoder(stream(), where, threads);
        fill_info(path);
        auto first = decode_next();
        if (!first)
            throw Error("not one frame of it can be decoded", where, "The file is damaged; copy it again");
        first_pts = first->pts;
        fill_tags(*first);
        decoded.push_back(std::move(first));
    }

    /// What the file says of when and with what it was recorded.
    void fill_container_facts() {
        const auto entry = [](const AVDictionary* d, const char* key) {
            const AVDictionaryEntry* e = av_dict_get(d, key, nullptr, 0);
            return std::string(e ? e->value : "");
        };
        std::string created = entry(format->metadata, "creation_time");
        info.rig_text = entry(format->metadata, kRigEntry);
        info.timecode = entry(format->metadata, "timecode");
        for (unsigned i = 0; i < format->nb_streams; ++i) {
            const AVStream& s = *format->streams[i];
            if (info.timecode.empty()) info.timecode = entry(s.metadata, "timecode");
            if (created.empty()) created = entry(s.metadata, "creation_time");
            info.has_motion = info.has_motion || s.codecpar->codec_tag == MKTAG('c', 'a', 'm', 'm');
        }
        std::int64_t microseconds = 0;
        if (!created.empty() && av_parse_time(&microseconds, created.c_str(), 0) >= 0 && microseconds > 0)
            info.created_s = microseconds / 1000000;
    }

    void fill_info(const std::filesystem::path& path) {
        const AVStream& s = stream();
        info.ref = {path, MediaKind::video, FrameRate(30)};
        info.codec = avcodec_get_name(s.codecpar->codec_id);
        const auto avg = av::rational(s.avg_frame_rate), base = av::rational(s.r_frame_rate);
        info.rate = avg > Rational(0) ? avg : base > Rational(0) ? base : Rational(30);
        if (info.rate > Rational(1000)) info.rate = Rational(1000);
        // A container's average that is a hair off a common rate is that rate; a real difference is a
        // variable rate.
        if (base > Rational(0) && base <= Rational(1000) && avg > Rational(0)) {
            const double apart = std::abs(avg.to_double() / base.to_double() - 1);
            if (apart < 2e-4)
                info.rate = base;
            else
                info.variable_rate = apart > 5e-3;
        }
        if (info.variable_rate)
            info.remarks.push_back("variable frame rate: frames are shown at their own times");
        if (s.duration != AV_NOPTS_VALUE && s.duration > 0)
            info.duration = Rational(s.duration) * av::rational(s.time_base);
        else if (format->duration > 0)
            info.duration = Rational(format->duration, AV_TIME_BASE), info.duration_guessed = true;
        info.frames = s.nb_frames > 0 ? s.nb_frames : (info.duration * info.rate).round();
        if (const int a = av_find_best_stream(format.get(), AVMEDIA_TYPE_AUDIO, -1, -1, nullptr, 0); a >= 0) {
            const AVCodecParameters& p = *format->streams[a]->codecpar;
            info.sound = SoundInfo{avcodec_get_name(p.codec_id), p.sample_rate, p.ch_layout.nb_channels};
        }
        info.rotation_deg =
            rotation_from_matrix(av_stream_get_side_data(&s, AV_PKT_DATA_DISPLAYMATRIX, nullptr));
    }

    void fill_tags(const AVFrame& f) {
        const auto* d = av_pix_fmt_desc_get(static_cast<AVPixelFormat>(f.format));
        info.pixel_format = d ? d->name : "unknown";
        info.depth = d ? d->comp[0].depth : 8;
        if (const auto* side = av_frame_get_side_data(&f, AV_FRAME_DATA_DISPLAYMATRIX);
            side && info.rotation_deg == 0)
            info.rotation_deg = rotation_from_matrix(side->data);
        const bool sideways = info.rotation_deg % 180 != 0;
        info.width = sideways ? f.height : f.width;
        info.height = sideways ? f.width : f.height;
        info.matrix = or_unknown(av_color_space_name(f.colorspace));
        info.transfer = or_unknown(av_color_transfer_name(f.color_trc));
        info.primaries = or_unknown(av_color_primaries_name(f.color_primaries));
        info.full_range = f.color_range == AVCOL_RANGE_JPEG || info.pixel_format.starts_with("yuvj");
        fill_container_facts();
    }

    /// The next frame in showing order, with a usable pts, or nullptr at the end.
    std::shared_ptr<const AVFrame> decode_next() {
        while (true) {
            av::Frame frame = av::make_frame();
            const int got = avcodec_receive_frame(codec.get(), frame.get());
            if (got == 0) {
                std::int64_t pts = frame->best_effort_timestamp;
                if (pts == AV_NOPTS_VALUE) pts = last_pts == AV_NOPTS_VALUE ? 0 : last_pts + frame_ticks();
                if (last_pts != AV_NOPTS_VALUE && pts <= last_pts) continue; // a repeated or backward stamp
                frame->pts = last_pts = pts;
                std::erase(left_out, pts);
                return {frame.release(), av::FrameDeleter()};
            }
            if (got == AVERROR_EOF) {
                at_end = true;
                return nullptr;
            }
            if (got != AVERROR(EAGAIN)) {
                if (++damaged > 1000) throw broken(got);
                if (draining) {
                    at_end = true;
                    return nullptr;
                }
            }
            feed();
        }
    }

    Error broken(int code) const {
        return Error("breaks off or is damaged (" + av::error_text(code) + ")", where,
                     "Copy the file from the camera's card again, or end the shot before that place");
    }

    void feed() {
        while (true) {
            const int read = av_read_frame(format.get(), packet.get());
            if (read < 0) {
                avcodec_send_packet(codec.get(), nullptr);
                draining = true;
                return;
            }
            const bool ours = packet->stream_index == stream_index;
            if (ours) {
                const bool passed = packet->pts != AV_NOPTS_VALUE && packet->pts < passed_by;
                codec->skip_frame = passed ? AVDISCARD_NONREF : AVDISCARD_DEFAULT;
                if (passed) left_out.push_back(packet->pts);
            }
            const int sent = ours ? avcodec_send_packet(codec.get(), packet.get()) : 0;
            av_packet_unref(packet.get());
            if (!ours) continue;
            if (sent < 0 && sent != AVERROR(EAGAIN) && ++damaged > 1000) throw broken(sent);
            return;
        }
    }

    void forget_decoded() {
        decoded.clear();
        left_out.clear();
        avcodec_flush_buffers(codec.get());
        at_end = draining = false;
        last_pts = AV_NOPTS_VALUE;
    }

    void seek(std::int64_t pts) {
        forget_decoded();
        if (av_seek_frame(format.get(), stream_index, pts, AVSEEK_FLAG_BACKWARD) < 0)
            av_seek_frame(format.get(), stream_index, pts, AVSEEK_FLAG_ANY);
    }

    /// To the very start; by bytes where stamps cannot be trusted to find the first key frame.
    void rewind() {
        forget_decoded();
        const bool by_bytes = !(format->iformat->flags & AVFMT_NO_BYTE_SEEK);
        if (by_bytes && av_seek_frame(format.get(), -1, 0, AVSEEK_FLAG_BYTE) >= 0) return;
        avformat_seek_file(format.get(), stream_index, INT64_MIN, first_pts, first_pts, 0);
    }

    /// Decodes until a frame after `pts` is there or the file ends; keeps the last one at or before `pts`.
    void decode_past(std::int64_t pts, bool all = false, const Before& before = {}) {
        const std::int64_t told_from = pts - (before.frames + 1) * frame_ticks();
        // Half a frame more than what is shown at `pts` can last where frames come evenly.
        passed_by = all || info.variable_rate ? INT64_MIN
                                              : pts - frame_ticks() * 3 / 2 - before.frames * frame_ticks();
        std::erase_if(left_out, [&](std::int64_t p) { return !decoded.empty() && p < decoded.front()->pts; });
        while (!at_end && (decoded.empty() || decoded.back()->pts <= pts)) {
            auto next = decode_next();
            if (!next) break;
            decoded.push_back(std::move(next));
            while (decoded.size() > 2 && decoded[1]->pts <= pts) {
                const auto& gone = decoded.front();
                if (before.frames > 0 && gone->pts > told_from)
                    before.tell({gone, seconds_of(gone->pts), seconds_of(decoded[1]->pts)});
                decoded.pop_front();
            }
        }
        while (decoded.size() > 1 && decoded[1]->pts <= pts) decoded.pop_front();
    }

    bool holds(std::int64_t pts) const {
        return !decoded.empty() && decoded.front()->pts <= pts && (decoded.back()->pts > pts || at_end);
    }

    /// Whether the frame that shows at `pts` was left out: they do not come evenly after all.
    bool left_out_wanted(std::int64_t pts) const {
        return !decoded.empty() && std::any_of(left_out.begin(), left_out.end(), [&](std::int64_t p) {
            return decoded.front()->pts < p && p <= pts;
        });
    }

    /// From the key frame before. Some files land after the asked place: steps back further until a frame at
    /// or before it appears.
    void decode_from_key(std::int64_t pts, bool all, const Before& before = {}) {
        const std::int64_t second =
            std::max<std::int64_t>(1, (Rational(1) / av::rational(stream().time_base)).round());
        for (const std::int64_t back : {std::int64_t(0), second, 10 * second, std::int64_t(-1)}) {
            if (back < 0 || pts - back < first_pts)
                rewind();
            else
                seek(pts - back);
            decode_past(pts, all, before);
            if (!decoded.empty() && decoded.front()->pts <= pts) break;
        }
    }

    std::int64_t pts_of(Seconds t) const {
        return first_pts + (t / av::rational(stream().time_base)).floor();
    }

    std::optional<DecodedFrame> frame_at(Seconds t) {
        if (t < Rational(0)) return std::nullopt;
        const Rational tick = av::rational(stream().time_base);
        const std::int64_t pts = pts_of(t);
        if (!holds(pts)) {
            const Rational far = std::max(Rational(2), Rational(12) / info.rate);
            const bool forward = !decoded.empty() && decoded.back()->pts <= pts && !at_end &&
                                 Rational(pts - decoded.back()->pts) * tick < far;
            if (!forward) {
                decode_from_key(pts, false);
            } else {
                decode_past(pts);
            }
        } else {
            decode_past(pts);
        }
        if (left_out_wanted(pts)) decode_from_key(pts, true);
        if (decoded.empty() || decoded.front()->pts > pts) return std::nullopt;
        const auto& shown = decoded.front();
        DecodedFrame out{shown, seconds_of(shown->pts), {}};
        if (decoded.size() > 1) {
            out.end = seconds_of(decoded[1]->pts);
        } else {
            std::int64_t ticks = shown->pkt_duration > 0 ? shown->pkt_duration : frame_ticks();
            out.end = seconds_of(shown->pts + ticks);
            if (out.end <= t) return std::nullopt;
        }
        return out;
    }
};

VideoReader::VideoReader(const std::filesystem::path& path, int threads) : impl_(std::make_unique<Impl>()) {
    impl_->open(path, threads);
}
VideoReader::~VideoReader() = default;
Seconds VideoReader::tick() const {
    return av::rational(impl_->stream().time_base);
}
const MediaInfo& VideoReader::info() const {
    return impl_->info;
}
std::optional<DecodedFrame> VideoReader::frame_at(Seconds t) {
    return impl_->frame_at(t);
}
void VideoReader::frames_before(Seconds t, int most, const TellFrame& tell) {
    if (t > Seconds(0)) impl_->decode_from_key(impl_->pts_of(t), false, {most, tell});
}

} // namespace porb
