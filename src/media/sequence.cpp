#include "media/sequence.h"

#include "base/error.h"

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
} // namespace

void check_pattern(const std::filesystem::path& pattern) {
    parsed(pattern);
}

std::filesystem::path numbered_file(const std::filesystem::path& pattern, std::int64_t number) {
    const Pattern p = parsed(pattern);
    return pattern.parent_path() / (p.before + fmt::format("{:0{}}", number, p.digits) + p.after);
}

NumberedFiles find_numbered_files(const std::filesystem::path& pattern) {
    const Pattern p = parsed(pattern);
    NumberedFiles found;
    std::int64_t count = 0;
    std::error_code code;
    const auto folder = pattern.parent_path().empty() ? std::filesystem::path(".") : pattern.parent_path();
    for (const auto& entry : std::filesystem::directory_iterator(folder, code)) {
        const std::string name = entry.path().filename().string();
        if (name.size() <= p.before.size() + p.after.size() || !name.starts_with(p.before) ||
            !name.ends_with(p.after))
            continue;
        const std::string digits =
            name.substr(p.before.size(), name.size() - p.before.size() - p.after.size());
        std::int64_t number = 0;
        const auto [end, ec] = std::from_chars(digits.data(), digits.data() + digits.size(), number);
        if (ec != std::errc() || end != digits.data() + digits.size() || digits[0] == '-') continue;
        if (numbered_file(pattern, number).filename() != name) continue; // other padding: another sequence
        found.first = count == 0 ? number : std::min(found.first, number);
        found.last = count == 0 ? number : std::max(found.last, number);
        ++count;
    }
    if (count == 0)
        throw Error("no numbered file matches", pattern.string(),
                    "Check the folder and the number of digits");
    found.missing = found.last - found.first + 1 - count;
    return found;
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
