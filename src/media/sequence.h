#pragma once

#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace porb {

/// The numbered files behind a pattern with one %d or %0Nd: consecutive numbers first..last.
struct NumberedFiles {
    std::int64_t first = 0, last = -1;
    std::int64_t missing = 0; ///< numbers without a file between the two
};

/// Checks that the file name (not its folder) holds exactly one number place. Throws Error otherwise.
void check_pattern(const std::filesystem::path& pattern);
std::filesystem::path numbered_file(const std::filesystem::path& pattern, std::int64_t number);
/// Whether `name` (without a folder) is one of the pattern's numbered files.
bool is_numbered(const std::filesystem::path& pattern, const std::string& name);
/// The numbers of all files that are there, in no order; none when the folder cannot be read.
std::vector<std::int64_t> numbers_of(const std::filesystem::path& pattern);
/// Throws Error when there is none.
NumberedFiles find_numbered_files(const std::filesystem::path& pattern);

/// "shot.0007.exr" as "shot.%04d.exr", when the stem ends in digits.
std::optional<std::filesystem::path> pattern_of(const std::filesystem::path& file);

} // namespace porb
