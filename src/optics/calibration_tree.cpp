#include "optics/calibration_tree.h"

#include "base/error.h"

#include <nlohmann/json.hpp>
#include <pugixml.hpp>
#include <yaml-cpp/yaml.h>

#include <charconv>
#include <limits>

namespace porb {

namespace {

constexpr int kDeepest = 8, kMostNodes = 20000;

struct Budget {
    const std::string& where;
    int nodes = 0;
    void spend(int depth) {
        if (depth > kDeepest || ++nodes > kMostNodes)
            throw Error("holds more than a calibration can", where, "Expected a few matrices and numbers");
    }
};

/// A number where the word is one, else the word.
Json word_or_number(std::string_view word) {
    std::string_view digits = word;
    if (digits.starts_with('+')) digits.remove_prefix(1);
    double v = 0;
    const auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), v);
    if (error == std::errc() && end == digits.data() + digits.size()) return v;
    if (error == std::errc::result_out_of_range) return std::numeric_limits<double>::infinity();
    if (word == ".Nan" || word == ".nan" || word == ".NaN") return std::numeric_limits<double>::quiet_NaN();
    if (word == ".Inf" || word == "-.Inf" || word == ".inf") return std::numeric_limits<double>::infinity();
    return std::string(word);
}

Json from_yaml(const YAML::Node& node, Budget& budget, int depth) {
    budget.spend(depth);
    if (node.IsMap()) {
        Json out = Json::object();
        for (const auto& item : node)
            if (item.first.IsScalar()) out[item.first.Scalar()] = from_yaml(item.second, budget, depth + 1);
        return out;
    }
    if (node.IsSequence()) {
        Json out = Json::array();
        for (const auto& item : node) out.push_back(from_yaml(item, budget, depth + 1));
        return out;
    }
    return node.IsScalar() ? word_or_number(node.Scalar()) : Json();
}

Json from_xml(const pugi::xml_node& node, Budget& budget, int depth) {
    budget.spend(depth);
    Json map = Json::object(), list = Json::array();
    for (const auto& child : node.children()) {
        if (child.type() != pugi::node_element) continue;
        Json value = from_xml(child, budget, depth + 1);
        if (std::string_view(child.name()) == "_")
            list.push_back(std::move(value));
        else
            map[child.name()] = std::move(value);
    }
    if (!map.empty()) return map;
    if (!list.empty()) return list;
    // Text: words apart by blanks, or one in quotes.
    const std::string_view text = node.child_value();
    std::size_t at = 0;
    while ((at = text.find_first_not_of(" \t\r\n\"", at)) != text.npos) {
        budget.spend(depth);
        const auto end = std::min(text.find_first_of(" \t\r\n\"", at), text.size());
        list.push_back(word_or_number(text.substr(at, end - at)));
        at = end;
    }
    return list.size() == 1 ? list[0] : list;
}

} // namespace

Json calibration_tree(std::string_view text, const std::string& where) {
    const auto first = text.find_first_not_of(" \t\r\n\xef\xbb\xbf");
    if (first == text.npos) throw Error("is empty", where, "Save the calibration again");
    if (text.find('\0') != text.npos)
        throw Error("is not a text file", where, "Choose a YAML, XML or JSON file");
    std::string_view body = text.substr(first);
    Budget budget{where};
    if (body.starts_with('{')) return parse_json(body, where);
    if (body.starts_with('<')) {
        pugi::xml_document document;
        const auto result = document.load_buffer(body.data(), body.size());
        if (!result)
            throw Error(std::string("is damaged XML (") + result.description() + ")", where,
                        "Save the calibration again");
        const auto root = document.child("opencv_storage");
        if (!root)
            throw Error("has no opencv_storage element", where, "Choose a calibration that OpenCV wrote");
        return from_xml(root, budget, 0);
    }
    // The directive OpenCV writes is not the one of the YAML standard.
    if (body.starts_with('%')) body.remove_prefix(std::min(body.find('\n'), body.size() - 1) + 1);
    try {
        return from_yaml(YAML::Load(std::string(body)), budget, 0);
    } catch (const YAML::Exception& e) {
        throw Error(std::string("is damaged YAML (") + e.what() + ")", where, "Save the calibration again");
    }
}

} // namespace porb
