#include "optics/profiles.h"

#include "base/angle.h"
#include "base/error.h"
#include "base/file.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <set>
#include <sstream>

namespace porb {

namespace {

constexpr int kMostSaved = 2000;

/// An arrangement: where its cameras look, as yaw and pitch, how far their pupils stand from the middle.
struct Arrangement {
    const char* name;
    const char* words; ///< more that it may be searched by
    double fov_deg;
    double radius_m;
    int circles_per_picture;
    std::vector<std::pair<double, double>> looks;
    std::vector<int> sizes; ///< sides of the square that holds one circle
};

std::vector<std::pair<double, double>> ring(int count, double pitch_deg = 0, double first_yaw_deg = 0) {
    std::vector<std::pair<double, double>> out;
    for (int i = 0; i < count; ++i) out.push_back({first_yaw_deg + 360.0 * i / count, pitch_deg});
    return out;
}

std::vector<std::pair<double, double>>
joined(std::initializer_list<std::vector<std::pair<double, double>>> parts) {
    std::vector<std::pair<double, double>> out;
    for (const auto& p : parts) out.insert(out.end(), p.begin(), p.end());
    return out;
}

const std::vector<Arrangement>& arrangements() {
    static const std::vector<Arrangement> all = {
        {"two fisheyes in one picture",
         "dual back to back side by side",
         200,
         0.012,
         2,
         {{0, 0}, {180, 0}},
         {960, 1440, 1920, 2880, 3840}},
        {"two fisheyes in two files",
         "dual back to back",
         200,
         0.012,
         1,
         {{0, 0}, {180, 0}},
         {960, 1440, 1920, 2880, 3840}},
        {"ring of four", "fisheyes horizontal", 200, 0.055, 1, ring(4), {960, 1440, 1920, 2880}},
        {"ring of six", "fisheyes horizontal", 190, 0.075, 1, ring(6), {960, 1440, 1920, 2880}},
        {"ring of eight", "fisheyes horizontal", 180, 0.1, 1, ring(8), {960, 1440, 1920, 2880}},
        {"ball of eight",
         "fisheyes all round with up and down",
         185,
         0.08,
         1,
         joined({ring(6), {{0, 90}, {0, -90}}}),
         {960, 1440, 1920, 2880}},
        {"dome of five",
         "fisheyes all round with one up",
         190,
         0.06,
         1,
         joined({ring(4, 20), {{0, 90}}}),
         {960, 1440, 1920, 2880}},
        {"pair for 180 degrees in one picture",
         "stereo left right eyes side by side",
         190,
         0.032,
         2,
         {},
         {960, 1440, 1920, 2880, 3840}},
        {"pair for 180 degrees in two files",
         "stereo left right eyes",
         190,
         0.032,
         1,
         {},
         {960, 1440, 1920, 2880, 3840}},
        {"single 180-degree fisheye",
         "mono half sphere one",
         180,
         0,
         1,
         {{0, 0}},
         {960, 1440, 1920, 2880, 3840}},
    };
    return all;
}

Rig rig_of(const Arrangement& a, int size) {
    const int count = a.looks.empty() ? 2 : int(a.looks.size());
    Rig rig = nominal_rig(count, size * a.circles_per_picture, size, a.circles_per_picture, a.fov_deg);
    rig.name = fmt::format("{}, {} px", a.name, size);
    for (int i = 0; i < count; ++i) {
        Camera& c = rig.cameras[std::size_t(i)];
        if (a.looks.empty()) { // a pair looks ahead, its eyes beside each other
            c.pose = {{0, 0, 0}, Vec3(i == 0 ? -a.radius_m : a.radius_m, 0, 0)};
            c.eyes = i == 0 ? Eyes::left : Eyes::right;
            continue;
        }
        const auto [yaw, pitch] = a.looks[std::size_t(i)];
        c.pose.turn = {wrapped_deg(yaw), pitch, 0};
        c.pose.position_m = a.radius_m * (rotation_of(c.pose.turn) * Vec3(0, 0, 1));
        for (double& v : c.pose.position_m)
            if (std::abs(v) < 1e-15) v = 0;
    }
    return rig;
}

std::string words_of(const Profile& p) {
    std::string text = p.name();
    for (const auto& a : arrangements())
        if (p.built_in && p.name().starts_with(a.name)) text += " " + std::string(a.words);
    const TakeShape s = shape_of(p);
    text +=
        fmt::format(" {} cameras {}x{} {}", s.cameras, s.width, s.height, p.built_in ? "built-in" : "saved");
    std::transform(text.begin(), text.end(), text.begin(),
                   [](unsigned char c) { return char(std::tolower(c)); });
    return text;
}

bool same_picture(const Lens& a, const Lens& b) {
    return a.width == b.width && a.height == b.height;
}

/// Two when the circles of a rig take less than a half of their pictures.
int circles_in(const Rig& rig) {
    const bool shared =
        !rig.cameras.empty() && std::all_of(rig.cameras.begin(), rig.cameras.end(), [](const Camera& c) {
            const double side = std::max(c.lens.width, c.lens.height);
            return side >= 1.7 * std::min(c.lens.width, c.lens.height) &&
                   c.lens.circle.radius_px * 2 <= 0.6 * side;
        });
    return shared && rig.cameras.size() > 1 ? 2 : 1;
}

} // namespace

std::vector<Profile> built_in_profiles() {
    std::vector<Profile> out;
    for (const auto& a : arrangements())
        for (const int size : a.sizes) out.push_back({rig_of(a, size), a.circles_per_picture, true, {}});
    return out;
}

std::vector<std::filesystem::path> profile_folders() {
    std::vector<std::filesystem::path> out;
    const auto value = [](const char* name) {
        const char* v = std::getenv(name);
        return std::string(v ? v : "");
    };
    const auto add = [&](const std::string& base) {
        if (base.starts_with("/")) out.push_back(std::filesystem::path(base) / "pale-orbit" / "profiles");
    };
    const std::string home = value("XDG_DATA_HOME");
    add(home.starts_with("/") ? home : value("HOME") + "/.local/share");
    const std::string dirs = value("XDG_DATA_DIRS");
    std::istringstream rest(dirs.empty() ? "/usr/local/share:/usr/share" : dirs);
    for (std::string one; std::getline(rest, one, ':');) add(one);
    return out;
}

std::vector<Profile> saved_profiles(const std::vector<std::filesystem::path>& folders,
                                    std::vector<std::string>* remarks) {
    std::vector<Profile> out;
    std::set<std::filesystem::path> names; // a user's profile hides the machine's of the same name
    for (const auto& folder : folders) {
        std::error_code code;
        std::vector<std::filesystem::path> files;
        for (std::filesystem::directory_iterator it(folder, code), end;
             !code && it != end && int(files.size()) < kMostSaved; it.increment(code))
            if (it->path().string().ends_with(".rig.json")) files.push_back(it->path());
        std::sort(files.begin(), files.end());
        for (const auto& file : files) {
            if (!names.insert(file.filename()).second) continue;
            try {
                Rig rig = load_rig(file);
                const int circles = circles_in(rig);
                out.push_back({std::move(rig), circles, false, file});
            } catch (const Error& e) {
                if (remarks) remarks->push_back(e.message());
            }
        }
    }
    return out;
}

std::vector<Profile> all_profiles() {
    auto out = saved_profiles(profile_folders());
    auto own = built_in_profiles();
    out.insert(out.end(), std::make_move_iterator(own.begin()), std::make_move_iterator(own.end()));
    return out;
}

Profile save_profile(Rig rig, const std::string& name, const std::filesystem::path& folder) {
    std::string file;
    for (const char c : name)
        file += std::isalnum(static_cast<unsigned char>(c)) || c == '-' || (c & 0x80) ? c : '_';
    if (file.find_first_not_of('_') == file.npos)
        throw Error("needs a name", "profile", "Use letters or digits");
    if (file.size() > 120) throw Error("has too long a name", "profile", "Use at most 120 letters");
    std::error_code code;
    std::filesystem::create_directories(folder, code);
    rig.name = name;
    const auto path = folder / (file + ".rig.json");
    save_rig(rig, path);
    const int circles = circles_in(rig);
    return {std::move(rig), circles, false, path};
}

std::vector<Profile> search(const std::vector<Profile>& profiles, std::string_view words) {
    std::vector<std::string> wanted;
    std::istringstream in{std::string(words)};
    for (std::string w; in >> w;) {
        std::transform(w.begin(), w.end(), w.begin(), [](unsigned char c) { return char(std::tolower(c)); });
        wanted.push_back(w);
    }
    std::vector<Profile> out;
    for (const auto& p : profiles) {
        const std::string text = words_of(p);
        if (std::all_of(wanted.begin(), wanted.end(),
                        [&](const std::string& w) { return text.find(w) != text.npos; }))
            out.push_back(p);
    }
    return out;
}

TakeShape shape_of(const Profile& p) {
    if (p.rig.cameras.empty()) return {};
    const Lens& first = p.rig.cameras.front().lens;
    return {int(p.rig.cameras.size()), first.width, first.height, p.circles_per_picture};
}

std::vector<Profile> matching(const std::vector<Profile>& profiles, const TakeShape& take) {
    std::vector<std::pair<double, const Profile*>> ranked;
    for (const auto& p : profiles) {
        const TakeShape s = shape_of(p);
        if (s.cameras != take.cameras || s.circles_per_picture != take.circles_per_picture ||
            take.width < 1 || take.height < 1)
            continue;
        const Lens& first = p.rig.cameras.front().lens;
        if (!std::all_of(p.rig.cameras.begin(), p.rig.cameras.end(),
                         [&](const Camera& c) { return same_picture(c.lens, first); }))
            continue;
        const double shape = double(s.width) / s.height * take.height / take.width;
        if (std::abs(shape - 1) > 0.01) continue;
        ranked.push_back({std::abs(std::log2(double(s.width) / take.width)) + (p.built_in ? 10 : 0), &p});
    }
    std::stable_sort(ranked.begin(), ranked.end(),
                     [](const auto& a, const auto& b) { return a.first < b.first; });
    std::vector<Profile> out;
    for (const auto& [cost, p] : ranked) out.push_back(*p);
    return out;
}

Rig scaled(const Rig& rig, int width, int height) {
    Rig out = rig;
    for (auto& c : out.cameras) c.lens = scaled(c.lens, width, height);
    return out;
}

} // namespace porb
