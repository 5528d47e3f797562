#include "steady/track.h"

#include "base/angle.h"
#include "base/error.h"
#include "project/orientation.h"
#include "project/span.h"
#include "solve/pictures/samples.h"

#include <Eigen/Dense>
#include <fmt/format.h>
#include <opencv2/imgproc.hpp>
#include <opencv2/video/tracking.hpp>

namespace porb {

namespace {

constexpr double kCirclePx = 420; ///< pictures are followed at about this size of their circles
constexpr int kMostCameras = 3;
constexpr int kCornersACamera = 160;
constexpr double kRenewDeg = 10;    ///< a new key frame when the rig has turned farther
constexpr double kRenewShare = 0.5; ///< or when fewer of its corners agree
constexpr int kLeastCorners = 12;
constexpr double kMovedDeg = 0.06; ///< residuals of a turn alone above which a move is fitted too

/// Robust scale of residuals: 1.4826 times their median, with a floor.
double scale_of(std::vector<double> residuals) {
    if (residuals.empty()) return 1;
    const auto half = residuals.begin() + std::ptrdiff_t(residuals.size() / 2);
    std::nth_element(residuals.begin(), half, residuals.end());
    return std::max(2e-5, 1.4826 * *half);
}

struct Seen {
    std::vector<cv::Mat> pictures; ///< one for each followed camera, 8 bit
};

struct Follower {
    std::size_t camera;
    int level;
    Lens lens; ///< at the followed size
    LensMap map;
    Mat3 to_rig;
};

std::vector<Follower> followers(const Project& project, const Shot& shot) {
    std::vector<std::size_t> usable;
    for (std::size_t c = 0; c < shot.cameras.size(); ++c)
        if (shot.cameras[c].used && find_media(project, shot.cameras[c].media)) usable.push_back(c);
    // A few that look all round tell as much as all of them.
    std::vector<std::size_t> chosen;
    const std::size_t n = usable.size(), want = std::min<std::size_t>(n, kMostCameras);
    for (std::size_t i = 0; i < want; ++i) chosen.push_back(usable[i * n / want]);
    std::vector<Follower> out;
    for (const std::size_t c : chosen) {
        const Camera& camera = shot.rig.cameras[c];
        int level = 0;
        while (2 * camera.lens.circle.radius_px / (2 << level) >= kCirclePx) ++level;
        const int scale = 1 << level;
        const Lens lens = scaled(camera.lens, (camera.lens.width + scale - 1) / scale,
                                 (camera.lens.height + scale - 1) / scale);
        if (fault_in(lens)) continue;
        out.push_back({c, level, lens, LensMap(lens), rotation_of(camera.pose.turn)});
    }
    return out;
}

Seen see(const Project& project, const Shot& shot, const std::vector<Follower>& cameras, Seconds time,
         MediaLibrary& library) {
    Seen seen;
    for (const auto& f : cameras) {
        const ShotCamera& use = shot.cameras[f.camera];
        const auto picture = library.picture(find_media(project, use.media)->ref,
                                             shown_time(use, time, shot.timing.rate), f.level);
        cv::Mat mat;
        if (picture) {
            const Grey grey = grey_of(*picture);
            cv::Mat(grey.height, grey.width, CV_32F, const_cast<float*>(grey.v.data()))
                .convertTo(mat, CV_8U, 255);
        }
        seen.pictures.push_back(mat);
    }
    return seen;
}

struct Mark {
    std::size_t follower;
    cv::Point2f at;
    Vec3 direction; ///< in the rig, at the key frame
};

std::vector<Mark> marks_in(const Seen& seen, const std::vector<Follower>& cameras) {
    std::vector<Mark> marks;
    for (std::size_t f = 0; f < cameras.size(); ++f) {
        if (seen.pictures[f].empty()) continue;
        const ImageCircle& c = cameras[f].lens.circle;
        cv::Mat mask = cv::Mat::zeros(seen.pictures[f].size(), CV_8U);
        cv::circle(mask, {int(c.center_px.x()), int(c.center_px.y())}, int(c.radius_px - 10), 255, -1);
        std::vector<cv::Point2f> at;
        cv::goodFeaturesToTrack(seen.pictures[f], at, kCornersACamera, 0.006, 2 * c.radius_px / 22, mask, 5);
        for (const auto& p : at)
            if (const auto d = cameras[f].map.unproject({double(p.x) + 0.5, double(p.y) + 0.5}))
                marks.push_back({f, p, cameras[f].to_rig * *d});
    }
    return marks;
}

/// Directions of the marks at another frame, where they could be followed: there and back again.
void follow(const Seen& key, const Seen& now, const std::vector<Follower>& cameras,
            const std::vector<Mark>& marks, const Mat3& now_to_key, std::vector<Vec3>& from,
            std::vector<Vec3>& to) {
    for (std::size_t f = 0; f < cameras.size(); ++f) {
        if (key.pictures[f].empty() || now.pictures[f].empty()) continue;
        std::vector<cv::Point2f> at, there, back;
        std::vector<const Mark*> which;
        for (const auto& m : marks) {
            if (m.follower != f) continue;
            const Vec2 p = cameras[f].map.project_anywhere(cameras[f].to_rig.transpose() *
                                                           (now_to_key.transpose() * m.direction));
            if (cameras[f].map.clearance(p) < 8) continue;
            at.push_back(m.at);
            there.emplace_back(float(p.x() - 0.5), float(p.y() - 0.5));
            which.push_back(&m);
        }
        if (at.empty()) continue;
        std::vector<uchar> ok, ok_back;
        std::vector<float> error;
        const cv::TermCriteria until(cv::TermCriteria::COUNT + cv::TermCriteria::EPS, 30, 0.004);
        cv::calcOpticalFlowPyrLK(key.pictures[f], now.pictures[f], at, there, ok, error, {15, 15}, 2, until,
                                 cv::OPTFLOW_USE_INITIAL_FLOW);
        back = at;
        cv::calcOpticalFlowPyrLK(now.pictures[f], key.pictures[f], there, back, ok_back, error, {15, 15}, 2,
                                 until, cv::OPTFLOW_USE_INITIAL_FLOW);
        for (std::size_t i = 0; i < at.size(); ++i) {
            if (!ok[i] || !ok_back[i] || std::hypot(back[i].x - at[i].x, back[i].y - at[i].y) > 0.3f)
                continue;
            if (const auto d =
                    cameras[f].map.unproject({double(there[i].x) + 0.5, double(there[i].y) + 0.5})) {
                from.push_back(cameras[f].to_rig * *d);
                to.push_back(which[i]->direction);
            }
        }
    }
}

std::vector<double> sizes(const std::vector<Vec3>& v) {
    std::vector<double> out;
    for (const auto& x : v) out.push_back(x.norm());
    return out;
}

/// A record's speed of turning in its own axes, from gyro or from orientation.
std::vector<std::pair<double, Vec3>> speeds_of(const MotionRecord& record) {
    std::vector<std::pair<double, Vec3>> out;
    for (const auto& s : record.gyro) out.emplace_back(s.time_s, Vec3(s.value[0], s.value[1], s.value[2]));
    if (!out.empty()) return out;
    for (std::size_t i = 1; i < record.orientation.size(); ++i) {
        const auto &a = record.orientation[i - 1], &b = record.orientation[i];
        if (!(b.time_s > a.time_s)) continue;
        const Mat3 ra = rotation_from_vector(Vec3(a.value[0], a.value[1], a.value[2])),
                   rb = rotation_from_vector(Vec3(b.value[0], b.value[1], b.value[2]));
        out.emplace_back(0.5 * (a.time_s + b.time_s),
                         rotation_vector(ra.transpose() * rb) / (b.time_s - a.time_s));
    }
    return out;
}

/// The mean of a record's speeds over a span; nothing when it holds no reading there.
std::optional<Vec3> mean_speed(const std::vector<std::pair<double, Vec3>>& speeds, double from, double to) {
    auto it = std::lower_bound(speeds.begin(), speeds.end(), from,
                               [](const auto& s, double t) { return s.first < t; });
    Vec3 sum = Vec3::Zero();
    int n = 0;
    for (; it != speeds.end() && it->first < to; ++it) sum += it->second, ++n;
    if (!n) return std::nullopt;
    return Vec3(sum / n);
}

} // namespace

TurnFit fit_turn(std::span<const Vec3> from, std::span<const Vec3> to) {
    TurnFit fit;
    fit.turn = Mat3::Identity();
    const std::size_t n = from.size();
    if (n < 3) return fit;
    double scale = radians(1.0);
    std::vector<double> residuals(n, 0);
    for (int round = 0; round < 12; ++round) {
        Mat3 sum = Mat3::Zero();
        for (std::size_t i = 0; i < n; ++i) {
            const double ratio = round ? residuals[i] / (2 * scale) : 0;
            sum += to[i] * from[i].transpose() / (1 + ratio * ratio);
        }
        fit.turn = nearest_rotation(sum);
        for (std::size_t i = 0; i < n; ++i) residuals[i] = (fit.turn * from[i]).cross(to[i]).norm();
        scale = scale_of(residuals);
    }
    if (degrees(scale / 1.4826) > kMovedDeg && n >= 2 * kLeastCorners) {
        // The rig moved as well: what is left of each direction's change lies in the plane through the
        // direction of the move. Turn and move are fitted to that alone (Longuet-Higgins 1981, on the
        // sphere).
        Mat3 turn = fit.turn;
        Vec3 move(0, 0, 1);
        std::vector<double> weight(n, 1), off(n, 0);
        for (int round = 0; round < 20; ++round) {
            Mat3 normals = Mat3::Zero();
            for (std::size_t i = 0; i < n; ++i) {
                const Vec3 c = (turn * from[i]).cross(to[i]);
                normals += weight[i] * c * c.transpose();
            }
            move = Eigen::SelfAdjointEigenSolver<Mat3>(normals).eigenvectors().col(0);
            Mat3 information = 1e-12 * Mat3::Identity();
            Vec3 right = Vec3::Zero();
            for (std::size_t i = 0; i < n; ++i) {
                const Vec3 f = turn * from[i];
                const double length = std::max(0.05, move.cross(to[i]).norm());
                off[i] = move.dot(f.cross(to[i])) / length;
                // A small turn w changes it by move . ((w x f) x to) / length.
                Vec3 slope;
                for (Eigen::Index k = 0; k < 3; ++k)
                    slope[k] = move.dot(Vec3::Unit(k).cross(f).cross(to[i])) / length;
                information += weight[i] * slope * slope.transpose();
                right -= weight[i] * slope * off[i];
            }
            const Vec3 step = information.ldlt().solve(right);
            if (!step.allFinite() || step.norm() > radians(5)) break;
            turn = rotation_from_vector(step) * turn;
            std::vector<double> sizes_off;
            for (const double o : off) sizes_off.push_back(std::abs(o));
            const double s = scale_of(sizes_off);
            for (std::size_t i = 0; i < n; ++i) weight[i] = 1 / (1 + std::pow(off[i] / (2 * s), 2));
            if (round > 4 && step.norm() < 1e-8) break;
        }
        // Forward and backward along the move cannot both hold for a still scene unless it is one: accept it
        // only when it explains clearly more than the turn alone.
        std::vector<double> sizes_off;
        for (const double o : off) sizes_off.push_back(std::abs(o));
        const double moved_scale = scale_of(sizes_off);
        if (moved_scale < 0.5 * scale && degrees(rotation_vector(turn.transpose() * fit.turn).norm()) < 3) {
            fit.turn = turn;
            fit.moved = true;
            scale = moved_scale;
            for (std::size_t i = 0; i < n; ++i) residuals[i] = std::abs(off[i]);
        }
    }
    fit.residual_rad = scale / 1.4826;
    for (const double m : residuals) fit.agreeing += m < 3 * scale + radians(0.05);
    return fit;
}

TurnPath turning_from_footage(const Project& project, const Shot& shot, MediaLibrary& library,
                              const std::function<void(double)>& progress, const Cancel& cancel) {
    const auto cameras = followers(project, shot);
    if (cameras.empty())
        throw Error("no camera has a source to follow", "shot " + shot.name, "Add files in Gather");
    const Span span = used_span(project, shot, library);
    const std::int64_t first = frame_index(span.in, shot.timing.rate),
                       last = frame_before(span.out, shot.timing.rate);
    if (last - first < 2)
        throw Error("is too short to be steadied", "shot " + shot.name,
                    "Use a moving shot of at least three frames");
    TurnPath out;
    out.first_s = frame_time(first, shot.timing.rate).to_double();
    out.step_s = 1 / shot.timing.rate.to_double();
    Seen key = see(project, shot, cameras, frame_time(first, shot.timing.rate), library);
    std::vector<Mark> marks = marks_in(key, cameras);
    if (int(marks.size()) < kLeastCorners)
        throw Error("shows too little to follow", fmt::format("shot {} at {:.2f} s", shot.name, out.first_s),
                    "Set in to a moment with more to see, or use the motion record");
    Mat3 key_path = Mat3::Identity(), now_to_key = Mat3::Identity(), last_step = Mat3::Identity();
    std::size_t agreed_at_first = 0;
    std::vector<double> residuals;
    out.path.push_back(Vec3::Zero());
    Seen before = key;
    for (std::int64_t n = first + 1; n <= last; ++n) {
        cancel.check();
        Seen now = see(project, shot, cameras, frame_time(n, shot.timing.rate), library);
        std::vector<Vec3> from, to;
        const Mat3 predicted = now_to_key * last_step;
        follow(key, now, cameras, marks, predicted, from, to);
        TurnFit fit = fit_turn(from, to);
        const bool poor =
            fit.agreeing < kLeastCorners ||
            double(fit.agreeing) < kRenewShare * double(std::max<std::size_t>(agreed_at_first, 1));
        const bool far = degrees(rotation_vector(fit.turn).norm()) > kRenewDeg;
        if (poor || far) {
            // The frame before becomes the key.
            key = std::move(before);
            key_path = rotation_from_vector(out.path.back());
            marks = marks_in(key, cameras);
            from.clear(), to.clear();
            follow(key, now, cameras, marks, last_step, from, to);
            fit = fit_turn(from, to);
            now_to_key = Mat3::Identity();
            agreed_at_first = 0;
        }
        if (fit.agreeing < kLeastCorners) {
            ++out.lost;
            fit.turn = now_to_key * last_step;
        } else {
            residuals.push_back(fit.residual_rad);
            if (!agreed_at_first) agreed_at_first = std::size_t(fit.agreeing);
        }
        last_step = now_to_key.transpose() * fit.turn;
        if (degrees(rotation_vector(last_step).norm()) > 20) last_step = Mat3::Identity();
        now_to_key = fit.turn;
        out.path.push_back(rotation_vector(key_path * now_to_key));
        before = std::move(now);
        if (progress) progress(double(n - first) / double(last - first));
    }
    if (out.lost > int(out.path.size()) / 2)
        throw Error("shows too little to follow in most of its frames", "shot " + shot.name,
                    "Use the motion record, or a part with more to see");
    if (!residuals.empty()) {
        std::nth_element(residuals.begin(), residuals.begin() + std::ptrdiff_t(residuals.size() / 2),
                         residuals.end());
        out.residual_deg = degrees(residuals[residuals.size() / 2]);
    }
    return out;
}

RecordFit fit_record(const TurnPath& footage, const MotionRecord& record, double most_offset_s) {
    const auto speeds = speeds_of(record);
    std::vector<Vec3> seen;
    for (std::size_t i = 1; i < footage.path.size(); ++i)
        seen.push_back(rotation_vector(rotation_from_vector(footage.path[i - 1]).transpose() *
                                       rotation_from_vector(footage.path[i])) /
                       footage.step_s);
    const auto size = sizes(seen);
    double mean = 0, spread = 0;
    for (const double s : size) mean += s / double(std::max<std::size_t>(1, size.size()));
    for (const double s : size) spread += (s - mean) * (s - mean);
    if (seen.size() < 8 || std::sqrt(spread / double(std::max<std::size_t>(1, size.size()))) < radians(0.05))
        throw Error("the rig hardly turns, so the record cannot be lined up with the pictures",
                    "the motion record", "Set its offset and camera by hand");
    const auto at = [&](double offset, std::vector<Vec3>& theirs) {
        theirs.clear();
        for (std::size_t i = 0; i < seen.size(); ++i) {
            const double t = footage.first_s + double(i) * footage.step_s + offset;
            const auto v = mean_speed(speeds, t, t + footage.step_s);
            if (!v) return -1.0;
            theirs.push_back(*v);
        }
        double m = 0;
        const auto s = sizes(theirs);
        for (const double v : s) m += v / double(s.size());
        double dot = 0, a = 0, b = 0;
        for (std::size_t i = 0; i < s.size(); ++i)
            dot += (size[i] - mean) * (s[i] - m), a += (size[i] - mean) * (size[i] - mean),
                b += (s[i] - m) * (s[i] - m);
        return dot / std::sqrt(std::max(1e-30, a * b));
    };
    std::vector<Vec3> theirs;
    RecordFit fit;
    double best = -1;
    const double fine = footage.step_s / 8;
    for (double o = -most_offset_s; o <= most_offset_s; o += fine)
        if (const double v = at(o, theirs); v > best) best = v, fit.offset_s = o;
    if (best < 0.5)
        throw Error("does not turn as the pictures do at any offset", "the motion record",
                    "Check that it belongs to this shot, or set its offset by hand");
    // Then on the vectors, whose directions tell more than their sizes: the offset at which the axes fit
    // best.
    const auto residual_at = [&](double offset, Mat3& axes) {
        if (at(offset, theirs) < -0.5) return 1e9;
        Mat3 sum = Mat3::Zero();
        for (std::size_t i = 0; i < seen.size(); ++i) sum += seen[i] * theirs[i].transpose();
        axes = nearest_rotation(sum);
        double squares = 0;
        for (std::size_t i = 0; i < seen.size(); ++i) squares += (seen[i] - axes * theirs[i]).squaredNorm();
        return squares;
    };
    double centre = fit.offset_s;
    double step = fine;
    for (int round = 0; round < 12; ++round, step *= 0.6) {
        double least = 1e18, where = centre;
        Mat3 axes;
        for (int k = -4; k <= 4; ++k)
            if (const double m = residual_at(centre + k * step, axes); m < least)
                least = m, where = centre + k * step, fit.to_rig = axes;
        centre = where;
    }
    fit.offset_s = centre;
    fit.correlation = best;
    return fit;
}

TurnPath turning_from_record(const MotionRecord& record, double offset_s, const Mat3& mount, double from_s,
                             double to_s) {
    constexpr double kStep = 1.0 / 200;
    TurnPath out;
    out.first_s = from_s;
    out.step_s = kStep;
    const auto count = std::size_t(std::max(2.0, std::ceil((to_s - from_s) / kStep) + 1));
    const auto missing = [&] {
        return Error("does not reach over the used part of the shot", "the motion record",
                     "Check its offset, or set in and out to what it covers");
    };
    if (record.orientation.size() >= 2) {
        const auto& list = record.orientation;
        if (list.front().time_s > from_s + offset_s + 0.1 || list.back().time_s < to_s + offset_s - 0.1)
            throw missing();
        std::size_t k = 0;
        std::optional<Mat3> first;
        for (std::size_t i = 0; i < count; ++i) {
            const double t =
                std::clamp(from_s + double(i) * kStep + offset_s, list.front().time_s, list.back().time_s);
            while (k + 2 < list.size() && list[k + 1].time_s <= t) ++k;
            const auto turn = [&](std::size_t n) {
                return rotation_from_vector(Vec3(list[n].value[0], list[n].value[1], list[n].value[2]));
            };
            const double span = list[k + 1].time_s - list[k].time_s;
            const Mat3 a = turn(k);
            const Mat3 now = a * rotation_from_vector((span > 0 ? (t - list[k].time_s) / span : 0) *
                                                      rotation_vector(a.transpose() * turn(k + 1)));
            if (!first) first = now;
            out.path.push_back(rotation_vector(mount * first->transpose() * now * mount.transpose()));
        }
        return out;
    }
    const auto speeds = speeds_of(record);
    if (speeds.size() < 2)
        throw Error("holds neither orientation nor rates of turning", "the motion record",
                    "Steady from the footage instead");
    if (speeds.front().first > from_s + offset_s + 0.1 || speeds.back().first < to_s + offset_s - 0.1)
        throw missing();
    Mat3 now = Mat3::Identity();
    std::size_t k = 0;
    for (std::size_t i = 0; i < count; ++i) {
        out.path.push_back(rotation_vector(now));
        const double t = from_s + (double(i) + 0.5) * kStep + offset_s; // the rate in the middle of the step
        while (k + 2 < speeds.size() && speeds[k + 1].first <= t) ++k;
        const double span = speeds[k + 1].first - speeds[k].first;
        const double share = span > 0 ? std::clamp((t - speeds[k].first) / span, 0.0, 1.0) : 0;
        const Vec3 rate = (1 - share) * speeds[k].second + share * speeds[k + 1].second;
        now = now * rotation_from_vector(mount * rate * kStep);
    }
    return out;
}

std::string steady_shot(const Project& project, Shot& shot, SteadySource source, bool fit,
                        MediaLibrary& library, const std::function<void(double)>& progress,
                        const Cancel& cancel) {
    TurnPath path;
    std::string words;
    if (source == SteadySource::footage) {
        path = turning_from_footage(project, shot, library, progress, cancel);
        words = fmt::format("{} frames followed to {:.3f} degrees", path.path.size(), path.residual_deg);
        if (path.lost) words += fmt::format("; {} frames showed too little", path.lost);
    } else {
        if (!shot.calibration.motion)
            throw Error("has no motion record", "shot " + shot.name,
                        "Read one in Rig, or steady from the footage");
        const MotionRecord record = load_motion(shot.calibration.motion->path);
        const Camera* camera = find_camera(shot.rig, shot.calibration.motion->camera);
        Mat3 mount = camera ? rotation_of(camera->pose.turn) : Mat3(Mat3::Identity());
        if (fit) {
            const TurnPath footage = turning_from_footage(project, shot, library, progress, cancel);
            const RecordFit found = fit_record(footage, record);
            shot.calibration.motion->offset = Rational::from_double(std::round(found.offset_s * 1e5) / 1e5);
            mount = found.to_rig;
            words = fmt::format("record lies {:+.4f} s from the shot, correlation {:.2f}", found.offset_s,
                                found.correlation);
        }
        const Span span = used_span(project, shot, library);
        if (span.empty()) throw Error("no camera has a source", "shot " + shot.name, "Add files in Gather");
        const double from = span.in.to_double(), to = span.out.to_double();
        path = turning_from_record(record, shot.calibration.motion->offset.to_double(), mount, from, to);
        if (words.empty()) words = fmt::format("{:.1f} s of the record used", to - from);
    }
    Steady next = shot.levelling.steady.value_or(Steady{});
    next.on = true;
    next.source = source;
    next.first_s = path.first_s;
    next.step_s = path.step_s;
    next.path = std::move(path.path);
    shot.levelling.steady = std::move(next);
    return words;
}

} // namespace porb
