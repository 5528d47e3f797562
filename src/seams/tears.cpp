#include "seams/tears.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "project/orientation.h"
#include "stitch/plan/plan_lens.h"
#include "stitch/plan/shelters.h"

#include <Eigen/Dense>
#include <opencv2/imgproc.hpp>

#include <algorithm>
#include <cmath>

namespace porb {

namespace {

constexpr double kSphere_px = 3840;      ///< of a whole turn, in which lengths are told
constexpr double kLow = 60, kHigh = 140; ///< of Canny's thresholds, for Sobel's gradients of bytes
constexpr float kHalfAsStrong = 0.5f;    ///< and about as steep in the same direction:
constexpr float kSameWay = 0.8f;         ///< cosine of the angle between gradients
constexpr int kAbout = 2;                ///< pixels within which the field's distances count
constexpr int kToAndFro = 1;             ///< pixels that an edge may lie beside
constexpr int kShortest = 5;             ///< pixels of a run
constexpr double kMostAcross_deg = 60;
constexpr int kLeastSide = 64, kMostSide = 640;

/// A composed picture as grey bytes and its gradients.
struct Grey {
    cv::Mat grey, dx, dy; ///< 8-bit, 16-bit, 16-bit
    std::vector<std::uint8_t> seen;
};
Grey grey_of(const Picture& picture) {
    Grey out;
    out.grey = cv::Mat(picture.height(), picture.width(), CV_8U);
    out.seen.resize(out.grey.total());
    for (int y = 0; y < picture.height(); ++y)
        for (int x = 0; x < picture.width(); ++x) {
            const auto p = pixel_at(picture, x, y);
            out.grey.at<std::uint8_t>(y, x) = std::uint8_t(std::clamp(
                255 * (0.25f * float(p.r) + 0.5f * float(p.g) + 0.25f * float(p.b)), 0.0f, 255.0f));
            out.seen[std::size_t(y) * std::size_t(picture.width()) + std::size_t(x)] =
                float(p.a) > 0.99f ? 255 : 0;
        }
    cv::GaussianBlur(out.grey, out.grey, cv::Size(3, 3), 0);
    cv::Sobel(out.grey, out.dx, CV_16S, 1, 0);
    cv::Sobel(out.grey, out.dy, CV_16S, 0, 1);
    return out;
}

/// What one camera shows, of whatever is infinitely far, and where its entrance pupil is in world axes.
struct Alone {
    Grey picture;
    Vec3 pupil_m;
    bool shows_edge(const Vec2& px, float dx, float dy) const {
        const float least = kHalfAsStrong * (dx * dx + dy * dy);
        const int cx = int(std::floor(px.x())), cy = int(std::floor(px.y()));
        for (int y = std::max(0, cy - kToAndFro); y <= std::min(picture.dx.rows - 1, cy + kToAndFro); ++y)
            for (int x = std::max(0, cx - kToAndFro); x <= std::min(picture.dx.cols - 1, cx + kToAndFro);
                 ++x) {
                const auto sx = float(picture.dx.at<std::int16_t>(y, x)),
                           sy = float(picture.dy.at<std::int16_t>(y, x));
                const float along = sx * dx + sy * dy; // at least half as strong, and so much the same way
                if (along >= least &&
                    along * along >= kSameWay * kSameWay * (sx * sx + sy * sy) * (dx * dx + dy * dy))
                    return true;
            }
        return false;
    }
};

/// The shot with one camera, all that it sees, to both eyes, nothing closed and nothing graded.
Shot alone_of(const Shot& shot, std::size_t camera) {
    Shot out = shot;
    for (std::size_t c = 0; c < out.cameras.size(); ++c) {
        out.cameras[c].used = c == camera;
        out.cameras[c].shapes.clear();
    }
    out.cameras[camera].reach_deg = 180;
    for (Camera& c : out.rig.cameras) c.eyes = Eyes::both;
    out.stereo = StereoSettings();
    out.seams = ShotSeams();
    out.look.grade = Grade();
    return out;
}

/// Runs of fewer pixels than kShortest are left out.
void leave_out_short(cv::Mat& torn) {
    cv::Mat labels, stats, centres;
    const int n = cv::connectedComponentsWithStats(torn, labels, stats, centres, 8);
    for (int y = 0; y < torn.rows; ++y)
        for (int x = 0; x < torn.cols; ++x)
            if (const int l = labels.at<int>(y, x);
                l > 0 && l < n && stats.at<int>(l, cv::CC_STAT_AREA) < kShortest)
                torn.at<std::uint8_t>(y, x) = 0;
}

} // namespace

double edge_length_px(const TargetMap& map, int x, int y) {
    const auto here = map.direction({x + 0.5, y + 0.5}), right = map.direction({x + 1.5, y + 0.5}),
               below = map.direction({x + 0.5, y + 1.5});
    if (!here || !right || !below) return 0;
    return std::sqrt((*right - *here).cross(*below - *here).norm()) * kSphere_px / 2 / kPi;
}

View view_about(const ShelterKey& oval, double around_deg) {
    const double across =
        std::min(kMostAcross_deg, std::max(oval.width_deg, oval.height_deg) + 2 * around_deg);
    const int side = std::clamp(int(std::lround(across * kSphere_px / 360)), kLeastSide, kMostSide);
    View out;
    out.target = window_target(side, side, {oval.yaw_deg, oval.pitch_deg, 0}, across);
    out.filter = Filter::linear;
    return out;
}

double torn_px_in(const Tears& tears, const View& view, const ShelterKey& oval, double around_deg) {
    const TargetMap map(view.target);
    ShelterAtTime where;
    where.to_oval = rotation_of({oval.yaw_deg, oval.pitch_deg, 0}).transpose();
    where.half_width_deg = oval.width_deg / 2, where.half_height_deg = oval.height_deg / 2;
    double torn_px = 0;
    for (int y = 0; y < tears.height; ++y)
        for (int x = 0; x < tears.width; ++x)
            if (tears.torn[std::size_t(y) * std::size_t(tears.width) + std::size_t(x)])
                if (const auto d = map.direction({x + 0.5, y + 0.5}); d && where.margin_deg(*d) > -around_deg)
                    torn_px += edge_length_px(map, x, y);
    return torn_px;
}

Tears tears_in(const Project& project, const Shot& shot, Composer& composer, Seconds time, const View& view,
               const Cancel& cancel, const TearsTruth& truth) {
    Shot plain = shot;
    plain.look.grade = Grade();
    const auto by_those = [&] {
        Composer::Gathered gathered = composer.gather(project, plain, time, view, cancel);
        gathered.distances = truth.distances;
        return composer.blend(gathered, cancel);
    };
    const Picture made = truth.distances ? by_those() : composer.compose(project, plain, time, view, cancel);
    const Grey result = grey_of(made);
    Tears out;
    out.width = made.width(), out.height = made.height();
    const SphereGrid field =
        truth.distances ? truth.distances->grid : composer.distances(project, plain, time, view.eye);
    const double agree = plain.seams.agree_distance_m > 0 ? 1 / plain.seams.agree_distance_m : 0;
    const Mat3 to_world = orientation_at(plain, nearest_frame_time(time, plain.timing.rate));
    const EyeRays rays = eye_rays_of(plain, view.eye, time);
    const TargetMap map(view.target);
    const Region region = whole_region(view);
    View from_camera = view;
    from_camera.eye = Eye::mono;
    std::vector<Alone> cameras;
    for (std::size_t c = 0; c < plain.cameras.size(); ++c) {
        const Camera* camera = find_camera(plain.rig, plain.cameras[c].camera);
        if (!camera || !plain.cameras[c].used || plain.cameras[c].media.empty()) continue;
        Alone one{grey_of(composer.compose(project, alone_of(plain, c), time, from_camera, cancel)),
                  to_world * camera->pose.position_m};
        if (std::none_of(one.picture.seen.begin(), one.picture.seen.end(),
                         [](std::uint8_t s) { return s > 0; }))
            continue;
        cameras.push_back(std::move(one));
    }
    const std::optional<Alone> right =
        truth.picture ? std::optional(Alone{grey_of(*truth.picture), {0, 0, 0}}) : std::nullopt;
    cv::Mat edges, torn = cv::Mat::zeros(out.height, out.width, CV_8U);
    cv::Canny(result.dx, result.dy, edges, kLow, kHigh, true);
    std::vector<float> inverse(edges.total(), -1.0f);
    parallel_ranges(out.height, 16, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < out.width; ++x)
                if (const auto d = map.direction({x + 0.5 + region.x, y + 0.5 + region.y}))
                    inverse[std::size_t(y) * std::size_t(out.width) + std::size_t(x)] =
                        float(field.empty() ? agree : field.at(to_world.transpose() * rays.looks(*d)));
    });
    parallel_ranges(out.height - 2 * kAbout, 8, [&](int begin, int end) {
        for (int y = begin + kAbout; y < end + kAbout; ++y)
            for (int x = kAbout; x < out.width - kAbout; ++x) {
                const auto at = std::size_t(y) * std::size_t(out.width) + std::size_t(x);
                if (!edges.at<std::uint8_t>(y, x) || !result.seen[at] || inverse[at] < 0) continue;
                const Vec3 looks = rays.looks(*map.direction({x + 0.5 + region.x, y + 0.5 + region.y})),
                           origin_m = rays.origin_m(looks);
                const auto dx = float(result.dx.at<std::int16_t>(y, x)),
                           dy = float(result.dy.at<std::int16_t>(y, x));
                bool found = right && right->shows_edge(Vec2(x + 0.5, y + 0.5), dx, dy);
                for (int j = -kAbout; j <= kAbout && !found; ++j)
                    for (int i = -kAbout; i <= kAbout && !found; ++i) {
                        const float rho = inverse[at + std::size_t(std::ptrdiff_t(j) * out.width + i)];
                        for (const Alone& camera : cameras) {
                            const auto px =
                                map.pixel((looks + double(rho) * (origin_m - camera.pupil_m)).normalized());
                            if (!px || !camera.shows_edge(*px - Vec2(region.x, region.y), dx, dy)) continue;
                            found = true;
                            break;
                        }
                    }
                if (!found) torn.at<std::uint8_t>(y, x) = 255;
            }
    });
    leave_out_short(torn);
    for (int y = 0; y < out.height; ++y)
        for (int x = 0; x < out.width; ++x)
            if (const bool tear = torn.at<std::uint8_t>(y, x); tear || edges.at<std::uint8_t>(y, x)) {
                const double length = edge_length_px(map, x + region.x, y + region.y);
                out.torn_px += tear ? length : 0;
                out.edges_px += edges.at<std::uint8_t>(y, x) ? length : 0;
            }
    out.torn.assign(torn.begin<std::uint8_t>(), torn.end<std::uint8_t>());
    return out;
}

} // namespace porb
