#pragma once

// Who supplies a direction, and with what weight; for the files of planning alone.
#include "stitch/shelters.h"

#include <span>

namespace porb {

class Supply {
  public:
    Supply(const PlanKey& key, const std::vector<PlanLens>& lenses)
        : lenses_(lenses), havens_(havens(key, lenses)) {}

    /// Weights by lens of a direction (rig axes), from where each of them sees it: their sum is 1, less where
    /// the last lens fades at its reach, and 0 where nobody looks.
    void weights(const Vec3& rig_direction, std::span<const Landing> at, std::span<float> out) const;
    /// Whether a shelter may have a say within so many degrees of a direction.
    bool near_shelter(const Vec3& rig_direction, double within_deg) const;

  private:
    void blended(std::span<const Landing> at, std::uint64_t without, std::span<double> out) const;
    const std::vector<PlanLens>& lenses_;
    std::vector<Haven> havens_;
};

} // namespace porb
