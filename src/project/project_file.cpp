#include "base/file.h"
#include "project/fields_project.h"
#include "project/rig_change.h"
#include "project/tile_store.h"

namespace porb {

namespace {

fs::path folder_of(const fs::path& file) {
    return fs::absolute(file).parent_path();
}
fs::path absolute_in(const fs::path& folder, const fs::path& path) {
    return path.empty() || path.is_absolute() ? path : (folder / path).lexically_normal();
}

void make_paths_absolute(Project& p, const fs::path& folder) {
    for (auto& m : p.media) {
        m.ref.path = absolute_in(folder, m.ref.path);
        if (m.ref.curve.starts_with(kCurveFile))
            m.ref.curve = kCurveFile + absolute_in(folder, m.ref.curve.substr(kCurveFile.size())).string();
    }
    for (auto& s : p.shots) {
        if (s.calibration.motion)
            s.calibration.motion->path = absolute_in(folder, s.calibration.motion->path);
        s.look.grade.lut = absolute_in(folder, s.look.grade.lut);
    }
    for (auto& d : p.deliverables) d.path = absolute_in(folder, d.path);
}

/// A camera that a shot leaves out has its usual values; one that the rig has not is refused.
void fit_cameras(const JsonPlace& place, Shot& s) {
    for (std::size_t i = 0; i < s.cameras.size(); ++i)
        if (!find_camera(s.rig, s.cameras[i].camera))
            place.at("cameras").at(i).at("camera").refuse(
                "'" + s.cameras[i].camera + "' is not a camera of the rig", "Use an id from rig/cameras");
    match_cameras_to_rig(s);
}

} // namespace

Project parse_project(std::string_view json_text, const fs::path& file, std::vector<std::string>* remarks) {
    const std::string name = file.string();
    const Json document = parse_json(json_text, name);
    const JsonPlace place(document, name);
    FieldReader reader(place);
    Project p;
    fields(reader, p);
    const FieldChecker checker(name);
    for (std::size_t i = 0; i < p.shots.size(); ++i) {
        Shot& s = p.shots[i];
        // Lenses have to be in order before anything is worked out from them.
        checker.entry("shots", i).part("rig", std::as_const(s.rig));
        fit_cameras(place.at("shots").at(i), s);
        // Earlier versions did not say; a distance that is not infinitely far was chosen.
        if (!place.at("shots").at(i).has("agree_choice") && s.seams.agree_distance_m != 0)
            s.seams.agree_choice = AgreeChoice::chosen;
        std::stable_sort(s.timing.markers.begin(), s.timing.markers.end(),
                         [](const Marker& a, const Marker& b) { return a.time < b.time; });
        for (auto& words : drop_dangling(s))
            if (remarks) remarks->push_back("shot " + s.name + ": " + words);
    }
    make_paths_absolute(p, folder_of(file));
    checker.all(std::as_const(p));
    return p;
}

void validate(const Project& project, const Project* known_good) {
    std::set<const void*> known;
    for (std::size_t i = 0; known_good && i < project.shots.size(); ++i) {
        const Shot& now = project.shots[i];
        const Shot* before = find_shot(*known_good, now.id);
        if (!before) continue;
        if (&now == before || now == *before) {
            known.insert(&now);
            continue;
        }
        if (before->levelling.steady) known.insert(&*before->levelling.steady->path);
        // Points name cameras: they are known to be good beside the same names.
        const auto same_id = [](const Camera& a, const Camera& b) { return a.id == b.id; };
        if (std::equal(now.rig.cameras.begin(), now.rig.cameras.end(), before->rig.cameras.begin(),
                       before->rig.cameras.end(), same_id))
            known.insert(&*before->calibration.points);
    }
    FieldChecker("", std::move(known)).all(project);
}

std::string project_to_text(const Project& p, const fs::path& file) {
    validate(p);
    const fs::path folder = folder_of(file);
    Json j;
    FieldWriter writer(j, folder);
    fields(writer, p);
    std::string text = dump_json(std::move(j));
    if (text.size() > limits::kProjectBytes)
        throw Error("is larger than a project may be (" + std::to_string(text.size()) + " bytes)",
                    file.string(), "Drop control points or kept solves of shots that need them no more");
    return text;
}

Project load_project(const fs::path& file, std::vector<std::string>* remarks) {
    Project p = parse_project(read_text_file(file, limits::kProjectBytes), file, remarks);
    find_tiles(p, file, remarks);
    return p;
}

void save_project(const Project& project, const fs::path& file) {
    const std::string text = project_to_text(project, file);
    write_tiles(project, file);
    write_file_atomically(file, text);
}

std::vector<LineMark> parse_lines(std::string_view json_text, const std::string& where) {
    const Json document = parse_json(json_text, where);
    const JsonPlace place(document, where);
    const JsonPlace format = place.at("format");
    if (format.text(64) != "pale-orbit/lines")
        format.refuse("'" + format.text(64) + "' is not a list of lines",
                      "Such a file says \"format\": \"pale-orbit/lines\"");
    std::vector<LineMark> lines;
    FieldReader reader(place);
    reader.must("lines");
    reader.list("lines", lines);
    FieldChecker(where).list("lines", std::as_const(lines));
    return lines;
}

} // namespace porb
