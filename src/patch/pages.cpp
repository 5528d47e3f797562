// TIFF with a page for each layer, 16 bits a channel, straight alpha.
#include "base/error.h"
#include "base/file.h"
#include "patch/exchange.h"
#include "picture/convert.h"

#include <tiffio.h>

#include <cstdarg>

namespace porb {

namespace {

/// What the library says goes to whoever opened the file, not to the terminal.
int keep_words(TIFF*, void* to, const char*, const char* format, va_list arguments) {
    char text[200];
    std::vsnprintf(text, sizeof text, format, arguments);
    if (to) *static_cast<std::string*>(to) = text;
    return 1;
}

class Pages {
  public:
    Pages(const std::filesystem::path& path, const char* mode) {
        TIFFOpenOptions* options = TIFFOpenOptionsAlloc();
        TIFFOpenOptionsSetErrorHandlerExtR(options, keep_words, &words_);
        TIFFOpenOptionsSetWarningHandlerExtR(options, keep_words, nullptr);
        tiff_ = TIFFOpenExt(path.c_str(), mode, options);
        TIFFOpenOptionsFree(options);
    }
    ~Pages() {
        if (tiff_) TIFFClose(tiff_);
    }
    Pages(const Pages&) = delete;
    Pages& operator=(const Pages&) = delete;
    TIFF* get() { return tiff_; }
    const std::string& words() const { return words_; }
    void close() {
        TIFFClose(tiff_);
        tiff_ = nullptr;
    }

  private:
    std::string words_;
    TIFF* tiff_ = nullptr;
};

Error damaged_pages(const std::filesystem::path& path, const std::string& why) {
    return Error("is not a TIFF of layers we can read (" + why + ")", path.string(),
                 "Save it with 8 or 16 bits a channel, red, green, blue and alpha, a page for each layer");
}

Picture read_page(TIFF* tiff, Pages& pages, const std::filesystem::path& path) {
    std::uint32_t width = 0, height = 0;
    std::uint16_t bits = 1, samples = 1, planar = PLANARCONFIG_CONTIG, photometric = 0, extra_count = 0,
                  format = SAMPLEFORMAT_UINT, *extra = nullptr;
    TIFFGetField(tiff, TIFFTAG_IMAGEWIDTH, &width);
    TIFFGetField(tiff, TIFFTAG_IMAGELENGTH, &height);
    TIFFGetFieldDefaulted(tiff, TIFFTAG_BITSPERSAMPLE, &bits);
    TIFFGetFieldDefaulted(tiff, TIFFTAG_SAMPLESPERPIXEL, &samples);
    TIFFGetFieldDefaulted(tiff, TIFFTAG_PLANARCONFIG, &planar);
    TIFFGetFieldDefaulted(tiff, TIFFTAG_SAMPLEFORMAT, &format);
    TIFFGetField(tiff, TIFFTAG_PHOTOMETRIC, &photometric);
    TIFFGetFieldDefaulted(tiff, TIFFTAG_EXTRASAMPLES, &extra_count, &extra);
    check_layer_size(width, height, path);
    const bool grey = photometric == PHOTOMETRIC_MINISBLACK;
    const std::uint16_t colours = grey ? 1 : 3;
    if ((bits != 8 && bits != 16) || format != SAMPLEFORMAT_UINT || planar != PLANARCONFIG_CONTIG ||
        samples < colours || samples > colours + 1 || (!grey && photometric != PHOTOMETRIC_RGB) ||
        TIFFIsTiled(tiff))
        throw damaged_pages(path, "its pixels are of another kind");
    const bool alpha = samples == colours + 1;
    const bool associated = alpha && extra_count > 0 && extra[0] == EXTRASAMPLE_ASSOCALPHA;
    const auto line = std::size_t(TIFFScanlineSize(tiff));
    if (line < std::size_t(width) * samples * bits / 8) throw damaged_pages(path, "its rows are too short");
    std::vector<std::uint8_t> row(line);
    std::vector<std::uint16_t> words(std::size_t(width) * height * 4);
    for (std::uint32_t y = 0; y < height; ++y) {
        if (TIFFReadScanline(tiff, row.data(), y, 0) != 1) throw damaged_pages(path, pages.words());
        std::uint16_t* to = words.data() + std::size_t(y) * width * 4;
        for (std::uint32_t x = 0; x < width; ++x, to += 4) {
            const auto value = [&](std::uint16_t s) -> std::uint16_t {
                const std::size_t i = std::size_t(x) * samples + s;
                if (bits == 8) return std::uint16_t(row[i] * 257);
                std::uint16_t v = 0;
                std::memcpy(&v, row.data() + 2 * i, 2);
                return v;
            };
            for (std::uint16_t c = 0; c < 3; ++c) to[c] = value(grey ? std::uint16_t(0) : c);
            to[3] = alpha ? value(colours) : std::uint16_t(65535);
            if (associated && to[3] > 0)
                for (int c = 0; c < 3; ++c)
                    to[c] = std::uint16_t(
                        std::min<std::uint32_t>(65535, (std::uint32_t(to[c]) * 65535 + to[3] / 2) / to[3]));
        }
    }
    Picture out{int(width), int(height)};
    rgba_from_words(words.data(), std::ptrdiff_t(width) * 4, out);
    return out;
}

} // namespace

void write_pages(const std::vector<NamedLayer>& layers, const std::filesystem::path& path) {
    PartFile part(path);
    Pages pages(part.path(), "w");
    const auto failed = [&] {
        return Error("cannot be written" + (pages.words().empty() ? "" : " (" + pages.words() + ")"),
                     path.string(), "Make room on the disk, or choose another place");
    };
    if (!pages.get()) throw failed();
    TIFF* tiff = pages.get();
    for (std::size_t i = 0; i < layers.size(); ++i) {
        const Picture& p = layers[i].picture;
        const std::ptrdiff_t stride = std::ptrdiff_t(p.width()) * 4;
        std::vector<std::uint16_t> words(std::size_t(stride) * std::size_t(p.height()));
        words_from_rgba(p, words.data(), stride);
        TIFFSetField(tiff, TIFFTAG_IMAGEWIDTH, std::uint32_t(p.width()));
        TIFFSetField(tiff, TIFFTAG_IMAGELENGTH, std::uint32_t(p.height()));
        TIFFSetField(tiff, TIFFTAG_BITSPERSAMPLE, 16);
        TIFFSetField(tiff, TIFFTAG_SAMPLESPERPIXEL, 4);
        const std::uint16_t straight = EXTRASAMPLE_UNASSALPHA;
        TIFFSetField(tiff, TIFFTAG_EXTRASAMPLES, 1, &straight);
        TIFFSetField(tiff, TIFFTAG_PHOTOMETRIC, PHOTOMETRIC_RGB);
        TIFFSetField(tiff, TIFFTAG_PLANARCONFIG, PLANARCONFIG_CONTIG);
        TIFFSetField(tiff, TIFFTAG_COMPRESSION, COMPRESSION_ADOBE_DEFLATE);
        TIFFSetField(tiff, TIFFTAG_PREDICTOR, PREDICTOR_HORIZONTAL);
        TIFFSetField(tiff, TIFFTAG_ROWSPERSTRIP, 32);
        TIFFSetField(tiff, TIFFTAG_PAGENAME, layers[i].name.c_str());
        TIFFSetField(tiff, TIFFTAG_SUBFILETYPE, FILETYPE_PAGE);
        TIFFSetField(tiff, TIFFTAG_PAGENUMBER, int(i), int(layers.size()));
        for (int y = 0; y < p.height(); ++y)
            if (TIFFWriteScanline(tiff, words.data() + std::size_t(stride) * std::size_t(y), std::uint32_t(y),
                                  0) != 1)
                throw failed();
        if (TIFFWriteDirectory(tiff) != 1) throw failed();
    }
    pages.close();
    part.commit();
}

bool has_named_page(const std::filesystem::path& path) {
    Pages pages(path, "r");
    if (!pages.get()) return false;
    int page = 0;
    constexpr int kMostPages = 64;
    do {
        const char* name = nullptr;
        if (TIFFGetField(pages.get(), TIFFTAG_PAGENAME, &name) == 1 && name &&
            std::string_view(name) == "patch")
            return true;
    } while (++page < kMostPages && TIFFReadDirectory(pages.get()) == 1);
    return page > 1;
}

std::vector<NamedLayer> read_pages(const std::filesystem::path& path) {
    Pages pages(path, "r");
    if (!pages.get())
        throw damaged_pages(path, pages.words().empty() ? "it cannot be opened" : pages.words());
    std::vector<NamedLayer> out;
    constexpr int kMostPages = 64;
    const char* const usual[] = {"footage", "plate", "patch", "mask"};
    int page = 0;
    do {
        const char* name = nullptr;
        std::string text;
        if (TIFFGetField(pages.get(), TIFFTAG_PAGENAME, &name) == 1 && name) text = name;
        // A page that a program gave no name back.
        if (text.empty() && page < 4) text = usual[page];
        if (std::find(std::begin(usual), std::end(usual), text) != std::end(usual))
            out.push_back({text, read_page(pages.get(), pages, path)});
    } while (++page < kMostPages && TIFFReadDirectory(pages.get()) == 1);
    return out;
}

} // namespace porb
