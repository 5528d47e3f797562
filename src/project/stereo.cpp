#include "project/stereo.h"

#include "base/smooth.h"
#include "project/project.h"

#include <algorithm>

namespace porb {

namespace {
double inverse_of(double metres) {
    return metres > 0 ? 1 / metres : 0;
}
auto key_at(std::vector<ConvergeKey>& keys, Seconds time) {
    return std::lower_bound(keys.begin(), keys.end(), time,
                            [](const ConvergeKey& k, Seconds t) { return k.time < t; });
}
} // namespace

double converge_at(const StereoSettings& stereo, Seconds time) {
    const auto& keys = stereo.keys;
    if (keys.empty()) return stereo.converge_m;
    if (time <= keys.front().time) return keys.front().converge_m;
    if (time >= keys.back().time) return keys.back().converge_m;
    std::size_t next = 1;
    while (keys[next].time < time) ++next;
    const ConvergeKey &a = keys[next - 1], &b = keys[next];
    const double share = smooth((time - a.time).to_double() / (b.time - a.time).to_double());
    const double inverse =
        inverse_of(a.converge_m) + share * (inverse_of(b.converge_m) - inverse_of(a.converge_m));
    return inverse > 1e-9 ? 1 / inverse : 0;
}

void set_converge(StereoSettings& stereo, Seconds time, double converge_m) {
    if (stereo.keys.empty()) {
        stereo.converge_m = converge_m;
        return;
    }
    const auto at = key_at(stereo.keys, time);
    if (at != stereo.keys.end() && at->time == time)
        at->converge_m = converge_m;
    else
        stereo.keys.insert(at, {time, converge_m});
}

void toggle_converge_key(StereoSettings& stereo, Seconds time) {
    const double now = converge_at(stereo, time);
    const auto at = key_at(stereo.keys, time);
    if (at == stereo.keys.end() || at->time != time) {
        stereo.keys.insert(at, {time, now});
        return;
    }
    if (stereo.keys.size() == 1) stereo.converge_m = at->converge_m;
    stereo.keys.erase(at);
}

bool find_distances_everywhere(Shot& shot) {
    FlowSettings& flow = shot.seams.flow;
    const bool had = flow.on && flow.everywhere;
    flow.on = flow.everywhere = true;
    return !had;
}

double eye_separation_m(const Rig& rig) {
    Vec3 sum[2] = {Vec3::Zero(), Vec3::Zero()};
    int count[2] = {0, 0};
    for (const Camera& c : rig.cameras)
        if (c.eyes != Eyes::both) {
            const int side = c.eyes == Eyes::right;
            sum[side] += c.pose.position_m;
            ++count[side];
        }
    if (count[0] == 0 || count[1] == 0) return 0;
    // Rigs with several pairs stand on a circle: the middles of all would lie on each other.
    if (count[0] > 1 || count[1] > 1) {
        double total = 0;
        for (const Camera& a : rig.cameras) {
            if (a.eyes != Eyes::left) continue;
            double nearest = 1e9;
            for (const Camera& b : rig.cameras)
                if (b.eyes == Eyes::right)
                    nearest = std::min(nearest, (a.pose.position_m - b.pose.position_m).norm());
            total += nearest;
        }
        return total / count[0];
    }
    return (sum[1] - sum[0]).norm();
}

double widest_ipd_m(const Rig& rig) {
    double widest = 0;
    for (const Camera& a : rig.cameras)
        for (const Camera& b : rig.cameras)
            widest = std::max(widest, (a.pose.position_m - b.pose.position_m).norm());
    return widest;
}

} // namespace porb
