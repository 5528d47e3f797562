#include "media/spherical.h"

#include "base/error.h"
#include "base/file.h"

#include <fmt/format.h>

#include <cstring>
#include <fstream>
#include <functional>

namespace porb {

namespace {

constexpr std::uint64_t kLargestHeader = 256u << 20;
constexpr std::uint32_t kQuarter = 0x40000000; // 0.25 in 0.32 fixed point
constexpr int kVisualEntryBytes = 78; // of a VisualSampleEntry after its box header (ISO/IEC 14496-12)
constexpr unsigned char kV1Uuid[] = {0xff, 0xcc, 0x82, 0x63, 0xf8, 0x55, 0x4a, 0x93,
                                     0x88, 0x14, 0x58, 0x7a, 0x02, 0x52, 0x1f, 0xdd};

std::uint64_t big_endian(std::string_view bytes) {
    std::uint64_t v = 0;
    for (const char c : bytes) v = v << 8 | static_cast<unsigned char>(c);
    return v;
}
std::string bytes_of(std::uint64_t value, int count) {
    std::string s;
    for (int shift = 8 * (count - 1); shift >= 0; shift -= 8) s += char(value >> shift & 0xff);
    return s;
}

struct Box {
    std::string type;
    std::string_view whole, body;
};

/// The boxes that fill `bytes`; stops with a damaged Box of type "" where the sizes do not add up.
std::vector<Box> boxes_in(std::string_view bytes) {
    std::vector<Box> boxes;
    while (bytes.size() >= 8) {
        std::uint64_t size = big_endian(bytes.substr(0, 4));
        std::size_t header = 8;
        if (size == 1 && bytes.size() >= 16) {
            size = big_endian(bytes.substr(8, 8));
            header = 16;
        }
        if (size == 0) size = bytes.size();
        if (size < header || size > bytes.size()) {
            boxes.push_back({"", bytes, {}});
            return boxes;
        }
        boxes.push_back(
            {std::string(bytes.substr(4, 4)), bytes.substr(0, size), bytes.substr(header, size - header)});
        bytes.remove_prefix(size);
    }
    if (!bytes.empty()) boxes.push_back({"trailing", bytes, {}});
    return boxes;
}

std::string box(std::string_view type, std::string_view body) {
    return bytes_of(body.size() + 8, 4) + std::string(type) + std::string(body);
}
std::string full_box(std::string_view type, std::string_view body) {
    return box(type, std::string(4, '\0') + std::string(body));
}

std::optional<std::string_view> child(std::string_view body, std::string_view type) {
    for (const auto& b : boxes_in(body))
        if (b.type == type) return b.body;
    return std::nullopt;
}

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

/// Header, reserved bytes and children of one box, with `edit` applied to each child and `added` at the end.
std::string rebuilt(const Box& b, std::size_t prefix, const std::function<std::string(const Box&)>& edit,
                    const std::string& added) {
    std::string body(b.body.substr(0, prefix));
    for (const auto& c : boxes_in(b.body.substr(prefix))) body += edit(c);
    return box(b.type, body + added);
}

/// Follows one chain of nested boxes down and applies `last` to the one at its end.
std::string edited_along(const Box& b, std::span<const char* const> chain,
                         const std::function<std::string(const Box&)>& last) {
    if (chain.empty()) return last(b);
    return rebuilt(
        b, 0,
        [&](const Box& c) {
            return c.type == chain.front() ? edited_along(c, chain.subspan(1), last) : std::string(c.whole);
        },
        "");
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

struct MovieHeader {
    std::uint64_t offset = 0, size = 0, file_size = 0;
    bool fragmented = false, found = false;
};

/// Looks only at the top-level box headers.
MovieHeader find_movie_header(std::ifstream& in) {
    MovieHeader header;
    in.seekg(0, std::ios::end);
    header.file_size = static_cast<std::uint64_t>(std::max<std::streamoff>(in.tellg(), 0));
    std::uint64_t at = 0;
    for (int boxes = 0; at + 8 <= header.file_size && boxes < 100000; ++boxes) {
        char bytes[16];
        in.clear();
        in.seekg(static_cast<std::streamoff>(at));
        if (!in.read(bytes, 8)) break;
        std::uint64_t size = big_endian({bytes, 4});
        const std::string_view type(bytes + 4, 4);
        if (size == 1) {
            if (!in.read(bytes + 8, 8)) break;
            size = big_endian({bytes + 8, 8});
        }
        if (size == 0) size = header.file_size - at;
        if (boxes == 0 && type != "ftyp" && type != "moov" && type != "mdat" && type != "wide" &&
            type != "free")
            return header;
        if (size < 8 || size > header.file_size - at) break;
        if (type == "moov" && !header.found) {
            header.found = true;
            header.offset = at;
            header.size = size;
        }
        header.fragmented = header.fragmented || type == "moof";
        at += size;
    }
    return header;
}

std::string read_movie_header(std::ifstream& in, const MovieHeader& header) {
    std::string moov(header.size, '\0');
    in.clear();
    in.seekg(static_cast<std::streamoff>(header.offset));
    in.read(moov.data(), static_cast<std::streamsize>(moov.size()));
    moov.resize(static_cast<std::size_t>(std::max<std::streamsize>(in.gcount(), 0)));
    return moov;
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
    std::ifstream in(path, std::ios::binary);
    const MovieHeader header = find_movie_header(in);
    if (!header.found || header.size > kLargestHeader)
        throw Error("has no movie header", path.string(), "Only complete MP4 and MOV files can be tagged");
    if (header.fragmented)
        throw Error("is a fragmented MP4", path.string(), "Join its fragments into a plain MP4 first");
    const std::string moov = tagged_movie_header(read_movie_header(in, header), tag, path.string());
    in.close();
    std::fstream out(path, std::ios::binary | std::ios::in | std::ios::out);
    const bool last = header.offset + header.size == header.file_size;
    if (!last) { // the old header becomes free space, so nothing after it moves
        out.seekp(static_cast<std::streamoff>(header.offset + 4));
        out.write("free", 4);
    }
    out.seekp(static_cast<std::streamoff>(last ? header.offset : header.file_size));
    out.write(moov.data(), static_cast<std::streamsize>(moov.size()));
    out.close();
    if (!out)
        throw Error("its tags cannot be written", path.string(),
                    "Check that the file is writable and the disk has space");
    if (last) std::filesystem::resize_file(path, header.offset + moov.size());
}

void tag_spherical_copy(const std::filesystem::path& in, const std::filesystem::path& out,
                        const SphericalTag& tag) {
    PartFile part(out);
    std::error_code code;
    if (!std::filesystem::copy_file(in, part.path(), code) || code)
        throw Error("cannot be copied: " + code.message(), in.string(),
                    "Check the name, the folder and its space");
    tag_spherical_in_place(part.path(), tag);
    part.commit();
}

} // namespace porb
