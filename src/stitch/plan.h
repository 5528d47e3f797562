#pragma once

#include "project/project.h"
#include "stitch/view.h"

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
};

/// The directions of a segment's nodes in the rig's axes, x, y and z of each: what depends on the frame (how
/// far things are, what light is missing) is looked up by direction.
using Look = std::array<std::array<float, 3>, 3>;

/// Everything about a stitched picture that does not depend on the frame.
struct BlendPlan {
    int width = 0, height = 0;
    int segments_per_row = 0;
    struct PlanCamera {
        std::size_t index = 0; ///< into the shot's cameras
        int level = 0;         ///< how often its source is halved first
    };
    std::vector<PlanCamera> cameras;
    std::vector<Segment> segments; ///< row by row
    std::vector<Contribution> contributions;
    std::vector<float> weights, positions;
    std::vector<Parallax> parallaxes;
    std::vector<Look> looks; ///< by segment; empty where nothing depends on the frame
    double agree_inverse_m = 0, pixel_angle = 0;
    int narrowing = 1; ///< of narrow_weights(): 1 where transitions are as wide as feathers anyway
    std::size_t bytes() const;
};

/// Weight before normalisation of a lens at a direction, from how far inside its reach (in degrees) it is,
/// and how this and the best placed lens stand. Neighbours meet on the line where both stand alike, within
/// `mix_deg` of it; at the reach itself the weight fades to nothing over half of `feather_deg`.
double blend_weight(double inside_deg, double standing_deg, double best_standing_deg, double feather_deg,
                    double mix_deg);
/// The same without found lines, where how far inside it is says how it stands, and no wider than the
/// feather.
inline double blend_weight(double inside_deg, double best_inside_deg, double feather_deg) {
    return blend_weight(inside_deg, inside_deg, best_inside_deg, feather_deg, feather_deg);
}

/// Weights at one place of lenses that are mixed over `mix_deg`, of which only a share (0 to 1) shows the
/// same in all: that share of them stays, the rest becomes that of a transition as narrow as the feather.
/// `narrowing` is the plan's; their sum stays.
void narrow_weights(std::span<float> weights, float alike, int narrowing);
/// The power that makes a transition of mix_deg about as narrow as one of feather_deg.
int narrowing_power(double mix_deg, double feather_deg);

/// A shelter at a moment, and what chooses its camera where none is named.
struct PlanShelter {
    std::string camera;
    ShelterKey oval;
    double presence = 1, feather_deg = 2;
    std::vector<ShelterKey> keys; ///< all of them, where no camera is named
    bool operator==(const PlanShelter&) const = default;
};

/// The part of a shot, at a moment, that a plan depends on; equal keys mean equal plans.
struct PlanKey {
    Rig rig;
    std::vector<ShotCamera> cameras;
    Turn orientation;
    /// By how much the rig turns from the first row's moment to the last's while each camera reads its frame,
    /// the rig's axes, radians; empty: not at all.
    std::vector<Vec3> row_turns;
    double agree_distance_m = 0;
    FlowSettings flow; ///< how strongly, and where seams agree, is of no account
    bool multiband = false, hard = false;
    Shared<SeamLines> lines; ///< without keys: where two lenses are equally far inside their reach
    LineState line_state;
    std::vector<PlanShelter> shelters; ///< that count at the moment
    View view;
    bool operator==(const PlanKey&) const = default;
};
PlanKey plan_key(const Shot& shot, const View& view, Seconds time = Seconds(0));
/// Makes the key of `time` one of pictures that were taken at other moments: `taken` says for each camera at
/// which shot time the frame on show began. Cameras whose sources are offset by a part of a frame saw the
/// world from where the rig was then, and their shapes are those of then.
void set_taken(PlanKey& key, const Shot& shot, Seconds time, const std::vector<Seconds>& taken);

BlendPlan make_plan(const PlanKey& key);
/// The key without what comes, goes and moves: shelters, and lines on their way to another place.
PlanKey at_rest(PlanKey key);
inline bool is_at_rest(const PlanKey& key) {
    return key.shelters.empty() && key.line_state.towards_next == 0;
}
/// The plan of `key`, from that of at_rest(key): only what lies in a shelter or beside a moving line is
/// planned anew.
BlendPlan with_changes(const BlendPlan& base, const PlanKey& key);

/// The key without what matters to one view only, for what is worked out on the sphere.
PlanKey for_every_view(PlanKey key);

/// Which camera a shelter's picture comes from, and the share of it that this camera sees over all its keys;
/// no camera when none can supply it.
struct ShelterSight {
    std::string camera;
    double seen = 0;
};
ShelterSight shelter_sight(const Shot& shot, const Shelter& shelter);

/// Indices of the cameras that can supply pixels of the view: in use, with a source, and serving its eye. A
/// mono view of a stereo pair is its left eye: blending two eyes would double everything near.
std::vector<std::size_t> contributing_cameras(const PlanKey& key);

/// Who sees a direction, for overlays and reports.
class Coverage {
  public:
    explicit Coverage(const PlanKey& key);
    ~Coverage();
    /// How far inside its reach each of the shot's cameras sees a world direction, in degrees; below 0: not
    /// at all.
    std::vector<double> inside_deg(const Vec3& world_direction) const;
    /// By the shot's cameras: how they stand in what decides who supplies a direction, degrees; the lead of
    /// the first over the second is twice the way to the line between them.
    std::vector<double> standing_deg(const Vec3& world_direction) const;
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
