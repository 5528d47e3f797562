#pragma once

#include "project/project.h"

namespace porb {

/// Throws Error when a file written to `output` would replace one that the project uses: a source of any shot
/// and camera, in use or not, the sound, a curve, a LUT, a motion record, the project itself (`project_file`,
/// empty while it was never saved), or one of `also`. Files are compared, not names: links of both kinds and
/// any spelling are seen through. A pattern stands for all its numbered files, and one that would number its
/// files among a source's is refused, too. A stat for each file in use.
void must_not_replace(const std::filesystem::path& output, const Project& project,
                      const std::filesystem::path& project_file,
                      const std::vector<std::filesystem::path>& also = {});

/// What writing a numbered sequence of `frames` files from number 0 on would do to files that are there.
struct SequenceOverlap {
    std::int64_t replaced = 0, stale = 0; ///< stale: of the same pattern, with other numbers
};
SequenceOverlap overlap_of(const std::filesystem::path& pattern, std::int64_t frames);

/// Where the lock of a project lies (base/lock_file.h): beside it, the same for every name of the file.
std::filesystem::path lock_of_project(const std::filesystem::path& project_file);

} // namespace porb
