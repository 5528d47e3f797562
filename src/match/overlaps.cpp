#include "match/overlaps.h"

#include "base/angle.h"
#include "base/error.h"
#include "base/parallel.h"
#include "picture/transfer.h"

#include <array>
#include <cmath>
#include <optional>

namespace porb {

namespace {

constexpr int kDirections = 4000;
constexpr int kSide = 5, kLooks = kSide * kSide; ///< a place is the mean of so many looks,
constexpr double kStepDeg = 0.45;                ///< this far apart
/// Of a place from the rig, 1/m: what two cameras see is compared at the one that fits best.
constexpr std::array kInverseDistances = {0.0, 0.1, 0.2, 0.3, 0.42, 0.56, 0.75, 1.0};
constexpr double kLeastLikeness = 0.88;              ///< correlation, where there is anything to see
constexpr double kPlain = 0.03, kMostContrast = 0.6; ///< deviation over mean within a place
constexpr double kPxPerRad = 150;                    ///< about what pictures are reduced to
constexpr float kClipped = 0.95f, kDark = 0.006f;    ///< encoded; linear

/// A source in linear light, small.
struct Light {
    int width = 0, height = 0;
    std::vector<std::array<float, 3>> v;
    std::vector<bool> clipped;
};
Light light_of(const Picture& picture) {
    Light out{picture.width(), picture.height(), {}, {}};
    for (int y = 0; y < out.height; ++y)
        for (int x = 0; x < out.width; ++x) {
            const Rgba p = pixel_at(picture, x, y);
            out.v.push_back({linear_from_encoded(p.r), linear_from_encoded(p.g), linear_from_encoded(p.b)});
            out.clipped.push_back(std::max({p.r, p.g, p.b}) > kClipped || p.a < 0.999f);
        }
    return out;
}

/// What a camera sees of a place.
struct Look {
    std::array<double, 3> log_light{}; ///< means
    std::array<double, kLooks> luma{}; ///< less their mean, over their deviation
    double contrast = 0, q = 0;
};

/// One camera with what it saw, ready to be looked through.
struct Looker {
    LensMap map;
    Mat3 from_rig;
    Vec3 position; ///< entrance pupil in its axes
    std::shared_ptr<const Light> light;
    double scale; ///< of the reduced picture
    Vec2 circle_px;
    double circle_radius_px;

    std::optional<Look> at(const Vec3& direction, double inverse_m) const;
};

std::optional<Look> Looker::at(const Vec3& direction, double inverse_m) const {
    const Vec3 e1 = direction.unitOrthogonal(), e2 = direction.cross(e1);
    std::array<double, 3> sum{};
    double mean = 0, squares = 0;
    Look look;
    const Vec2 middle = map.project_anywhere(from_rig * direction - inverse_m * position);
    if (map.clearance(middle) * scale < 2) return std::nullopt;
    look.q = (middle - circle_px).squaredNorm() / std::pow(circle_radius_px, 2);
    for (int n = 0; n < kLooks; ++n) {
        const int i = n % kSide - kSide / 2, j = n / kSide - kSide / 2;
        const Vec3 d = direction + radians(kStepDeg) * (i * e1 + j * e2);
        const Vec2 px = map.project_anywhere(from_rig * d - inverse_m * position);
        if (map.clearance(px) * scale < 1.5) return std::nullopt;
        const int x = int(px.x() * scale), y = int(px.y() * scale);
        if (x < 0 || y < 0 || x >= light->width || y >= light->height) return std::nullopt;
        const std::size_t at = std::size_t(y) * std::size_t(light->width) + std::size_t(x);
        if (light->clipped[at]) return std::nullopt;
        const auto& v = light->v[at];
        for (std::size_t c = 0; c < 3; ++c) sum[c] += double(v[c]) / kLooks;
        const double l = 0.2126 * double(v[0]) + 0.7152 * double(v[1]) + 0.0722 * double(v[2]);
        look.luma[std::size_t(n)] = l;
        mean += l / kLooks, squares += l * l / kLooks;
    }
    const double deviation = std::sqrt(std::max(1e-12, squares - mean * mean));
    look.contrast = deviation / std::max(1e-9, mean);
    if (look.contrast > kMostContrast) return std::nullopt;
    for (std::size_t c = 0; c < 3; ++c) {
        if (sum[c] < double(kDark)) return std::nullopt;
        look.log_light[c] = std::log(sum[c]);
    }
    for (double& l : look.luma) l = (l - mean) / deviation;
    return look;
}

/// Correlation of what two cameras see; 1 where both see a plain surface.
double correlation(const Look& a, const Look& b) {
    if (a.contrast < kPlain && b.contrast < kPlain) return 1;
    double sum = 0;
    for (std::size_t i = 0; i < kLooks; ++i) sum += a.luma[i] * b.luma[i] / kLooks;
    return sum;
}

/// Adds a place for each pair of cameras that sees the same in a direction, at whatever distance it is.
void compare_direction(const std::vector<std::optional<Looker>>& lookers, const Vec3& direction,
                       std::vector<ColourPlace>& out) {
    std::vector<std::array<std::optional<Look>, kInverseDistances.size()>> looks(lookers.size());
    for (std::size_t c = 0; c < lookers.size(); ++c)
        for (std::size_t d = 0; lookers[c] && d < kInverseDistances.size(); ++d)
            looks[c][d] = lookers[c]->at(direction, kInverseDistances[d]);
    for (std::size_t a = 0; a < looks.size(); ++a)
        for (std::size_t b = a + 1; b < looks.size(); ++b) {
            double best = kLeastLikeness;
            std::optional<std::size_t> where;
            for (std::size_t d = 0; d < kInverseDistances.size(); ++d)
                if (looks[a][d] && looks[b][d])
                    if (const double alike = correlation(*looks[a][d], *looks[b][d]); alike > best)
                        best = alike, where = d;
            if (where) {
                const Look &la = *looks[a][*where], &lb = *looks[b][*where];
                out.push_back({a, b, la.q, lb.q, la.log_light, lb.log_light});
            }
        }
}

std::vector<std::optional<Looker>> lookers_at(const Project& project, const Shot& shot, Seconds time,
                                              MediaLibrary& library) {
    std::vector<std::optional<Looker>> out;
    std::map<std::string, std::shared_ptr<const Light>> read; // two circles may lie in one picture
    for (const auto& use : shot.cameras) {
        auto& looker = out.emplace_back();
        const Media* media = use.used ? find_media(project, use.media) : nullptr;
        if (!media) continue;
        const Camera* camera = find_camera(shot.rig, use.camera);
        int level = 0;
        while (camera->lens.focal_px / (1 << (level + 1)) >= kPxPerRad) ++level;
        const Seconds at = shown_time(use, time, shot.timing.rate);
        auto& light = read[use.media + "@" + at.to_string() + "/" + std::to_string(level)];
        if (!light) {
            const auto picture = library.picture(media->ref, at, level);
            if (!picture) continue;
            const int whole = 1 << level;
            if (picture->width() != (camera->lens.width + whole - 1) / whole ||
                picture->height() != (camera->lens.height + whole - 1) / whole)
                throw Error("has another size than the lens of camera " + use.camera,
                            media->ref.path.string(), "Load a rig for this size, or assign the right file");
            light = std::make_shared<const Light>(light_of(*picture));
        }
        const Mat3 from_rig = rotation_of(camera->pose.turn).transpose();
        looker = Looker{LensMap(camera->lens),
                        from_rig,
                        from_rig * camera->pose.position_m,
                        light,
                        1.0 / (1 << level),
                        camera->lens.circle.center_px,
                        camera->lens.circle.radius_px};
    }
    return out;
}

/// The i-th of n directions spread evenly over the sphere.
Vec3 spread_direction(int i, int n) {
    const double y = 1 - 2 * (i + 0.5) / n, side = std::sqrt(1 - y * y),
                 turn = kPi * (3 - std::sqrt(5.0)) * i;
    return {side * std::cos(turn), y, side * std::sin(turn)};
}

} // namespace

std::vector<ColourMoment> compare_overlaps(const Project& project, const Shot& shot,
                                           const std::vector<Seconds>& times, MediaLibrary& library,
                                           const std::function<void(double)>& progress,
                                           const Cancel& cancel) {
    std::vector<ColourMoment> out;
    for (const Seconds time : times) {
        cancel.check();
        if (progress) progress(double(out.size()) / double(times.size()));
        const auto lookers = lookers_at(project, shot, time, library);
        std::vector<std::vector<ColourPlace>> found{std::size_t(kDirections)};
        parallel_ranges(kDirections, 64, [&](int begin, int end) {
            for (int i = begin; i < end; ++i)
                compare_direction(lookers, spread_direction(i, kDirections), found[std::size_t(i)]);
        });
        ColourMoment moment{time, {}};
        for (const auto& places : found)
            moment.places.insert(moment.places.end(), places.begin(), places.end());
        out.push_back(std::move(moment));
    }
    return out;
}

double difference_ev(const ColourPlace& place, const CameraColour& a, const CameraColour& b, Seconds time) {
    const auto seen = [&](const CameraColour& colour, const std::array<double, 3>& log_light, double q) {
        const auto ev = gains_at(colour, time);
        const double weights[3] = {0.2126, 0.7152, 0.0722};
        double luminance = 0;
        for (std::size_t c = 0; c < 3; ++c)
            luminance += weights[c] * std::exp(log_light[c]) * std::exp2(ev[c]);
        return std::log2(luminance / light_left(colour.vignetting, q));
    };
    return seen(b, place.b_light, place.b_q) - seen(a, place.a_light, place.a_q);
}

} // namespace porb
