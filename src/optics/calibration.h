#pragma once

#include "optics/rig.h"

namespace porb {

/// Lenses that somebody calibrated: one, or a pair with where the second stands as seen from the first.
struct Calibration {
    std::vector<Lens> lenses;         ///< one or two
    std::optional<Pose> second_pose;  ///< of the second camera in the first one's axes
    std::optional<double> rms_px;     ///< the file's own statement of its error
    std::vector<std::string> remarks; ///< what had to be guessed or was left out
};

enum class CalibrationFormat { yaml, xml, json };
std::optional<CalibrationFormat> calibration_format_of(const std::filesystem::path& path);

/// What a calibration may leave unsaid.
struct CalibrationHint {
    int width = 0, height = 0; ///< of the pictures, when the file does not say
    bool fisheye = true;       ///< which model four coefficients belong to, when the file does not say
};

/// Reads what OpenCV's cv::FileStorage wrote (YAML, XML or JSON): cameraMatrix and distCoeffs of the pinhole
/// model (up to thin prism terms) or of cv::fisheye, single or a stereo pair, under the names OpenCV's own
/// samples use. Pixel centres move from whole numbers to halves. Throws Error naming the entry.
Calibration parse_calibration(std::string_view text, const std::string& where, const CalibrationHint& hint);
Calibration load_calibration(const std::filesystem::path& path, const CalibrationHint& hint);

/// The same in OpenCV's own form. An equidistant lens becomes the fisheye model and a rectilinear one the
/// pinhole model, exactly; other kinds are fitted by the fisheye model's four terms and refused when that
/// misses by more than 0.05 px inside the circle. A second lens of another model is refused. Throws Error.
std::string calibration_text(const Calibration& calibration, CalibrationFormat format);
void save_calibration(const Calibration& calibration, const std::filesystem::path& path);

/// One camera of a rig, or two with the second's pose as seen from the first, ready to be written.
Calibration calibration_of(const Rig& rig, std::string_view first, std::string_view second = {});

} // namespace porb
