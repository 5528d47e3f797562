#include "project/takes.h"

#include "base/error.h"
#include "base/file.h"
#include "base/utf8.h"
#include "media/library.h"
#include "media/sequence.h"
#include "media/still.h"
#include "optics/circle_finder.h"
#include "picture/convert.h"
#include "project/origins.h"
#include "project/rig_change.h"

#include <fmt/format.h>

#include <fstream>
#include <map>
#include <numeric>
#include <set>

namespace porb {

namespace {

constexpr double kLikelyFovDeg = 190; ///< of a fisheye nobody has said anything about
constexpr double kTogetherS = 5;      ///< files of one take say they began this close to each other
constexpr double kLengthsAlike = 0.1;
constexpr double kShorterS = 0.5; ///< a difference in length worth a word

struct NameWord {
    std::string text;
    enum class Kind { letters, digits } kind;
};

/// The folder and the stem as words of letters or digits; what separates them does not count.
std::vector<NameWord> words_of(const std::filesystem::path& path) {
    std::vector<NameWord> words;
    const std::string text = path.parent_path().filename().string() + "/" + path.stem().string();
    for (const char ch : text) {
        const auto c = static_cast<unsigned char>(ch);
        const bool digit = std::isdigit(c), letter = std::isalpha(c) || c >= 0x80;
        if (!digit && !letter) {
            if (!words.empty() && !words.back().text.empty()) words.push_back({"", NameWord::Kind::letters});
            continue;
        }
        const auto kind = digit ? NameWord::Kind::digits : NameWord::Kind::letters;
        if (words.empty() || (words.back().kind != kind && !words.back().text.empty()))
            words.push_back({"", kind});
        words.back().kind = kind;
        words.back().text += char(std::tolower(c));
    }
    std::erase_if(words, [](const NameWord& w) { return w.text.empty(); });
    return words;
}

/// How much a word at its place looks like the name of a camera rather than of a take.
double camera_likeness(const std::vector<NameWord>& words, std::size_t at) {
    static const std::set<std::string> kCamera = {"cam", "camera", "c", "lens", "eye", "gp", "unit"};
    static const std::set<std::string> kTake = {"take", "t", "shot", "scene", "clip", "s", "sc", "tk"};
    static const std::set<std::string> kSides = {"left", "right", "l",   "r",      "front", "back",
                                                 "up",   "down",  "top", "bottom", "rear"};
    const NameWord& w = words[at];
    if (kSides.count(w.text)) return 2.5;
    if (w.kind == NameWord::Kind::letters) return w.text.size() == 1 ? 2 : 0;
    if (at > 0 && kCamera.count(words[at - 1].text)) return 2;
    if (at > 0 && kTake.count(words[at - 1].text)) return -2;
    return w.text.size() <= 2 ? 0.5 : -0.5;
}

double seconds_of(const FoundFile& f) {
    return f.info.duration.to_double();
}

/// What two files say for or against having been recorded together.
double kinship(const FoundFile& a, const FoundFile& b) {
    double score = 0;
    if (a.info.created_s && b.info.created_s) {
        const double apart = std::abs(double(*a.info.created_s - *b.info.created_s));
        score += apart <= kTogetherS ? 2 : apart > std::max(seconds_of(a), seconds_of(b)) ? -3 : -0.5;
    }
    const double longer = std::max(seconds_of(a), seconds_of(b));
    if (longer > 0) score += std::abs(seconds_of(a) - seconds_of(b)) <= kLengthsAlike * longer ? 1 : -0.5;
    score += a.info.width == b.info.width && a.info.height == b.info.height ? 0.5 : -1;
    score += a.info.rate == b.info.rate ? 0.25 : -0.25;
    return score;
}

bool one_circle_file(const FoundFile& f) {
    return f.circles != 2 &&
           !(f.circles == 0 && f.info.width >= 1.9 * f.info.height && f.info.width <= 2.1 * f.info.height);
}

/// Where a camera of that name stands among others: front before back, left before right, letters and numbers
/// in their order.
std::pair<int, std::string> rank_of(const std::string& mark, bool round) {
    static const std::map<std::string, int> kSides = {{"front", 0}, {"right", 2}, {"back", 3},
                                                      {"rear", 3},  {"left", 1},  {"up", 5},
                                                      {"top", 5},   {"down", 6},  {"bottom", 6}};
    const auto it = kSides.find(mark);
    if (it == kSides.end()) return {10 + int(mark.size()), mark};
    // Round a rig one goes from the front to the right; two eyes are left and right.
    if (round && it->second == 1) return {4, mark};
    return {it->second, mark};
}
void sort_marks(std::vector<std::string>& marks) {
    const bool round = std::find(marks.begin(), marks.end(), "front") != marks.end();
    std::stable_sort(marks.begin(), marks.end(), [&](const std::string& a, const std::string& b) {
        return rank_of(a, round) < rank_of(b, round);
    });
}

constexpr int kViewSide = 24;

/// What a circle shows, from its square in the middle of which light lies.
std::vector<float> view_of(const Picture& picture, double x0, double x1) {
    std::vector<float> out(std::size_t(kViewSide) * kViewSide);
    const double side = std::min<double>(x1 - x0, picture.height()) * 0.6; // well inside the circle
    const double left = (x0 + x1 - side) / 2, top = (picture.height() - side) / 2, cell = side / kViewSide;
    double sum = 0, squares = 0;
    for (int y = 0; y < kViewSide; ++y)
        for (int x = 0; x < kViewSide; ++x) {
            double v = 0;
            for (int s = 0; s < 9; ++s) {
                const int px = std::clamp(int(left + (x + (s % 3 + 0.5) / 3) * cell), 0, picture.width() - 1);
                const int py = std::clamp(int(top + (y + (s / 3 + 0.5) / 3) * cell), 0, picture.height() - 1);
                v += float_from_half(picture.row(py)[4 * px + 1]) / 9;
            }
            out[std::size_t(y) * kViewSide + std::size_t(x)] = float(v);
            sum += v, squares += v * v;
        }
    const double n = double(out.size()), mean = sum / n, spread = std::sqrt(squares / n - mean * mean);
    if (!(spread > 0.004)) return {}; // dark or even: it tells nothing
    for (float& v : out) v = float((v - mean) / spread);
    return out;
}

/// Correlation of what two circles show, at the best of small shifts.
double correlation(const std::vector<float>& a, const std::vector<float>& b) {
    double best = -1;
    for (int dy = -2; dy <= 2; ++dy)
        for (int dx = -4; dx <= 4; ++dx) {
            double sum = 0;
            int n = 0;
            for (int y = std::max(0, dy); y < std::min(kViewSide, kViewSide + dy); ++y)
                for (int x = std::max(0, dx); x < std::min(kViewSide, kViewSide + dx); ++x, ++n)
                    sum += double(a[std::size_t(y) * kViewSide + std::size_t(x)]) *
                           double(b[std::size_t(y - dy) * kViewSide + std::size_t(x - dx)]);
            best = std::max(best, sum / n);
        }
    return best;
}

/// Whether two cameras of a take are a left and a right eye: by their names, and where those say nothing, by
/// whether both show the same view.
std::optional<std::string> pair_reason(const Take& take, const std::vector<FoundFile>& files) {
    constexpr double kSameView = 0.75;
    const auto is = [](const std::string& mark, const char* word) {
        return mark == word || (mark.size() == 1 && mark[0] == word[0]);
    };
    if (take.files.size() == 2 && take.circles_per_picture == 1) {
        const auto &a = take.marks[0], &b = take.marks[1];
        if (is(a, "left") && is(b, "right")) return "left and right: a pair for 180 degrees";
        if (a == "front" || b == "front" || a == "up" || b == "up") return std::nullopt;
    }
    std::vector<const std::vector<float>*> views;
    for (const std::size_t f : take.files)
        for (const auto& v : files[f].views) views.push_back(&v);
    if (views.size() != 2 || views[0]->empty() || views[1]->empty()) return std::nullopt;
    if (correlation(*views[0], *views[1]) < kSameView) return std::nullopt;
    return "both lenses show the same view: a pair for 180 degrees";
}

struct Group {
    std::vector<std::size_t> files;
    std::size_t place = 0; ///< which word tells the cameras apart
};

/// All ways of leaving one word out, and the files that then share a name.
std::vector<Group> groupings(const std::vector<FoundFile>& files, const std::vector<std::size_t>& open,
                             const std::vector<std::vector<NameWord>>& words) {
    std::map<std::string, Group> groups;
    for (const std::size_t f : open)
        for (std::size_t at = 0; at < words[f].size(); ++at) {
            std::string key = std::to_string(at) + files[f].info.ref.path.extension().string();
            for (std::size_t i = 0; i < words[f].size(); ++i)
                key += "|" + (i == at ? std::string(words[f][i].kind == NameWord::Kind::digits ? "#" : "@")
                                      : words[f][i].text);
            Group& g = groups[key];
            g.files.push_back(f);
            g.place = at;
        }
    std::vector<Group> out;
    for (auto& [key, g] : groups)
        if (g.files.size() > 1) out.push_back(std::move(g));
    return out;
}

double score_of(const Group& g, const std::vector<FoundFile>& files,
                const std::vector<std::vector<NameWord>>& words) {
    double kin = 0, pairs = 0, camera = 0;
    for (std::size_t i = 0; i < g.files.size(); ++i) {
        camera += camera_likeness(words[g.files[i]], g.place);
        for (std::size_t j = i + 1; j < g.files.size(); ++j)
            kin += kinship(files[g.files[i]], files[g.files[j]]), ++pairs;
    }
    return kin / pairs + camera / double(g.files.size()) + 0.05 * double(g.files.size());
}

std::string name_without(const std::vector<NameWord>& words, std::size_t place,
                         const std::filesystem::path& path) {
    std::string text;
    const auto folder_words = words_of(path.parent_path() / "x").size() - 1;
    for (std::size_t i = folder_words; i < words.size(); ++i)
        if (i != place) text += (text.empty() ? "" : " ") + words[i].text;
    return text.empty() ? path.parent_path().filename().string() : text;
}

std::uint64_t mixed(std::uint64_t hash, std::string_view bytes) {
    for (const char c : bytes) hash = (hash ^ static_cast<unsigned char>(c)) * 1099511628211ull; // FNV-1a
    return hash;
}

/// The letters or numbers that a run of marks leaves out: A B D says C.
std::vector<std::string> gaps_in(const std::vector<std::string>& marks) {
    std::vector<std::string> gaps;
    const bool letters = std::all_of(marks.begin(), marks.end(), [](const std::string& m) {
        return m.size() == 1 && std::isalpha(static_cast<unsigned char>(m[0]));
    });
    const bool digits = std::all_of(marks.begin(), marks.end(), [](const std::string& m) {
        return !m.empty() && m.size() <= 3 &&
               std::all_of(m.begin(), m.end(), [](unsigned char c) { return std::isdigit(c); });
    });
    if ((!letters && !digits) || marks.size() < 2) return gaps;
    std::set<int> have;
    for (const auto& m : marks) have.insert(letters ? m[0] : std::stoi(m));
    const int first = letters ? (*have.begin() <= 'c' ? 'a' : *have.begin()) : std::min(*have.begin(), 1);
    for (int v = first; v <= *have.rbegin(); ++v)
        if (!have.count(v) && gaps.size() < 8)
            gaps.push_back(letters ? std::string(1, char(v)) : std::to_string(v));
    return gaps;
}

std::string file_name(const FoundFile& f) {
    return f.info.ref.path.filename().string();
}

/// A mark as people write it: single letters large.
std::string shown(const std::string& mark) {
    return mark.size() == 1 ? std::string(1, char(std::toupper(static_cast<unsigned char>(mark[0])))) : mark;
}

template <class Key>
Key most_common(const std::vector<Key>& values) {
    std::map<Key, int> count;
    for (const auto& v : values) ++count[v];
    return std::max_element(count.begin(), count.end(),
                            [](const auto& a, const auto& b) { return a.second < b.second; })
        ->first;
}

/// Two where a wide picture shows two circles, one where it clearly does not, 0 where it is too dark to say.
int circles_seen(const MediaInfo& info) {
    const double longer = std::max(info.width, info.height), shorter = std::min(info.width, info.height);
    if (longer < 1.7 * shorter) return 1;
    MediaLibrary library(64u << 20);
    int level = 0;
    while (longer / (2 << level) >= 900) ++level;
    std::vector<Picture> moments;
    for (const int part : {1, 3})
        if (const auto p = library.picture(info.ref, info.duration * Rational(part, 4), level))
            moments.push_back(*p);
    const CircleSearch found = find_circles(moments, 2);
    if (found.circles.size() == 2) return 2;
    return found.why_not.find("dark") != std::string::npos ? 0 : 1;
}

/// Early in the file, where recording has settled.
std::vector<std::vector<float>> views_of(const MediaInfo& info, int circles) try {
    MediaLibrary library(64u << 20);
    int level = 0;
    while ((std::max(info.width, info.height) >> (level + 1)) >= 400) ++level;
    const auto picture = library.picture(info.ref, info.duration * Rational(1, 4), level);
    if (!picture) return {};
    const double width = picture->width();
    if (circles == 2) return {view_of(*picture, 0, width / 2), view_of(*picture, width / 2, width)};
    return {view_of(*picture, 0, width)};
} catch (const Error&) {
    return {}; // what cannot be read is told where it is used
}

} // namespace

Take described(Take take, const std::vector<FoundFile>& files) {
    std::erase_if(take.remarks, [](const TakeRemark& r) { return r.kind != TakeRemark::Kind::duplicate; });
    take.reasons.clear();
    const auto at = [&](std::size_t i) -> const FoundFile& { return files[take.files[i]]; };
    const std::size_t n = take.files.size();
    if (n == 0) return take;
    const bool video = at(0).info.ref.kind == MediaKind::video;
    if (take.circles_per_picture == 2) {
        take.reasons.push_back(at(0).circles == 2 ? "two image circles were seen in it"
                                                  : "twice as wide as high: two circles side by side");
    } else if (n > 1) {
        std::string marks;
        for (const auto& m : take.marks) marks += (marks.empty() ? "" : ", ") + shown(m);
        if (std::none_of(take.marks.begin(), take.marks.end(),
                         [](const std::string& m) { return m.empty(); }))
            take.reasons.push_back("names differ only in " + marks);
        double first = 1e18, last = -1e18;
        for (std::size_t i = 0; i < n; ++i)
            if (at(i).info.created_s)
                first = std::min(first, double(*at(i).info.created_s)),
                last = std::max(last, double(*at(i).info.created_s));
        if (first <= last && last - first <= kTogetherS)
            take.reasons.push_back(
                fmt::format("recording began within {:.0f} s", std::max(1.0, last - first)));
    } else {
        take.reasons.push_back("no other file goes with it");
    }
    const auto pair = pair_reason(take, files);
    take.pair = pair.has_value();
    if (pair) take.reasons.push_back(*pair);
    std::vector<double> lengths;
    std::vector<std::pair<int, int>> sizes;
    std::vector<std::string> rates;
    for (std::size_t i = 0; i < n; ++i) {
        lengths.push_back(seconds_of(at(i)));
        sizes.push_back({at(i).info.width, at(i).info.height});
        rates.push_back(at(i).info.rate.to_string());
    }
    const auto usual_size = most_common(sizes);
    const auto usual_rate = most_common(rates);
    const double longest = *std::max_element(lengths.begin(), lengths.end());
    if (n > 1 && video && longest - *std::min_element(lengths.begin(), lengths.end()) <= kShorterS)
        take.reasons.push_back(fmt::format("all last {:.1f} s", longest));
    using Kind = TakeRemark::Kind;
    take.absent = gaps_in(take.marks);
    for (const auto& gap : take.absent)
        take.remarks.push_back({Kind::missing, -1, "camera " + shown(gap) + " is absent"});
    for (std::size_t i = 0; i < n && n > 1; ++i) {
        const FoundFile& f = at(i);
        if (video && longest - lengths[i] > kShorterS)
            take.remarks.push_back(
                {Kind::shorter, int(i),
                 fmt::format("{} is {:.1f} s shorter than the longest", file_name(f), longest - lengths[i])});
        if (sizes[i] != usual_size)
            take.remarks.push_back(
                {Kind::size, int(i),
                 fmt::format("{} is {} x {}, the others {} x {}", file_name(f), f.info.width, f.info.height,
                             usual_size.first, usual_size.second)});
        if (video && rates[i] != usual_rate)
            take.remarks.push_back(
                {Kind::rate, int(i),
                 fmt::format("{} runs at {:.6g} frames a second, the others at {:.6g}", file_name(f),
                             f.info.rate.to_double(), Rational::parse(usual_rate, "rate").to_double())});
        if (f.info.variable_rate)
            take.remarks.push_back(
                {Kind::rate, int(i), file_name(f) + " has a variable frame rate; it is lined up by time"});
    }
    const auto silent = std::count_if(take.files.begin(), take.files.end(),
                                      [&](std::size_t f) { return !files[f].info.sound; });
    if (video && silent > 0 && std::size_t(silent) < n)
        for (std::size_t i = 0; i < n; ++i)
            if (!at(i).info.sound)
                take.remarks.push_back(
                    {Kind::sound, int(i), file_name(at(i)) + " has no sound to be aligned by"});
    return take;
}

std::vector<Take> propose_takes(const std::vector<FoundFile>& files) {
    std::vector<Take> takes;
    std::vector<std::size_t> open;
    std::map<std::size_t, std::vector<std::size_t>> copies; // original -> copies
    std::vector<std::vector<NameWord>> words(files.size());
    for (std::size_t i = 0; i < files.size(); ++i) words[i] = words_of(files[i].info.ref.path);
    // Of like files the one with the plainest name counts as the original.
    std::vector<std::size_t> plain(files.size());
    std::iota(plain.begin(), plain.end(), std::size_t(0));
    std::stable_sort(plain.begin(), plain.end(), [&](std::size_t a, std::size_t b) {
        return file_name(files[a]).size() < file_name(files[b]).size();
    });
    for (const std::size_t i : plain) {
        const auto same = std::find_if(open.begin(), open.end(), [&](std::size_t k) {
            return files[k].fingerprint != 0 && files[k].fingerprint == files[i].fingerprint &&
                   files[k].bytes == files[i].bytes;
        });
        if (same != open.end())
            copies[*same].push_back(i);
        else
            open.push_back(i);
    }
    std::sort(open.begin(), open.end());
    std::vector<std::size_t> single;
    std::vector<std::size_t> ringable;
    for (const std::size_t i : open) (one_circle_file(files[i]) ? ringable : single).push_back(i);
    // The best grouping first; its files are then taken, and the rest is looked at again.
    while (ringable.size() > 1) {
        const Group* best = nullptr;
        double best_score = 0.75; // below it they only look alike
        const auto groups = groupings(files, ringable, words);
        for (const auto& g : groups) {
            if (g.files.size() > std::size_t(kMostCameras)) continue;
            if (const double s = score_of(g, files, words); s > best_score) best_score = s, best = &g;
        }
        if (!best) break;
        Take take;
        auto members = best->files;
        const bool round = std::any_of(members.begin(), members.end(),
                                       [&](std::size_t f) { return words[f][best->place].text == "front"; });
        std::sort(members.begin(), members.end(), [&](std::size_t a, std::size_t b) {
            return rank_of(words[a][best->place].text, round) < rank_of(words[b][best->place].text, round);
        });
        take.files = members;
        for (const std::size_t f : members) take.marks.push_back(words[f][best->place].text);
        take.name = name_without(words[members[0]], best->place, files[members[0]].info.ref.path);
        takes.push_back(std::move(take));
        std::erase_if(ringable, [&](std::size_t f) {
            return std::find(members.begin(), members.end(), f) != members.end();
        });
    }
    single.insert(single.end(), ringable.begin(), ringable.end());
    for (const std::size_t f : single) {
        Take take;
        take.files = {f};
        take.marks = {""};
        take.circles_per_picture = one_circle_file(files[f]) ? 1 : 2;
        take.name = files[f].info.ref.path.stem().string();
        takes.push_back(std::move(take));
    }
    for (auto& take : takes) {
        for (const std::size_t f : take.files)
            for (const std::size_t copy : copies[f])
                take.remarks.push_back(
                    {TakeRemark::Kind::duplicate, -1,
                     file_name(files[copy]) + " is a copy of " + file_name(files[f]) + " and is left out"});
        take = described(std::move(take), files);
    }
    std::sort(takes.begin(), takes.end(), [&](const Take& a, const Take& b) {
        const auto when = [&](const Take& t) { return files[t.files[0]].info.created_s.value_or(0); };
        return std::pair(when(a), files[a.files[0]].info.ref.path) <
               std::pair(when(b), files[b.files[0]].info.ref.path);
    });
    // Takes of one rig tell each other which camera is absent.
    for (auto& a : takes)
        for (const auto& b : takes) {
            if (a.files.size() < 2 || a.files.size() >= b.files.size() ||
                !std::includes(b.marks.begin(), b.marks.end(), a.marks.begin(), a.marks.end()))
                continue;
            for (const auto& mark : b.marks) {
                const bool here = std::find(a.marks.begin(), a.marks.end(), mark) != a.marks.end();
                const bool said = std::find(a.absent.begin(), a.absent.end(), mark) != a.absent.end();
                if (here || said) continue;
                a.absent.push_back(mark);
                a.remarks.push_back({TakeRemark::Kind::missing, -1, "camera " + shown(mark) + " is absent"});
            }
        }
    return takes;
}

bool affords_fine_edges(const Machine& machine) {
    // A frame 3840 wide takes some three seconds of processor time and, with two eyes and an encoder, 2.8
    // GiB.
    constexpr unsigned kProcessors = 4;
    constexpr double kMemory = 7e9; // eight as sold, less what the system and its display keep
    return machine.processors >= kProcessors && double(machine.memory_bytes) >= kMemory;
}

Shot new_shot(Rig rig, std::string name, const Origin& origin, const Machine& machine) {
    propose_eyes(rig);
    Shot shot = shot_for_rig(rig, std::move(name));
    shot.seams.flow.fine_edges = affords_fine_edges(machine);
    for (auto& c : shot.cameras)
        for (int v = 0; v < kCameraValues; ++v) // nobody has said anything of time yet
            if (CameraValue(v) != CameraValue::offset) origin_of(c, CameraValue(v)) = origin;
    shot.calibration.profile = std::move(rig);
    return shot;
}

void give_source(Project& project, Shot& shot, std::size_t camera, const MediaInfo& source) {
    const bool first_video = source.ref.kind == MediaKind::video &&
                             std::none_of(shot.cameras.begin(), shot.cameras.end(), [&](const ShotCamera& c) {
                                 const Media* m = find_media(project, c.media);
                                 return m && m->ref.kind == MediaKind::video;
                             });
    const std::string id = add_media(project, source.ref);
    shot.cameras[camera].media = id;
    if (shot.timing.sound.empty() && source.sound) shot.timing.sound = id;
    if (first_video) shot.timing.rate = source.rate;
    if (!shot.calibration.motion && source.has_motion)
        shot.calibration.motion = MotionSource{source.ref.path, Seconds(0), shot.rig.cameras[camera].id};
}

std::vector<std::string> start_from(Shot& shot, const Rig& rig, const Origin& origin) {
    std::vector<std::string> words;
    const bool locked = std::any_of(shot.cameras.begin(), shot.cameras.end(),
                                    [](const ShotCamera& c) { return c.lens_locked || c.pose_locked; });
    if (locked && shot.cameras.size() == rig.cameras.size()) { // a lock keeps its camera where it is
        take_rig(shot, rig, origin);
    } else {
        Rig with_eyes = rig;
        const bool eyes = propose_eyes(with_eyes);
        words = change_rig(shot, with_eyes);
        if (eyes)
            words.push_back("camera " +
                            with_eyes.cameras[with_eyes.cameras[0].eyes == Eyes::left ? 0 : 1].id +
                            " is taken for the left eye, since both look the same way");
        for (auto& c : shot.cameras)
            for (int v = 0; v < kCameraValues; ++v)
                if (CameraValue(v) != CameraValue::offset) origin_of(c, CameraValue(v)) = origin;
    }
    shot.calibration.profile = rig;
    return words;
}

std::string add_take(Project& project, const Take& take, const std::vector<FoundFile>& files,
                     const std::vector<Profile>& profiles) {
    const MediaInfo& first = files[take.files.at(0)].info;
    const auto fitting_for = [&](std::size_t count) {
        return matching(profiles, {int(count) * take.circles_per_picture, first.width, first.height,
                                   take.circles_per_picture});
    };
    // Absent cameras keep their place where a profile has one for them.
    std::vector<std::string> places = take.marks;
    places.resize(take.files.size());
    auto fitting = fitting_for(take.files.size());
    if (const auto whole = fitting_for(take.files.size() + take.absent.size());
        !take.absent.empty() && !whole.empty()) {
        fitting = whole;
        places.insert(places.end(), take.absent.begin(), take.absent.end());
        sort_marks(places);
    }
    const int cameras = int(places.size()) * take.circles_per_picture;
    // Two lenses for two eyes are another rig than two back to back.
    std::erase_if(fitting, [&](const Profile& p) {
        Rig rig = p.rig;
        propose_eyes(rig);
        const bool eyes = std::any_of(rig.cameras.begin(), rig.cameras.end(),
                                      [](const Camera& c) { return c.eyes != Eyes::both; });
        return cameras == 2 && eyes != take.pair;
    });
    const std::string name =
        as_utf8(take.name.empty() ? "Shot " + std::to_string(project.shots.size() + 1) : take.name);
    Shot shot =
        !fitting.empty() ? new_shot(scaled(fitting.front().rig, first.width, first.height), name,
                                    {OriginKind::profile, fitting.front().name()})
        : take.pair
            ? new_shot(nominal_pair(first.width, first.height, take.circles_per_picture, kLikelyFovDeg), name,
                       {OriginKind::assumed, "fisheyes of 190 degrees, 64 mm apart"})
            : new_shot(
                  nominal_rig(cameras, first.width, first.height, take.circles_per_picture, kLikelyFovDeg),
                  name, {OriginKind::assumed, "fisheyes of 190 degrees"});
    shot.id = free_shot_id(project);
    for (std::size_t i = 0; i < take.files.size(); ++i) {
        const FoundFile& f = files[take.files[i]];
        const std::size_t place =
            places.size() == take.files.size()
                ? i
                : std::size_t(std::find(places.begin(), places.end(), take.marks[i]) - places.begin());
        for (int c = 0; c < take.circles_per_picture; ++c) {
            const std::size_t camera = place * std::size_t(take.circles_per_picture) + std::size_t(c);
            // A file of another size is kept with the take, but its lens has to be scaled to it.
            Lens& lens = shot.rig.cameras[camera].lens;
            if (lens.width != f.info.width || lens.height != f.info.height)
                lens = scaled(lens, f.info.width, f.info.height);
            give_source(project, shot, camera, f.info);
        }
    }
    project.shots.push_back(std::move(shot));
    return project.shots.back().id;
}

std::vector<std::filesystem::path> folded_sequences(const std::vector<std::filesystem::path>& files) {
    std::map<std::filesystem::path, int> patterns;
    for (const auto& f : files)
        if (const auto p = pattern_of(f); p && is_still_name(*p)) ++patterns[*p];
    std::vector<std::filesystem::path> out;
    std::set<std::filesystem::path> used;
    for (const auto& f : files) {
        const auto p = pattern_of(f);
        if (p && patterns[*p] > 1) {
            if (used.insert(*p).second) out.push_back(*p);
        } else {
            out.push_back(f);
        }
    }
    return out;
}

std::vector<std::filesystem::path> media_files_in(const std::filesystem::path& folder, std::size_t most) {
    static const std::set<std::string> kEndings = {".mp4", ".mov", ".mkv", ".webm", ".mxf", ".avi",  ".ts",
                                                   ".m4v", ".png", ".jpg", ".jpeg", ".tif", ".tiff", ".exr"};
    std::error_code code;
    std::vector<std::filesystem::path> files;
    for (std::filesystem::recursive_directory_iterator
             it(folder, std::filesystem::directory_options::skip_permission_denied, code),
         end;
         !code && it != end && files.size() < most; it.increment(code)) {
        if (it.depth() > 4) it.disable_recursion_pending();
        const std::string name = it->path().filename().string();
        std::string ending = it->path().extension().string();
        std::transform(ending.begin(), ending.end(), ending.begin(),
                       [](unsigned char c) { return char(std::tolower(c)); });
        if (!name.starts_with('.') && it->is_regular_file(code) && kEndings.count(ending))
            files.push_back(it->path());
    }
    if (!std::filesystem::is_directory(folder, code))
        throw Error("is not a folder", folder.string(), "Choose a folder");
    std::sort(files.begin(), files.end());
    return folded_sequences(files);
}

FoundFile look_at(const std::filesystem::path& file) {
    FoundFile f;
    f.info = probe(media_ref_for(std::filesystem::absolute(file).lexically_normal()));
    f.circles = circles_seen(f.info);
    f.views = views_of(f.info, f.circles);
    if (f.info.ref.kind == MediaKind::sequence) return f;
    constexpr std::size_t kPart = 1 << 16;
    std::error_code code;
    f.bytes = std::filesystem::file_size(file, code);
    must_be_regular_file(file);
    std::ifstream in(file, std::ios::binary);
    std::string part(kPart, '\0');
    std::uint64_t hash = 14695981039346656037ull;
    for (const auto at : {std::uintmax_t(0), f.bytes / 2, f.bytes > kPart ? f.bytes - kPart : 0}) {
        in.clear();
        in.seekg(std::streamoff(at));
        in.read(part.data(), std::streamsize(part.size()));
        hash = mixed(hash, {part.data(), std::size_t(std::max<std::streamsize>(0, in.gcount()))});
    }
    f.fingerprint = hash;
    return f;
}

} // namespace porb
