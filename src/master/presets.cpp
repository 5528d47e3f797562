#include "master/render.h"

namespace porb {

const std::vector<Preset>& presets() {
    using enum SphereMapping;
    using enum EyeLayout;
    const auto make = [](const char* name, const char* title, const char* description, SphereMapping mapping,
                         EyeLayout stereo, Container container, VideoCodec codec, int depth, double crf) {
        Preset p{name, title, description, {}};
        Deliverable& d = p.deliverable;
        d.name = name;
        d.mapping = mapping, d.stereo = stereo;
        d.container = container, d.codec = codec, d.depth = depth, d.crf = crf;
        d.width = mapping == equirect ? 3840 : 2880;
        return p;
    };
    static const std::vector<Preset> all = {
        make("sphere-h264", "Whole sphere, H.264", "Mono, MP4: plays nearly everywhere", equirect, mono,
             Container::mp4, VideoCodec::h264, 8, 18),
        make("sphere-h265", "Whole sphere, H.265 10 bit", "Mono, MP4: smaller, for newer players", equirect,
             mono, Container::mp4, VideoCodec::h265, 10, 20),
        make("sphere-stereo-h265", "Whole sphere, stereo, H.265 10 bit", "Left eye on top, MP4", equirect,
             top_bottom, Container::mp4, VideoCodec::h265, 10, 20),
        make("half-h264", "180 degrees, H.264", "Mono, MP4: one fisheye", half_equirect, mono, Container::mp4,
             VideoCodec::h264, 8, 18),
        make("half-h265", "180 degrees, H.265 10 bit", "Mono, MP4", half_equirect, mono, Container::mp4,
             VideoCodec::h265, 10, 20),
        make("half-stereo-h264", "180 degrees, stereo, H.264", "Left eye on the left, MP4", half_equirect,
             left_right, Container::mp4, VideoCodec::h264, 8, 18),
        make("half-stereo-h265", "180 degrees, stereo, H.265 10 bit", "Left eye on the left, MP4",
             half_equirect, left_right, Container::mp4, VideoCodec::h265, 10, 20),
        make("sphere-prores", "Whole sphere, ProRes 422 HQ", "Mono, MOV: for editing", equirect, mono,
             Container::mov, VideoCodec::prores, 10, 18),
        make("sphere-png", "Whole sphere, numbered PNG", "16 bit a channel", equirect, mono,
             Container::png_sequence, VideoCodec::h264, 8, 18),
        make("sphere-exr", "Whole sphere, numbered OpenEXR", "Linear light, half floats", equirect, mono,
             Container::exr_sequence, VideoCodec::h264, 8, 18),
        make("sphere-stereo-exr", "Whole sphere, stereo, numbered OpenEXR",
             "Views left and right in each file", equirect, views, Container::exr_sequence, VideoCodec::h264,
             8, 18),
        make("sphere-depth-h265", "Whole sphere above its distances, H.265 10 bit",
             "For players that move with the head: below, grey is 0.5 m divided by the distance", equirect,
             depth_below, Container::mp4, VideoCodec::h265, 10, 20),
    };
    return all;
}

const Preset* find_preset(std::string_view name) {
    for (const auto& p : presets())
        if (p.name == name) return &p;
    return nullptr;
}

FrameSize frame_size(const Deliverable& d) {
    const int h = d.mapping == SphereMapping::equirect ? d.width / 2 : d.width;
    return {d.stereo == EyeLayout::left_right ? 2 * d.width : d.width,
            d.stereo == EyeLayout::top_bottom || d.stereo == EyeLayout::depth_below ? 2 * h : h};
}

std::int64_t expected_bytes(const Deliverable& d, Seconds length, FrameRate rate) {
    const auto [w, h] = frame_size(d);
    const double eyes = stereo_of(d.stereo) == StereoLayout::mono ? eyes_in(d.stereo)
                                                                  : 1, // in files of their own
        frames = length.to_double() * rate.to_double(), pixels = eyes * w * h * frames;
    if (d.container == Container::png_sequence) return std::int64_t(pixels * 4.5);
    if (d.container == Container::exr_sequence) return std::int64_t(pixels * 6);
    if (d.codec == VideoCodec::prores) return std::int64_t(pixels * 0.55);
    if (d.bit_rate > 0) return std::int64_t(eyes * double(d.bit_rate) / 8 * length.to_double() * 1.02);
    const double bits = (d.codec == VideoCodec::h264 ? 0.10 : 0.06) * std::exp2((18 - d.crf) / 6);
    return std::int64_t(pixels * bits / 8) + std::int64_t(length.to_double() * 24000);
}

} // namespace porb
