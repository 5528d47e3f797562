#include "media/colour.h"

#include "base/parallel.h"
#include "media/curves.h"
#include "picture/convert_simd.h"
#include "picture/transfer.h"

#include <algorithm>
#include <cmath>

namespace porb {

namespace {
double pq_nits(double e) {
    constexpr double m1 = 2610.0 / 16384, m2 = 2523.0 / 32, c1 = 3424.0 / 4096, c2 = 2413.0 / 128,
                     c3 = 2392.0 / 128;
    const double p = std::pow(std::clamp(e, 0.0, 1.0), 1 / m2);
    return 10000 * std::pow(std::max(p - c1, 0.0) / (c2 - c3 * p), 1 / m1);
}
double hlg_scene(double e) {
    constexpr double a = 0.17883277, b = 1 - 4 * a;
    const double c = 0.5 - a * std::log(4 * a);
    e = std::clamp(e, 0.0, 1.2);
    return e <= 0.5 ? e * e / 3 : (std::exp((e - c) / a) + b) / 12;
}
constexpr double kReferenceWhiteNits = 203, kHlgPeakNits = 1000;
constexpr float kMostLight = 60000; ///< halves end soon after

// Linear light from BT.2020 and P3-D65 to Rec. 709 primaries (ITU-R BT.2087; CIE 1931 arithmetic, D65
// throughout).
constexpr float kFrom2020[9] = {1.660491f,  -0.587641f, -0.072850f, -0.124550f, 1.132900f,
                                -0.008349f, -0.018151f, -0.100579f, 1.118730f};
constexpr float kFromP3[9] = {1.224940f, -0.224940f, 0.f,        -0.042057f, 1.042057f,
                              0.f,       -0.019638f, -0.078636f, 1.098274f};
} // namespace

void ColourChange::tabulate(const std::function<float(float)>& light) {
    linear_.resize(65536);
    for (std::size_t bits = 0; bits < linear_.size(); ++bits) {
        const float e = float_from_half(Half(bits)), l = std::isfinite(e) ? light(e) : 0;
        linear_[bits] = std::isfinite(l) ? std::clamp(l, -kMostLight, kMostLight) : 0;
    }
}

std::shared_ptr<const ColourChange> ColourChange::for_tags(const std::string& transfer,
                                                           const std::string& primaries) {
    const bool wide = primaries == "bt2020" || primaries == "smpte432";
    const std::string curve = transfer == "smpte2084"      ? "pq"
                              : transfer == "arib-std-b67" ? "hlg"
                              : transfer == "linear"       ? "linear"
                                                           : "srgb";
    if (curve == "srgb" && !wide) return nullptr;
    return for_curve(curve, transfer, primaries);
}

std::shared_ptr<const ColourChange>
ColourChange::for_curve(const std::string& curve, const std::string& transfer, const std::string& primaries) {
    if (curve.empty()) return for_tags(transfer, primaries);
    const bool wide = primaries == "bt2020" || primaries == "smpte432";
    if (curve == "srgb" && !wide) return nullptr;
    auto change = std::make_shared<ColourChange>();
    if (curve == "pq")
        change->tabulate([](float e) { return float(pq_nits(double(e)) / kReferenceWhiteNits); });
    else if (curve == "hlg")
        change->tabulate([](float e) { return float(hlg_scene(double(e))); });
    else
        change->tabulate(light_of_curve(curve));
    change->hlg_ = curve == "hlg";
    if (wide) std::copy_n(primaries == "bt2020" ? kFrom2020 : kFromP3, 9, change->matrix_);
    return change;
}

std::shared_ptr<const ColourChange> ColourChange::for_linear_file(const std::string& curve) {
    if (curve.empty() || curve == "linear") return nullptr;
    if (curve == "srgb") // its numbers are the working curve's own
        return [] {
            auto change = std::make_shared<ColourChange>();
            change->tabulate([](float e) { return linear_from_encoded(linear_from_encoded(e)); });
            return change;
        }();
    const auto direct = for_curve(curve, "", "");
    auto change = std::make_shared<ColourChange>(*direct);
    change->tabulate([&](float e) { return direct->linear_[half_from_float(linear_from_encoded(e))]; });
    return change;
}

void ColourChange::apply(Picture& picture) const {
    const float* m = matrix_;
    parallel_ranges(picture.height(), 8, [&](int begin, int end) {
        std::vector<float> row(std::size_t(picture.width()) * 4);
        for (int y = begin; y < end; ++y) {
            Half* p = picture.row(y);
            for (std::size_t i = 0; i < row.size(); i += 4) {
                float r = linear_[p[i]], g = linear_[p[i + 1]], b = linear_[p[i + 2]];
                if (hlg_) { // the display's own curve, BT.2100 table 5: Y^(gamma - 1) with gamma 1.2
                    const float luma = std::max(0.2627f * r + 0.6780f * g + 0.0593f * b, 1e-6f);
                    const float gain = float(kHlgPeakNits / kReferenceWhiteNits) * std::pow(luma, 0.2f);
                    r *= gain, g *= gain, b *= gain;
                }
                row[i] = encoded_from_linear(m[0] * r + m[1] * g + m[2] * b);
                row[i + 1] = encoded_from_linear(m[3] * r + m[4] * g + m[5] * b);
                row[i + 2] = encoded_from_linear(m[6] * r + m[7] * g + m[8] * b);
                row[i + 3] = float_from_half(p[i + 3]);
            }
            simd::halves_from_floats(row.data(), p, row.size());
        }
    });
}

} // namespace porb
