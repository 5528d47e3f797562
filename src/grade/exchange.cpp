#include "grade/exchange.h"

#include "base/error.h"
#include "base/file.h"
#include "grade/grader.h"

#include <OpenColorIO/OpenColorIO.h>
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace porb {

namespace {
namespace ocio = OCIO_NAMESPACE;
constexpr double kLeastPower = 0.1, kMostPower = 10, kMostGain = 16;
} // namespace

Grade with_cdl(Grade grade, const std::filesystem::path& file, const std::string& id) {
    must_be_regular_file(file);
    double slope[3], offset[3], power[3], saturation = 1;
    try {
        const auto cdl = ocio::CDLTransform::CreateFromFile(file.string().c_str(), id.c_str());
        cdl->getSlope(slope);
        cdl->getOffset(offset);
        cdl->getPower(power);
        saturation = cdl->getSat();
    } catch (const ocio::Exception&) {
        throw Error(id.empty() ? "is not an ASC CDL file that can be read"
                               : "holds no colour correction '" + id + "' that can be read",
                    file.string(), "Name a .cc, .ccc or .cdl file");
    }
    for (std::size_t c = 0; c < 3; ++c) {
        if (!(power[c] >= kLeastPower && power[c] <= kMostPower) || !(std::abs(offset[c]) <= 1) ||
            !std::isfinite(saturation) ||
            !(slope[c] >= 0 && slope[c] + offset[c] <= kMostGain && slope[c] + offset[c] >= 0))
            throw Error(
                "holds a correction beyond what a grade can do", file.string(),
                "Slope + offset from 0 to 16, offset from -1 to 1 and power from 0.1 to 10 can be read");
        grade.lift[c] = offset[c];
        grade.gain[c] = slope[c] + offset[c];
        grade.gamma[c] = 1 / power[c];
    }
    grade.saturation = std::clamp(saturation, 0.0, kMostGain);
    return grade;
}

void write_cdl(const Grade& grade, const std::filesystem::path& file, const std::string& id) {
    Grade rest = grade;
    rest.lift = Grade().lift, rest.gamma = Grade().gamma, rest.gain = Grade().gain, rest.saturation = 1;
    if (!is_neutral(rest))
        throw Error("The grade holds more than ASC CDL can say: exposure, warmth, tint, contrast or a LUT",
                    file.string(), "Write it as a .cube table instead, or set these back");
    const auto three = [](auto value) {
        return fmt::format("{:.7g} {:.7g} {:.7g}", value(0), value(1), value(2));
    };
    const std::string slope = three([&](std::size_t c) { return grade.gain[c] - grade.lift[c]; }),
                      offset = three([&](std::size_t c) { return grade.lift[c]; }),
                      power = three([&](std::size_t c) { return 1 / grade.gamma[c]; });
    std::string safe;
    for (const char c : id) safe += std::isalnum(static_cast<unsigned char>(c)) || c == '-' ? c : '_';
    write_file_atomically(file, fmt::format("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"
                                            "<ColorCorrection id=\"{}\">\n"
                                            "  <SOPNode>\n"
                                            "    <Slope>{}</Slope>\n"
                                            "    <Offset>{}</Offset>\n"
                                            "    <Power>{}</Power>\n"
                                            "  </SOPNode>\n"
                                            "  <SatNode>\n"
                                            "    <Saturation>{:.7g}</Saturation>\n"
                                            "  </SatNode>\n"
                                            "</ColorCorrection>\n",
                                            safe, slope, offset, power, grade.saturation));
}

void write_cube(const Grade& grade, const std::filesystem::path& file, int size) {
    const Grader grader(grade);
    std::string text = fmt::format("TITLE \"{}\"\nLUT_3D_SIZE {}\n", file.stem().string(), size);
    for (int b = 0; b < size; ++b)
        for (int g = 0; g < size; ++g)
            for (int r = 0; r < size; ++r) {
                const auto at = [size](int i) { return float(i) / float(size - 1); };
                const auto out = grader.apply({at(r), at(g), at(b)});
                text += fmt::format("{:.6f} {:.6f} {:.6f}\n", out[0], out[1], out[2]);
            }
    write_file_atomically(file, text);
}

} // namespace porb
