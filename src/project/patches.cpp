#include "project/patches.h"

#include "base/angle.h"
#include "base/smooth.h"
#include "project/limits.h"

#include <algorithm>
#include <cmath>

namespace porb {

namespace {
/// The keys before and after a moment, and how far it lies from the one to the other.
template <class Key>
struct About {
    const Key *before, *after;
    double share;
};
template <class Key>
About<Key> about(const std::vector<Key>& keys, Seconds time) {
    const auto next = std::find_if(keys.begin(), keys.end(), [&](const Key& k) { return time < k.time; });
    if (next == keys.begin()) return {&*next, &*next, 0};
    const Key* const before = &*std::prev(next);
    if (next == keys.end()) return {before, before, 0};
    return {before, &*next, (time - before->time).to_double() / (next->time - before->time).to_double()};
}
double between(double a, double b, double share) {
    return a + share * (b - a);
}
} // namespace

PatchKey place_at(const Patch& patch, Seconds time) {
    if (patch.keys.empty()) return {};
    const auto [before, after, share] = about(patch.keys, time);
    PatchKey out = *before;
    out.time = time;
    out.yaw_deg += share * std::remainder(after->yaw_deg - before->yaw_deg, 360.0);
    out.pitch_deg = between(before->pitch_deg, after->pitch_deg, share);
    out.roll_deg += share * std::remainder(after->roll_deg - before->roll_deg, 360.0);
    out.width_deg = between(before->width_deg, after->width_deg, share);
    out.opacity = between(before->opacity, after->opacity, share);
    return out;
}

double presence_at(const Patch& patch, Seconds time) {
    if (!patch.on || patch.keys.empty()) return 0;
    const double ease = std::max(patch.ease_s, 1e-9);
    double present = 1;
    if (patch.from) present = std::min(present, 1 + (time - *patch.from).to_double() / ease);
    if (patch.to) present = std::min(present, 1 + (*patch.to - time).to_double() / ease);
    return smooth(present);
}

PatchLightKey light_at(const Patch& patch, Seconds time) {
    if (!patch.follows_light || patch.light.empty()) return {};
    const auto [before, after, share] = about(patch.light, time);
    PatchLightKey out = *before;
    out.time = time;
    out.gain += share * (after->gain - before->gain);
    out.offset += share * (after->offset - before->offset);
    return out;
}

void set_place(Patch& patch, Seconds time, const PatchKey& place) {
    if (patch.keys.size() < 2) {
        const Seconds at = patch.keys.empty() ? Seconds(0) : patch.keys.front().time;
        const std::string extra = patch.keys.empty() ? std::string() : patch.keys.front().extra_json;
        patch.keys = {place};
        patch.keys.front().time = at;
        patch.keys.front().extra_json = extra;
        return;
    }
    auto at = std::find_if(patch.keys.begin(), patch.keys.end(),
                           [&](const PatchKey& k) { return !(k.time < time); });
    if (at == patch.keys.end() || at->time != time) at = patch.keys.insert(at, PatchKey{time});
    const std::string extra = at->extra_json;
    *at = place;
    at->time = time;
    at->extra_json = extra;
}

void toggle_place_key(Patch& patch, Seconds time) {
    const auto at = std::find_if(patch.keys.begin(), patch.keys.end(),
                                 [&](const PatchKey& k) { return !(k.time < time); });
    if (at != patch.keys.end() && at->time == time) {
        if (patch.keys.size() > 1) patch.keys.erase(at);
        return;
    }
    patch.keys.insert(at, place_at(patch, time));
}

int matching_resolution(double width_deg, int sphere_width) {
    constexpr int kStep = 64;
    const double pixels = 2 * std::tan(radians(width_deg) / 2) * sphere_width / (2 * kPi);
    const double whole = std::ceil(pixels / kStep) * kStep;
    return int(std::clamp(whole, limits::kPatchSide_px.low, limits::kPatchSide_px.high));
}

void set_resolution(Patch& patch, int resolution) {
    patch.resolution = resolution;
    for (TileImage* image : {&patch.pixels, &patch.plate, &patch.mask})
        if (!image->empty()) *image = resized(*image, resolution, resolution);
}

} // namespace porb
