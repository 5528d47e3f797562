#pragma once

#include "stitch/plan/plan_key.h"

#include <array>
#include <cstdint>

namespace porb {

/// Pixels of a row that are planned together.
inline constexpr int kSegment = 16;

/// One camera's part in one segment: where its pixels come from and with what weight. Source positions follow
/// a parabola through three nodes at pixel offsets 0, 7.5 and 15 (off by under 0.02 px for pictures of 1000
/// columns and more; coarser ones store every position).
struct Contribution {
    static constexpr std::uint32_t kNone = ~std::uint32_t(0);
    std::uint16_t camera = 0;       ///< index into BlendPlan::cameras
    bool exact = false;             ///< positions are in `positions` instead of the nodes
    bool full = false;              ///< weight 1 at every pixel; otherwise weights are in `weights`
    std::uint32_t weights = 0;      ///< offset of kSegment floats
    std::uint32_t positions = 0;    ///< offset of 2 * kSegment floats: all u, then all v
    std::uint32_t parallax = kNone; ///< of a Parallax
    float u[3] = {}, v[3] = {};     ///< source pixels, continuous coordinates of the (reduced) source
};

/// How one camera's part in a segment moves with how near things are: at inverse distance agree + rho, a
/// source position is off by (u1 + u2 rho) rho, (v1 + v2 rho) rho, its terms along the same parabola as
/// positions. A parabola through three distances (off by under 0.1 px down to 0.5 m for lenses 0.1 m from the
/// centre); rho stays within what the lens sees.
struct Parallax {
    float u1[3], u2[3], v1[3], v2[3];
    float low = 0, high = 0; ///< 1/m
};

struct Segment {
    std::uint32_t first = 0; ///< index into contributions
    std::uint32_t count = 0; ///< 0: nobody sees any of its pixels
    /// Behind those, so many more that have no weight: they see the place, too, and supply what is hidden
    /// from the others.
    std::uint32_t reserves = 0;
};

/// The directions of a segment's nodes in the rig's axes, x, y and z of each: what depends on the frame (how
/// far things are, what light is missing) is looked up by direction.
using SegmentDirections = std::array<std::array<float, 3>, 3>;

/// Everything about a stitched picture that does not depend on the frame.
struct BlendPlan {
    int width = 0, height = 0;
    int segments_per_row = 0;
    struct PlanCamera {
        std::size_t index = 0; ///< into the shot's cameras
        int level = 0;         ///< how often its source is halved first
        bool shown = true;     ///< whether it has a part in any segment: only then its source is read
    };
    std::vector<PlanCamera> cameras;
    std::vector<Segment> segments; ///< row by row
    std::vector<Contribution> contributions;
    std::vector<float> weights, positions;
    std::vector<Parallax> parallaxes;
    std::vector<SegmentDirections> directions; ///< by segment; empty where nothing depends on the frame
    double agree_inverse_m = 0, pixel_angle = 0;
    int feather_power = 1; ///< of narrow_weights(): 1 where transitions are as wide as feathers anyway
    std::size_t bytes() const;
};

/// Weight before normalisation of a lens at a direction, from how far inside its reach (in degrees) it is,
/// its lead and that of the best placed lens. Neighbours meet on the line where their leads are equal, within
/// `mix_deg` of it; at the reach itself the weight fades to nothing over half of `feather_deg`.
double blend_weight(double margin_deg, double lead_deg, double best_lead_deg, double feather_deg,
                    double mix_deg);
/// The same without found lines, where its margin is its lead, and no wider than the
/// feather.
inline double blend_weight(double margin_deg, double best_inside_deg, double feather_deg) {
    return blend_weight(margin_deg, margin_deg, best_inside_deg, feather_deg, feather_deg);
}

/// Weights at one place of lenses that are mixed over `mix_deg`, of which only a share (0 to 1) shows the
/// same in all: that share of them stays, the rest becomes that of a transition as narrow as the feather.
/// `feather_power` is the plan's; their sum stays.
void narrow_weights(std::span<float> weights, float agreement, int feather_power);
/// A camera that is planned to supply less of a pixel (past its reach, cut out, outside a shelter) takes over
/// nothing there from one that does not see, unless it is among the reserves, too.
inline constexpr float kSupplies = 1e-3f;
/// What a contribution that sees claims of what is missing although it has no weight (those with a plan's
/// weight and the first reserve, and others), and what one claims of its weight that does not see: so that
/// nothing jumps where nobody does.
inline constexpr float kFirstClaim = 0.02f, kOtherClaim = 0.0005f, kUnseenClaim = 1e-4f;
/// Weights at one place where some cameras do not see what is there: `visible` says how far each does, 0 to
/// 1; `count` contributions come first, then reserves, whose weight is 0. What those lose that do not see
/// goes to those that do: mainly to those with weight, then to the first reserve. The sum stays. Where nobody
/// sees, weights stay as they are.
void share_out_hidden(std::span<float> weights, std::span<const float> visible, std::size_t count);
/// The power that makes a transition of mix_deg about as narrow as one of feather_deg.
int power_for_feather(double mix_deg, double feather_deg);

BlendPlan make_plan(const PlanKey& key);
/// The plan of `key`, from that of at_rest(key): only what lies in a shelter or beside a moving line is
/// planned anew.
BlendPlan with_changes(const BlendPlan& base, const PlanKey& key);

/// Which camera a shelter's picture comes from, and the share of it that this camera sees over all its keys;
/// no camera when none can supply it.
struct ShelterCamera {
    std::string camera;
    double seen = 0;
};
ShelterCamera shelter_camera(const Shot& shot, const Shelter& shelter);

} // namespace porb
