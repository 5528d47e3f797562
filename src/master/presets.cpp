#include "master/render.h"

namespace porb {

const std::vector<Preset>& presets() {
    static const std::vector<Preset> all = [] {
        const auto make = [](const char* name, const char* description, Container container, VideoCodec codec,
                             int depth, int width, double crf) {
            Preset p{name, description, {}};
            p.deliverable.name = name;
            p.deliverable.container = container;
            p.deliverable.codec = codec;
            p.deliverable.depth = depth;
            p.deliverable.width = width;
            p.deliverable.crf = crf;
            return p;
        };
        std::vector<Preset> list = {
            make("sphere-h264", "Whole sphere, mono, H.264 in MP4: plays nearly everywhere", Container::mp4,
                 VideoCodec::h264, 8, 3840, 18),
            make("sphere-h265", "Whole sphere, mono, H.265 10 bit in MP4: smaller, for newer players",
                 Container::mp4, VideoCodec::h265, 10, 3840, 20),
            make("sphere-stereo-h265", "Whole sphere, left eye on top, H.265 10 bit in MP4", Container::mp4,
                 VideoCodec::h265, 10, 3840, 20),
            make("half-h264", "180 degrees, mono, H.264 in MP4: one fisheye", Container::mp4,
                 VideoCodec::h264, 8, 2880, 18),
            make("half-h265", "180 degrees, mono, H.265 10 bit in MP4", Container::mp4, VideoCodec::h265, 10,
                 2880, 20),
            make("half-stereo-h264", "180 degrees, left eye on the left, H.264 in MP4", Container::mp4,
                 VideoCodec::h264, 8, 2880, 18),
            make("half-stereo-h265", "180 degrees, left eye on the left, H.265 10 bit in MP4", Container::mp4,
                 VideoCodec::h265, 10, 2880, 20),
            make("sphere-prores", "Whole sphere, mono, ProRes 422 HQ in MOV: for editing", Container::mov,
                 VideoCodec::prores, 10, 3840, 18),
            make("sphere-png", "Whole sphere as numbered 16-bit PNG pictures", Container::png_sequence,
                 VideoCodec::h264, 8, 3840, 18),
            make("sphere-exr", "Whole sphere as numbered OpenEXR pictures, linear light",
                 Container::exr_sequence, VideoCodec::h264, 8, 3840, 18),
        };
        for (auto& p : list) {
            if (p.name.find("stereo") != std::string::npos) p.deliverable.stereo = StereoLayout::top_bottom;
            if (p.name.starts_with("half")) {
                p.deliverable.mapping = SphereMapping::half_equirect;
                if (p.deliverable.stereo != StereoLayout::mono)
                    p.deliverable.stereo = StereoLayout::left_right;
            }
        }
        return list;
    }();
    return all;
}

const Preset* find_preset(std::string_view name) {
    for (const auto& p : presets())
        if (p.name == name) return &p;
    return nullptr;
}

FrameSize frame_size(const Deliverable& d) {
    const int h = d.mapping == SphereMapping::equirect ? d.width / 2 : d.width;
    return {d.stereo == StereoLayout::left_right ? 2 * d.width : d.width,
            d.stereo == StereoLayout::top_bottom ? 2 * h : h};
}

std::int64_t expected_bytes(const Deliverable& d, Seconds length, FrameRate rate) {
    const auto [w, h] = frame_size(d);
    const double frames = length.to_double() * rate.to_double(), pixels = double(w) * h * frames;
    if (d.container == Container::png_sequence) return std::int64_t(pixels * 4.5);
    if (d.container == Container::exr_sequence) return std::int64_t(pixels * 6);
    if (d.codec == VideoCodec::prores) return std::int64_t(pixels * 0.55);
    if (d.bit_rate > 0) return std::int64_t(double(d.bit_rate) / 8 * length.to_double() * 1.02);
    const double bits = (d.codec == VideoCodec::h264 ? 0.10 : 0.06) * std::exp2((18 - d.crf) / 6);
    return std::int64_t(pixels * bits / 8) + std::int64_t(length.to_double() * 24000);
}

} // namespace porb
