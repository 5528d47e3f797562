#pragma once

#include "media/library.h"
#include "project/project.h"
#include "solve/bundle/point_fit.h"

namespace porb {

/// How a shot's points fit its rig as it stands: one fit for each point, in their order, dropped ones too.
std::vector<PointFit> measure_points(const Shot& shot);
/// Marks points whose miss is above the limit as dropped; returns how many. `fits` belong to the shot's
/// points.
int drop_above(ControlPoints& points, std::span<const PointFit> fits, double limit_px);

/// A point set by hand: where `b` shows what `a` shows at `a_px`. Throws Error that says why it was not
/// found.
ControlPoint propose_point(const Project& project, const Shot& shot, MediaLibrary& library, Seconds time,
                           const std::string& a, const Vec2& a_px, const std::string& b,
                           std::optional<Vec2> near_px = std::nullopt);
/// The id that the next point (or line) of the shot gets.
int free_point_id(const Shot& shot);

} // namespace porb
