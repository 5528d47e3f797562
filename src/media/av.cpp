#include "media/av.h"

#include "base/error.h"
#include "media/info.h"

#include <cctype>
#include <new>

namespace porb::av {

namespace {
// Containers we read. Playlists and scripts, which name other files, are not among them.
constexpr const char* kFormats =
    "mov,mp4,m4a,3gp,3g2,mj2,matroska,webm,avi,mpegts,mxf,ivf,h264,hevc,wav,flac,mp3,ogg,aac,"
    "png_pipe,jpeg_pipe,tiff_pipe,svg_pipe,image2";
constexpr int kDrawingSide = 2048; ///< pixels, of the longer side

int refuse_nested_open(AVFormatContext*, AVIOContext**, const char*, int, AVDictionary**) {
    return AVERROR(EPERM);
}
} // namespace

void FormatDeleter::operator()(AVFormatContext* c) const {
    AVIOContext* io = c->pb;
    avformat_close_input(&c);
    avio_closep(&io);
}

Frame make_frame() {
    Frame f(av_frame_alloc());
    if (!f) throw std::bad_alloc();
    return f;
}

Packet make_packet() {
    Packet p(av_packet_alloc());
    if (!p) throw std::bad_alloc();
    return p;
}

std::string error_text(int code) {
    char text[AV_ERROR_MAX_STRING_SIZE] = {};
    av_strerror(code, text, sizeof text);
    return text;
}

Format open_input(const std::filesystem::path& path) {
    namespace fs = std::filesystem;
    std::error_code code;
    const auto status = fs::status(path, code);
    if (!fs::exists(status))
        throw Error("no such file", path.string(), "Check the name, or relink the source");
    if (!fs::is_regular_file(status))
        throw Error("this is not a file", path.string(), "Name a video or picture file");
    if (fs::file_size(path, code) == 0 && !code)
        throw Error("the file is empty", path.string(), "Copy it from the camera's card again");

    AVIOContext* io = nullptr;
    if (const int e = avio_open2(&io, ("file:" + path.string()).c_str(), AVIO_FLAG_READ, nullptr, nullptr);
        e < 0)
        throw Error("cannot be opened: " + error_text(e), path.string(), "Check its permissions");
    AVFormatContext* raw = avformat_alloc_context();
    if (!raw) {
        avio_closep(&io);
        throw std::bad_alloc();
    }
    raw->pb = io;
    raw->io_open = refuse_nested_open;
    AVDictionary* options = nullptr;
    av_dict_set(&options, "format_whitelist", kFormats, 0);
    av_dict_set(&options, "protocol_whitelist", "file", 0);
    av_dict_set(&options, "max_streams", "64", 0);
    // Drawings are told by their name: what they begin with is anything that XML may begin with.
    std::string ending = path.extension().string();
    for (char& c : ending) c = char(std::tolower(static_cast<unsigned char>(c)));
    const AVInputFormat* const kind = ending == ".svg" ? av_find_input_format("svg_pipe") : nullptr;
    const int e = avformat_open_input(&raw, "", kind, &options);
    av_dict_free(&options);
    if (e < 0) {
        avio_closep(&io); // a failed open frees the context but not our file
        throw Error("is not a video or picture we can read (" + error_text(e) + ")", path.string(),
                    "Expected MP4, MOV, MKV, WebM, MXF, AVI or a still; the file may be cut short");
    }
    Format format(raw);
    if (const int s = avformat_find_stream_info(raw, nullptr); s < 0)
        throw Error("its streams cannot be read (" + error_text(s) + ")", path.string(),
                    "The file is damaged; copy it again");
    return format;
}

Codec open_decoder(const AVStream& stream, const std::string& where, int threads) {
    const AVCodec* decoder = avcodec_find_decoder(stream.codecpar->codec_id);
    const char* name = avcodec_get_name(stream.codecpar->codec_id);
    if (!decoder)
        throw Error(std::string("is coded as '") + name + "', for which this machine has no decoder", where,
                    "Convert it to H.264, H.265, ProRes, VP9 or AV1");
    Codec codec(avcodec_alloc_context3(decoder));
    if (!codec) throw std::bad_alloc();
    avcodec_parameters_to_context(codec.get(), stream.codecpar);
    codec->pkt_timebase = stream.time_base;
    codec->thread_count = threads;
    codec->max_pixels = kMostPixels;
    AVDictionary* options = nullptr;
    if (stream.codecpar->codec_id == AV_CODEC_ID_SVG) { // drawings have no size of their own
        av_dict_set_int(&options, "width", kDrawingSide, 0);
        av_dict_set_int(&options, "height", kDrawingSide, 0);
        av_dict_set_int(&options, "keep_ar", 1, 0);
    }
    const int e = avcodec_open2(codec.get(), decoder, &options);
    av_dict_free(&options);
    if (e < 0)
        throw Error(std::string("its '") + name + "' stream cannot be decoded (" + error_text(e) + ")", where,
                    "The file is damaged or of an unusual profile; convert it");
    return codec;
}

} // namespace porb::av
