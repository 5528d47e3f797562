#include "media/spherical.h"

#include "base/error.h"
#include "base/file.h"
#include "media/mp4_boxes.h"

#include <fmt/format.h>

#include <cstring>
#include <fstream>

namespace porb {

namespace {

using namespace mp4;

constexpr std::uint32_t kQuarter = 0x40000000; // 0.25 in 0.32 fixed point
constexpr int kVisualEntryBytes = 78; // of a VisualSampleEntry after its box header (ISO/IEC 14496-12)
constexpr unsigned char kV1Uuid[] = {0xff, 0xcc, 0x82, 0x63, 0xf8, 0x55, 0x4a, 0x93,
                                     0x88, 0x14, 0x58, 0x7a, 0x02, 0x52, 0x1f, 0xdd};

bool is_v1_uuid(const Box& b) {
    return b.type == "uuid" && b.body.size() >= 16 && std::memcmp(b.body.data(), kV1Uuid, 16) == 0;
}

bool is_video_track(std::string_view trak) {
    const auto mdia = child(trak, "mdia");
    const auto hdlr = mdia ? child(*mdia, "hdlr") : std::nullopt;
    return hdlr && hdlr->size() >= 12 && hdlr->substr(8, 4) == "vide";
}

std::string v2_boxes(const SphericalTag& tag) {
    const std::string pose(12, '\0');
    const std::uint32_t side = tag.mapping == SphereMapping::half_equirect ? kQuarter : 0;
    const std::string bounds = bytes_of(0, 4) + bytes_of(0, 4) + bytes_of(side, 4) + bytes_of(side, 4);
    const std::string proj = box("proj", full_box("prhd", pose) + full_box("equi", bounds));
    const std::string source = std::string("Pale Orbit") + '\0';
    const char mode = tag.stereo == StereoLayout::mono ? 0 : tag.stereo == StereoLayout::top_bottom ? 1 : 2;
    return full_box("st3d", std::string(1, mode)) + box("sv3d", full_box("svhd", source) + proj);
}

std::string v1_xml(const SphericalTag& tag, int width, int height) {
    std::string xml = "<?xml version=\"1.0\"?>"
                      "<rdf:SphericalVideo xmlns:rdf=\"http://www.w3.org/1999/02/22-rdf-syntax-ns#\" "
                      "xmlns:GSpherical=\"http://ns.google.com/videos/1.0/spherical/\">"
                      "<GSpherical:Spherical>true</GSpherical:Spherical>"
                      "<GSpherical:Stitched>true</GSpherical:Stitched>"
                      "<GSpherical:StitchingSoftware>Pale Orbit</GSpherical:StitchingSoftware>"
                      "<GSpherical:ProjectionType>equirectangular</GSpherical:ProjectionType>";
    if (tag.stereo != StereoLayout::mono)
        xml += fmt::format("<GSpherical:StereoMode>{}</GSpherical:StereoMode>",
                           tag.stereo == StereoLayout::top_bottom ? "top-bottom" : "left-right");
    if (tag.mapping == SphereMapping::half_equirect) {
        const int eye_width = tag.stereo == StereoLayout::left_right ? width / 2 : width;
        const int eye_height = tag.stereo == StereoLayout::top_bottom ? height / 2 : height;
        xml += fmt::format(
            "<GSpherical:CroppedAreaImageWidthPixels>{0}</GSpherical:CroppedAreaImageWidthPixels>"
            "<GSpherical:CroppedAreaImageHeightPixels>{1}</GSpherical:CroppedAreaImageHeightPixels>"
            "<GSpherical:FullPanoWidthPixels>{2}</GSpherical:FullPanoWidthPixels>"
            "<GSpherical:FullPanoHeightPixels>{1}</GSpherical:FullPanoHeightPixels>"
            "<GSpherical:CroppedAreaLeftPixels>{3}</GSpherical:CroppedAreaLeftPixels>"
            "<GSpherical:CroppedAreaTopPixels>0</GSpherical:CroppedAreaTopPixels>",
            eye_width, eye_height, 2 * eye_width, eye_width / 2);
    }
    return xml + "</rdf:SphericalVideo>";
}

std::optional<SphericalTag> v2_of(std::string_view sv3d) {
    const auto proj = child(sv3d, "proj");
    const auto equi = proj ? child(*proj, "equi") : std::nullopt;
    if (!equi || equi->size() < 20) return std::nullopt;
    const auto left = big_endian(equi->substr(12, 4)), right = big_endian(equi->substr(16, 4));
    SphericalTag tag;
    if (left + right > 0x7fff0000ull) tag.mapping = SphereMapping::half_equirect;
    return tag;
}

std::optional<std::string> xml_value(std::string_view xml, const std::string& name) {
    const std::string open = "<GSpherical:" + name + ">";
    const auto at = xml.find(open);
    if (at == xml.npos) return std::nullopt;
    const auto end = xml.find('<', at + open.size());
    if (end == xml.npos) return std::nullopt;
    return std::string(xml.substr(at + open.size(), end - at - open.size()));
}

std::optional<SphericalTag> v1_of(std::string_view xml) {
    if (xml_value(xml, "Spherical").value_or("") != "true") return std::nullopt;
    SphericalTag tag;
    const auto stereo = xml_value(xml, "StereoMode").value_or("mono");
    if (stereo == "top-bottom") tag.stereo = StereoLayout::top_bottom;
    if (stereo == "left-right") tag.stereo = StereoLayout::left_right;
    const auto number = [&](const char* name) {
        return std::atoi(xml_value(xml, name).value_or("0").c_str());
    };
    const int part = number("CroppedAreaImageWidthPixels"), full = number("FullPanoWidthPixels");
    if (part > 0 && full > 0 && part * 4LL < full * 3LL) tag.mapping = SphereMapping::half_equirect;
    return tag;
}

} // namespace

const char* name_of(SphereMapping mapping) {
    return mapping == SphereMapping::equirect ? "equirectangular" : "half-equirectangular";
}
const char* name_of(StereoLayout layout) {
    return layout == StereoLayout::mono         ? "mono"
           : layout == StereoLayout::top_bottom ? "top-bottom"
                                                : "left-right";
}

std::string tagged_movie_header(std::string_view moov, const SphericalTag& tag, const std::string& where) {
    const auto top = boxes_in(moov);
    if (top.size() != 1 || top[0].type != "moov")
        throw Error("its movie header is damaged", where, "Render or copy the file again");
    bool done = false;
    const auto edit_entry = [&](const Box& entry) {
        if (done || entry.body.size() < kVisualEntryBytes) return std::string(entry.whole);
        done = true;
        return rebuilt(
            entry, kVisualEntryBytes,
            [](const Box& c) {
                return c.type == "st3d" || c.type == "sv3d" ? std::string() : std::string(c.whole);
            },
            v2_boxes(tag));
    };
    const auto edit_track = [&](const Box& trak) -> std::string {
        if (trak.type != "trak" || !is_video_track(trak.body) || done) return std::string(trak.whole);
        int width = 0, height = 0;
        const char* const chain[] = {"mdia", "minf", "stbl", "stsd"};
        const std::string with_v2 = edited_along(trak, chain, [&](const Box& stsd) {
            if (stsd.body.size() < 8) return std::string(stsd.whole);
            return rebuilt(
                stsd, 8,
                [&](const Box& entry) {
                    if (entry.body.size() >= kVisualEntryBytes) {
                        width = int(big_endian(entry.body.substr(24, 2)));
                        height = int(big_endian(entry.body.substr(26, 2)));
                    }
                    return edit_entry(entry);
                },
                "");
        });
        const std::string v1 =
            std::string(reinterpret_cast<const char*>(kV1Uuid), 16) + v1_xml(tag, width, height);
        return rebuilt(
            boxes_in(with_v2).front(), 0,
            [](const Box& c) { return is_v1_uuid(c) ? std::string() : std::string(c.whole); },
            box("uuid", v1));
    };
    const std::string result = rebuilt(top[0], 0, edit_track, "");
    if (!done) throw Error("holds no video track to tag", where, "Name an MP4 or MOV file with pictures");
    return result;
}

SphericalFacts spherical_facts_of_movie_header(std::string_view moov) {
    SphericalFacts facts;
    const auto top = boxes_in(moov);
    if (top.size() != 1 || top[0].type != "moov") {
        facts.problems.push_back("the movie header is damaged");
        return facts;
    }
    for (const auto& trak : boxes_in(top[0].body)) {
        if (trak.type != "trak" || !is_video_track(trak.body)) continue;
        std::optional<std::string_view> at = trak.body;
        for (const char* name : {"mdia", "minf", "stbl", "stsd"})
            if (at) at = child(*at, name);
        const auto entries = at && at->size() > 8 ? boxes_in(at->substr(8)) : std::vector<Box>();
        if (!entries.empty() && entries[0].body.size() >= kVisualEntryBytes) {
            const auto inside = entries[0].body.substr(kVisualEntryBytes);
            if (const auto sv3d = child(inside, "sv3d")) {
                facts.v2 = v2_of(*sv3d);
                if (!facts.v2)
                    facts.problems.push_back("the sv3d box holds no equirectangular projection we know");
            }
            if (const auto st3d = child(inside, "st3d"); st3d && st3d->size() >= 5) {
                facts.has_st3d = true;
                const int mode = static_cast<unsigned char>((*st3d)[4]);
                if (mode > 2) facts.problems.push_back("the st3d box names an unknown stereo layout");
                if (facts.v2 && mode == 1) facts.v2->stereo = StereoLayout::top_bottom;
                if (facts.v2 && mode == 2) facts.v2->stereo = StereoLayout::left_right;
            }
        }
        for (const auto& b : boxes_in(trak.body))
            if (is_v1_uuid(b)) {
                facts.v1 = v1_of(b.body.substr(16));
                if (!facts.v1)
                    facts.problems.push_back("the version 1 XML does not say that the file is spherical");
            }
        break;
    }
    if (facts.v1 && facts.v2 && !(*facts.v1 == *facts.v2))
        facts.problems.push_back("the two forms of spherical metadata disagree");
    return facts;
}

SphericalFacts read_spherical(const std::filesystem::path& path) {
    std::error_code code;
    if (!std::filesystem::is_regular_file(path, code)) return {};
    std::ifstream in(path, std::ios::binary);
    const MovieHeader header = find_movie_header(in);
    if (!header.found) return {};
    if (header.size > kLargestHeader) {
        SphericalFacts facts;
        facts.problems.push_back("the movie header is too large to read");
        return facts;
    }
    return spherical_facts_of_movie_header(read_movie_header(in, header));
}

void tag_spherical_in_place(const std::filesystem::path& path, const SphericalTag& tag) {
    must_be_regular_file(path);
    std::ifstream in(path, std::ios::binary);
    const MovieHeader header = find_movie_header(in);
    if (!header.found || header.size > kLargestHeader)
        throw Error("has no movie header", path.string(), "Only complete MP4 and MOV files can be tagged");
    if (header.fragmented)
        throw Error("is a fragmented MP4", path.string(), "Join its fragments into a plain MP4 first");
    const std::string moov = tagged_movie_header(read_movie_header(in, header), tag, path.string());
    in.close();
    replace_movie_header(path, header, {}, moov);
}

void tag_spherical_copy(const std::filesystem::path& in, const std::filesystem::path& out,
                        const SphericalTag& tag, const Cancel& cancel) {
    must_be_regular_file(in);
    PartFile part(out);
    std::ifstream from(in, std::ios::binary);
    std::ofstream to(part.path(), std::ios::binary | std::ios::trunc);
    std::vector<char> block(std::size_t(4) << 20);
    while (from && to) {
        cancel.check();
        from.read(block.data(), std::streamsize(block.size()));
        to.write(block.data(), from.gcount());
    }
    to.close();
    if (!from.eof() || !to)
        throw Error("cannot be copied", in.string(),
                    "Check its permissions, and the space where the copy goes");
    try {
        tag_spherical_in_place(part.path(), tag);
    } catch (const Error& e) { // which names the copy in the making
        throw Error(e.what_failed(), in.string(), e.mend());
    }
    part.commit();
}

} // namespace porb
