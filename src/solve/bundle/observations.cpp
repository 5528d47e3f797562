#include "solve/bundle/observations.h"

#include "project/camera_edits.h"

namespace porb {

Observation observation_of(const Rig& rig, const ControlPoint& p) {
    return {index_of(rig, p.a), index_of(rig, p.b), p.a_px, p.b_px, p.by_hand ? 2.0 : 1.0};
}

std::vector<Observation> observations_of(const Rig& rig, std::span<const ControlPoint> points) {
    std::vector<Observation> observations;
    for (const auto& p : points) observations.push_back(observation_of(rig, p));
    return observations;
}

std::vector<bool> cameras_with_sources(const Project& project, const Shot& shot) {
    std::vector<bool> in_use;
    for (const auto& c : shot.cameras) in_use.push_back(c.used && find_media(project, c.media));
    return in_use;
}

std::vector<int> alike_numbers(const Rig& rig) {
    std::vector<int> number;
    for (const auto& c : rig.cameras) number.push_back(int(index_of(rig, alike_cameras(rig, c.id).front())));
    return number;
}

} // namespace porb
