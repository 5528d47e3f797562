#pragma once

#include "base/lock_file.h"
#include "cli/verbs.h"
#include "project/project.h"

namespace porb::cli {

/// A project that a verb changes: locked against other verbs and windows from reading to writing, so that
/// nobody's change is lost. Waits for whoever has it, and says so; gives up in words after `run.wait_s`.
class ProjectEdit {
  public:
    /// `verb` is told to others who wait. Without `writes` nothing is locked, and save() is not called.
    /// Throws Error, and Cancelled while it waits.
    ProjectEdit(const std::string& file, const std::string& verb, const Run& run, bool writes = true);

    Project project;
    /// Throws Cancelled when that was asked for meanwhile; nothing is written then.
    void save();

  private:
    std::string file_;
    Cancel cancel_;
    std::optional<LockFile> lock_;
};

/// The same for a project that is made: refuses one that is there unless `replaces`.
void save_new_project(const Project& project, const std::string& file, bool replaces, const Run& run);

/// Reads a project to look at it; what had to be left out is said on standard error.
Project opened_project(const std::string& file);

/// Refuses to write to a file that is in use by the project; clears away what killed runs left beside it.
void may_write(const std::string& out, const Project& project, const std::string& project_file,
               const std::vector<std::filesystem::path>& also = {});

} // namespace porb::cli
