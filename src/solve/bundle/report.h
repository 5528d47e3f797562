#pragma once

#include "project/project.h"
#include "solve/bundle/point_fit.h"
#include "solve/bundle/vertical_agreement.h"

#include <map>

namespace porb {

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
    /// Of a pair that serves an eye each: by how far what one shows is off the line along which parallax must
    /// run in the other, the mean, pixels of a half sphere 2048 a side.
    std::optional<double> vertical_px;
    std::optional<VerticalAgreement> agreement; ///< what the pair's lenses were bent by, if they were
    std::vector<CameraFigure> cameras;
    std::vector<PairFigure> pairs;
    std::vector<ValueFigure> values;
    std::vector<std::string> undetermined; ///< in words
    std::vector<std::string> remarks;
    std::vector<Seconds> samples;
    std::map<DropReason, int> reasons; ///< why points were left out, and how many
};

/// Figures for the points that are used.
SolveReport figures_of(const Rig& rig, std::span<const ControlPoint> points, std::span<const PointFit> fits);

/// The report as JSON text: rms_px, rms_arcmin, points, dropped, cameras, pairs, undetermined, values, and
/// each point with direction, inverse distance and residuals, from which the RMS can be computed again.
std::string report_json(const SolveReport& report, const Rig& rig, const ControlPoints& points);

} // namespace porb
