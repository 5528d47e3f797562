#include "project/orientation.h"

#include "base/angle.h"

namespace porb {

namespace {

constexpr double kFollowReach = 2.5; ///< standard deviations of the window that is averaged

Mat3 between(const Mat3& a, const Mat3& b, double t) {
    return a * rotation_from_vector(t * rotation_vector(a.transpose() * b));
}

/// Where the viewer should face while slow turns are followed: a mean of the rig's directions about
/// `seconds`, with Gaussian weights. Only the heading when the horizon is kept.
Mat3 followed(const Steady& s, const Mat3& level, double seconds) {
    const double sigma = s.follow_s / 2;
    const auto count = int(s.path->size());
    const int from = std::max(0, int(std::floor((seconds - kFollowReach * sigma - s.first_s) / s.step_s)));
    const int to =
        std::min(count - 1, int(std::ceil((seconds + kFollowReach * sigma - s.first_s) / s.step_s)));
    Mat3 sum = Mat3::Zero();
    for (int i = from; i <= to; ++i) {
        const double d = (s.first_s + i * s.step_s - seconds) / sigma;
        Mat3 w = level * rotation_from_vector((*s.path)[std::size_t(i)]) * level.transpose();
        if (s.keep_horizon) w = rotation_of({turn_of(w).yaw_deg, 0, 0});
        sum += std::exp(-0.5 * d * d) * w;
    }
    return from <= to ? nearest_rotation(sum) : Mat3(Mat3::Identity());
}

} // namespace

Mat3 path_at(const Steady& s, double seconds) {
    if (s.path->empty() || s.step_s <= 0) return Mat3::Identity();
    const double x = std::clamp((seconds - s.first_s) / s.step_s, 0.0, double(s.path->size() - 1));
    const auto i = std::min(std::size_t(x), s.path->size() - 1);
    const Mat3 a = rotation_from_vector((*s.path)[i]);
    if (i + 1 >= s.path->size()) return a;
    return between(a, rotation_from_vector((*s.path)[i + 1]), x - double(i));
}

Vec3 spin_at(const Steady& s, double seconds) {
    if (s.path->size() < 2 || s.step_s <= 0) return Vec3::Zero();
    const double h = 0.5 * s.step_s;
    return rotation_vector(path_at(s, seconds - h).transpose() * path_at(s, seconds + h)) / (2 * h);
}

Vec3 in_rig_axes(const Shot& shot, Seconds time, const Vec3& world_direction) {
    return orientation_at(shot, time).transpose() * world_direction;
}

Mat3 keyed_orientation(const Shot& shot, double seconds) {
    const auto& keys = shot.levelling.orientation_keys;
    if (keys.empty()) return rotation_of(shot.levelling.orientation);
    const auto at = [&](std::size_t i) { return keys[i].time.to_double(); };
    if (seconds <= at(0)) return rotation_of(keys.front().turn);
    if (seconds >= at(keys.size() - 1)) return rotation_of(keys.back().turn);
    std::size_t i = 0;
    while (i + 2 < keys.size() && at(i + 1) <= seconds) ++i;
    const auto key = [&](std::size_t n) { return rotation_of(keys[n].turn); };
    // Rotation rates at both ends, radians a second in the key's own axes: from neighbour to neighbour; at
    // rest at either end of the curve.
    const auto rate = [&](std::size_t n) -> Vec3 {
        if (n == 0 || n + 1 == keys.size()) return Vec3::Zero();
        const Vec3 back = -rotation_vector(key(n).transpose() * key(n - 1)) / (at(n) - at(n - 1));
        const Vec3 on = rotation_vector(key(n).transpose() * key(n + 1)) / (at(n + 1) - at(n));
        return 0.5 * (back + on);
    };
    const double span = at(i + 1) - at(i), t = (seconds - at(i)) / span;
    const Mat3 p0 = key(i), p3 = key(i + 1);
    const Mat3 p1 = p0 * rotation_from_vector(rate(i) * span / 3);
    const Mat3 p2 = p3 * rotation_from_vector(-rate(i + 1) * span / 3);
    const Mat3 a = between(p0, p1, t), b = between(p1, p2, t), c = between(p2, p3, t);
    return between(between(a, b, t), between(b, c, t), t);
}

Mat3 steadying(const Shot& shot, double seconds) {
    if (!shot.levelling.steady || !shot.levelling.steady->on || shot.levelling.steady->path->empty())
        return Mat3::Identity();
    const Steady& s = *shot.levelling.steady;
    const Mat3 level = keyed_orientation(shot, s.first_s); // what is upright when the path begins
    const Mat3 world = level * path_at(s, seconds) * level.transpose();
    const Mat3 target = s.follow_s > 0 ? followed(s, level, seconds) : Mat3(Mat3::Identity());
    const Mat3 correction = target.transpose() * world;
    return rotation_from_vector(s.strength * rotation_vector(correction));
}

Mat3 orientation_at(const Shot& shot, Seconds time) {
    const double t = time.to_double();
    if (!orientation_moves(shot)) return rotation_of(shot.levelling.orientation);
    return steadying(shot, t) * keyed_orientation(shot, t);
}

bool orientation_moves(const Shot& shot) {
    return !shot.levelling.orientation_keys.empty() ||
           (shot.levelling.steady && shot.levelling.steady->on && !shot.levelling.steady->path->empty());
}

void set_orientation(Shot& shot, Seconds time, const Mat3& orientation) {
    // Turned in the world's axes, so that steadying, which is relative to the keyed upright, goes along.
    const Mat3 by = orientation * orientation_at(shot, time).transpose();
    const Turn turn = tidied(turn_of(by * keyed_orientation(shot, time.to_double())));
    if (shot.levelling.orientation_keys.empty()) {
        shot.levelling.orientation = turn;
        return;
    }
    auto it = std::lower_bound(shot.levelling.orientation_keys.begin(), shot.levelling.orientation_keys.end(),
                               time, [](const OrientationKey& k, Seconds t) { return k.time < t; });
    if (it != shot.levelling.orientation_keys.end() && it->time == time)
        it->turn = turn;
    else
        shot.levelling.orientation_keys.insert(it, {time, turn});
}

void turn_all(Shot& shot, const Mat3& turn) {
    shot.levelling.orientation = tidied(turn_of(turn * rotation_of(shot.levelling.orientation)));
    for (auto& k : shot.levelling.orientation_keys) k.turn = tidied(turn_of(turn * rotation_of(k.turn)));
}

} // namespace porb
