#pragma once

#include "project/project.h"

namespace porb {

/// Unsaved work, kept beside nothing of the user's: one file per open project in a folder of ours.
struct Autosave {
    std::filesystem::path file;         ///< the autosave itself
    std::filesystem::path project_file; ///< where the project lives, empty while it was never saved
    Project project;
};

/// Writes the project's value as the autosave of `project_file` (by process, so that two windows never meet).
/// Throws Error.
void write_autosave(const std::filesystem::path& folder, const std::filesystem::path& project_file,
                    const Project& project);
/// Called after a real save and at a clean end.
void remove_autosave(const std::filesystem::path& folder, const std::filesystem::path& project_file);
/// What earlier processes that are no longer running left behind, newest first. Unreadable ones are passed
/// over and kept.
std::vector<Autosave> find_autosaves(const std::filesystem::path& folder);

} // namespace porb
