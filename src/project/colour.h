#pragma once

#include "base/rational.h"

#include <array>
#include <optional>
#include <string>
#include <vector>

namespace porb {

/// What a camera's light is multiplied by at a moment, as exponents of two (EV), for R, G and B.
struct GainKey {
    Seconds time{0};
    std::array<double, 3> ev{};
    bool operator==(const GainKey&) const = default;
};

/// What brings one camera's colour to the others', in linear light, before blending. Gains and vignetting are
/// solved from the overlaps; the trims are the artist's and stay when they are solved again.
struct CameraColour {
    std::vector<GainKey> gains;         ///< in order of time, linear between keys; none: as shot
    std::array<double, 2> vignetting{}; ///< of the lens: 1 + a q + b q^2 of the light is left at q = (r /
                                        ///< R)^2, R the radius of the image circle
    double exposure_ev = 0;             ///< trim: brighter
    double warmth_ev = 0, tint_ev = 0;  ///< trims: red up and blue down by half of it each; green up
    bool operator==(const CameraColour&) const = default;
};

/// The share of the light that a lens keeps at q = (r / R)^2; never less than 2 %: a vignetting is not undone
/// beyond that.
double light_left(const std::array<double, 2>& vignetting, double q);

/// Gains with the trims at a moment, EV.
std::array<double, 3> gains_at(const CameraColour& colour, Seconds time);

/// How a shot's cameras are made to agree.
struct MatchSettings {
    bool on = true;                 ///< otherwise pictures are shown as shot
    int samples = 5;                ///< moments at which overlaps are compared
    bool vignetting = true;         ///< lenses' darkening towards the rim is solved too
    bool over_time = false;         ///< gains may change slowly through the shot
    std::string reference;          ///< the camera that stays as it is; empty: the mean of all does
    std::optional<double> apart_ev; ///< by how much overlaps still differed when they were matched last
    bool operator==(const MatchSettings&) const = default;
};

} // namespace porb
