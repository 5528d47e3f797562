#include "base/angle.h"
#include "base/parallel.h"
#include "picture/convert_simd.h"
#include "project/limits.h"
#include "seams/crossings.h"
#include "seams/find_lines.h"
#include "seams/tears.h"
#include "stitch/plan/plan_lens.h"
#include "stitch/plan/supply.h"

#include <fmt/format.h>

#include <opencv2/imgproc.hpp>

#include <algorithm>
#include <cmath>
#include <map>

namespace porb {

namespace {

constexpr double kPixel_rad = 2 * kPi / 3840;
constexpr double kLattice_rad = 2 * kPixel_rad; ///< between the places that are compared
constexpr int kMostPlaces = 220;                ///< a side
constexpr float kPasses = 0.15f;                ///< what both cameras supply at least, where it passes over
constexpr double kStep_px = 1, kMost_px = 48;   ///< of the search along the parallax
constexpr int kWindow = 9;                      ///< places that are compared together
constexpr float kShows = 0.02f;   ///< on the working curve: two pictures differing less look alike
constexpr float kClearly = 0.45f; ///< of the difference is left at most where they belong together,
constexpr float kAlike = 0.035f;  ///< and no more than this
constexpr float kTorn = 0.09f;    ///< and by so much two pictures differ that cannot be of one thing
constexpr float kNearBy = 0.006f; ///< by so much a pixel is a nearer place to be preferred
constexpr int kFewPlaces = 6;
constexpr double kNinetenths = 0.9;
constexpr std::size_t kMostMoments = 5, kFewMoments = 3;
constexpr double kAroundTears_deg = 1; ///< of the oval in which they are a subject's
constexpr double kWider = 1.15, kEase_s = 0.4;

/// One moment's subject, laid out on a plane of directions, and what two cameras show of it.
class Examined {
  public:
    Examined(const Project& project, const Shot& shot, Composer& composer, const Crossing& crossing,
             const ShelterKey& oval)
        : composer_(composer), key_(in_rig_axes(plan_key(shot, whole_sphere(), oval.time))),
          lenses_(plan_lenses(key_)) {
        for (std::size_t l = 0; l < lenses_.size(); ++l) {
            const std::string& id = key_.cameras[lenses_[l].index].id;
            if (id == crossing.a) a_ = l;
            if (id == crossing.b) b_ = l;
        }
        torn_px_ = float(crossing.apart_px);
        if (a_ == kNone || b_ == kNone) return;
        lay_out(oval);
        if (places_.empty()) return;
        std::vector<BlendPlan::PlanCamera> cameras;
        for (const std::size_t l : {a_, b_}) cameras.push_back({lenses_[l].index, level_of(lenses_[l])});
        const auto seen = composer_.source_frames(project, shot, oval.time, cameras);
        if (!seen) {
            places_.clear();
            return;
        }
        tones_ = seen->tones;
        for (const Picture& p : seen->sources) {
            Pixels& to = pixels_.emplace_back(Pixels{p.width(), p.height(), {}});
            to.rgba.resize(std::size_t(p.width()) * std::size_t(p.height()) * 4);
            for (int y = 0; y < p.height(); ++y)
                simd::floats_from_halves(p.row(y),
                                         to.rgba.data() + std::size_t(y) * std::size_t(p.width()) * 4,
                                         std::size_t(p.width()) * 4);
        }
        cameras_ = cameras;
        const SphereGrid distances = composer_.distances(project, shot, oval.time);
        inverse_m_.assign(places_.size(), agree_inverse_m(key_));
        if (distances.empty()) return;
        const int feather_power = feather_power_of(lenses_);
        for (std::size_t i = 0; i < places_.size(); ++i) {
            inverse_m_[i] = distances.at(places_[i]);
            if (!passes_[i]) continue;
            const auto weights = std::span(weights_).subspan(i * lenses_.size(), lenses_.size());
            narrow_weights(weights, float(distances.at(places_[i], 1)), feather_power); // as the kernel does
            passes_[i] = weights[a_] > kPasses && weights[b_] > kPasses;
        }
    }

    /// Pixels by which the two are apart at the places where one passes to the other; only where it shows.
    std::vector<float> apart_px() const {
        std::vector<float> out;
        if (places_.empty()) return out;
        const Vec3 base = position(a_) - position(b_);
        cv::Mat best(rows_, columns_, CV_32F, cv::Scalar(1e9)), at_rest,
            best_off(rows_, columns_, CV_32F, cv::Scalar(0));
        const int steps = int(kMost_px / kStep_px);
        for (int k = -steps; k <= steps; ++k) {
            cv::Mat apart(rows_, columns_, CV_32F, cv::Scalar(1));
            parallel_ranges(rows_, 8, [&](int begin, int end) {
                for (int y = begin; y < end; ++y)
                    for (int x = 0; x < columns_; ++x) {
                        const std::size_t i = std::size_t(y) * std::size_t(columns_) + std::size_t(x);
                        if (!near_[i]) continue;
                        const Vec3& d = places_[i];
                        const double across = (base - base.dot(d) * d).norm();
                        if (across < 1e-3) continue;
                        const double rho = inverse_m_[i] + k * kStep_px * kPixel_rad / across;
                        if (rho < 0 && k < 0) continue; // nothing is beyond infinitely far
                        apart.at<float>(y, x) = difference(d, rho);
                    }
            });
            cv::blur(apart, apart, cv::Size(kWindow, kWindow));
            if (k == 0) at_rest = apart.clone();
            for (int y = 0; y < rows_; ++y)
                for (int x = 0; x < columns_; ++x) {
                    // Of two that fit as well, the one nearer to where it is.
                    const float cost = apart.at<float>(y, x) * (1 + kNearBy * float(std::abs(k)));
                    if (cost < best.at<float>(y, x)) {
                        best.at<float>(y, x) = cost;
                        best_off.at<float>(y, x) = float(std::abs(k) * kStep_px);
                    }
                }
        }
        for (int y = 0; y < rows_; ++y)
            for (int x = 0; x < columns_; ++x) {
                if (!passes_[std::size_t(y) * std::size_t(columns_) + std::size_t(x)]) continue;
                const float rest = at_rest.at<float>(y, x);
                const float least = best.at<float>(y, x);
                const bool shifted = rest > kShows && least < std::min(kClearly * rest, kAlike);
                // Where the two differ much and agree at no distance, something is torn.
                const bool torn = rest > kTorn && least > kClearly * rest;
                out.push_back(shifted ? best_off.at<float>(y, x) : torn ? torn_px_ : 0);
            }
        return out;
    }

  private:
    static constexpr std::size_t kNone = ~std::size_t(0);
    static View whole_sphere() {
        View view;
        view.target = equirect_target(3840);
        return view;
    }
    static int level_of(const PlanLens& lens) {
        int level = 0;
        while (lens.map.lens().focal_px / (1 << (level + 1)) * kLattice_rad >= 0.9) ++level;
        return level;
    }
    Vec3 position(std::size_t l) const { return key_.cameras[lenses_[l].index].pose.position_m; }

    void lay_out(const ShelterKey& oval) {
        const Mat3 from_oval = rotation_of({oval.yaw_deg, oval.pitch_deg, 0});
        const auto places_for = [](double deg) {
            return std::clamp(int(std::ceil(radians(deg) / kLattice_rad)), 8, kMostPlaces);
        };
        columns_ = places_for(oval.width_deg), rows_ = places_for(oval.height_deg);
        const double dx = radians(oval.width_deg) / columns_, dy = radians(oval.height_deg) / rows_;
        const Supply supply(key_, lenses_);
        const std::size_t count = std::size_t(columns_) * std::size_t(rows_);
        places_.resize(count);
        passes_.assign(count, 0);
        weights_.assign(count * lenses_.size(), 0);
        parallel_ranges(rows_, 4, [&](int begin, int end) {
            std::vector<Landing> at(lenses_.size());
            std::vector<float> weights(lenses_.size());
            for (int y = begin; y < end; ++y)
                for (int x = 0; x < columns_; ++x) {
                    const double u = (x + 0.5 - columns_ / 2.0) * dx, v = (y + 0.5 - rows_ / 2.0) * dy,
                                 theta = std::hypot(u, v);
                    const Vec3 d =
                        from_oval * Vec3(theta > 0 ? std::sin(theta) * u / theta : 0,
                                         theta > 0 ? std::sin(theta) * v / theta : 0, std::cos(theta));
                    const std::size_t i = std::size_t(y) * std::size_t(columns_) + std::size_t(x);
                    places_[i] = d;
                    const double ex = 2 * u / radians(oval.width_deg), ey = 2 * v / radians(oval.height_deg);
                    if (ex * ex + ey * ey > 1) continue;
                    for (std::size_t l = 0; l < lenses_.size(); ++l)
                        at[l] = land(lenses_[l], lenses_[l].ray(d, agree_inverse_m(key_)));
                    supply.set_leads(d, at);
                    supply.weights(d, at, weights);
                    passes_[i] = weights[a_] > kPasses && weights[b_] > kPasses;
                    if (passes_[i])
                        std::copy(weights.begin(), weights.end(),
                                  weights_.begin() + std::ptrdiff_t(i * lenses_.size()));
                }
        });
        if (std::count(passes_.begin(), passes_.end(), 1) < kFewPlaces) {
            places_.clear();
            return;
        }
        cv::Mat mask(rows_, columns_, CV_8U, passes_.data()), wide; // what a window about them holds
        cv::dilate(mask, wide, cv::Mat::ones(kWindow, kWindow, CV_8U));
        near_.assign(wide.datastart, wide.dataend);
    }

    /// The toned colour that a camera (0: a, 1: b) shows of a place at an inverse distance; false outside.
    bool colour(int which, const Vec3& d, double rho, float (&rgb)[3]) const {
        const PlanLens& lens = lenses_[which == 0 ? a_ : b_];
        const Landing at = land(lens, lens.ray(d, rho));
        if (lens.map.clearance(at.px) < (1 << cameras_[std::size_t(which)].level)) return false;
        const Pixels& p = pixels_[std::size_t(which)];
        const CameraTone& tone = tones_[std::size_t(which)];
        const double scale = 1.0 / (1 << cameras_[std::size_t(which)].level);
        const double u = at.px.x() * scale - 0.5, v = at.px.y() * scale - 0.5;
        const int x = std::clamp(int(std::floor(u)), 0, p.width - 2),
                  y = std::clamp(int(std::floor(v)), 0, p.height - 2);
        const float fx = float(std::clamp(u - x, 0.0, 1.0)), fy = float(std::clamp(v - y, 0.0, 1.0));
        const float *q = &p.rgba[(std::size_t(y) * std::size_t(p.width) + std::size_t(x)) * 4],
                    *r = q + std::size_t(p.width) * 4;
        float rim = 1;
        if (!tone.plain) {
            const float du = float(u) + 0.5f - tone.centre_u, dv = float(v) + 0.5f - tone.centre_v;
            const float s = std::min((du * du + dv * dv) * tone.per_radius2, kFarthestQ);
            rim = 1 + s * (tone.rim[0] + s * (tone.rim[1] + s * tone.rim[2]));
        }
        for (int c = 0; c < 3; ++c) {
            const float top = (1 - fx) * q[c] + fx * q[c + 4], low = (1 - fx) * r[c] + fx * r[c + 4];
            rgb[c] = (1 - fy) * top + fy * low;
            if (!tone.plain) rgb[c] = (rgb[c] + kCurveFoot) * tone.scale[c] * rim - kCurveFoot;
        }
        return true;
    }
    float difference(const Vec3& d, double rho) const {
        float one[3], other[3];
        if (!colour(0, d, rho, one) || !colour(1, d, rho, other)) return 1;
        return (std::abs(one[0] - other[0]) + std::abs(one[1] - other[1]) + std::abs(one[2] - other[2])) / 3;
    }

    Composer& composer_;
    PlanKey key_;
    std::vector<PlanLens> lenses_;
    float torn_px_ = 0; ///< what torn places count as: how far the subject's two pictures are apart
    std::size_t a_ = kNone, b_ = kNone;
    int columns_ = 0, rows_ = 0;
    std::vector<Vec3> places_;
    std::vector<std::uint8_t> passes_, near_;
    std::vector<float> weights_; ///< by place and lens, where one passes to the other
    std::vector<double> inverse_m_;
    std::vector<BlendPlan::PlanCamera> cameras_;
    struct Pixels {
        int width, height;
        std::vector<float> rgba;
    };
    std::vector<Pixels> pixels_;
    std::vector<CameraTone> tones_;
};

/// Fewer moments of a path: every second step of the scan, which others share, and of these a few.
std::vector<ShelterKey> some_of(const std::vector<ShelterKey>& path, const CrossingScan& scan) {
    std::vector<ShelterKey> out;
    for (const ShelterKey& k : path)
        if (path.size() <= kFewMoments || scan.step_s <= 0 ||
            std::lround((k.time - scan.from).to_double() / scan.step_s) % 2 == 0)
            out.push_back(k);
    if (out.size() <= kMostMoments) return out;
    std::vector<ShelterKey> few;
    for (std::size_t i = 0; i < kMostMoments; ++i)
        few.push_back(out[i * (out.size() - 1) / (kMostMoments - 1)]);
    return few;
}

/// Both that shows of a crossing, in pixels of parallax: a tear that is just seen counts as parallax that is.
double shows_px(const Crossing& c) {
    return c.visible_parallax_px + c.torn_px * kVisible_px / kVisibleTear_px;
}

double open_px(const CrossingScan& scan, const CloseChoice& choice) {
    double sum = 0;
    for (const Crossing& c : scan.crossings)
        if (!c.dismissed && (choice.only.empty() ||
                             std::find(choice.only.begin(), choice.only.end(), c.id) != choice.only.end()))
            sum += shows_px(c);
    return sum;
}

bool wanted(const Crossing& c, const CloseChoice& choice) {
    return is_open(c) && (choice.only.empty() ||
                          std::find(choice.only.begin(), choice.only.end(), c.id) != choice.only.end());
}

bool any_wanted(const CrossingScan& scan, const CloseChoice& choice) {
    return std::any_of(scan.crossings.begin(), scan.crossings.end(),
                       [&](const Crossing& c) { return wanted(c, choice); });
}

std::string free_name(const Shot& shot, const std::string& base) {
    std::string name = base;
    for (int n = 2; std::any_of(shot.seams.shelters.begin(), shot.seams.shelters.end(),
                                [&](const Shelter& s) { return s.name == name; });
         ++n)
        name = base + " " + std::to_string(n);
    return name;
}

/// Puts down what closed those that were open before.
void tick(CrossingScan& now, const CrossingScan& before, CrossingResolution resolution) {
    for (std::size_t i = 0; i < now.crossings.size(); ++i)
        if (is_open(before.crossings[i]) && !is_open(now.crossings[i]))
            now.crossings[i].resolution = resolution;
}

} // namespace

namespace {
/// Measures crossings moment by moment rather than one by one: what a moment needs is worked out once.
void measure(const Project& project, const Shot& shot, Composer& composer,
             const std::vector<Crossing*>& crossings, const std::function<void(double)>& step,
             const Cancel& cancel) {
    Shot plain = shot;
    plain.levelling.orientation = {};
    plain.levelling.orientation_keys.clear();
    plain.levelling.steady.reset();
    std::multimap<Seconds, std::pair<Crossing*, ShelterKey>> moments;
    for (Crossing* c : crossings) {
        c->visible_parallax_px = c->torn_px = 0;
        for (const ShelterKey& oval :
             some_of(c->path, shot.seams.crossings ? **shot.seams.crossings : CrossingScan()))
            moments.emplace(oval.time, std::pair(c, oval));
    }
    std::size_t done = 0;
    for (const auto& [time, what] : moments) {
        cancel.check();
        const auto& [crossing, oval] = what;
        Examined examined(project, plain, composer, *crossing, oval);
        std::vector<float> apart = examined.apart_px();
        if (shot.seams.flow.on) { // all at one distance nothing is torn
            const View view = view_about(oval, 2 * kAroundTears_deg);
            const Tears tears = tears_in(project, plain, composer, time, view, cancel);
            crossing->torn_px = std::clamp(torn_px_in(tears, view, oval, kAroundTears_deg), crossing->torn_px,
                                           limits::kApart_px.high);
        }
        step(double(++done) / double(moments.size()));
        if (int(apart.size()) < kFewPlaces) continue;
        const auto at = apart.begin() + std::ptrdiff_t(kNinetenths * double(apart.size() - 1));
        std::nth_element(apart.begin(), at, apart.end());
        crossing->visible_parallax_px = std::max(crossing->visible_parallax_px, double(*at));
    }
}
} // namespace

Crossing measured_again(const Project& project, const Shot& shot, Composer& composer,
                        const Crossing& crossing, const Cancel& cancel) {
    Crossing copy = crossing;
    measure(
        project, shot, composer, {&copy}, [](double) {}, cancel);
    return copy;
}

CrossingScan measured_again(const Project& project, const Shot& shot, Composer& composer,
                            const std::function<void(double)>& step, const Cancel& cancel) {
    CrossingScan scan = shot.seams.crossings ? **shot.seams.crossings : CrossingScan();
    std::vector<Crossing*> all;
    for (Crossing& c : scan.crossings) all.push_back(&c);
    measure(project, shot, composer, all, step, cancel);
    for (Crossing& c : scan.crossings)
        if (c.visible_parallax_px >= kVisible_px || c.torn_px >= kVisibleTear_px)
            c.resolution = CrossingResolution::none;
    return scan;
}

Shelter shelter_for(const Crossing& crossing, const std::string& name) {
    Shelter s;
    s.name = name;
    s.keys = crossing.path;
    double width = 0,
           height = 0; // one size through it all: what is hidden at one moment is there at the next
    for (const ShelterKey& k : crossing.path)
        width = std::max(width, k.width_deg), height = std::max(height, k.height_deg);
    for (ShelterKey& k : s.keys) {
        k.width_deg = std::min(120.0, kWider * width + 2),
        k.height_deg = std::min(120.0, kWider * height + 2);
    }
    s.ease_s = kEase_s;
    s.from = crossing.from;
    s.to = crossing.to;
    return s;
}

ClosedCrossings close_crossings(const Project& project, const Shot& shot, Composer& composer,
                                const CloseChoice& choice,
                                const std::function<void(double, const std::string&)>& step,
                                const Cancel& cancel) {
    ClosedCrossings out{shot, {}};
    if (!shot.seams.crossings || (*shot.seams.crossings)->crossings.empty()) return out;
    const auto measured = [&](const Shot& with, double from, double to, const std::string& doing) {
        return measured_again(
            project, with, composer, [&](double share) { step(from + share * (to - from), doing); }, cancel);
    };
    CrossingScan scan = measured(shot, 0, 0.15, "measuring");
    out.shot.seams.crossings = Shared(scan);
    const auto try_shot = [&](const Shot& next, CrossingResolution resolution, double from, double to,
                              const std::string& doing) {
        CrossingScan then = measured(next, from, to, doing);
        if (open_px(then, choice) > open_px(scan, choice) - kVisible_px / 2) return;
        tick(then, scan, resolution);
        scan = then;
        out.shot = next;
        out.shot.seams.crossings = Shared(scan);
    };
    if (choice.flow && !out.shot.seams.flow.on && any_wanted(scan, choice)) {
        Shot next = out.shot;
        next.seams.flow.on = true;
        try_shot(next, CrossingResolution::flow, 0.15, 0.3, "with flow");
    }
    if (choice.lines && any_wanted(scan, choice)) {
        Shot next = out.shot;
        next.seams.seam_lines = find_lines(
            project, next, composer, LineSearch(),
            [&](double share) { step(0.3 + 0.2 * share, "finding lines"); }, cancel);
        try_shot(next, CrossingResolution::line, 0.5, 0.6, "with lines found");
    }
    for (std::size_t i = 0; choice.shelter && i < scan.crossings.size(); ++i) {
        step(0.6 + 0.4 * double(i) / double(scan.crossings.size()), "with shelters");
        if (!wanted(scan.crossings[i], choice)) continue;
        Shot next = out.shot;
        Shelter shelter = shelter_for(scan.crossings[i], free_name(next, "crossing " + scan.crossings[i].id));
        const ShelterCamera sight = shelter_camera(next, shelter);
        if (sight.camera.empty() || sight.seen < 1)
            out.remarks.push_back(
                sight.camera.empty()
                    ? fmt::format("Crossing {}: no camera sees it", scan.crossings[i].id)
                    : fmt::format("Crossing {}: no single camera sees all of it; {} sees most, {:.0f} %",
                                  scan.crossings[i].id, sight.camera, 100 * sight.seen));
        if (sight.camera.empty()) continue;
        next.seams.shelters.push_back(shelter);
        const Crossing left = measured_again(project, next, composer, scan.crossings[i], cancel);
        if (shows_px(left) > shows_px(scan.crossings[i]) - kVisible_px / 2) {
            out.remarks.push_back(fmt::format("Crossing {}: a shelter does not make it better; {:.0f} px of "
                                              "parallax and {:.0f} px of torn edges stay",
                                              scan.crossings[i].id, scan.crossings[i].visible_parallax_px,
                                              scan.crossings[i].torn_px));
            continue;
        }
        scan.crossings[i].visible_parallax_px = left.visible_parallax_px;
        scan.crossings[i].torn_px = left.torn_px;
        scan.crossings[i].shelter = shelter.name;
        if (!is_open(scan.crossings[i])) scan.crossings[i].resolution = CrossingResolution::shelter;
        out.shot = next;
        out.shot.seams.crossings = Shared(scan);
    }
    step(1, "done");
    return out;
}

} // namespace porb
