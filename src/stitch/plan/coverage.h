#pragma once

#include "stitch/plan/plan_key.h"

#include <memory>

namespace porb {

/// Who sees a direction, for overlays and reports.
class Coverage {
  public:
    explicit Coverage(const PlanKey& key);
    ~Coverage();
    /// How far inside its reach each of the shot's cameras sees a world direction, in degrees; below 0: not
    /// at all.
    std::vector<double> margin_deg(const Vec3& world_direction) const;
    /// By the shot's cameras: their leads, which decide who supplies a direction, degrees; the lead of
    /// the first over the second is twice the way to the line between them.
    std::vector<double> lead_deg(const Vec3& world_direction) const;
    int lenses_at(const Vec3& world_direction) const;
    /// How far away the nearest change by a camera's cut-out or restore is.
    double clear_of_shapes_deg(const Vec3& world_direction) const;
    /// By the shot's cameras: what each supplies, as plans weigh it, where pictures differ.
    std::vector<float> supply(const Vec3& world_direction) const;

  private:
    struct Impl;
    std::unique_ptr<Impl> impl_;
};

} // namespace porb
