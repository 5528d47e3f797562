#include "support/support.h"

#include <fstream>
#include <map>
#include <regex>

using namespace porb;
using namespace porb::test;
namespace fs = std::filesystem;

namespace {
std::string slurp(const fs::path& p) {
    std::ifstream in(p);
    return {std::istreambuf_iterator<char>(in), {}};
}
} // namespace

TEST_CASE("no room of the core includes Qt, and rooms look only upwards") {
    const std::vector<std::string> order = {"base",  "picture", "optics", "media", "project", "align",
                                            "solve", "steady",  "match",  "grade", "stitch",  "patch",
                                            "seams", "stereo",  "master", "sim",   "cli",     "app"};
    const auto rank = [&](const std::string& room) {
        return std::find(order.begin(), order.end(), room) - order.begin();
    };
    const std::regex include("#include [<\"]([^>\"]+)[>\"]");
    int files = 0;
    for (const auto& entry : fs::recursive_directory_iterator(source_folder() / "src")) {
        const auto ext = entry.path().extension();
        if (ext != ".h" && ext != ".cpp") continue;
        ++files;
        const std::string room = fs::relative(entry.path(), source_folder() / "src").begin()->string();
        REQUIRE(rank(room) < std::ptrdiff_t(order.size()));
        const std::string text = slurp(entry.path());
        for (auto it = std::sregex_iterator(text.begin(), text.end(), include); it != std::sregex_iterator();
             ++it) {
            const std::string name = (*it)[1];
            INFO(entry.path() << " includes " << name);
            if (room != "app") CHECK_FALSE(std::regex_search(name, std::regex("^Q[A-Z]|^Qt")));
            const std::string from = name.substr(0, name.find('/'));
            if (name.find('/') != std::string::npos && rank(from) < std::ptrdiff_t(order.size()))
                CHECK(rank(from) <= rank(room));
            if (name.starts_with("libav") || name.starts_with("libsw")) CHECK(room == "media");
            if (name.starts_with("embree")) CHECK(room == "sim");
        }
    }
    CHECK(files > 50);
}

TEST_CASE("floors of a room look only downwards, and stations know nothing of each other") {
    // From the ground up; what lies in no folder of its own is above all.
    const std::vector<std::vector<std::string>> rooms = {
        {"solve/pictures/", "solve/bundle/", "solve/"},
        {"stitch/plan/", "stitch/patches/", "stitch/source/", "stitch/colour_match/", "stitch/strips/",
         "stitch/distances/", "stitch/blend/", "stitch/"},
        {"app/widgets/", "app/session/", "app/picture/", "app/stations/", "app/shell/", "app/"}};
    const std::regex include("#include \"([^\"]+)\"");
    const auto station_of = [](const std::string& path) {
        const std::string stations = "app/stations/";
        if (!path.starts_with(stations)) return std::string();
        const auto end = path.find('/', stations.size());
        return end == std::string::npos ? std::string() : path.substr(stations.size(), end - stations.size());
    };
    int looked_at = 0;
    for (const auto& floors : rooms) {
        const auto floor_of = [&](const std::string& path) {
            return std::find_if(floors.begin(), floors.end(),
                                [&](const std::string& f) { return path.starts_with(f); }) -
                   floors.begin();
        };
        const fs::path room = source_folder() / "src" / floors.back();
        for (const auto& entry : fs::recursive_directory_iterator(room)) {
            const auto ext = entry.path().extension();
            if (ext != ".h" && ext != ".cpp") continue;
            const std::string path = fs::relative(entry.path(), source_folder() / "src").string();
            const std::string text = slurp(entry.path());
            for (auto it = std::sregex_iterator(text.begin(), text.end(), include);
                 it != std::sregex_iterator(); ++it) {
                const std::string name = (*it)[1];
                if (!name.starts_with(floors.back())) continue;
                ++looked_at;
                INFO(path << " includes " << name);
                CHECK(floor_of(name) <= floor_of(path));
                if (const std::string from = station_of(path), to = station_of(name); !from.empty())
                    CHECK((to.empty() || to == from));
            }
        }
    }
    CHECK(looked_at > 200);
}

TEST_CASE("headers do not use whole namespaces") {
    for (const auto& entry : fs::recursive_directory_iterator(source_folder() / "src"))
        if (entry.path().extension() == ".h") {
            INFO(entry.path());
            CHECK(slurp(entry.path()).find("using namespace") == std::string::npos);
        }
}

TEST_CASE("the demo takes are whole and small") {
    std::uintmax_t all = 0;
    for (const auto& entry : fs::recursive_directory_iterator(source_folder() / "demo")) {
        if (!entry.is_regular_file()) continue;
        INFO(entry.path());
        CHECK(entry.file_size() < 4'000'000);
        all += entry.file_size();
    }
    CHECK(all < 30'000'000);
    for (const char* name : {"dual/hall_dual.porb", "pair/hall_pair.porb", "ring/hall_ring.porb"})
        CHECK(missing_media(load_project(source_folder() / "demo" / name)).empty());
}
