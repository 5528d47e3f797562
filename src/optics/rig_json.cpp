#include "optics/rig_json.h"

#include "base/file.h"
#include "optics/rig_fields.h"

namespace porb {

Json turn_to_json(const Turn& turn) {
    Json j;
    const std::filesystem::path nowhere; // a rig names no files
    FieldWriter w(j, nowhere);
    fields(w, turn);
    return j;
}

Rig parse_rig(std::string_view json_text, const std::string& where) {
    const Json document = parse_json(json_text, where);
    FieldReader reader(JsonPlace(document, where));
    Rig rig;
    fields(reader, rig);
    FieldChecker checker(where);
    fields(checker, std::as_const(rig));
    return rig;
}

std::string rig_to_text(const Rig& rig) {
    FieldChecker checker("");
    fields(checker, rig);
    Json j;
    const std::filesystem::path nowhere; // a rig names no files
    FieldWriter w(j, nowhere);
    fields(w, rig);
    return dump_json(std::move(j));
}

Rig load_rig(const std::filesystem::path& path) {
    return parse_rig(read_text_file(path), path.string());
}

void save_rig(const Rig& rig, const std::filesystem::path& path) {
    write_file_atomically(path, rig_to_text(rig));
}

} // namespace porb
