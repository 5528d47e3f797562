#include "solve/pictures/edges.h"

#include "base/angle.h"
#include "base/parallel.h"

#include <Eigen/Dense>
#include <opencv2/imgproc.hpp>

namespace porb {

namespace {

constexpr int kViewPx = 640; ///< flat views in which segments are looked for
constexpr double kViewDeg = 84;
constexpr double kRimPx = 12; ///< segments nearer to the rim than this are the rim itself

constexpr double kSeedDeg = 6;   ///< segments from which edges are followed are at least as long
constexpr double kStepDeg = 1;   ///< from place to place along an edge
constexpr double kLeastDeg = 16; ///< shorter edges hardly bend, whatever the lens does
constexpr double kMostBend =
    0.015; ///< radians of sag a radian of length; lens errors of 2 percent cause less
constexpr int kReach = 10, kThin = 5; ///< half pixels to either side in which the edge is looked for
constexpr int kAcross = kReach + 2;
constexpr float kLeastStep = 0.02f; ///< of brightness across an edge
constexpr int kMostGaps = 2;
constexpr int kPlaces = 12, kMostEdges = 28; ///< kept of each edge, and of each camera
constexpr double kSamePx = 4;
constexpr double kRoughPx = 0.6; ///< an edge whose places scatter by more about a smooth curve is none

/// An edge being followed: places by angle along a great circle and offset from it.
struct Followed {
    struct Place {
        double along, off;
        Vec2 px;
    };
    std::vector<Place> places;
    double length() const { return places.size() < 2 ? 0 : places.back().along - places.front().along; }
};

class Follower {
  public:
    Follower(const Eyepiece& eye, const EdgeSegment& s) : eye_(eye) {
        middle_ = (s.a + s.b).normalized();
        normal_ = s.a.cross(s.b).normalized();
        ahead_ = normal_.cross(middle_);
    }

    std::optional<Followed> run() {
        const auto first = look(0, 0, 0);
        if (!first) return std::nullopt;
        Followed out;
        std::vector<Followed::Place> back, on;
        strengths_ = {std::abs(strength_)};
        sign_ = strength_ > 0 ? 1 : -1;
        walk(*first, 1, on);
        walk(*first, -1, back);
        out.places.assign(back.rbegin(), back.rend());
        out.places.push_back(*first);
        out.places.insert(out.places.end(), on.begin(), on.end());
        return out;
    }

  private:
    Vec3 direction(double along, double off) const {
        return std::cos(off) * (std::cos(along) * middle_ + std::sin(along) * ahead_) +
               std::sin(off) * normal_;
    }

    void walk(const Followed::Place& first, int way, std::vector<Followed::Place>& out) {
        int gaps = 0;
        std::vector<Followed::Place> recent = {first};
        for (int i = 1; i * kStepDeg < 170 && gaps <= kMostGaps; ++i) {
            const double along = way * radians(i * kStepDeg);
            double slope = 0; // of the last few places
            if (recent.size() >= 4) {
                const auto& from = recent[recent.size() - std::min<std::size_t>(recent.size(), 7)];
                slope = (recent.back().off - from.off) / (recent.back().along - from.along);
            }
            const auto place = look(along, recent.back().off + slope * (along - recent.back().along), slope);
            if (!place) {
                ++gaps;
                continue;
            }
            gaps = 0;
            recent.push_back(*place);
            out.push_back(*place);
        }
    }

    /// The edge near a place: the steepest change of brightness across it, as the mean of five profiles side
    /// by side.
    std::optional<Followed::Place> look(double along, double off, double slope) {
        const Vec2 at = eye_.map.project_anywhere(direction(along, off));
        if (!seen(along, off) || eye_.map.clearance(at) < kRimPx) return std::nullopt;
        constexpr double kTiny = 1e-3;
        const double px_a_rad =
                         (eye_.map.project_anywhere(direction(along, off + kTiny)) - at).norm() / kTiny,
                     px_along =
                         (eye_.map.project_anywhere(direction(along + kTiny, off)) - at).norm() / kTiny;
        const double half_px = 0.5 / px_a_rad;
        float profile[2 * kAcross + 1] = {};
        const Grey& g = eye_.pictures->levels[0];
        for (int side = -2; side <= 2; ++side) {
            const double beside = side / px_along;
            for (int k = -kAcross; k <= kAcross; ++k) {
                const Vec2 p =
                    eye_.map.project_anywhere(direction(along + beside, off + slope * beside + k * half_px));
                profile[k + kAcross] += 0.2f * g.sample(p.x(), p.y());
            }
        }
        float change[2 * kReach + 3];
        for (int k = -kReach - 1; k <= kReach + 1; ++k)
            change[k + kReach + 1] = profile[k + kAcross + 1] - profile[k + kAcross - 1];
        int best = 0;
        float most = 0;
        const int reach =
            sign_ ? kReach / 2 : kReach; // once on the edge it is not far from where it is expected
        for (int k = -reach; k <= reach; ++k) {
            const float c = change[k + kReach + 1], value = sign_ ? c * float(sign_) : std::abs(c);
            if (value > most) most = value, best = k;
        }
        const float needed = std::max(kLeastStep, sign_ ? 0.35f * typical() : 0.0f);
        if (most < needed || std::abs(best) == reach) return std::nullopt;
        const float before = std::abs(change[best + kReach]), here = std::abs(change[best + kReach + 1]),
                    after = std::abs(change[best + kReach + 2]);
        if (before > here || after > here) return std::nullopt;
        // A thin bar's two edges push each other apart, the more the thinner it looks: no place of either is
        // exact.
        for (int k = std::max(-kReach, best - kThin); k <= std::min(kReach, best + kThin); ++k)
            if (-change[k + kReach + 1] * change[best + kReach + 1] > 0.4f * here * here) return std::nullopt;
        const float curve = before - 2 * here + after;
        const double fine = curve < -1e-6f ? 0.5 * double(before - after) / double(curve) : 0;
        strength_ = change[best + kReach + 1];
        if (sign_) strengths_.push_back(std::abs(strength_));
        const double exact = off + (best + fine) * half_px;
        return Followed::Place{along, exact, eye_.map.project_anywhere(direction(along, exact))};
    }

    bool seen(double along, double off) const {
        const Vec3 d = direction(along, off);
        return std::atan2(std::hypot(d.x(), d.y()), d.z()) < eye_.map.theta_max();
    }
    float typical() {
        const auto half = strengths_.begin() + std::ptrdiff_t(strengths_.size() / 2);
        std::nth_element(strengths_.begin(), half, strengths_.end());
        return *half;
    }

    const Eyepiece& eye_;
    Vec3 middle_, normal_, ahead_;
    int sign_ = 0;
    float strength_ = 0;
    std::vector<float> strengths_;
};

/// Leaves out places off the smooth curve through all, and says whether what is left may be a straight edge.
bool tidy(Followed& f, double px_a_rad) {
    for (int round = 0; round < 3; ++round) {
        const auto n = Eigen::Index(f.places.size());
        if (n < 10 || degrees(f.length()) < kLeastDeg) return false;
        const double middle = 0.5 * (f.places.front().along + f.places.back().along), half = 0.5 * f.length();
        Eigen::MatrixXd a(n, 4);
        Eigen::VectorXd b(n);
        for (Eigen::Index i = 0; i < n; ++i) {
            const double x = (f.places[std::size_t(i)].along - middle) / half;
            a.row(i) << 1, x, x * x, x * x * x;
            b[i] = f.places[std::size_t(i)].off;
        }
        const Eigen::VectorXd c = a.colPivHouseholderQr().solve(b), left = (b - a * c).cwiseAbs();
        std::vector<double> sorted(left.data(), left.data() + n);
        std::nth_element(sorted.begin(), sorted.begin() + n / 2, sorted.end());
        const double typical = sorted[std::size_t(n / 2)] * px_a_rad;
        if (typical > kRoughPx) return false;
        if (std::abs(c[2]) > kMostBend * f.length() || std::abs(c[3]) > kMostBend * f.length()) return false;
        const double limit = std::max(4 * typical, 0.25) / px_a_rad;
        std::vector<Followed::Place> kept;
        for (Eigen::Index i = 0; i < n; ++i)
            if (left[i] <= limit) kept.push_back(f.places[std::size_t(i)]);
        if (kept.size() == f.places.size()) return true;
        if (double(kept.size()) < 0.7 * double(n)) return false;
        f.places = std::move(kept);
    }
    return f.places.size() >= 10 && degrees(f.length()) >= kLeastDeg;
}

/// The longest edges of one camera, no two along the same places.
std::vector<std::vector<Vec2>> edges_of(const Eyepiece& eye, const Cancel& cancel) {
    std::vector<Followed> all;
    for (const auto& s : edge_segments(eye, kSeedDeg, cancel)) {
        auto f = Follower(eye, s).run();
        if (f && tidy(*f, eye.lens.focal_px)) all.push_back(std::move(*f));
    }
    std::sort(all.begin(), all.end(),
              [](const Followed& a, const Followed& b) { return a.length() > b.length(); });
    std::vector<std::vector<Vec2>> out;
    std::vector<Vec2> taken;
    for (const auto& f : all) {
        const auto again = std::count_if(f.places.begin(), f.places.end(), [&](const Followed::Place& p) {
            return std::any_of(taken.begin(), taken.end(),
                               [&](const Vec2& t) { return (t - p.px).norm() < kSamePx; });
        });
        if (double(again) > 0.3 * double(f.places.size())) continue;
        for (const auto& p : f.places) taken.push_back(p.px);
        std::vector<Vec2> places;
        const std::size_t n = std::min<std::size_t>(kPlaces, f.places.size());
        for (std::size_t i = 0; i < n; ++i)
            places.push_back(f.places[i * (f.places.size() - 1) / (n - 1)].px);
        out.push_back(std::move(places));
        if (int(out.size()) == kMostEdges) break;
    }
    return out;
}

} // namespace

std::vector<EdgeSegment> edge_segments(const Eyepiece& eye, double least_deg, const Cancel& cancel) {
    std::vector<EdgeSegment> out;
    const double focal = kViewPx / 2.0 / std::tan(radians(kViewDeg / 2));
    std::size_t level = 0;
    while (level + 1 < eye.pictures->levels.size() && eye.lens.focal_px / (2 << level) > 0.8 * focal) ++level;
    const Grey& grey = eye.pictures->levels[level];
    const double down = 1.0 / (1 << level);
    // Flat views round the lens: ahead, and towards the rim on four sides.
    for (const auto& [yaw, pitch] :
         {std::pair{0.0, 0.0}, {62.0, 0.0}, {-62.0, 0.0}, {0.0, 62.0}, {0.0, -62.0}}) {
        cancel.check();
        const Mat3 view = rotation_of({yaw, pitch, 0}); // view to camera
        const auto ray = [&](double x, double y) {
            return Vec3(view * Vec3(x - kViewPx / 2.0, y - kViewPx / 2.0, focal));
        };
        cv::Mat flat(kViewPx, kViewPx, CV_8U);
        parallel_ranges(kViewPx, 16, [&](int begin, int end) {
            for (int y = begin; y < end; ++y)
                for (int x = 0; x < kViewPx; ++x) {
                    const Vec2 px = eye.map.project_anywhere(ray(x + 0.5, y + 0.5));
                    flat.at<uchar>(y, x) =
                        eye.map.clearance(px) > 2
                            ? uchar(std::clamp(255 * grey.sample(px.x() * down, px.y() * down), 0.0f, 255.0f))
                            : 0;
                }
        });
        std::vector<cv::Vec4f> segments;
        cv::createLineSegmentDetector(cv::LSD_REFINE_STD)->detect(flat, segments);
        for (const auto& s : segments) {
            const EdgeSegment e{ray(double(s[0]), double(s[1])).normalized(),
                                ray(double(s[2]), double(s[3])).normalized()};
            if (degrees(e.length_rad()) < least_deg) continue;
            if (eye.map.clearance(eye.map.project_anywhere(e.a)) < kRimPx ||
                eye.map.clearance(eye.map.project_anywhere(e.b)) < kRimPx)
                continue;
            out.push_back(e);
        }
    }
    return out;
}

std::vector<LineMark> find_straight_edges(const Rig& rig, const Moment& moment, int first_id,
                                          const Cancel& cancel) {
    const auto eyes = eyepieces(rig, moment);
    std::vector<LineMark> out;
    for (const auto& eye : eyes) {
        if (!eye) continue;
        for (auto& places : edges_of(*eye, cancel)) {
            LineMark mark;
            mark.id = first_id++;
            mark.kind = LineKind::straight;
            mark.time = moment.time;
            mark.camera = rig.cameras[eye->index].id;
            mark.places_px = std::move(places);
            mark.found = true;
            out.push_back(std::move(mark));
        }
    }
    return out;
}

double bend_px(const Lens& lens, std::span<const Vec2> places_px) {
    const LensMap map(lens);
    Mat3 sum = Mat3::Zero();
    int n = 0;
    for (const auto& px : places_px)
        if (const auto d = map.unproject(px)) sum += *d * d->transpose(), ++n;
    if (n < 3) return 0;
    const Eigen::SelfAdjointEigenSolver<Mat3> e(sum);
    return std::sqrt(std::max(0.0, e.eigenvalues()[0]) / n) * lens.focal_px;
}

} // namespace porb
