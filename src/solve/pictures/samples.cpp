#include "solve/pictures/samples.h"

#include "base/angle.h"
#include "base/error.h"
#include "project/span.h"

namespace porb {

namespace {

constexpr int kScoreWidth = 240; ///< pictures are judged at about this size
constexpr int kCandidatesASample = 4;
constexpr double kLeastShare = 0.002; ///< of the sphere, for a pair to count as overlapping

/// How good a moment is: texture and sharpness (the mean slope), less what moves to the next frame.
double moment_score(const Moment& now, const Moment& next, const Rig& rig, int level) {
    double worst = 1e9;
    for (std::size_t c = 0; c < now.seen.size(); ++c) {
        if (!now.seen[c] || !next.seen[c]) continue;
        const Grey &a = now.seen[c]->levels[0], &b = next.seen[c]->levels[0];
        const double scale = 1.0 / (1 << level);
        const Vec2 centre = rig.cameras[c].lens.circle.center_px * scale;
        const double radius = rig.cameras[c].lens.circle.radius_px * scale - 2;
        double slope = 0, change = 0;
        int n = 0;
        for (int y = 1; y + 1 < a.height; ++y)
            for (int x = 1; x + 1 < a.width; ++x) {
                if ((Vec2(x + 0.5, y + 0.5) - centre).squaredNorm() > radius * radius) continue;
                slope += double(std::abs(a.at(x + 1, y) - a.at(x - 1, y)) +
                                std::abs(a.at(x, y + 1) - a.at(x, y - 1)));
                change += double(std::abs(b.at(x, y) - a.at(x, y)));
                ++n;
            }
        if (n) worst = std::min(worst, (slope - 2 * change) / n);
    }
    return worst;
}

} // namespace

Moment read_moment(const Project& project, const Shot& shot, Seconds time, MediaLibrary& library, int level) {
    Moment moment;
    moment.time = time;
    std::map<std::string, std::shared_ptr<const GreyPyramid>> read;
    for (const auto& use : shot.cameras) {
        auto& seen = moment.seen.emplace_back();
        const Media* media = use.used ? find_media(project, use.media) : nullptr;
        if (!media) continue;
        // Cameras that share a file and its offset share the picture.
        const std::string key = use.media + "@" + shown_time(use, time, shot.timing.rate).to_string();
        if (!read.contains(key)) {
            const auto picture = library.picture(media->ref, shown_time(use, time, shot.timing.rate), level);
            const Lens& lens = find_camera(shot.rig, use.camera)->lens;
            const int scale = 1 << level;
            if (picture && (picture->width() != (lens.width + scale - 1) / scale ||
                            picture->height() != (lens.height + scale - 1) / scale))
                throw Error("has another size than the lens of camera " + use.camera + ", which is for " +
                                std::to_string(lens.width) + " x " + std::to_string(lens.height),
                            media->ref.path.string(), "Load a rig for this size, or assign the right file");
            read[key] = picture ? std::make_shared<const GreyPyramid>(grey_of(*picture)) : nullptr;
        }
        seen = read[key];
    }
    return moment;
}

std::vector<std::optional<Eyepiece>> eyepieces(const Rig& rig, const Moment& moment) {
    std::vector<std::optional<Eyepiece>> eyes(rig.cameras.size());
    for (std::size_t c = 0; c < rig.cameras.size(); ++c)
        if (moment.seen[c]) eyes[c].emplace(rig, c, moment.seen[c].get());
    return eyes;
}

std::vector<Seconds> sample_times(const Project& project, const Shot& shot, MediaLibrary& library,
                                  const Cancel& cancel) {
    if (std::none_of(shot.cameras.begin(), shot.cameras.end(),
                     [&](const ShotCamera& c) { return c.used && find_media(project, c.media); }))
        throw Error("no camera has a source", "shot " + shot.name, "Add files in Gather");
    // Nothing known of its length (a source that cannot be read): what is wrong is said when the moment is
    // read.
    const Span span = used_span(project, shot, library);
    const auto last_before = [&](Seconds end) {
        return std::max<std::int64_t>(0, frame_before(end, shot.timing.rate));
    };
    const std::int64_t last = last_before(span.out),
                       first = std::min(frame_index(span.in, shot.timing.rate), last);
    std::vector<Seconds> times;
    if (!shot.calibration.solving.by_hand.empty()) {
        for (const Seconds t : shot.calibration.solving.by_hand) {
            const auto n = std::clamp(frame_index(t, shot.timing.rate), std::int64_t(0),
                                      last_before(shot_length(project, shot, library)));
            times.push_back(frame_time(n, shot.timing.rate));
        }
    } else {
        const int count = int(std::min<std::int64_t>(shot.calibration.solving.samples, last - first + 1));
        for (int i = 0; i < count; ++i) {
            const double part = count > 1 ? double(i) / (count - 1) : 0.5;
            std::int64_t n = first + std::llround(part * double(last - first));
            const bool inner = i > 0 && i + 1 < count;
            if (shot.calibration.solving.pick == SamplePick::best && inner) {
                int level = 0;
                for (const auto& c : shot.rig.cameras)
                    while (c.lens.width >> (level + 1) >= kScoreWidth) ++level;
                const double half = 0.45 * double(last - first) / (count - 1);
                double best = -1e9;
                const std::int64_t middle = n;
                for (int k = 0; k < kCandidatesASample; ++k) {
                    cancel.check();
                    const auto at = std::clamp<std::int64_t>(
                        middle + std::llround(half * (2.0 * k / (kCandidatesASample - 1) - 1)), first, last);
                    const auto here =
                        read_moment(project, shot, frame_time(at, shot.timing.rate), library, level);
                    const auto then =
                        read_moment(project, shot, frame_time(at + 1, shot.timing.rate), library, level);
                    const double score = moment_score(here, then, shot.rig, level);
                    if (score > best) best = score, n = at;
                }
            }
            times.push_back(frame_time(n, shot.timing.rate));
        }
    }
    std::sort(times.begin(), times.end());
    times.erase(std::unique(times.begin(), times.end()), times.end());
    return times;
}

std::vector<Overlap> overlapping_pairs(const Rig& rig, const std::vector<bool>& in_use) {
    constexpr int kDirections = 4000;
    std::vector<Eyepiece> eyes;
    for (std::size_t c = 0; c < rig.cameras.size(); ++c) eyes.emplace_back(rig, c, nullptr);
    const std::size_t n = eyes.size();
    std::vector<int> both(n * n, 0);
    for (int i = 0; i < kDirections; ++i) { // a spiral of equal areas
        const double y = 1 - 2 * (i + 0.5) / kDirections, a = i * 2.399963229728653;
        const Vec3 d(std::sqrt(1 - y * y) * std::sin(a), y, std::sqrt(1 - y * y) * std::cos(a));
        std::vector<std::size_t> seers;
        for (std::size_t c = 0; c < n; ++c)
            if (in_use[c] && eyes[c].sees(d, 4)) seers.push_back(c);
        for (std::size_t p = 0; p < seers.size(); ++p)
            for (std::size_t q = p + 1; q < seers.size(); ++q) ++both[seers[p] * n + seers[q]];
    }
    std::vector<Overlap> pairs;
    for (std::size_t a = 0; a < n; ++a)
        for (std::size_t b = a + 1; b < n; ++b)
            if (const double share = double(both[a * n + b]) / kDirections; share > kLeastShare)
                pairs.push_back({a, b, share});
    return pairs;
}

} // namespace porb
