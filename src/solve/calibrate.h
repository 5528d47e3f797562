#pragma once

#include "solve/point_fit.h"
#include "solve/samples.h"

namespace porb {

struct SolveOptions {
    bool from_far = false;   ///< cameras may be turned any way, and lenses be off by several percent
    bool find = true;        ///< look for points first; otherwise solve from those there are
    bool one_moment = false; ///< a single sample of a moving shot is meant
    int points_a_pair = 140; ///< wanted from each pair at each sample
    double nearest_m = 0.4;
};

struct PairFigure {
    std::string a, b;
    int points = 0, dropped = 0;
    double rms_px = 0;
};
struct CameraFigure {
    std::string camera;
    int points = 0;
    double rms_px = 0, rms_arcmin = 0;
};
/// Found straight edges: how many the solve used, by how much they bend still, and how many are not straight.
struct EdgeFigure {
    int used = 0, left_out = 0;
    double rms_px = 0;
};
struct SolveReport {
    Rms rms, before;
    int points = 0, dropped = 0; ///< used, and left out
    double noise_px = 0;
    EdgeFigure edges;
    std::vector<CameraFigure> cameras;
    std::vector<PairFigure> pairs;
    std::vector<ValueFigure> values;
    std::vector<std::string> undetermined; ///< in words
    std::vector<std::string> remarks;
    std::vector<Seconds> samples;
    std::map<std::string, int> reasons; ///< why points were left out, and how many
};
struct Solved {
    Rig rig;
    ControlPoints points;
    std::vector<LineMark> lines; ///< the shot's, and the straight edges that were found and used
    SolveReport report;
};

/// What is shown while it runs.
struct SolveProgress {
    double share = 0;
    std::string doing;
};
using TellSolve = std::function<void(const SolveProgress&)>;

/// Points, then the rig: rough turns from landmarks, matches in overlaps with the rig so far, a first solve,
/// matches again with the better rig at every sample, the rig. Points that the geometry contradicts are
/// dropped with a reason, again and again until that settles. Points set by hand are kept and used. Throws
/// Error with a plain diagnosis when the sources do not make a rig (swapped, turned, unrelated, black, no
/// overlap, one moment); nothing is changed then.
Solved solve_shot(const Project& project, const Shot& shot, MediaLibrary& library,
                  const SolveOptions& options, const TellSolve& tell, const Cancel& cancel);

/// Points alone, with the rig as it stands and `margin_deg` for its error; those set by hand are kept.
ControlPoints find_points(const Project& project, const Shot& shot, MediaLibrary& library,
                          const SolveOptions& options, double margin_deg, const TellSolve& tell,
                          const Cancel& cancel);

/// The rig from the points (and lines) of several shots of the same rig together, beginning at `start`; the
/// first shot's settings, locks and profile hold, and the report compares with `before`. `rough` is a first
/// solve of turns and lenses. The points come back with what was dropped, and the lines without found edges
/// that are not straight, in the shots' order.
struct SolvedTogether {
    Rig rig;
    std::vector<ControlPoints> points;
    std::vector<std::vector<LineMark>> lines;
    SolveReport report;
};
SolvedTogether solve_points(const std::vector<const Shot*>& shots, const Rig& start, const Rig& before,
                            bool drop, const Cancel& cancel, bool rough = false);

/// How a shot's points fit its rig as it stands: one fit for each point, in their order, dropped ones too.
std::vector<PointFit> measure_points(const Shot& shot);
/// Figures for the points that are used.
SolveReport figures_of(const Rig& rig, std::span<const ControlPoint> points, std::span<const PointFit> fits);

/// Marks points whose miss is above the limit as dropped; returns how many. `fits` belong to the shot's
/// points.
int drop_above(ControlPoints& points, std::span<const PointFit> fits, double limit_px);

/// Puts a result into a shot: rig, points, lines, a kept solve named after its figures, origins. Locked parts
/// stay. Where nobody has chosen the agree distance, it becomes the middle of the solved depths (of 1/m, over
/// all directions) and is returned when that is another than before.
std::optional<double> take_solve(Shot& shot, const Rig& rig, const ControlPoints& points,
                                 std::vector<LineMark> lines, const SolveReport& report);
/// Goes back to a kept solve (its rig), marked as solved.
void return_to_solve(Shot& shot, int id);

/// Stitch error at one moment, independent of any points kept: matches along the overlaps, their misses under
/// the rig as it stands; nothing when too little can be compared.
std::optional<Rms> stitch_error(const Project& project, const Shot& shot, Seconds time, MediaLibrary& library,
                                const Cancel& cancel);

/// The distance that the solved points of a region agree on (a robust mean of inverse distances of points
/// within `radius_deg` of a direction of the rig), and how far off in pixels the overlaps there are at
/// `distance_m`.
struct AgreeSuggestion {
    double distance_m = 0; ///< 0: infinitely far
    int points = 0;
    double spread = 0; ///< standard deviation of 1/m
};
std::optional<AgreeSuggestion> suggest_agree_distance(const Shot& shot, const Vec3& rig_direction,
                                                      double radius_deg);
/// How far apart, in source pixels, the two cameras of each used point show it when all agree at
/// `distance_m`.
std::vector<double> doubling_px(const Shot& shot, std::span<const PointFit> fits, double distance_m);

/// A point set by hand: where `b` shows what `a` shows at `a_px`. Throws Error that says why it was not
/// found.
ControlPoint propose_point(const Project& project, const Shot& shot, MediaLibrary& library, Seconds time,
                           const std::string& a, const Vec2& a_px, const std::string& b,
                           std::optional<Vec2> near_px = std::nullopt);
/// The id that the next point (or line) of the shot gets.
int free_point_id(const Shot& shot);

/// The report as JSON text: rms_px, rms_arcmin, points, dropped, cameras, pairs, undetermined, values, and
/// each point with direction, inverse distance and misses, from which the RMS can be computed again.
std::string report_json(const SolveReport& report, const Rig& rig, const ControlPoints& points);

} // namespace porb
