#include "media/curves.h"

#include "base/error.h"
#include "media/info.h"
#include "picture/transfer.h"

#include <OpenColorIO/OpenColorIO.h>

#include <algorithm>
#include <cmath>

namespace porb {

namespace {
namespace ocio = OCIO_NAMESPACE;

constexpr double kFilmWhite = 685.0 / 1023, kFilmBlack = 95.0 / 1023, kFilmSteps = 0.002 * 1023 / 0.6;

/// A logarithm's line: code = log_slope log_base(lin_slope light + lin_offset) + log_offset.
std::function<float(float)> light_by(const ocio::ConstTransformRcPtr& transform,
                                     ocio::TransformDirection direction) {
    const auto processor = ocio::Config::CreateRaw()->getProcessor(transform, direction);
    const ocio::ConstCPUProcessorRcPtr cpu = processor->getDefaultCPUProcessor();
    return [cpu](float v) {
        float rgb[3] = {v, v, v};
        cpu->applyRGB(rgb);
        return rgb[1];
    };
}

std::function<float(float)> film_log() {
    const auto t = ocio::LogAffineTransform::Create();
    const double black = std::pow(10.0, (kFilmBlack - kFilmWhite) * kFilmSteps);
    const auto set = [&t](void (ocio::LogAffineTransform::*what)(const double(&)[3]), double v) {
        const double three[3] = {v, v, v};
        (*t.*what)(three);
    };
    t->setBase(10);
    set(&ocio::LogAffineTransform::setLogSideSlopeValue, 1 / kFilmSteps);
    set(&ocio::LogAffineTransform::setLogSideOffsetValue, kFilmWhite);
    set(&ocio::LogAffineTransform::setLinSideSlopeValue, 1 - black);
    set(&ocio::LogAffineTransform::setLinSideOffsetValue, black);
    return light_by(t, ocio::TRANSFORM_DIR_INVERSE);
}

std::function<float(float)> aces_log(bool with_foot) {
    constexpr double slope[3] = {1 / 17.52, 1 / 17.52, 1 / 17.52},
                     offset[3] = {9.72 / 17.52, 9.72 / 17.52, 9.72 / 17.52};
    if (!with_foot) {
        const auto t = ocio::LogAffineTransform::Create();
        t->setBase(2);
        t->setLogSideSlopeValue(slope);
        t->setLogSideOffsetValue(offset);
        return light_by(t, ocio::TRANSFORM_DIR_INVERSE);
    }
    constexpr double foot_end[3] = {0.0078125, 0.0078125, 0.0078125},
                     foot[3] = {10.5402377416545, 10.5402377416545, 10.5402377416545};
    const auto t = ocio::LogCameraTransform::Create(foot_end);
    t->setBase(2);
    t->setLogSideSlopeValue(slope);
    t->setLogSideOffsetValue(offset);
    t->setLinearSlopeValue(foot);
    return light_by(t, ocio::TRANSFORM_DIR_INVERSE);
}

float rec709_light(float e) { // ITU-R BT.709-6, item 1.2
    return e < 0.081f ? e / 4.5f : std::pow((e + 0.099f) / 1.099f, 1 / 0.45f);
}

std::function<float(float)> curve_in_file(const std::string& path) {
    std::error_code none;
    if (!std::filesystem::is_regular_file(path, none))
        throw Error("There is no file with a curve", path, "Choose the curve's file again");
    try {
        const auto file = ocio::FileTransform::Create();
        file->setSrc(path.c_str());
        file->setInterpolation(ocio::INTERP_LINEAR);
        const auto cpu = ocio::Config::CreateRaw()->getProcessor(file)->getDefaultCPUProcessor();
        if (cpu->hasChannelCrosstalk())
            throw Error("mixes colours: a source's curve is one of brightness alone", path,
                        "Choose a table of one dimension here, and use this one as the grade's LUT");
        return [cpu](float v) {
            float rgb[3] = {v, v, v};
            cpu->applyRGB(rgb);
            return rgb[1];
        };
    } catch (const ocio::Exception&) {
        throw Error("is not a curve that can be read", path,
                    "Choose a CLF or .cube file with a table of one dimension");
    }
}
} // namespace

const std::vector<CurveName>& curve_names() {
    static const std::vector<CurveName> kNames = {
        {"srgb", "sRGB"}, {"rec709", "Rec. 709 camera"}, {"linear", "Linear"}, {"pq", "PQ"},
        {"hlg", "HLG"},   {"film-log", "Film log"},      {"acescc", "ACEScc"}, {"acescct", "ACEScct"}};
    return kNames;
}

std::string curve_text(const std::string& curve) {
    if (curve.empty()) return "As tagged";
    if (curve.starts_with(kCurveFile))
        return std::filesystem::path(curve.substr(kCurveFile.size())).filename().string();
    for (const auto& n : curve_names())
        if (n.id == curve) return n.text;
    return curve;
}

std::function<float(float)> light_of_curve(const std::string& curve) {
    if (curve.starts_with(kCurveFile)) return curve_in_file(curve.substr(kCurveFile.size()));
    if (curve == "srgb") return linear_from_encoded;
    if (curve == "rec709") return rec709_light;
    if (curve == "linear") return [](float v) { return v; };
    if (curve == "film-log") return film_log();
    if (curve == "acescc") return aces_log(false);
    if (curve == "acescct") return aces_log(true);
    std::string list;
    for (const auto& n : curve_names()) list += (list.empty() ? "" : ", ") + n.id;
    throw Error("'" + curve + "' is not a curve known here", "", "Use one of: " + list + "; or a file");
}

void quiet_colour_library() {
    ocio::SetLoggingLevel(ocio::LOGGING_LEVEL_NONE);
}

} // namespace porb
