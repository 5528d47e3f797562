#pragma once

#include "base/progress.h"
#include "solve/pictures/grey.h"

namespace porb {

/// What stands out in one camera's picture, described so that it is known again at any turn and size: SIFT
/// (Lowe 2004) on a stereographic copy of the picture, where every small shape keeps its form right to the
/// rim.
struct Landmarks {
    std::vector<Vec3> directions; ///< in the camera's axes
    std::vector<float> words;     ///< kWord numbers each, of unit length
    static constexpr int kWord = 128;
    std::size_t size() const { return directions.size(); }
};
Landmarks landmarks_of(const Lens& lens, const GreyPyramid& pictures);

/// How camera b is turned against camera a, found from landmarks alone.
struct RoughTurn {
    std::size_t a = 0, b = 0;
    Mat3 b_to_a = Mat3::Identity();
    int agreeing = 0; ///< landmarks that agree with it
    int compared = 0; ///< pairs of landmarks that look alike
    bool sure = false;
};

/// The turn that most pairs of alike landmarks agree with (random pairs of them, Fischler and Bolles 1981),
/// `expected` being preferred to others that few more agree with. Distances are ignored: agreement is within
/// a few degrees.
RoughTurn rough_turn(const Landmarks& a, const Landmarks& b, const Mat3* expected);

/// What is known roughly about a whole rig.
struct RoughRig {
    std::vector<Mat3> turns;     ///< camera to rig, aligned as well as possible with the nominal ones
    std::vector<bool> placed;    ///< cameras that are linked to the others
    std::vector<double> off_deg; ///< how far each is from the nominal turn
    std::vector<RoughTurn> links;
};
/// Joins the turns between pairs to a rig. `nominal` holds the cameras' turns as the rig has them.
RoughRig rough_rig(const std::vector<Landmarks>& cameras, const std::vector<Mat3>& nominal,
                   const Cancel& cancel);

/// What is plainly wrong, in words, or nothing: cameras that look swapped, turned, or unrelated to the
/// others. `alike[i]` numbers lenses that could stand for each other.
struct RigTrouble {
    std::string what, where, mend;
};
std::optional<RigTrouble> trouble_in(const RoughRig& rough, const Rig& rig, const std::vector<int>& alike,
                                     double most_off_deg);

} // namespace porb
