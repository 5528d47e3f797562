#include "media/mp4_boxes.h"

#include "base/error.h"

#include <algorithm>
#include <fstream>

namespace porb::mp4 {

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

std::string rebuilt(const Box& b, std::size_t prefix, const std::function<std::string(const Box&)>& edit,
                    const std::string& added) {
    std::string body(b.body.substr(0, prefix));
    for (const auto& c : boxes_in(b.body.substr(prefix))) body += edit(c);
    return box(b.type, body + added);
}

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

std::uint64_t append_offset(const MovieHeader& header) {
    const bool last = header.offset + header.size == header.file_size;
    return last ? header.offset : header.file_size;
}

void replace_movie_header(const std::filesystem::path& path, const MovieHeader& header,
                          const std::string& before, const std::string& moov) {
    std::fstream out(path, std::ios::binary | std::ios::in | std::ios::out);
    const bool last = header.offset + header.size == header.file_size;
    if (!last) { // the old header becomes free space, so nothing after it moves
        out.seekp(static_cast<std::streamoff>(header.offset + 4));
        out.write("free", 4);
    }
    out.seekp(static_cast<std::streamoff>(append_offset(header)));
    out.write(before.data(), static_cast<std::streamsize>(before.size()));
    out.write(moov.data(), static_cast<std::streamsize>(moov.size()));
    out.close();
    if (!out)
        throw Error("its tags cannot be written", path.string(),
                    "Check that the file is writable and the disk has space");
    if (last) std::filesystem::resize_file(path, header.offset + before.size() + moov.size());
}

} // namespace porb::mp4
