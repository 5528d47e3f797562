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
    double sum = 0;
    int lefts = 0;
    for (const Camera& a : rig.cameras) {
        if (a.eyes != Eyes::left) continue;
        const Camera* other = nullptr; // the right one that looks where this one does
        double best = -2;
        for (const Camera& b : rig.cameras)
            if (const double alike = forward_of(a.pose.turn).dot(forward_of(b.pose.turn));
                b.eyes == Eyes::right && alike > best)
                best = alike, other = &b;
        if (!other) return 0;
        sum += (other->pose.position_m - a.pose.position_m).norm();
        ++lefts;
    }
    return lefts ? sum / lefts : 0;
}

double widest_ipd_m(const Rig& rig) {
    double widest = 0;
    for (const Camera& a : rig.cameras)
        for (const Camera& b : rig.cameras)
            widest = std::max(widest, (a.pose.position_m - b.pose.position_m).norm());
    return widest;
}

} // namespace porb
