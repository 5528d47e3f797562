#include "project/autosave.h"

#include "base/file.h"
#include "base/json.h"

#include <csignal>
#include <nlohmann/json.hpp>
#include <unistd.h>

namespace porb {

namespace {
fs::path autosave_name(const fs::path& folder, const fs::path& project_file) {
    const auto hash =
        std::hash<std::string>()(project_file.empty() ? "" : fs::absolute(project_file).string());
    return folder / (std::to_string(::getpid()) + "-" + std::to_string(hash) + ".porb-autosave");
}
bool is_running(long pid) {
    return pid > 0 && ::kill(pid_t(pid), 0) == 0;
}
} // namespace

void write_autosave(const fs::path& folder, const fs::path& project_file, const Project& project) {
    std::error_code code;
    fs::create_directories(folder, code);
    const fs::path file = autosave_name(folder, project_file);
    // Paths inside are written from the autosave's own folder; the project's place stands beside them.
    const Json j = {{"format", "pale-orbit/autosave"},
                    {"version", 1},
                    {"project_file", project_file.empty() ? "" : fs::absolute(project_file).string()},
                    {"project", Json::parse(project_to_text(project, file))}};
    write_file_atomically(file, dump_json(j));
}

void remove_autosave(const fs::path& folder, const fs::path& project_file) {
    std::error_code code;
    fs::remove(autosave_name(folder, project_file), code);
}

std::vector<Autosave> find_autosaves(const fs::path& folder) {
    std::vector<std::pair<fs::file_time_type, Autosave>> found;
    std::error_code code;
    for (const auto& entry : fs::directory_iterator(folder, code)) {
        if (entry.path().extension() != ".porb-autosave") continue;
        const long pid = std::atol(entry.path().filename().c_str());
        if (is_running(pid)) continue;
        try {
            const Json document = parse_json(read_text_file(entry.path()), entry.path().string());
            const JsonPlace place(document, entry.path().string());
            Autosave a{entry.path(), place.at("project_file").text(),
                       parse_project(place.at("project").json().dump(), entry.path())};
            found.emplace_back(fs::last_write_time(entry.path(), code), std::move(a));
        } catch (const std::exception&) {
            continue;
        }
    }
    std::sort(found.begin(), found.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    std::vector<Autosave> out;
    for (auto& [when, autosave] : found) out.push_back(std::move(autosave));
    return out;
}

} // namespace porb
