#include "cli/project_edit.h"

#include "base/error.h"
#include "base/file.h"
#include "project/outputs.h"

#include <fmt/format.h>

#include <chrono>
#include <iostream>
#include <thread>

namespace porb::cli {

namespace {

LockFile locked(const std::string& file, const std::string& verb, const Run& run) {
    using Clock = std::chrono::steady_clock;
    const fs::path lock = lock_of_project(file);
    const auto begun = Clock::now();
    bool said = false;
    while (true) {
        run.cancel.check();
        if (auto got = LockFile::take(lock, "porbit " + verb)) return std::move(*got);
        const std::string holder = LockFile::holder_of(lock).value_or("another program");
        const double waited = std::chrono::duration<double>(Clock::now() - begun).count();
        if (waited >= *run.wait_s)
            throw Error(
                "is being changed by " + holder, file,
                fmt::format("Wait until that has ended, or let --wait be more than {:.0f} s", *run.wait_s));
        if (!said && waited > 0.3) {
            std::cerr << "porbit: waiting for " << holder << "\n";
            said = true;
        }
        std::this_thread::sleep_for(std::chrono::milliseconds(20));
    }
}

} // namespace

Project opened_project(const std::string& file) {
    std::vector<std::string> remarks;
    Project project = load_project(file, &remarks);
    for (const auto& words : remarks) std::cerr << "porbit: note: " << words << "\n";
    return project;
}

ProjectEdit::ProjectEdit(const std::string& file, const std::string& verb, const Run& run, bool writes)
    : file_(file), cancel_(run.cancel) {
    must_be_regular_file(file);
    if (writes) {
        lock_.emplace(locked(file, verb, run));
        sweep_parts(fs::path(file).parent_path());
    }
    project = opened_project(file);
}

void ProjectEdit::save() {
    cancel_.check();
    save_project(project, file_);
}

void save_new_project(const Project& project, const std::string& file, bool replaces, const Run& run) {
    const LockFile lock = locked(file, "new", run);
    if (!replaces && fs::exists(fs::symlink_status(file)))
        throw Error("exists already", file, "Choose another name, or add --force to replace it");
    may_write(file, project, {});
    run.cancel.check();
    save_project(project, file);
}

void may_write(const std::string& out, const Project& project, const std::string& project_file,
               const std::vector<fs::path>& also) {
    must_not_replace(out, project, project_file, also);
    sweep_parts(fs::path(out).parent_path());
}

} // namespace porb::cli
