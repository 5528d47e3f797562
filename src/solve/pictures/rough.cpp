#include "solve/pictures/rough.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "project/orientation.h"

#include <fmt/format.h>
#include <opencv2/features2d.hpp>
#include <queue>

namespace porb {

namespace {

constexpr int kPicturePx = 860; ///< across the stereographic copies
constexpr int kMostLandmarks = 1800;
constexpr double kRimInSizes = 2; ///< how far from the rim a landmark must lie, in its own sizes
constexpr double kRatio = 0.82;
constexpr double kAgreeDeg = 3.5;
constexpr int kSureAgreeing = 9;
constexpr double kExpectedDeg = 12;

/// Wahba's problem by singular values: the turn that takes the directions `from` to `to`.
Mat3 best_turn(std::span<const Vec3> from, std::span<const Vec3> to) {
    Mat3 sum = Mat3::Zero();
    for (std::size_t i = 0; i < from.size(); ++i) sum += to[i] * from[i].transpose();
    return nearest_rotation(sum);
}

Mat3 turn_of_two(const Vec3& a0, const Vec3& a1, const Vec3& b0, const Vec3& b1) {
    const auto frame = [](const Vec3& p, const Vec3& q) {
        Mat3 f;
        f.col(0) = (p + q).normalized();
        f.col(1) = p.cross(q).normalized();
        f.col(2) = f.col(0).cross(f.col(1));
        return f;
    };
    return frame(a0, a1) * frame(b0, b1).transpose();
}

struct Alike {
    std::size_t a, b;
};
/// Pairs of landmarks that are each other's nearest and clearly nearer than the second nearest.
std::vector<Alike> alike_landmarks(const Landmarks& a, const Landmarks& b) {
    std::vector<Alike> out;
    if (a.size() < 3 || b.size() < 3) return out;
    const cv::Mat wa(int(a.size()), Landmarks::kWord, CV_32F, const_cast<float*>(a.words.data())),
        wb(int(b.size()), Landmarks::kWord, CV_32F, const_cast<float*>(b.words.data()));
    cv::Mat dots; // of unit words: 1 - d^2 / 2
    cv::gemm(wa, wb, 1, cv::noArray(), 0, dots, cv::GEMM_2_T);
    std::vector<int> best_a(b.size(), 0);
    for (int i = 1; i < dots.rows; ++i)
        for (int j = 0; j < dots.cols; ++j)
            if (dots.at<float>(i, j) > dots.at<float>(best_a[std::size_t(j)], j)) best_a[std::size_t(j)] = i;
    for (int i = 0; i < dots.rows; ++i) {
        const float* row = dots.ptr<float>(i);
        float first = -1, second = -1;
        int at = 0;
        for (int j = 0; j < dots.cols; ++j)
            if (row[j] > first)
                second = first, first = row[j], at = j;
            else if (row[j] > second)
                second = row[j];
        const double d1 = std::sqrt(std::max(0.0f, 2 - 2 * first)),
                     d2 = std::sqrt(std::max(0.0f, 2 - 2 * second));
        if (d1 < kRatio * d2 && best_a[std::size_t(at)] == i)
            out.push_back({std::size_t(i), std::size_t(at)});
    }
    return out;
}

/// A small fixed sequence of whole numbers, so that results are the same every time.
class Sequence {
  public:
    std::size_t below(std::size_t n) {
        state_ = state_ * 6364136223846793005u + 1442695040888963407u;
        return std::size_t(state_ >> 33) % n;
    }

  private:
    std::uint64_t state_ = 88172645463325252u;
};

double angle_deg(const Mat3& r) {
    return degrees(std::acos(std::clamp((r.trace() - 1) / 2, -1.0, 1.0)));
}

} // namespace

Landmarks landmarks_of(const Lens& lens, const GreyPyramid& pictures) {
    const LensMap map(lens);
    const double theta = std::min(map.theta_max(), radians(120));
    // Stereographic: radius 2 tan(theta / 2) reaches the rim at the copy's edge.
    const double scale = kPicturePx / 2.0 / (2 * std::tan(theta / 2));
    std::size_t level = 0;
    while (level + 1 < pictures.levels.size() && lens.focal_px / (2 << level) > scale * 0.9) ++level;
    const Grey& g = pictures.levels[level];
    const double down = 1.0 / (1 << level);
    cv::Mat copy(kPicturePx, kPicturePx, CV_8U), mask(kPicturePx, kPicturePx, CV_8U);
    parallel_ranges(kPicturePx, 16, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < kPicturePx; ++x) {
                const Vec2 p((x + 0.5 - kPicturePx / 2.0) / scale, (y + 0.5 - kPicturePx / 2.0) / scale);
                const double t = 2 * std::atan(p.norm() / 2);
                const Vec2 px =
                    p.norm() > 0 ? map.place(t, p.x() / p.norm(), p.y() / p.norm()) : lens.center_px;
                const bool seen = t < theta && map.clearance(px) > 3;
                copy.at<uchar>(y, x) =
                    seen ? uchar(std::clamp(255 * g.sample(px.x() * down, px.y() * down), 0.0f, 255.0f)) : 0;
                mask.at<uchar>(y, x) = t < theta - 0.02 && map.clearance(px) > 10 ? 255 : 0;
            }
    });
    std::vector<cv::KeyPoint> keys;
    cv::Mat words;
    // A low contrast limit: dark halls have quiet corners. The strongest are kept.
    cv::SIFT::create(kMostLandmarks, 3, 0.02)->detectAndCompute(copy, mask, keys, words);
    Landmarks out;
    for (int i = 0; i < words.rows; ++i) {
        const auto& k = keys[std::size_t(i)];
        const Vec2 p((double(k.pt.x) + 0.5 - kPicturePx / 2.0) / scale,
                     (double(k.pt.y) + 0.5 - kPicturePx / 2.0) / scale);
        const double r = std::max(1e-9, p.norm()), t = 2 * std::atan(r / 2);
        // What holds a part of the rim is alike in every lens, wherever it looks.
        if (r * scale + kRimInSizes * double(k.size) > kPicturePx / 2.0) continue;
        out.directions.emplace_back(std::sin(t) * p.x() / r, std::sin(t) * p.y() / r, std::cos(t));
        // The root of each part makes distances more telling (Arandjelovic and Zisserman 2012).
        const float* w = words.ptr<float>(i);
        float sum = 1e-9f;
        for (int n = 0; n < Landmarks::kWord; ++n) sum += w[n];
        for (int n = 0; n < Landmarks::kWord; ++n) out.words.push_back(std::sqrt(w[n] / sum));
    }
    return out;
}

RoughTurn rough_turn(const Landmarks& a, const Landmarks& b, const Mat3* expected) {
    RoughTurn out;
    const auto alike = alike_landmarks(a, b);
    out.compared = int(alike.size());
    out.b_to_a = expected ? *expected : Mat3(Mat3::Identity());
    if (alike.size() < 3) return out;
    const double limit = std::cos(radians(kAgreeDeg));
    const auto count = [&](const Mat3& r) {
        int n = 0;
        for (const auto& m : alike) n += a.directions[m.a].dot(r * b.directions[m.b]) > limit;
        return n;
    };
    const auto polish = [&](Mat3 r) {
        for (int round = 0; round < 5; ++round) {
            std::vector<Vec3> from, to;
            for (const auto& m : alike)
                if (a.directions[m.a].dot(r * b.directions[m.b]) > limit)
                    from.push_back(b.directions[m.b]), to.push_back(a.directions[m.a]);
            if (from.size() < 3) break;
            r = best_turn(from, to);
        }
        return r;
    };
    Sequence random;
    Mat3 best = Mat3::Identity(), best_near = Mat3::Identity();
    int most = 0, most_near = 0;
    constexpr int kTries = 4000;
    for (int i = 0; i < kTries; ++i) {
        const auto &m = alike[random.below(alike.size())], &n = alike[random.below(alike.size())];
        const Vec3 &a0 = a.directions[m.a], &a1 = a.directions[n.a], &b0 = b.directions[m.b],
                   &b1 = b.directions[n.b];
        const double apart_a = std::acos(std::clamp(a0.dot(a1), -1.0, 1.0)),
                     apart_b = std::acos(std::clamp(b0.dot(b1), -1.0, 1.0));
        if (apart_a < radians(8) || apart_a > radians(172) ||
            std::abs(apart_a - apart_b) > radians(2 * kAgreeDeg))
            continue;
        const Mat3 r = turn_of_two(a0, a1, b0, b1);
        const int agree = count(r);
        if (agree > most) most = agree, best = r;
        if (expected && agree > most_near && angle_deg(r.transpose() * *expected) < kExpectedDeg)
            most_near = agree, best_near = r;
    }
    // Halls repeat themselves: the expected turn holds unless clearly more speaks for another.
    if (expected && most_near >= kSureAgreeing && most_near >= 0.5 * most) best = best_near;
    out.b_to_a = polish(best);
    out.agreeing = count(out.b_to_a);
    out.sure = out.agreeing >= kSureAgreeing && out.agreeing >= 0.12 * out.compared;
    return out;
}

RoughRig rough_rig(const std::vector<Landmarks>& cameras, const std::vector<Mat3>& nominal,
                   const Cancel& cancel) {
    const std::size_t n = cameras.size();
    RoughRig rig;
    rig.turns = nominal;
    rig.placed.assign(n, false);
    rig.off_deg.assign(n, 0);
    for (std::size_t a = 0; a < n; ++a)
        for (std::size_t b = a + 1; b < n; ++b) {
            RoughTurn link;
            link.a = a, link.b = b;
            rig.links.push_back(link);
        }
    parallel_ranges(int(rig.links.size()), 1, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            cancel.check();
            RoughTurn& link = rig.links[std::size_t(i)];
            const Mat3 expected = nominal[link.a].transpose() * nominal[link.b];
            const auto [a, b] = std::pair(link.a, link.b);
            link = rough_turn(cameras[a], cameras[b], &expected);
            link.a = a, link.b = b;
        }
    });
    // The best linked camera first, then along the strongest link to one that is not placed yet.
    std::vector<int> strength(n, 0);
    for (const auto& l : rig.links)
        if (l.sure) strength[l.a] += l.agreeing, strength[l.b] += l.agreeing;
    const auto root = std::size_t(std::max_element(strength.begin(), strength.end()) - strength.begin());
    if (strength[root] == 0) return rig;
    rig.placed[root] = true;
    while (true) {
        const RoughTurn* next = nullptr;
        for (const auto& l : rig.links)
            if (l.sure && rig.placed[l.a] != rig.placed[l.b] && (!next || l.agreeing > next->agreeing))
                next = &l;
        if (!next) break;
        if (rig.placed[next->a])
            rig.turns[next->b] = rig.turns[next->a] * next->b_to_a;
        else
            rig.turns[next->a] = rig.turns[next->b] * next->b_to_a.transpose();
        rig.placed[next->a] = rig.placed[next->b] = true;
    }
    // Each camera's turn is then the mean of what its links say, again and again.
    for (int round = 0; round < 20; ++round)
        for (std::size_t c = 0; c < n; ++c) {
            if (!rig.placed[c] || c == root) continue;
            Mat3 sum = Mat3::Zero();
            for (const auto& l : rig.links) {
                if (!l.sure || (l.a != c && l.b != c)) continue;
                const Mat3 says =
                    l.a == c ? Mat3(rig.turns[l.b] * l.b_to_a.transpose()) : Mat3(rig.turns[l.a] * l.b_to_a);
                // A link that contradicts the others (a repeating pattern) hardly counts.
                const double off = angle_deg(says.transpose() * rig.turns[c]);
                sum += double(l.agreeing) / (1 + std::pow(off / 5, 4)) * says;
            }
            if (sum.norm() > 0) rig.turns[c] = nearest_rotation(sum);
        }
    // Aligned with the nominal rig so that as many cameras as possible agree, then by their mean.
    constexpr double kAgreeRigDeg = 9;
    Mat3 align = Mat3::Identity();
    int most = -1;
    for (std::size_t c = 0; c < n; ++c) {
        if (!rig.placed[c]) continue;
        const Mat3 g = nominal[c] * rig.turns[c].transpose();
        int agree = 0;
        Mat3 sum = Mat3::Zero();
        for (std::size_t k = 0; k < n; ++k) {
            if (!rig.placed[k] || angle_deg((g * rig.turns[k]).transpose() * nominal[k]) > kAgreeRigDeg)
                continue;
            ++agree;
            sum += nominal[k] * rig.turns[k].transpose();
        }
        if (agree > most) most = agree, align = nearest_rotation(sum);
    }
    for (std::size_t c = 0; c < n; ++c) {
        if (rig.placed[c]) rig.turns[c] = align * rig.turns[c];
        rig.off_deg[c] = rig.placed[c] ? angle_deg(rig.turns[c].transpose() * nominal[c]) : 0;
    }
    return rig;
}

std::optional<RigTrouble> trouble_in(const RoughRig& rough, const Rig& rig, const std::vector<int>& alike,
                                     double most_off_deg) {
    const std::size_t n = rig.cameras.size();
    std::string lost;
    for (std::size_t c = 0; c < n; ++c)
        if (!rough.placed[c]) lost += (lost.empty() ? "" : ", ") + rig.cameras[c].id;
    std::vector<std::size_t> off;
    for (std::size_t c = 0; c < n; ++c)
        if (rough.placed[c] && rough.off_deg[c] > most_off_deg) off.push_back(c);
    if (!lost.empty()) {
        const bool one = lost.find(',') == std::string::npos;
        return RigTrouble{fmt::format("{} nothing in common with the others", one ? "has" : "have"),
                          fmt::format("camera{} {}", one ? "" : "s", lost),
                          "Check that the right file is assigned, that it was shot together with the others, "
                          "and its time offset"};
    }
    if (off.empty()) return std::nullopt;
    // Would two of them be right in each other's place?
    std::vector<Mat3> nominal;
    for (const auto& c : rig.cameras) nominal.push_back(rotation_of(c.pose.turn));
    // With only two cameras left over, alignment itself may have been dragged along: every pair is tried.
    for (std::size_t a = 0; a < n; ++a)
        for (std::size_t b = a + 1; b < n; ++b) {
            if (alike[a] != alike[b]) continue;
            auto swapped = nominal;
            std::swap(swapped[a], swapped[b]);
            Mat3 sum = Mat3::Zero();
            int agree = 0;
            for (std::size_t c = 0; c < n; ++c) sum += swapped[c] * rough.turns[c].transpose();
            const Mat3 align = nearest_rotation(sum);
            for (std::size_t c = 0; c < n; ++c)
                agree += angle_deg((align * rough.turns[c]).transpose() * swapped[c]) < most_off_deg;
            if (agree == int(n))
                return RigTrouble{
                    fmt::format("the files of cameras {} and {} look swapped", rig.cameras[a].id,
                                rig.cameras[b].id),
                    fmt::format("cameras {} and {}", rig.cameras[a].id, rig.cameras[b].id),
                    "Exchange their sources in Gather, or solve from far to move the cameras instead"};
        }
    std::string names, how;
    for (const std::size_t c : off) {
        names += (names.empty() ? "" : ", ") + rig.cameras[c].id;
        const Mat3 extra = nominal[c].transpose() * rough.turns[c];
        const Turn t = turn_of(extra);
        const bool about_axis = degrees(std::acos(std::clamp(extra(2, 2), -1.0, 1.0))) < 12;
        how += (how.empty() ? "" : "; ") + (off.size() > 1 ? rig.cameras[c].id + " " : "") +
               (about_axis
                    ? fmt::format("is turned by {:.0f} degrees about its own axis", t.roll_deg)
                    : fmt::format("looks {:.0f} degrees away from where the rig has it", rough.off_deg[c]));
    }
    return RigTrouble{
        how, (off.size() > 1 ? "cameras " : "camera ") + names,
        "Correct its yaw, pitch or roll in Rig, or solve from far, which takes the turns from the pictures"};
}

} // namespace porb
