#pragma once

#include "base/progress.h"
#include "base/rational.h"
#include "media/spherical.h"
#include "optics/rig.h"
#include "picture/picture.h"
#include "sim/hall.h"

#include <filesystem>
#include <functional>
#include <map>

namespace porb::sim {

enum class SimRig {
    two_fisheyes,  ///< back to back, two circles in one picture
    ring_of_six,   ///< six files
    pair_180,      ///< left and right eye, two circles in one picture
    ring_of_four,  ///< four files, 0.22 m across
    ball_of_eight, ///< eight files: four look up by 35 degrees, four down between them
    dome_of_five,  ///< five files: four round, one straight up
    ring_of_pairs, ///< eight files: a left and a right eye in each of four directions
};

/// Deliberate departures of the footage from the nominal rig and from clean pictures; all off by default.
struct Faults {
    bool lens = false;          ///< focal length up to 1.5 %, centre up to 6 px (of 1920)
    bool distortion = false;    ///< and k1 up to 0.004, k2 down to -0.002: a degree at the rim
    bool pose = false;          ///< each camera turned by up to 1.5 degrees
    bool exposure = false;      ///< up to +-0.5 stops a camera
    bool white_balance = false; ///< red and blue up to +-8 % a camera
    bool vignetting = false;    ///< corners darker by up to 40 %
    bool noise = false;         ///< sigma 0.01 of the encoded signal
    bool offsets = false;       ///< each file starts up to 0.7 s early or late
    bool tilt = false;          ///< the whole rig leans by 12 degrees
    bool shake = false;         ///< and trembles by about 1 degree
    bool dark = false;          ///< five stops under
    bool flare = false;         ///< a lamp at the rim of each lens: a glow and ghosts, outside the circle too
    bool cropped = false;       ///< the sensor is lower than the circles: a tenth is cut off above and below
    bool drift = false;         ///< clocks of all files but the first run up to 60 millionths fast or slow
    bool microphones = false;   ///< each its own tone, and noise 10 dB under the voice
    bool upside_down = false;   ///< the rig hangs from the ceiling
    bool drive = false;         ///< the rig rides through the hall on a curve, turning with it
    bool rolling = false;       ///< rows are read one after the other, 1/50 s from first to last
};

struct SimOptions {
    bool distant = false;         ///< the hall a thousand times larger: no parallax
    Things things = Things::none; ///< what stands close by all round
    unsigned things_seed = 1;     ///< and where which of them stand
    SimRig rig = SimRig::two_fisheyes;
    int circle_size = 960; ///< pixels a side of the square that holds one circle
    double seconds = 4;
    bool stand = true;           ///< under the rig, with its shadow
    Vec3 place_m = Vec3::Zero(); ///< of rig and stand: right, down and forward of the hall's middle
    double light_change_ev = 0;  ///< by which all light grows evenly from the first frame to the last
    FrameRate rate{30};
    Faults faults;
    std::vector<double> offsets_s; ///< of the ring's files, instead of those the fault makes
    unsigned seed = 1;
    double crf = 20;
    int truth_width = 2048; ///< of the true panoramas; 0 writes none
    std::vector<double> truth_times{1.0};
    /// Where they are seen from: x right, y down, z forward of the rig's centre.
    Vec3 truth_place_m = Vec3::Zero();
    /// Of the eyes of true whole spheres: how far apart, where they come together towards the poles, and at
    /// what distance both lie on each other (0: infinitely far). Half spheres are seen by the pair's lenses.
    double truth_ipd_m = 0.064, truth_merge_from_deg = 55, truth_merge_to_deg = 80, truth_converge_m = 0;
};

/// What the simulator knows that a user would not.
struct CameraTruth {
    double offset_s = 0, exposure_ev = 0, red_gain = 1, blue_gain = 1, vignetting = 0, drift_ppm = 0;
};
struct Truth {
    Rig nominal, actual;
    std::vector<CameraTruth> cameras;
    Turn tilt;
};

Rig simulated_rig(SimRig kind, int circle_size);
/// Whether each camera of the rig records a file of its own.
bool has_own_files(SimRig rig);
/// The rigs as options name them.
const std::map<std::string, SimRig>& rigs_by_name();
Truth make_truth(const SimOptions& options);
/// The lean of the whole rig at a shot time, shake included: rig directions become world directions by it.
Turn rig_turn(const SimOptions& options, const Truth& truth, double seconds);
/// How much lighter everything is at a shot time than at the first.
double light_gain(const SimOptions& options, double seconds);
/// Where the rig's centre is at a shot time; the options' place unless it drives.
Vec3 rig_place(const SimOptions& options, double seconds);
/// Where true panoramas and distances are seen from, in the hall's own measure.
Vec3 truth_place(const SimOptions& options, double seconds);
/// Seconds from the first row's moment to the last one's; 0 without the fault. A frame's own time is that of
/// its middle row.
double readout_s(const SimOptions& options);

/// One clean or faulty picture of a file: all cameras that share it. `frame` counts the file's own frames.
Picture render_source(Hall& hall, const SimOptions& options, const Truth& truth,
                      const std::vector<std::size_t>& cameras, std::int64_t frame);

enum class TruthEye { mono, left, right };
/// What a perfect stitch would show: from the rig's centre, or for stereo from two eyes (for whole spheres by
/// rays that touch the viewing circle: optics/eye_rays.h).
Picture true_panorama(Hall& hall, const SimOptions& options, double seconds, SphereMapping mapping, int width,
                      TruthEye eye);

/// Metres to what is seen in each direction of a whole sphere, row by row, `width` by half of it; 0 where
/// nothing is.
std::vector<float> true_distances(Hall& hall, const SimOptions& options, double seconds, int width);

/// How one microphone hears the hall.
struct Microphone {
    unsigned seed = 0;         ///< of its own noise
    double speed = 1;          ///< shot seconds that pass in one second of its clock
    bool own_tone = false;     ///< a resonance and a roll-off that differ from the others'
    double noise_below_db = 0; ///< level of its noise under the voice's; 0: hardly any
};
/// Speech-like noise with a clap at 1.0 s, mono, `rate_hz` samples a second from shot time `from_s` on.
std::vector<float> hall_sound(double from_s, std::int64_t samples, int rate_hz, const Microphone& microphone);

/// Renders everything into `folder`: footage, truth.rig.json, nominal.rig.json, truth.json, true panoramas
/// and depth, and a project that uses the true rig. Returns the files' names. Progress is in [0, 1].
std::vector<std::filesystem::path> simulate(const SimOptions& options, const std::filesystem::path& folder,
                                            const std::function<void(double)>& progress,
                                            const Cancel& cancel);

} // namespace porb::sim
