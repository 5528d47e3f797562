#pragma once

#include <cstdint>
#include <filesystem>
#include <functional>
#include <iosfwd>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

/// The boxes of MP4 and MOV files (ISO/IEC 14496-12), read and built as byte strings; for the media room
/// only.
namespace porb::mp4 {

inline constexpr std::uint64_t kLargestHeader = 256u << 20;

std::uint64_t big_endian(std::string_view bytes);
std::string bytes_of(std::uint64_t value, int count); ///< big-endian

struct Box {
    std::string type;
    std::string_view whole, body;
};
/// The boxes that fill `bytes`; stops with a damaged Box of type "" where the sizes do not add up.
std::vector<Box> boxes_in(std::string_view bytes);
std::string box(std::string_view type, std::string_view body);
std::string full_box(std::string_view type, std::string_view body); ///< version 0, no flags
std::optional<std::string_view> child(std::string_view body, std::string_view type);

/// Header, reserved bytes and children of one box, with `edit` applied to each child and `added` at the end.
std::string rebuilt(const Box& b, std::size_t prefix, const std::function<std::string(const Box&)>& edit,
                    const std::string& added);
/// Follows one chain of nested boxes down and applies `last` to the one at its end.
std::string edited_along(const Box& b, std::span<const char* const> chain,
                         const std::function<std::string(const Box&)>& last);

struct MovieHeader {
    std::uint64_t offset = 0, size = 0, file_size = 0;
    bool fragmented = false, found = false;
};
/// Looks only at the top-level box headers.
MovieHeader find_movie_header(std::ifstream& in);
std::string read_movie_header(std::ifstream& in, const MovieHeader& header);
/// Puts `moov` in the old header's stead, at the end of the file, after `before` (more boxes, or nothing).
/// Media data is not moved. Throws Error.
void replace_movie_header(const std::filesystem::path& path, const MovieHeader& header,
                          const std::string& before, const std::string& moov);
/// Where `before` will start: what absolute offsets in it are counted from.
std::uint64_t append_offset(const MovieHeader& header);

} // namespace porb::mp4
