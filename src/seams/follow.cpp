#include "seams/follow.h"

#include "base/angle.h"
#include "base/error.h"
#include "seams/thinned_keys.h"
#include "stitch/compose.h"
#include "stitch/plan/coverage.h"

#include <opencv2/imgproc.hpp>

namespace porb {

namespace {

constexpr int kWindow = 240;       ///< pixels a side of what is looked at
constexpr double kStep_s = 0.1;    ///< between looks
constexpr double kAround = 3;      ///< times the oval's larger side
constexpr double kOfOval = 0.8;    ///< the part of the oval that is compared: less of what is behind it
constexpr double kKnown = 0.55;    ///< correlation under which it is lost
constexpr double kStray = 0.004;   ///< correlation that a pixel off the expected place costs
constexpr double kLeastDetail = 4; ///< grey levels (standard deviation): less is a plain surface
constexpr double kScales[] = {0.95, 1.0, 1.05};
constexpr double kRefresh = 0.25; ///< of what it looked like is replaced at each look
constexpr double kThin_deg = 0.4; ///< keys that others stand for as closely are left away

cv::Mat grey_bytes(const Picture& p) {
    cv::Mat out(p.height(), p.width(), CV_8U);
    for (int y = 0; y < p.height(); ++y)
        for (int x = 0; x < p.width(); ++x) {
            const Rgba c = pixel_at(p, x, y);
            out.at<std::uint8_t>(y, x) =
                std::uint8_t(std::clamp(0.25f * c.r + 0.5f * c.g + 0.25f * c.b, 0.0f, 1.0f) * 255);
        }
    return out;
}

/// One subject, looked for from moment to moment.
class Follower {
  public:
    Follower(const Project& project, const Shot& shot, const std::shared_ptr<MediaLibrary>& library,
             const ShelterKey& first)
        : project_(project), shot_(shot), composer_(library),
          fov_deg_(std::clamp(kAround * std::max(first.width_deg, first.height_deg), 20.0, 110.0)) {
        shot_.levelling.orientation = {};
        shot_.levelling.orientation_keys.clear();
        shot_.levelling.steady.reset();
        shot_.seams.shelters.clear();
        shot_.seams.flow.on = false;
        shot_.seams.blend.kind = Blending::feathered;
        px_per_deg_ = kWindow / 2.0 / std::tan(radians(fov_deg_ / 2)) * radians(1);
        View view;
        view.target = equirect_target(1024);
        const auto inside = Coverage(plan_key(shot_, view, first.time))
                                .margin_deg(forward_of({first.yaw_deg, first.pitch_deg, 0}));
        camera_ = std::size_t(std::max_element(inside.begin(), inside.end()) - inside.begin());
        const cv::Mat seen = look(first);
        looks_ = patch(seen, {kWindow / 2.0, kWindow / 2.0}, first);
        cv::Scalar mean, spread;
        cv::meanStdDev(looks_, mean, spread);
        if (spread[0] < kLeastDetail)
            throw Error("shows nothing that could be recognised", "the shelter at its present moment",
                        "Put it over something with detail, or set its keys by hand");
    }

    /// The oval at `key.time`, looked for around `key`; nothing when it is not recognised.
    std::optional<ShelterKey> find(ShelterKey key) {
        const cv::Mat seen = look(key);
        double best = -1, best_scale = 1;
        cv::Point2d at;
        for (const double scale : kScales) {
            cv::Mat wanted, score;
            cv::resize(looks_, wanted, {}, scale, scale, cv::INTER_AREA);
            if (wanted.cols >= seen.cols || wanted.rows >= seen.rows || wanted.cols < 6 || wanted.rows < 6)
                continue;
            cv::matchTemplate(seen, wanted, score, cv::TM_CCOEFF_NORMED);
            // The farther from where it should be by now, the more alike it has to look.
            for (int y = 0; y < score.rows; ++y)
                for (int x = 0; x < score.cols; ++x)
                    score.at<float>(y, x) -= float(kStray * std::hypot(x + (wanted.cols - kWindow) / 2.0,
                                                                       y + (wanted.rows - kWindow) / 2.0));
            double most = 0;
            cv::Point where;
            cv::minMaxLoc(score, nullptr, &most, nullptr, &where);
            if (most > best + (scale == 1.0 ? 0 : 0.01)) {
                best = most, best_scale = scale;
                at = cv::Point2d(where.x + peak(score, where, true), where.y + peak(score, where, false)) +
                     cv::Point2d(wanted.cols / 2.0, wanted.rows / 2.0);
            }
        }
        if (best < kKnown) return std::nullopt;
        const double focal = kWindow / 2.0 / std::tan(radians(fov_deg_ / 2));
        const Vec3 d = rotation_of({key.yaw_deg, key.pitch_deg, 0}) *
                       Vec3((at.x - kWindow / 2.0) / focal, (at.y - kWindow / 2.0) / focal, 1).normalized();
        ShelterKey found = key;
        const Turn to = turn_towards(d);
        found.yaw_deg = to.yaw_deg, found.pitch_deg = to.pitch_deg;
        found.width_deg = std::clamp(key.width_deg * best_scale, 1.0, 120.0);
        found.height_deg = std::clamp(key.height_deg * best_scale, 1.0, 120.0);
        // It changes slowly as it turns and comes nearer.
        const cv::Mat now = patch(seen, at, found);
        cv::Mat resized;
        cv::resize(looks_, resized, now.size(), 0, 0, cv::INTER_LINEAR);
        cv::addWeighted(resized, 1 - kRefresh, now, kRefresh, 0, looks_);
        return found;
    }

  private:
    /// The window about an oval, through the camera that sees its middle best.
    cv::Mat look(const ShelterKey& key) {
        View view;
        view.target = window_target(kWindow, kWindow, {key.yaw_deg, key.pitch_deg, 0}, fov_deg_);
        view.filter = Filter::linear;
        for (auto& c : shot_.cameras) c.used = find_camera(shot_, c.camera) != nullptr;
        const Vec3 middle = forward_of({key.yaw_deg, key.pitch_deg, 0});
        const auto inside = Coverage(plan_key(shot_, view, key.time)).margin_deg(middle);
        // The same camera as long as it sees the oval whole: from another, what is near stands elsewhere.
        if (inside[camera_] < std::max(key.width_deg, key.height_deg) / 2)
            camera_ = std::size_t(std::max_element(inside.begin(), inside.end()) - inside.begin());
        for (std::size_t c = 0; c < shot_.cameras.size(); ++c) shot_.cameras[c].used = c == camera_;
        return grey_bytes(composer_.compose(project_, shot_, key.time, view));
    }

    cv::Mat patch(const cv::Mat& seen, const cv::Point2d& middle, const ShelterKey& key) const {
        const double w = std::clamp(kOfOval * key.width_deg * px_per_deg_, 8.0, kWindow * 0.8),
                     h = std::clamp(kOfOval * key.height_deg * px_per_deg_, 8.0, kWindow * 0.8);
        cv::Mat out;
        cv::getRectSubPix(seen, cv::Size(int(std::lround(w)), int(std::lround(h))),
                          cv::Point2f(middle) - cv::Point2f(0.5f, 0.5f), out);
        return out;
    }

    /// Where between places the correlation is highest, by a parabola.
    static double peak(const cv::Mat& score, const cv::Point& at, bool along_x) {
        const cv::Point step = along_x ? cv::Point(1, 0) : cv::Point(0, 1);
        const cv::Point a = at - step, b = at + step;
        if (a.x < 0 || a.y < 0 || b.x >= score.cols || b.y >= score.rows) return 0;
        const double low = double(score.at<float>(a)), mid = double(score.at<float>(at)),
                     high = double(score.at<float>(b));
        const double bend = low - 2 * mid + high;
        return bend < -1e-9 ? std::clamp(0.5 * (low - high) / bend, -0.5, 0.5) : 0;
    }

    const Project& project_;
    Shot shot_;
    Composer composer_;
    double fov_deg_, px_per_deg_ = 1;
    cv::Mat looks_;
    std::size_t camera_ = 0;
};

double off_deg(const ShelterKey& a, const ShelterKey& b) {
    const double yaw = std::remainder(a.yaw_deg - b.yaw_deg, 360.0) * std::cos(radians(a.pitch_deg));
    return std::hypot(yaw, a.pitch_deg - b.pitch_deg) + 0.25 * std::abs(a.width_deg - b.width_deg) +
           0.25 * std::abs(a.height_deg - b.height_deg);
}

/// How far a key is from where even movement from one to another has it at its time.
double off_movement(const ShelterKey& from, const ShelterKey& to, const ShelterKey& key) {
    Shelter line;
    line.keys = {from, to};
    return off_deg(oval_at(line, key.time), key);
}

} // namespace

Followed follow_shelter(const Project& project, const Shot& shot, const Shelter& shelter, Seconds start,
                        Seconds end, const std::shared_ptr<MediaLibrary>& library,
                        const std::function<void(double)>& progress, const Cancel& cancel) {
    ShelterKey first = oval_at(shelter, start);
    first.time = start;
    const auto frames = std::max<std::int64_t>(1, std::llround(kStep_s * shot.timing.rate.to_double()));
    const Seconds step = Rational(frames) / shot.timing.rate;
    const double whole = std::max(1e-9, (end - shot.timing.in).to_double());
    Followed out;
    std::vector<ShelterKey> before, after;
    double done = 0;
    for (const bool onward : {true, false}) {
        Follower follower(project, shot, library, first);
        ShelterKey last = first, previous = first;
        auto& list = onward ? after : before;
        while (true) {
            cancel.check();
            const Seconds t = onward ? last.time + step : last.time - step;
            if (onward ? t >= end : t < shot.timing.in) break;
            ShelterKey guess = last; // it goes on as it went
            guess.yaw_deg =
                wrapped_deg(last.yaw_deg + std::remainder(last.yaw_deg - previous.yaw_deg, 360.0));
            guess.pitch_deg = std::clamp(2 * last.pitch_deg - previous.pitch_deg, -90.0, 90.0);
            guess.time = t;
            const auto found = follower.find(guess);
            if (!found) {
                out.lost = true;
                (onward ? out.to : out.from) = last.time;
                break;
            }
            list.push_back(*found);
            previous = last, last = *found;
            done += step.to_double();
            if (progress) progress(std::min(1.0, done / whole));
        }
    }
    std::vector<ShelterKey> all(before.rbegin(), before.rend());
    all.push_back(first);
    all.insert(all.end(), after.begin(), after.end());
    out.keys = thinned_keys(all, kThin_deg, off_movement);
    return out;
}

} // namespace porb
