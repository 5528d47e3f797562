#pragma once

// Who supplies a direction, and with what weight; for the files of planning alone.
#include "stitch/plan/line_field.h"
#include "stitch/plan/shelters.h"

#include <span>

namespace porb {

class Supply {
  public:
    Supply(const PlanKey& key, const std::vector<PlanLens>& lenses);

    /// Sets the leads of lenses at a direction (rig axes), where found lines say them.
    void set_leads(const Vec3& rig_direction, std::span<Landing> at) const;
    /// Weights by lens of a direction (rig axes), from where each of them sees it and its lead: their
    /// sum is 1, less where the last lens fades at its reach, and 0 where nobody looks.
    void weights(const Vec3& rig_direction, std::span<const Landing> at, std::span<float> out) const;
    /// Whether a shelter, or a line on its way, may have a say within so many degrees of a direction.
    bool near_change(const Vec3& rig_direction, double within_deg) const;
    bool follows_lines() const { return lines_.has_value(); }

  private:
    void blended(std::span<const Landing> at, std::uint64_t without, std::span<double> out) const;
    const std::vector<PlanLens>& lenses_;
    std::optional<LineField> lines_;
    std::vector<ShelterAtTime> havens_;
    double widest_mix_deg_ = 0;
};

} // namespace porb
