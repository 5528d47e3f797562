#include "project/seams.h"

#include "base/error.h"
#include "base/smooth.h"

#include <algorithm>
#include <cmath>

namespace porb {

namespace {

/// The keys about a moment and how far from the one to the other it is.
template <class Key>
struct Between {
    const Key *before, *after;
    double share;
};
template <class Key>
Between<Key> keys_about(const std::vector<Key>& keys, Seconds time) {
    auto after = std::find_if(keys.begin(), keys.end(), [time](const Key& k) { return k.time > time; });
    if (after == keys.begin()) return {&keys.front(), &keys.front(), 0};
    if (after == keys.end()) return {&keys.back(), &keys.back(), 0};
    const Key& before = *(after - 1);
    return {&before, &*after, (time - before.time).to_double() / (after->time - before.time).to_double()};
}

template <class Flow>
FlowKey own_values(const Flow& flow, Seconds time) {
    if (flow.keys.empty()) return {time, flow.strength, flow.zone_deg, flow.smoothness};
    const auto [before, after, share] = keys_about(flow.keys, time);
    const auto between = [&, from = before, to = after, t = share](double FlowKey::*value) {
        return from->*value + t * (to->*value - from->*value);
    };
    return {time, between(&FlowKey::strength), between(&FlowKey::zone_deg), between(&FlowKey::smoothness)};
}

template <class Flow>
void put(Flow& flow, const FlowKey& values) {
    flow.strength = values.strength, flow.zone_deg = values.zone_deg, flow.smoothness = values.smoothness;
}

bool remove_key(std::vector<FlowKey>& keys, Seconds time) {
    return std::erase_if(keys, [time](const FlowKey& k) { return k.time == time; }) > 0;
}

void add_key(std::vector<FlowKey>& keys, const FlowKey& key) {
    remove_key(keys, key.time);
    keys.insert(std::find_if(keys.begin(), keys.end(), [&](const FlowKey& k) { return k.time > key.time; }),
                key);
}

template <class Flow>
void set_own_value(Flow& flow, Seconds time, double FlowKey::*value, double to) {
    FlowKey values = own_values(flow, time);
    values.*value = to;
    if (flow.keys.empty())
        put(flow, values);
    else
        add_key(flow.keys, values);
}

template <class Flow>
void toggle_own_key(Flow& flow, Seconds time) {
    const FlowKey values = own_values(flow, time);
    if (!remove_key(flow.keys, time)) return add_key(flow.keys, values);
    if (flow.keys.empty()) put(flow, values);
}

template <class Flow>
double widest_own_zone_deg(const Flow& flow) {
    double widest = flow.keys.empty() ? flow.zone_deg : 0;
    for (const FlowKey& k : flow.keys) widest = std::max(widest, k.zone_deg);
    return widest;
}

} // namespace

FlowKey values_at(const FlowSettings& flow, Seconds time) {
    return own_values(flow, time);
}
FlowKey values_at(const SeamFlow& seam, Seconds time) {
    return own_values(seam, time);
}
void set_value(FlowSettings& flow, Seconds time, double FlowKey::*value, double to) {
    set_own_value(flow, time, value, to);
}
void set_value(SeamFlow& seam, Seconds time, double FlowKey::*value, double to) {
    set_own_value(seam, time, value, to);
}
void toggle_key(FlowSettings& flow, Seconds time) {
    toggle_own_key(flow, time);
}
void toggle_key(SeamFlow& seam, Seconds time) {
    toggle_own_key(seam, time);
}
double distance_zone_deg(const FlowSettings& flow, double own_deg) {
    constexpr double kWithoutEnd_deg = 1e4;
    return flow.everywhere ? kWithoutEnd_deg : own_deg;
}
double widest_zone_deg(const FlowSettings& flow) {
    return widest_own_zone_deg(flow);
}
double widest_zone_deg(const SeamFlow& seam) {
    return widest_own_zone_deg(seam);
}

FlowSettings flow_at(const FlowSettings& flow, Seconds time) {
    FlowSettings out = flow;
    put(out, values_at(flow, time));
    out.keys.clear();
    for (SeamFlow& seam : out.seams) {
        put(seam, values_at(seam, time));
        seam.keys.clear();
    }
    return out;
}

const SeamFlow* find_seam(const FlowSettings& flow, std::string_view a, std::string_view b) {
    const auto it = std::find_if(flow.seams.begin(), flow.seams.end(), [&](const SeamFlow& s) {
        return (s.a == a && s.b == b) || (s.a == b && s.b == a);
    });
    return it == flow.seams.end() ? nullptr : &*it;
}

SeamFlow seam_flow(const FlowSettings& flow, const std::string& a, const std::string& b) {
    if (const SeamFlow* own = find_seam(flow, a, b)) return *own;
    return {a, b, flow.strength, flow.zone_deg, flow.smoothness, std::nullopt, flow.keys};
}

LineState line_state_at(const SeamLines& lines, Seconds time) {
    LineState state;
    for (std::size_t k = 0; k < lines.keys.size() && lines.keys[k].time <= time; ++k) state.key = k;
    if (state.key + 1 >= lines.keys.size() || lines.ease_s <= 0) return state;
    const Seconds next = lines.keys[state.key + 1].time;
    // Keys may lie closer than the ease takes.
    const double room = (next - lines.keys[state.key].time).to_double(), ease = std::min(lines.ease_s, room);
    state.towards_next = smooth(1 - (next - time).to_double() / ease);
    return state;
}

std::vector<ShapeCorner> corners_at(const Shape& shape, Seconds time) {
    if (shape.keys.empty()) return {};
    const auto [before, after, share] = keys_about(shape.keys, time);
    std::vector<ShapeCorner> out = before->corners;
    if (after == before || after->corners.size() != out.size()) return out;
    for (std::size_t i = 0; i < out.size(); ++i) {
        const ShapeCorner& to = after->corners[i];
        out[i].at += share * (to.at - out[i].at);
        out[i].before += share * (to.before - out[i].before);
        out[i].after += share * (to.after - out[i].after);
    }
    return out;
}

std::vector<Vec2> outline_of(const std::vector<ShapeCorner>& corners, int steps) {
    std::vector<Vec2> out;
    for (std::size_t i = 0; i < corners.size(); ++i) {
        const ShapeCorner &a = corners[i], &b = corners[(i + 1) % corners.size()];
        const bool straight = a.after.isZero() && b.before.isZero();
        const Vec2 p = a.at + a.after, q = b.at + b.before;
        for (int s = 0; s < (straight ? 1 : steps); ++s) {
            const double t = double(s) / steps, u = 1 - t;
            out.push_back(u * u * u * a.at + 3 * u * u * t * p + 3 * u * t * t * q + t * t * t * b.at);
        }
    }
    return out;
}

ShelterKey oval_at(const Shelter& shelter, Seconds time) {
    if (shelter.keys.empty()) return {};
    const auto [before, after, share] = keys_about(shelter.keys, time);
    ShelterKey out = *before;
    out.time = time;
    out.yaw_deg += share * std::remainder(after->yaw_deg - before->yaw_deg, 360.0); // the short way round
    out.pitch_deg += share * (after->pitch_deg - before->pitch_deg);
    out.width_deg += share * (after->width_deg - before->width_deg);
    out.height_deg += share * (after->height_deg - before->height_deg);
    return out;
}

double presence_at(const Shelter& shelter, Seconds time) {
    if (!shelter.on || shelter.keys.empty()) return 0;
    const double ease = std::max(shelter.ease_s, 1e-9);
    double present = 1;
    if (shelter.from) present = std::min(present, 1 + (time - *shelter.from).to_double() / ease);
    if (shelter.to) present = std::min(present, 1 + (*shelter.to - time).to_double() / ease);
    return smooth(present);
}

std::optional<double> told_inverse_m(const AreaDistance& distance, const Vec3& rig_direction) {
    switch (distance.rule) {
    case DistanceRule::surroundings:
        return std::nullopt;
    case DistanceRule::metres:
        return distance.metres > 0 ? 1 / distance.metres : 0;
    case DistanceRule::plane:
        return std::max(0.0, distance.plane_per_m.dot(rig_direction));
    }
    return std::nullopt;
}

Vec3 plane_through(const std::array<Vec3, 3>& directions, const std::array<double, 3>& metres) {
    Mat3 places;
    for (int i = 0; i < 3; ++i) {
        const auto n = std::size_t(i);
        if (!(metres[n] > 0) || !std::isfinite(metres[n]))
            throw Error("is not at a distance", "place " + std::to_string(i + 1) + " of the plane",
                        "Choose one whose distance is known, nearer than infinitely far");
        places.row(i) = metres[n] * directions[n].normalized().transpose();
    }
    // A place p of the plane fulfils plane . p = 1. Their volume says how far they are from lying in one
    // plane with the rig's centre, which no distance can be told on.
    constexpr double kLeast = 1e-4;
    const double volume = std::abs(places.determinant()) / (metres[0] * metres[1] * metres[2]);
    if (volume < kLeast)
        throw Error("lie on one line", "the three places of the plane", "Choose them further apart");
    return places.inverse() * Vec3::Ones();
}

} // namespace porb
