#include "picture/transfer.h"
#include "stitch/blend/blend_kernel.h"
#include "stitch/blend/blend_parts.h"

#include <algorithm>
#include <cmath>
#include <functional>
#include <vector>

namespace porb {

namespace {
/// The first of the four cells about a direction, counted with those around the grid, and how far past its
/// middle that lies.
struct GridPlace {
    std::int32_t cell = 0;
    double fx = 0, fy = 0;
};
GridPlace place_in(const SphereGrid& grid, const Vec3& direction) {
    const Vec2 at = octahedral_place(direction) * grid.side + Vec2(0.5, 0.5);
    const int u = std::min(int(at.x()), grid.side), v = std::min(int(at.y()), grid.side);
    return {v * (grid.side + 2) + u, at.x() - u, at.y() - v};
}
} // namespace

void blend_rows_reference(const BlendPlan& plan, const FrameParts& frame,
                          std::span<const std::array<double, 2>> falloffs, int begin, int end, Picture& out) {
    const auto& [sources, tones, distances, lights, filter, hidden, silhouettes, outlines] = frame;
    const int before = filter == Filter::cubic ? 1 : 0, reads = filter == Filter::cubic ? 4 : 2;
    for (int y = begin; y < end; ++y)
        for (int x = 0; x < plan.width; ++x) {
            const std::size_t index =
                std::size_t(y) * std::size_t(plan.segments_per_row) + std::size_t(x / kSegment);
            const Segment& s = plan.segments[index];
            const auto i = std::size_t(x % kSegment);
            double mixed[4] = {};
            const double t = double(i) / 15;
            const auto along = [&](const float* n) {
                return n[0] * (2 * t - 1) * (t - 1) + n[1] * 4 * t * (1 - t) + n[2] * t * (2 * t - 1);
            };
            Vec3 direction(0, 0, 1);
            if (!plan.directions.empty())
                for (std::size_t axis = 0; axis < 3; ++axis) {
                    const SegmentDirections& look = plan.directions[index];
                    const float at[3] = {look[0][axis], look[1][axis], look[2][axis]};
                    direction[Eigen::Index(axis)] = along(at);
                }
            const GridPlace there = distances ? place_in(*distances, direction) : GridPlace();
            struct Part { // one side of a step, or all there is
                double share, inverse_m;
                std::function<std::uint64_t(std::size_t)> hidden_at;
            };
            std::vector<Part> parts = {
                {1, distances ? distances->at(direction) : 0, [&](std::size_t n) { return hidden[n]; }}};
            if (distances && silhouettes && !silhouettes->empty()) {
                if (silhouettes->touches(there.cell, distances->side)) {
                    const SidesThere sides =
                        sides_between(*silhouettes, *distances, there.cell, float(there.fx), float(there.fy));
                    const auto of = [&](Silhouettes::Side Silhouettes::Cell::*side) {
                        return [&, side](std::size_t n) {
                            const std::int32_t at = silhouettes->at[n];
                            return at < 0 ? hidden[n] : (silhouettes->cells[std::size_t(at)].*side).hidden;
                        };
                    };
                    parts = {
                        {double(sides.share), double(sides.near_inverse_m), of(&Silhouettes::Cell::near)},
                        {1 - double(sides.share), double(sides.far_inverse_m), of(&Silhouettes::Cell::far)}};
                }
            }
            for (const Part& part : parts) {
                double sum[4] = {};
                std::vector<float> weights_here;
                bool moves = false;
                for (std::uint32_t k = 0; k < s.count + s.reserves; ++k) {
                    const Contribution& c = plan.contributions[s.first + k];
                    if (k < s.count) weights_here.push_back(c.full ? 1 : plan.weights[c.weights + i]);
                    moves = moves || (distances && c.parallax != Contribution::kNone);
                }
                const std::vector<float> planned = weights_here;
                narrow_weights(weights_here, moves ? float(distances->at(direction, 1)) : 0,
                               plan.feather_power);
                weights_here.resize(s.count + s.reserves, 0);
                if (moves && !hidden.empty()) {
                    std::vector<float> visible;
                    for (std::uint32_t k = 0; k < s.count + s.reserves; ++k) {
                        const std::uint64_t bit =
                            hidden_bit(plan.cameras[plan.contributions[s.first + k].camera].index);
                        const auto sees = [&](int right, int below) {
                            const int n = there.cell + below * (distances->side + 2) + right;
                            return (part.hidden_at(std::size_t(n)) & bit) == 0 ? 1.0 : 0.0;
                        };
                        const double upper = sees(0, 0) + there.fx * (sees(1, 0) - sees(0, 0)),
                                     lower = sees(0, 1) + there.fx * (sees(1, 1) - sees(0, 1));
                        visible.push_back(k < s.count && planned[k] < kSupplies
                                              ? 0
                                              : float(upper + there.fy * (lower - upper)));
                    }
                    share_out_hidden(weights_here, visible, s.count);
                }
                for (std::uint32_t k = 0; k < s.count + s.reserves; ++k) {
                    const Contribution& c = plan.contributions[s.first + k];
                    const double w = double(weights_here[k]);
                    if (w <= 0) continue;
                    double u = c.exact ? plan.positions[c.positions + i] : along(c.u);
                    double v = c.exact ? plan.positions[c.positions + kSegment + i] : along(c.v);
                    if (distances && c.parallax != Contribution::kNone) {
                        const Parallax& p = plan.parallaxes[c.parallax];
                        const double rho =
                            std::clamp(part.inverse_m - plan.agree_inverse_m, double(p.low), double(p.high));
                        u += (along(p.u1) + along(p.u2) * rho) * rho;
                        v += (along(p.v1) + along(p.v2) * rho) * rho;
                    }
                    const SourcePicture& source = sources[c.camera];
                    const auto weights = [&](double at) {
                        if (filter == Filter::cubic) return catmull_rom(at);
                        return std::array<double, 4>{1 - at, at, 0, 0};
                    };
                    double one[4] = {0, 0, 0, 1};
                    // The weighed sum of a channel's samples about a place.
                    const auto filtered = [&](double at_u, double at_v, bool linear, int width, int height,
                                              const auto& value) {
                        const auto weights_at = [&](double at) {
                            return linear ? std::array<double, 4>{1 - at, at, 0, 0} : weights(at);
                        };
                        const auto wu = weights_at(at_u - 0.5 - std::floor(at_u - 0.5)),
                                   wv = weights_at(at_v - 0.5 - std::floor(at_v - 0.5));
                        double sum_here = 0;
                        for (int r = 0; r < (linear ? 2 : reads); ++r)
                            for (int q = 0; q < (linear ? 2 : reads); ++q) {
                                const int sx = std::clamp(
                                    int(std::floor(at_u - 0.5)) - (linear ? 0 : before) + q, 0, width - 1);
                                const int sy = std::clamp(
                                    int(std::floor(at_v - 0.5)) - (linear ? 0 : before) + r, 0, height - 1);
                                sum_here += wu[std::size_t(q)] * wv[std::size_t(r)] * value(sx, sy);
                            }
                        return sum_here;
                    };
                    if (const Picture* picture = source.picture()) {
                        for (int channel = 0; channel < 4; ++channel)
                            one[channel] = filtered(
                                u, v, false, picture->width(), picture->height(), [&](int sx, int sy) {
                                    return double(float_from_half(picture->row(sy)[4 * sx + channel]));
                                });
                    } else {
                        const YuvPicture& yuv = *source.yuv();
                        const auto sample_of = [&](const std::uint8_t* row, int n) {
                            return yuv.sample_bytes == 1
                                       ? double(row[n])
                                       : double(reinterpret_cast<const std::uint16_t*>(row)[n]);
                        };
                        const double luma =
                            (filtered(u, v, false, yuv.width, yuv.height,
                                      [&](int sx, int sy) {
                                          return sample_of(yuv.luma + yuv.luma_stride * sy, sx);
                                      }) -
                             double(yuv.colour.y_offset)) *
                            double(yuv.colour.y_scale);
                        const double scale = double(yuv.chroma_scale),
                                     cu = u * scale + double(yuv.chroma_shift_x),
                                     cv = v * scale + double(yuv.chroma_shift_y);
                        const auto chroma = [&](int which) {
                            return filtered(cu, cv, true, yuv.chroma_width, yuv.chroma_height,
                                            [&](int sx, int sy) {
                                                return sample_of(yuv.chroma + yuv.chroma_stride * sy,
                                                                 2 * sx + which);
                                            }) -
                                   double(yuv.chroma_centre);
                        };
                        const double blue = chroma(0), red = chroma(1);
                        one[0] = luma + double(yuv.colour.r_v) * red;
                        one[1] = luma + double(yuv.colour.g_u) * blue + double(yuv.colour.g_v) * red;
                        one[2] = luma + double(yuv.colour.b_u) * blue;
                    }
                    if (!tones.empty() && !tones[c.camera].plain) {
                        const CameraTone& tone = tones[c.camera];
                        const double far = (std::pow(u - double(tone.centre_u), 2) +
                                            std::pow(v - double(tone.centre_v), 2)) *
                                           double(tone.per_radius2);
                        const auto& vignetting = falloffs[c.camera];
                        const double left = 1 + far * (vignetting[0] + far * vignetting[1]);
                        for (int i3 = 0; i3 < 3; ++i3)
                            one[i3] = double(
                                encoded_from_linear(float(double(linear_from_encoded(float(one[i3]))) *
                                                          std::pow(double(tone.scale[i3]), 2.4) / left)));
                    }
                    for (int i3 = 0; i3 < 3 && !lights.empty(); ++i3)
                        one[i3] += lights[c.camera].at(direction, i3);
                    for (int i4 = 0; i4 < 4; ++i4) sum[i4] += w * one[i4];
                }
                for (int i4 = 0; i4 < 4; ++i4) mixed[i4] += part.share * sum[i4];
            }
            set_pixel(out, x, y, {float(mixed[0]), float(mixed[1]), float(mixed[2]), float(mixed[3])});
        }
}

} // namespace porb
