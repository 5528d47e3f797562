#pragma once

#include "match/overlaps.h"

namespace porb {

/// How two cameras differ where they overlap: the root of the mean of squared differences of luminance, EV,
/// the farthest quarter left out.
struct PairAgreement {
    std::string a, b;
    int places = 0;
    double before_ev = 0, after_ev = 0;
};

struct MatchReport {
    std::vector<Seconds> samples;
    std::vector<PairAgreement> pairs;
    std::vector<std::string> remarks;
    double before_ev = 0, after_ev = 0; ///< over all pairs
};

struct Matched {
    std::vector<CameraColour> colours; ///< by the shot's cameras; their trims as before
    MatchReport report;
    std::vector<ColourMoment> moments; ///< what was compared
};

struct MatchProgress {
    double share;
    std::string doing;
};
using TellMatch = std::function<void(const MatchProgress&)>;

/// Solves gains, and with MatchSettings::falloff what lenses lose towards their rims (alike lenses much
/// alike), from what overlapping cameras see alike: robust least squares on the logarithms of linear light
/// (Cauchy loss, so that parallax and what moves count little), with weak priors at "as shot". The mean of
/// all gains, or the reference camera, stays as it is. Trims are left as they are and not counted. Throws
/// Error when there is nothing to compare, Cancelled.
Matched match_shot(const Project& project, const Shot& shot, MediaLibrary& library, const TellMatch& tell,
                   const Cancel& cancel);

/// The same from places compared already.
Matched match_places(const Shot& shot, const std::vector<ColourMoment>& moments);

/// How the cameras of a shot agree in places compared before, as it is now: gains, falloffs and trims, or as
/// shot while matching is off.
MatchReport agreement(const Shot& shot, const std::vector<ColourMoment>& moments);

/// The shot with the result as one edit's worth of changes.
Shot with_match(const Shot& shot, const Matched& matched);

} // namespace porb
