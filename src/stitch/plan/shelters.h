#pragma once

// Shelters as plans see them; for the files of planning alone.
#include "stitch/plan/line_field.h"
#include "stitch/plan/plan_lens.h"

namespace porb {

/// One shelter at a moment, ready for many directions.
struct ShelterAtTime {
    std::size_t lens = 0; ///< into plan_lenses
    Mat3 to_oval;         ///< from rig axes: z at the oval's middle, y down
    double half_width_deg = 1, half_height_deg = 1, feather_deg = 1;
    double presence = 0;    ///< 0 to 1
    double most_behind = 0; ///< degrees by which its lens is behind the best placed one, at most, inside

    /// Degrees inside the oval's edge, about; negative outside.
    double margin_deg(const Vec3& rig_direction) const;
    /// The share that comes from the shelter's lens whatever the others say. While presence grows, the line
    /// moves over the oval from the side where that lens supplies already; nothing fades in from nowhere.
    double share(const Vec3& rig_direction, const Landing& at, double best_lead_deg,
                 double lens_feather_deg) const;
};

/// The key's found lines at its moment, by lens; nothing where it has none.
std::optional<LineField> line_field(const PlanKey& key, const std::vector<PlanLens>& lenses);

/// The key's shelters that count at its moment, each with a lens: the one named, or the one that sees all of
/// its keys best. Shelters of cameras without pictures are left out.
std::vector<ShelterAtTime> shelters_at_time(const PlanKey& key, const std::vector<PlanLens>& lenses);

} // namespace porb
