#include "project/autosave.h"

#include "base/error.h"
#include "base/fields.h"
#include "base/file.h"
#include "project/limits.h"
#include "project/tile_store.h"

#include <fmt/format.h>

#include <random>

namespace porb {

namespace {

constexpr const char* kEnding = ".porb-autosave";

fs::path lock_of(const fs::path& autosave) {
    return fs::path(autosave).replace_extension(".lock");
}

fs::path free_name(const fs::path& folder) {
    std::error_code code;
    fs::create_directories(folder, code);
    std::random_device random;
    char text[32];
    std::snprintf(text, sizeof text, "%08x%08x", random(), random());
    return folder / (std::string(text) + kEnding);
}

Autosave read_autosave(const fs::path& file) {
    const std::string name = file.string();
    // The work and what stands about it.
    const Json document = parse_json(read_text_file(file, limits::kProjectBytes + (1u << 20)), name);
    const JsonPlace place(document, name);
    FieldReader reader(place);
    Autosave a;
    a.file = file;
    std::string opened;
    reader.path("project_file", a.project_file);
    reader.text("opened", opened, 32);
    if (!a.project_file.empty())
        a.project_file = (fs::absolute(file).parent_path() / a.project_file).lexically_normal();
    a.opened = std::strtoull(opened.c_str(), nullptr, 16);
    a.project = parse_project(place.at("project").json().dump(), file);
    find_tiles(a.project, file);
    return a;
}

} // namespace

std::uint64_t fingerprint_of_bytes(std::string_view bytes) {
    std::uint64_t hash = 14695981039346656037ull;
    for (const unsigned char c : bytes) hash = (hash ^ c) * 1099511628211ull;
    return hash == 0 ? 1 : hash;
}

std::uint64_t fingerprint_of(const fs::path& file) {
    std::error_code code;
    if (file.empty() || !fs::is_regular_file(file, code)) return 0;
    return fingerprint_of_bytes(read_text_file(file, limits::kProjectBytes));
}

AutosaveSlot::AutosaveSlot(const fs::path& folder) : file_(free_name(folder)), lock_(lock_for(file_)) {}

LockFile AutosaveSlot::lock_for(const fs::path& file) {
    auto lock = LockFile::take(lock_of(file), "Pale Orbit");
    if (!lock) throw Error("is in use", lock_of(file).string(), "Start the program again");
    return std::move(*lock);
}

std::optional<AutosaveSlot> AutosaveSlot::adopt(const Autosave& left) {
    auto lock = LockFile::take(lock_of(left.file), "Pale Orbit");
    std::error_code code;
    if (!lock || !fs::exists(left.file, code)) return std::nullopt;
    return AutosaveSlot(left.file, std::move(*lock));
}

void AutosaveSlot::write(const fs::path& project_file, std::uint64_t opened, const Project& project) const {
    Json head;
    const fs::path folder = file_.parent_path();
    FieldWriter writer(head, folder);
    writer.header("pale-orbit/autosave", 2, "");
    writer.path("project_file", project_file.empty() ? fs::path() : fs::absolute(project_file));
    writer.text("opened", fmt::format("{:016x}", opened), 32);
    // The project's own text goes in as it is: parsing it again would double the time and the memory. Paths
    // in it are as seen from the autosave's folder.
    std::string text = dump_json(head);
    text.erase(text.rfind('}'));
    text.erase(text.find_last_not_of(" \n") + 1);
    text += ",\n  \"project\": " + project_to_text(project, file_) + "}\n";
    write_tiles(project, file_);
    write_file_atomically(file_, text);
}

void AutosaveSlot::remove() const {
    std::error_code code;
    fs::remove(file_, code);
    fs::remove_all(tile_folder(file_), code);
}

std::vector<Autosave> find_autosaves(const fs::path& folder, std::vector<fs::path>* unreadable) {
    std::vector<std::pair<fs::file_time_type, Autosave>> found;
    std::error_code code;
    sweep_parts(folder);
    for (const auto& entry : fs::directory_iterator(folder, code)) {
        if (entry.path().extension() != kEnding || is_part(entry.path())) continue;
        if (LockFile::holder_of(lock_of(entry.path()))) continue; // its window lives
        try {
            found.emplace_back(fs::last_write_time(entry.path(), code), read_autosave(entry.path()));
        } catch (const std::exception&) {
            if (unreadable) unreadable->push_back(entry.path());
        }
    }
    std::sort(found.begin(), found.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    std::vector<Autosave> out;
    for (auto& [when, autosave] : found) out.push_back(std::move(autosave));
    return out;
}

} // namespace porb
