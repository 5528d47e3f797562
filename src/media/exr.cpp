#include "base/error.h"
#include "base/file.h"
#include "media/still.h"
#include "picture/mend.h"
#include "picture/transfer.h"

#include <ImfChannelList.h>
#include <ImfEnvmap.h>
#include <ImfFrameBuffer.h>
#include <ImfInputFile.h>
#include <ImfMultiPartOutputFile.h>
#include <ImfOutputFile.h>
#include <ImfOutputPart.h>
#include <ImfPartType.h>
#include <ImfRgbaFile.h>
#include <ImfStandardAttributes.h>

#include <algorithm>
#include <cmath>
#include <cstring>

namespace porb {

namespace {

constexpr float kMostHalf = 65504;
float within_half(float v) {
    return std::clamp(v, -kMostHalf, kMostHalf);
}

/// A curve over every half, so that a picture costs one look-up a sample.
std::vector<Half> curve_table(float (*curve)(float)) {
    std::vector<Half> table(65536);
    for (std::size_t bits = 0; bits < table.size(); ++bits) {
        const float v = float_from_half(Half(bits));
        table[bits] = half_from_float(std::isnan(v) ? 0.f : within_half(curve(within_half(v))));
    }
    return table;
}

/// One row through the curve; colour of half-transparent pixels is divided by alpha first.
void apply_curve(const std::vector<Half>& table, float (*curve)(float), const Half* in, Half* out,
                 int width) {
    constexpr Half kOne = 0x3C00;
    for (int x = 0; x < width; ++x, in += 4, out += 4) {
        out[3] = in[3];
        if (in[3] == kOne || in[3] == 0) {
            for (int c = 0; c < 3; ++c) out[c] = table[in[c]];
        } else {
            const float a = float_from_half(in[3]);
            for (int c = 0; c < 3; ++c)
                out[c] = half_from_float(curve(within_half(float_from_half(in[c]) / a)) * a);
        }
    }
}

/// Whether a pixel cannot be used: something in it is not a number, or infinite. Only a colour above all
/// measure is taken as it is meant, as the brightest there is: float files may hold more than a half does.
bool is_no_colour(const Half* pixel) {
    constexpr Half kExponent = 0x7C00;
    const auto odd = [](Half h) { return (h & kExponent) == kExponent; };
    return odd(pixel[3]) || std::any_of(pixel, pixel + 3, [&](Half h) { return odd(h) && h != kExponent; });
}

Error unreadable(const std::filesystem::path& path, const std::exception& e) {
    return Error(std::string("is not an OpenEXR picture we can read (") + e.what() + ")", path.string(),
                 "The file is damaged or of another kind; render or copy it again");
}

Imath::Box2i checked_window(const Imf::Header& header, const std::filesystem::path& path) {
    const Imath::Box2i d = header.displayWindow(), w = header.dataWindow();
    for (const auto& box : {d, w}) {
        const std::int64_t bw = std::int64_t(box.max.x) - box.min.x + 1,
                           bh = std::int64_t(box.max.y) - box.min.y + 1;
        if (bw < 1 || bh < 1 || bw > 65536 || bh > 65536 || bw * bh > kMostPixels)
            throw Error("is " + std::to_string(bw) + " x " + std::to_string(bh) + " pixels", path.string(),
                        "Pictures hold at most 16384 x 16384 pixels");
    }
    return d;
}

} // namespace

ExrFacts exr_facts(const std::filesystem::path& path) {
    must_be_regular_file(path);
    try {
        const Imf::RgbaInputFile file(path.c_str(), 1);
        const auto box = checked_window(file.header(), path);
        return {box.max.x - box.min.x + 1, box.max.y - box.min.y + 1,
                Imf::hasEnvmap(file.header()) && Imf::envmap(file.header()) == Imf::ENVMAP_LATLONG};
    } catch (const Error&) {
        throw;
    } catch (const std::exception& e) {
        throw unreadable(path, e);
    }
}

Picture read_exr(const std::filesystem::path& path, BufferPool* pool, std::int64_t* mended) {
    must_be_regular_file(path);
    try {
        Imf::RgbaInputFile file(path.c_str(), 2);
        const Imath::Box2i show = checked_window(file.header(), path), data = file.dataWindow();
        const int w = show.max.x - show.min.x + 1, h = show.max.y - show.min.y + 1;
        const int dw = data.max.x - data.min.x + 1;
        Picture out(w, h, pool);
        std::memset(static_cast<void*>(out.row(0)), 0, out.bytes());
        const auto table = curve_table(encoded_from_linear);
        std::vector<Imf::Rgba> row(static_cast<std::size_t>(dw));
        std::vector<PixelPlace> odd;
        for (int y = std::max(data.min.y, show.min.y); y <= std::min(data.max.y, show.max.y); ++y) {
            file.setFrameBuffer(row.data() - data.min.x - std::ptrdiff_t(y) * dw, 1,
                                static_cast<std::size_t>(dw));
            file.readPixels(y);
            const int x0 = std::max(data.min.x, show.min.x), x1 = std::min(data.max.x, show.max.x);
            if (x1 < x0) continue;
            static_assert(sizeof(Imf::Rgba) == 4 * sizeof(Half));
            const auto* in = reinterpret_cast<const Half*>(row.data() + (x0 - data.min.x));
            for (int x = x0; x <= x1; ++x)
                if (is_no_colour(in + std::size_t(x - x0) * 4))
                    odd.push_back({x - show.min.x, y - show.min.y});
            apply_curve(table, encoded_from_linear, in,
                        out.row(y - show.min.y) + std::size_t(x0 - show.min.x) * 4, x1 - x0 + 1);
        }
        if (mended) *mended = std::int64_t(odd.size());
        fill_from_neighbours(out, odd);
        return out;
    } catch (const Error&) {
        throw;
    } catch (const std::exception& e) {
        throw unreadable(path, e);
    }
}

namespace {

/// One part of a file in the making. Its channels look into pixels that outlive it.
struct ExrPart {
    Imf::Header header;
    Imf::FrameBuffer buffer;
    std::size_t width;
    void add(const std::string& name, Imf::PixelType type, const void* first, std::size_t step) {
        header.channels().insert(name, Imf::Channel(type));
        buffer.insert(
            name, Imf::Slice(type, const_cast<char*>(static_cast<const char*>(first)), step, step * width));
    }
};

std::vector<Half> linear_rows(const Picture& picture) {
    const auto width = std::size_t(picture.width());
    const auto table = curve_table(linear_from_encoded);
    std::vector<Half> rows(width * std::size_t(picture.height()) * 4);
    for (int y = 0; y < picture.height(); ++y)
        apply_curve(table, linear_from_encoded, picture.row(y), rows.data() + std::size_t(y) * width * 4,
                    picture.width());
    return rows;
}

} // namespace

void write_exr(const Picture& picture, const std::filesystem::path& path, bool latlong_environment,
               const StillOptions& options) {
    try {
        const auto new_part = [&](const char* name) {
            ExrPart part{Imf::Header(picture.width(), picture.height()), {}, std::size_t(picture.width())};
            part.header.compression() = Imf::ZIP_COMPRESSION;
            part.header.setName(name);
            part.header.setType(Imf::SCANLINEIMAGE);
            if (latlong_environment) Imf::addEnvmap(part.header, Imf::ENVMAP_LATLONG);
            // The first view's channels have no prefix, the other's have its name ("OpenEXR Multi-View").
            if (options.right) Imf::addMultiView(part.header, {"left", "right"});
            return part;
        };
        std::vector<ExrPart> all = {new_part("colour")};
        const std::vector<Half> rows = linear_rows(picture), right_rows = options.right
                                                                              ? linear_rows(*options.right)
                                                                              : std::vector<Half>();
        int at = 0;
        for (const std::string name : {"R", "G", "B", "A"}) {
            all[0].add(name, Imf::HALF, rows.data() + at, 4 * sizeof(Half));
            if (options.right)
                all[0].add("right." + name, Imf::HALF, right_rows.data() + at, 4 * sizeof(Half));
            ++at;
        }
        if (!options.metres.empty()) {
            if (options.parts) all.push_back(new_part("distance"));
            all.back().add("Z", Imf::FLOAT, options.metres.data(), sizeof(float));
            if (options.right && !options.right_metres.empty())
                all.back().add("right.Z", Imf::FLOAT, options.right_metres.data(), sizeof(float));
        }
        if (all.size() == 1) {
            Imf::OutputFile file(path.c_str(), all[0].header, 2);
            file.setFrameBuffer(all[0].buffer);
            file.writePixels(picture.height());
            return;
        }
        std::vector<Imf::Header> headers;
        for (const ExrPart& part : all) headers.push_back(part.header);
        Imf::MultiPartOutputFile file(path.c_str(), headers.data(), int(headers.size()), false, 2);
        for (std::size_t i = 0; i < all.size(); ++i) {
            Imf::OutputPart part(file, int(i));
            part.setFrameBuffer(all[i].buffer);
            part.writePixels(picture.height());
        }
    } catch (const std::exception& e) {
        throw Error(std::string("cannot be written (") + e.what() + ")", path.string(),
                    "Check that the folder exists, is writable and has space");
    }
}

void write_exr_depth(const std::vector<float>& values, int width, int height,
                     const std::filesystem::path& path) {
    try {
        Imf::Header header(width, height);
        header.compression() = Imf::ZIP_COMPRESSION;
        header.channels().insert("Z", Imf::Channel(Imf::FLOAT));
        Imf::OutputFile file(path.c_str(), header);
        Imf::FrameBuffer buffer;
        buffer.insert("Z",
                      Imf::Slice(Imf::FLOAT, const_cast<char*>(reinterpret_cast<const char*>(values.data())),
                                 4, 4 * static_cast<std::size_t>(width)));
        file.setFrameBuffer(buffer);
        file.writePixels(height);
    } catch (const std::exception& e) {
        throw Error(std::string("cannot be written (") + e.what() + ")", path.string(),
                    "Check the folder and its space");
    }
}

} // namespace porb
