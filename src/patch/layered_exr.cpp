// OpenEXR with a layer's channels named after it ("patch.R"), half floats, linear light, premultiplied.
#include "base/error.h"
#include "base/file.h"
#include "patch/exchange.h"
#include "picture/transfer.h"

#include <ImfChannelList.h>
#include <ImfFrameBuffer.h>
#include <ImfHeader.h>
#include <ImfInputFile.h>
#include <ImfOutputFile.h>

namespace porb {

namespace {
constexpr const char* kChannels[] = {"R", "G", "B", "A"};

Picture curved(const Picture& p, float (*curve)(float)) {
    Picture out(p.width(), p.height());
    for (int y = 0; y < p.height(); ++y)
        for (int x = 0; x < p.width(); ++x) {
            Rgba c = pixel_at(p, x, y);
            for (float* v : {&c.r, &c.g, &c.b}) *v = c.a > 1e-4f ? curve(*v / c.a) * c.a : 0;
            set_pixel(out, x, y, c);
        }
    return out;
}
} // namespace

Picture exr_round(const Picture& picture) {
    return curved(curved(picture, linear_from_encoded), encoded_from_linear);
}

void write_layered_exr(const std::vector<NamedLayer>& layers, const std::filesystem::path& path) {
    const Picture& first = layers.front().picture;
    PartFile part(path);
    try {
        Imf::Header header(first.width(), first.height());
        header.compression() = Imf::ZIP_COMPRESSION;
        Imf::FrameBuffer frame;
        std::vector<Picture> linear;
        for (const NamedLayer& l : layers) linear.push_back(curved(l.picture, linear_from_encoded));
        for (std::size_t i = 0; i < layers.size(); ++i)
            for (int c = 0; c < 4; ++c) {
                const std::string name = layers[i].name + "." + kChannels[c];
                header.channels().insert(name, Imf::Channel(Imf::HALF));
                frame.insert(name, Imf::Slice(Imf::HALF, reinterpret_cast<char*>(linear[i].row(0) + c), 8,
                                              std::size_t(first.width()) * 8));
            }
        Imf::OutputFile file(part.path().c_str(), header);
        file.setFrameBuffer(frame);
        file.writePixels(first.height());
    } catch (const std::exception& e) {
        throw Error(std::string("cannot be written (") + e.what() + ")", path.string(),
                    "Make room on the disk, or choose another place");
    }
    part.commit();
}

std::vector<NamedLayer> read_layered_exr(const std::filesystem::path& path) {
    std::vector<NamedLayer> out;
    try {
        Imf::InputFile file(path.c_str());
        const Imath::Box2i display = file.header().displayWindow(), data = file.header().dataWindow();
        const std::int64_t width = std::int64_t(display.max.x) - display.min.x + 1,
                           height = std::int64_t(display.max.y) - display.min.y + 1;
        check_layer_size(width, height, path);
        check_layer_size(std::int64_t(data.max.x) - data.min.x + 1, std::int64_t(data.max.y) - data.min.y + 1,
                         path);
        const std::int64_t dw = data.max.x - data.min.x + 1, dh = data.max.y - data.min.y + 1;
        for (const char* name : {"footage", "plate", "patch", "mask"}) {
            const std::string prefix = std::string(name) + ".";
            if (!file.header().channels().findChannel(prefix + "R")) continue;
            const bool alpha = file.header().channels().findChannel(prefix + "A") != nullptr;
            std::vector<Half> pixels(std::size_t(dw) * std::size_t(dh) * 4);
            Imf::FrameBuffer frame;
            for (int c = 0; c < 4; ++c) {
                char* const base = reinterpret_cast<char*>(pixels.data() + c) -
                                   (std::ptrdiff_t(data.min.y) * dw + data.min.x) * 8;
                frame.insert(prefix + kChannels[c], Imf::Slice(Imf::HALF, base, 8, std::size_t(dw) * 8, 1, 1,
                                                               c == 3 && !alpha ? 1.0 : 0.0));
            }
            file.setFrameBuffer(frame);
            file.readPixels(data.min.y, data.max.y);
            Picture linear = Picture(int(width), int(height));
            for (int y = 0; y < linear.height(); ++y)
                for (int x = 0; x < linear.width(); ++x) {
                    const std::int64_t px = x + display.min.x - data.min.x,
                                       py = y + display.min.y - data.min.y;
                    Half* to = linear.row(y) + 4 * x;
                    if (px < 0 || py < 0 || px >= dw || py >= dh) {
                        std::fill_n(to, 4, Half(0));
                        continue;
                    }
                    std::copy_n(pixels.data() + std::size_t(py * dw + px) * 4, 4, to);
                    for (int c = 0; c < 4; ++c) // what is no number is nothing
                        if ((to[c] & 0x7C00) == 0x7C00) to[c] = 0;
                }
            out.push_back({name, curved(linear, encoded_from_linear)});
        }
    } catch (const Error&) {
        throw;
    } catch (const std::exception& e) {
        throw Error(std::string("is not an OpenEXR file of layers we can read (") + e.what() + ")",
                    path.string(), "It may be half written or damaged: save it again");
    }
    return out;
}

} // namespace porb
