#include "media/sequence.h"

#include "base/error.h"

#include <algorithm>
#include <charconv>
#include <fmt/format.h>

namespace porb {

namespace {
struct Pattern {
    std::string before, after;
    std::size_t digits = 0; ///< least number of digits
};

Pattern parsed(const std::filesystem::path& path) {
    const std::string name = path.filename().string();
    const Error bad("'" + name + "' is not the name of a numbered sequence", path.string(),
                    "Write one number place, such as name.%04d.exr");
    const auto percent = name.find('%');
    if (percent == std::string::npos) throw bad;
    std::size_t at = percent + 1;
    Pattern p;
    p.before = name.substr(0, percent);
    while (at < name.size() && name[at] >= '0' && name[at] <= '9')
        p.digits = p.digits * 10 + std::size_t(name[at++] - '0');
    if (at >= name.size() || name[at] != 'd' || p.digits > 18) throw bad;
    p.after = name.substr(at + 1);
    if (p.after.find('%') != std::string::npos) throw bad;
    return p;
}

/// The number that a name bears, when it is one of the pattern's.
std::optional<std::int64_t> number_in(const Pattern& p, const std::filesystem::path& pattern,
                                      const std::string& name) {
    if (name.size() <= p.before.size() + p.after.size() || !name.starts_with(p.before) ||
        !name.ends_with(p.after))
        return std::nullopt;
    const std::string digits = name.substr(p.before.size(), name.size() - p.before.size() - p.after.size());
    std::int64_t number = 0;
    const auto [end, ec] = std::from_chars(digits.data(), digits.data() + digits.size(), number);
    if (ec != std::errc() || end != digits.data() + digits.size() || digits[0] == '-') return std::nullopt;
    if (numbered_file(pattern, number).filename() != name) return std::nullopt; // other padding
    return number;
}
} // namespace

void check_pattern(const std::filesystem::path& pattern) {
    parsed(pattern);
}

std::filesystem::path numbered_file(const std::filesystem::path& pattern, std::int64_t number) {
    const Pattern p = parsed(pattern);
    return pattern.parent_path() / (p.before + fmt::format("{:0{}}", number, p.digits) + p.after);
}

bool is_numbered(const std::filesystem::path& pattern, const std::string& name) {
    return number_in(parsed(pattern), pattern, name).has_value();
}

std::vector<std::int64_t> numbers_of(const std::filesystem::path& pattern) {
    const Pattern p = parsed(pattern);
    std::vector<std::int64_t> numbers;
    std::error_code code;
    const auto folder = pattern.parent_path().empty() ? std::filesystem::path(".") : pattern.parent_path();
    for (const auto& entry : std::filesystem::directory_iterator(folder, code))
        if (const auto n = number_in(p, pattern, entry.path().filename().string())) numbers.push_back(*n);
    return numbers;
}

NumberedFiles find_numbered_files(const std::filesystem::path& pattern) {
    const auto numbers = numbers_of(pattern);
    if (numbers.empty())
        throw Error("no numbered file matches", pattern.string(),
                    "Check the folder and the number of digits");
    const auto [first, last] = std::minmax_element(numbers.begin(), numbers.end());
    return {*first, *last, *last - *first + 1 - std::int64_t(numbers.size())};
}

std::optional<std::filesystem::path> pattern_of(const std::filesystem::path& file) {
    const std::string stem = file.stem().string();
    std::size_t at = stem.size();
    while (at > 0 && stem[at - 1] >= '0' && stem[at - 1] <= '9') --at;
    const std::size_t digits = stem.size() - at;
    if (digits < 2 || digits > 18 || stem.find('%') != std::string::npos) return std::nullopt;
    return file.parent_path() /
           (stem.substr(0, at) + fmt::format("%0{}d", digits) + file.extension().string());
}

} // namespace porb
