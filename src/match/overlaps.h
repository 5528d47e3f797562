// match: what makes the cameras of a shot agree in colour: overlaps compared in linear light, gains and the
// lenses' falloff solved from them. What is applied is in stitch/tone.h.
#pragma once

#include "base/progress.h"
#include "media/library.h"
#include "project/project.h"

namespace porb {

/// One direction that two cameras see: how far from their axes and how bright. Light is the mean over about
/// two degrees, natural logarithm of linear values, R, G, B, as shot.
struct ColourPlace {
    std::size_t a = 0, b = 0; ///< cameras of the rig
    double a_q = 0, b_q = 0;  ///< (radius / radius of the image circle)^2
    std::array<double, 3> a_light{}, b_light{};
};

/// The places of one moment.
struct ColourMoment {
    Seconds time{0};
    std::vector<ColourPlace> places;
};

/// Compares the overlaps at these moments, at directions spread evenly over the sphere; what is clipped,
/// nearly black or full of contrast is left out. Throws Error when a source cannot be read, Cancelled.
std::vector<ColourMoment> compare_overlaps(const Project& project, const Shot& shot,
                                           const std::vector<Seconds>& times, MediaLibrary& library,
                                           const std::function<void(double)>& progress, const Cancel& cancel);

/// How much brighter (EV, luminance) b shows a place than a does, with these colours applied.
double difference_ev(const ColourPlace& place, const CameraColour& a, const CameraColour& b, Seconds time);

} // namespace porb
