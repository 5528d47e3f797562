#pragma once

// What the files of solving share: points by their cameras' numbers. For them alone.
#include "project/project.h"
#include "solve/bundle/point_fit.h"

namespace porb {

Observation observation_of(const Rig& rig, const ControlPoint& point);
std::vector<Observation> observations_of(const Rig& rig, std::span<const ControlPoint> points);
/// By camera: in use, with a source.
std::vector<bool> cameras_with_sources(const Project& project, const Shot& shot);
/// By camera: the number of the first one whose lens is alike.
std::vector<int> alike_numbers(const Rig& rig);

} // namespace porb
