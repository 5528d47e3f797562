#pragma once

#include "optics/eye_rays.h"
#include "project/project.h"
#include "stitch/plan/view.h"

namespace porb {

/// A cut-out or restore as it is at the key's moment.
struct KeyShape {
    bool restores = false;
    double feather_deg = 2;
    std::vector<ShapeCorner> corners;
    bool operator==(const KeyShape&) const = default;
};

/// What of a camera a plan depends on. Whatever else a camera has (its colour, its clock, where values came
/// from) is not here, so that it never makes a plan anew.
struct KeyCamera {
    std::string id;
    Lens lens;
    Pose pose;
    Eyes eyes = Eyes::both;
    double reach_deg = 90, feather_deg = 4;
    bool runs = true; ///< in use, and its source shows something at the moment
    std::vector<KeyShape> shapes;
    bool operator==(const KeyCamera&) const = default;
};

/// A shelter at a moment, and what chooses its camera where none is named.
struct PlanShelter {
    std::string camera;
    ShelterKey oval;
    double presence = 1, feather_deg = 2;
    std::vector<ShelterKey> keys; ///< all of them, where no camera is named
    bool operator==(const PlanShelter&) const = default;
};

/// The part of a shot, at a moment, that a plan depends on: equal keys mean equal plans. It names what
/// matters; a new member of a shot or a camera changes no plan until it is named here.
struct PlanKey {
    std::vector<KeyCamera> cameras; ///< one for each of the shot's, in its order
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
    EyeRays rays;                      ///< of eyes drawn from distances, and convergence; world axes
    View view;
    bool operator==(const PlanKey&) const = default;
};

/// The rays of an eye's picture at a moment: of eyes that are drawn from distances, and turned so that both
/// converge; those of mono views all come from the rig's centre.
EyeRays eye_rays_of(const Shot& shot, Eye eye, Seconds time);

/// Which cameras run: those in use that have a medium, as far as the shot alone says; or all, whether or not
/// they have one yet, for what is told of the rig itself.
enum class Sources { assigned, all };
PlanKey plan_key(const Shot& shot, const View& view, Seconds time = Seconds(0),
                 Sources sources = Sources::assigned);
/// Makes the key of `time` one of pictures that were taken at other moments: `taken` says for each camera at
/// which shot time the frame on show began. Cameras whose sources are offset by a part of a frame saw the
/// world from where the rig was then, and their shapes are those of then.
void set_taken(PlanKey& key, const Shot& shot, Seconds time, const std::vector<Seconds>& taken);

/// The key without what comes, goes and moves: shelters, and lines on their way to another place.
PlanKey at_rest(PlanKey key);
inline bool is_at_rest(const PlanKey& key) {
    return key.shelters.empty() && key.line_state.towards_next == 0;
}
/// The key in the rig's own axes, however the shot is turned.
PlanKey in_rig_axes(PlanKey key);
/// The key without what matters to one view only, for what is worked out on the sphere.
PlanKey for_every_view(PlanKey key);

/// Indices of the cameras that can supply pixels of the view: running, and serving its eye. A mono view of a
/// stereo pair is its left eye: blending two eyes would double everything near.
std::vector<std::size_t> contributing_cameras(const PlanKey& key);

/// Of the agree distance, 1/m.
inline double agree_inverse_m(const PlanKey& key) {
    return key.agree_distance_m > 0 ? 1 / key.agree_distance_m : 0;
}

/// Whether the shot's things are as good as infinitely far, by its agree distance.
inline bool is_far(const PlanKey& key) {
    constexpr double kFarInverse = 0.02; // 1/m
    return agree_inverse_m(key) <= kFarInverse;
}
/// Whether pictures that show the same are mixed over most of what two lenses share, without looking for
/// distances there: where all is far, they lie on each other everywhere.
inline bool mixes_widely(const PlanKey& key) {
    return key.flow.on && !key.multiband && !key.hard && is_far(key);
}

} // namespace porb
