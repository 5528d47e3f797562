#pragma once

#include <functional>
#include <string>
#include <vector>

namespace porb {

/// A curve by which light may lie in a source's pixels.
struct CurveName {
    std::string id;   ///< as in projects and on the command line
    std::string text; ///< for people
};
/// Those known by name: srgb, rec709 (the camera's curve of ITU-R BT.709), linear, pq, hlg, film-log
/// (printing density, 0.002 a step of 10 bits over a film of gamma 0.6), acescc (S-2014-003), acescct
/// (S-2016-001).
const std::vector<CurveName>& curve_names();
/// What a choice is called, "" being the file's own tags.
std::string curve_text(const std::string& curve);

/// Light of a pixel's value, 1 for reference white, for the curves of one value; by OpenColorIO for
/// logarithms and for files ("file:" and a path: CLF, .cube and other tables of one dimension). Throws Error
/// for a name that is unknown, and for a file that is none or changes colours and not only brightness.
std::function<float(float)> light_of_curve(const std::string& curve);

/// Silences the log messages of the library behind curves, LUTs and CDLs: one for each damaged line.
void quiet_colour_library();

} // namespace porb
