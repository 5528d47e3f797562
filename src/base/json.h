#pragma once

#include "base/rational.h"

#include <nlohmann/json_fwd.hpp>

#include <filesystem>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

namespace porb {

using Json = nlohmann::json;

/// Parses one JSON document, nested at most 64 deep. `where` names the file in errors.
Json parse_json(std::string_view text, const std::string& where);

/// A place in a JSON document that knows its path, so that whatever is wrong is refused by name
/// ("file.rig.json /cameras/2/lens/focal_px: must be above 0"). Cheap to copy; the document must outlive it.
class JsonPlace {
  public:
    JsonPlace(const Json& value, std::string file, std::string path = "")
        : value_(&value), file_(std::make_shared<const std::string>(std::move(file))),
          path_(std::move(path)) {}

    const Json& json() const { return *value_; }
    std::string where() const { return *file_ + " " + (path_.empty() ? "/" : path_); }
    [[noreturn]] void refuse(const std::string& what, const std::string& mend) const;

    bool has(std::string_view key) const;
    JsonPlace at(std::string_view key) const; ///< refuses when the key is missing
    std::size_t size() const;                 ///< refuses when it is not an array
    JsonPlace at(std::size_t index) const;

    void must_be_object() const;
    double number(double low, double high) const; ///< finite and within [low, high]
    int whole(int low, int high) const;
    bool boolean() const;
    std::string text(std::size_t longest = 4096) const;
    Seconds seconds(double low, double high) const; ///< a number, or text such as "1001/30000"

  private:
    JsonPlace(const Json& value, std::shared_ptr<const std::string> file, std::string path)
        : value_(&value), file_(std::move(file)), path_(std::move(path)) {}
    const Json* value_;
    std::shared_ptr<const std::string> file_; ///< the same for all places of a document
    std::string path_;
};

/// The members of `object` whose keys are not among `known`; kept so that a round trip loses nothing.
Json unknown_members(const Json& object, std::initializer_list<std::string_view> known);

/// A document as text, indented by two. Its members, and the entries of their lists, are written on all cores.
std::string dump_json(Json document);

} // namespace porb
