#include "project/outputs.h"

#include "base/error.h"
#include "base/file.h"
#include "media/sequence.h"

#include <fmt/format.h>

#include <map>
#include <sys/stat.h>

namespace porb {

namespace {

struct FileId {
    dev_t device;
    ino_t inode;
    auto operator<=>(const FileId&) const = default;
};
std::optional<FileId> id_of(const fs::path& file) {
    struct stat s {};
    if (::stat(file.c_str(), &s) != 0) return std::nullopt;
    return FileId{s.st_dev, s.st_ino};
}

bool is_pattern(const fs::path& path) {
    if (path.filename().string().find('%') == std::string::npos) return false;
    try {
        check_pattern(path);
        return true;
    } catch (const Error&) {
        return false;
    }
}

/// The name with its links followed as far as they lead.
fs::path plain(const fs::path& path) {
    std::error_code code;
    const fs::path full = fs::absolute(path, code).lexically_normal();
    const fs::path folder = fs::weakly_canonical(full.parent_path(), code);
    return code ? full : folder / full.filename();
}

/// Calls work(file) for every numbered file of a pattern that is there.
template <class Work>
void each_numbered(const fs::path& pattern, const Work& work) {
    for (const std::int64_t n : numbers_of(pattern)) work(numbered_file(pattern, n));
}

/// Whether a file of that name would be counted among the numbered files of `pattern`.
bool would_join(const fs::path& file, const fs::path& pattern) {
    return plain(file).parent_path() == plain(pattern).parent_path() &&
           is_numbered(pattern, file.filename().string());
}

class UsedFiles {
  public:
    void add(const fs::path& file, const std::string& what) {
        if (file.empty()) return;
        names_.emplace(plain(file), what);
        if (const auto id = id_of(file)) ids_.emplace(*id, what);
    }
    void add_sequence(const fs::path& pattern, const std::string& what) {
        patterns_.emplace_back(pattern, what);
        each_numbered(pattern, [&](const fs::path& file) { add(file, what); });
    }
    /// What the file that lies at `path` is used as, or nothing.
    std::optional<std::string> use_of(const fs::path& path) const {
        if (const auto id = id_of(path))
            if (const auto it = ids_.find(*id); it != ids_.end()) return it->second;
        if (const auto it = names_.find(plain(path)); it != names_.end()) return it->second;
        for (const auto& [pattern, what] : patterns_)
            if (would_join(path, pattern)) return what;
        return std::nullopt;
    }

  private:
    std::map<FileId, std::string> ids_;
    std::map<fs::path, std::string> names_;
    std::vector<std::pair<fs::path, std::string>> patterns_;
};

UsedFiles files_of(const Project& project, const fs::path& project_file) {
    UsedFiles used;
    used.add(project_file, "the project");
    for (const auto& m : project.media) {
        const std::string what = "source '" + m.id + "' of the project";
        m.ref.kind == MediaKind::sequence ? used.add_sequence(m.ref.path, what) : used.add(m.ref.path, what);
        if (m.ref.curve.starts_with(kCurveFile))
            used.add(m.ref.curve.substr(kCurveFile.size()), "the curve of source '" + m.id + "'");
    }
    for (const auto& s : project.shots) {
        used.add(s.look.grade.lut, "the LUT of shot '" + s.name + "'");
        if (s.calibration.motion)
            used.add(s.calibration.motion->path, "the motion record of shot '" + s.name + "'");
    }
    return used;
}

} // namespace

void must_not_replace(const fs::path& output, const Project& project, const fs::path& project_file,
                      const std::vector<fs::path>& also) {
    UsedFiles used = files_of(project, project_file);
    for (const auto& file : also) used.add(file, "a file that is read here");
    const auto check = [&](const fs::path& file) {
        if (const auto what = used.use_of(file))
            throw Error("is " + *what + ", which would be lost", file.string(), "Write to another name");
    };
    if (!is_pattern(output)) return check(output);
    each_numbered(output, check);
    check(numbered_file(output, 0));
}

SequenceOverlap overlap_of(const fs::path& pattern, std::int64_t frames) {
    SequenceOverlap out;
    for (const std::int64_t n : numbers_of(pattern)) ++(n < frames ? out.replaced : out.stale);
    return out;
}

fs::path lock_of_project(const fs::path& project_file) {
    std::error_code code;
    fs::path file = fs::weakly_canonical(fs::absolute(project_file), code);
    if (code) file = fs::absolute(project_file);
    // By a hash, since a name may be as long as names can be.
    std::uint64_t hash = 14695981039346656037ull;
    for (const unsigned char c : file.filename().string()) hash = (hash ^ c) * 1099511628211ull;
    return file.parent_path() / fmt::format(".porb-{:016x}.lock", hash);
}

} // namespace porb
