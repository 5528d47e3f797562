#pragma once

#include "base/rational.h"
#include "optics/eye_rays.h"
#include "optics/rig.h"

#include <string>
#include <vector>

namespace porb {

struct Shot;

/// Where a shot's two eyes come from.
enum class EyesFrom {
    one,       ///< nowhere: both eyes see the one picture
    cameras,   ///< the rig's left and right cameras, each the picture of its own eye
    distances, ///< drawn from all cameras by how far away things are
};

/// At a moment: where both eyes' pictures lie on each other.
struct ConvergeKey {
    Seconds time{0};
    double converge_m = 0; ///< 0: infinitely far
    std::string extra_json{};
    bool operator==(const ConvergeKey&) const = default;
};

/// What a viewer can fuse without strain: how far things may stand before and behind the convergence
/// distance, as horizontal disparity. One degree either way unless set (Lambooij, IJsselsteijn, Fortuin,
/// Heynderickx 2009; the zone of comfort of Shibata, Kim, Hoffman, Banks 2011 is about as wide).
struct ComfortBudget {
    double near_deg = 1, far_deg = 1;
    bool operator==(const ComfortBudget&) const = default;
};

/// Which picture a mono deliverable takes of a rig with left and right cameras.
enum class MonoEye { left, right };

/// What two eyes see.
struct StereoSettings {
    EyesFrom from = EyesFrom::cameras;
    double ipd_m = 0.064;          ///< interpupillary distance, of eyes drawn from distances
    double converge_m = 0;         ///< 0: infinitely far
    std::vector<ConvergeKey> keys; ///< in order of time; when there are any, instead of converge_m
    double merge_from_deg = 55, merge_to_deg = 80; ///< latitudes between which eyes come together
    bool swap = false;                             ///< left is right: a rig that was mounted or named wrong
    MonoEye mono = MonoEye::left;
    double border_deg = 0; ///< over which half spheres fade at their rim, in both eyes alike; 0: a hard edge
    ComfortBudget comfort;
    bool operator==(const StereoSettings&) const = default;
};

/// The convergence distance at a moment, metres; 0: infinitely far. Between two keys it passes smoothly, in
/// inverse distance, which disparity follows.
double converge_at(const StereoSettings& stereo, Seconds time);
/// Sets it: by a key at that moment when there are keys, else for ever.
void set_converge(StereoSettings& stereo, Seconds time, double converge_m);
/// Sets a key to what is so at a moment, or takes the one there away; what the last one said stays.
void toggle_converge_key(StereoSettings& stereo, Seconds time);

/// What drawing eyes from distances needs: flow, wherever two cameras see. Whether it had to be switched on.
bool find_distances_everywhere(Shot& shot);

/// How far apart a rig's left and right cameras stand, metres: each left one and the right one that looks
/// where it does, the mean. 0 where there are none for one of the eyes.
double eye_separation_m(const Rig& rig);

/// The widest interpupillary distance that eyes can be drawn with: as wide as the entrance pupils stand
/// apart, since further out nothing was seen. Metres; 0 for a single place.
double widest_ipd_m(const Rig& rig);

} // namespace porb
