#include "media/spherical.h"

#include "base/error.h"
#include "base/file.h"

#include <fmt/format.h>

#include <fstream>

extern "C" {
#include <libavutil/crc.h>
}

namespace porb {

namespace {
constexpr std::string_view kJpegXmpName("http://ns.adobe.com/xap/1.0/\0", 29);
constexpr std::string_view kPngXmpName("XML:com.adobe.xmp\0\0\0\0\0", 22);
constexpr std::size_t kPngHeaderBytes = 33; // signature and IHDR

std::string big_endian4(std::uint32_t v) {
    return {char(v >> 24), char(v >> 16 & 0xff), char(v >> 8 & 0xff), char(v & 0xff)};
}
} // namespace

std::string photo_sphere_xmp(const SphericalTag& tag, int width, int height) {
    // One eye's extent; the standard knows no stereo, so stacked pictures state their whole size.
    const bool half = tag.mapping == SphereMapping::half_equirect;
    const int full_width = half ? 2 * width : width;
    return fmt::format(
        "<x:xmpmeta xmlns:x=\"adobe:ns:meta/\"><rdf:RDF "
        "xmlns:rdf=\"http://www.w3.org/1999/02/22-rdf-syntax-ns#\">"
        "<rdf:Description rdf:about=\"\" xmlns:GPano=\"http://ns.google.com/photos/1.0/panorama/\">"
        "<GPano:ProjectionType>equirectangular</GPano:ProjectionType>"
        "<GPano:UsePanoramaViewer>True</GPano:UsePanoramaViewer>"
        "<GPano:StitchingSoftware>Pale Orbit</GPano:StitchingSoftware>"
        "<GPano:CroppedAreaImageWidthPixels>{0}</GPano:CroppedAreaImageWidthPixels>"
        "<GPano:CroppedAreaImageHeightPixels>{1}</GPano:CroppedAreaImageHeightPixels>"
        "<GPano:FullPanoWidthPixels>{2}</GPano:FullPanoWidthPixels>"
        "<GPano:FullPanoHeightPixels>{1}</GPano:FullPanoHeightPixels>"
        "<GPano:CroppedAreaLeftPixels>{3}</GPano:CroppedAreaLeftPixels>"
        "<GPano:CroppedAreaTopPixels>0</GPano:CroppedAreaTopPixels>"
        "</rdf:Description></rdf:RDF></x:xmpmeta>",
        width, height, full_width, (full_width - width) / 2);
}

std::string jpeg_with_xmp(const std::string& jpeg, const std::string& xmp) {
    const std::size_t length = 2 + kJpegXmpName.size() + xmp.size();
    std::string segment("\xff\xe1");
    segment += char(length >> 8);
    segment += char(length & 0xff);
    segment.append(kJpegXmpName).append(xmp);
    return jpeg.substr(0, 2) + segment + jpeg.substr(2);
}

std::string png_with_xmp(const std::string& png, const std::string& xmp) {
    const std::string typed = "iTXt" + std::string(kPngXmpName) + xmp;
    const auto* table = av_crc_get_table(AV_CRC_32_IEEE_LE);
    const std::uint32_t crc =
        av_crc(table, 0xffffffffu, reinterpret_cast<const std::uint8_t*>(typed.data()), typed.size()) ^
        0xffffffffu;
    const std::string chunk = big_endian4(std::uint32_t(typed.size() - 4)) + typed + big_endian4(crc);
    return png.substr(0, kPngHeaderBytes) + chunk + png.substr(kPngHeaderBytes);
}

std::optional<SphericalTag> read_photo_sphere(const std::filesystem::path& path) {
    must_be_regular_file(path);
    std::ifstream in(path, std::ios::binary);
    std::string head(256 * 1024, '\0');
    in.read(head.data(), static_cast<std::streamsize>(head.size()));
    head.resize(static_cast<std::size_t>(std::max<std::streamsize>(in.gcount(), 0)));
    const auto start = head.find("<x:xmpmeta"), type = head.find("GPano:ProjectionType");
    if (start == head.npos || type == head.npos || head.find("equirectangular", type) == head.npos)
        return std::nullopt;
    const auto number = [&](const std::string& name) -> long long {
        const auto at = head.find("GPano:" + name);
        return at == head.npos
                   ? 0
                   : std::atoll(head.c_str() + head.find_first_of("0123456789", at + name.size() + 6));
    };
    SphericalTag tag;
    const long long part = number("CroppedAreaImageWidthPixels"), full = number("FullPanoWidthPixels");
    if (part > 0 && full > 0 && part * 4 < full * 3) tag.mapping = SphereMapping::half_equirect;
    return tag;
}

} // namespace porb
