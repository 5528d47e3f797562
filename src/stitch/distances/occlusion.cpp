#include "stitch/distances/occlusion.h"

#include "base/parallel.h"

#include <opencv2/imgproc.hpp>

#include <algorithm>
#include <cmath>

namespace porb {

namespace {

constexpr double kStepCells = 0.6; ///< from one place of a shadow to the next
constexpr double kBeside = 5;      ///< such steps, before a shadow has to begin
constexpr double kLeastPupil_m = 1e-3;
constexpr int kMostCovered = 24;      ///< cells past an outline
constexpr double kBesideOfSoft = 0.5; ///< of what a lens's pixel covers, by which shadows are wider
constexpr float kLeastStep = 0.04f;   ///< 1/m, of an edge; and a twelfth of how near it is
constexpr float kStepShare = 1.0f / 12;

constexpr float kLeastBehind = 0.004f,
                kBehindShare = 0.01f; ///< 1/m, likewise: by which what is hidden lies behind

/// Cells that stand before one of the four beside them.
std::vector<int> near_edges(const SphereGrid& grid, std::span<const char> known) {
    const int side = grid.side;
    std::vector<std::vector<int>> rows{std::size_t(side)};
    parallel_ranges(side, 16, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < side; ++x) {
                if (!known.empty() && !known[std::size_t(y * side + x)]) continue;
                const float here = grid.cell(x, y)[0], behind = here - outline_step(here);
                if (behind <= 0) continue;
                if (grid.cell(x - 1, y)[0] < behind || grid.cell(x + 1, y)[0] < behind ||
                    grid.cell(x, y - 1)[0] < behind || grid.cell(x, y + 1)[0] < behind)
                    rows[std::size_t(y)].push_back(y * side + x);
            }
    });
    std::vector<int> out;
    for (const auto& row : rows) out.insert(out.end(), row.begin(), row.end());
    return out;
}

/// Marks in `shadow` (a byte a cell, in one piece) what the near edges hide from a pupil.
void throw_shadows(const SphereGrid& grid, const std::vector<int>& edges, const Vec3& rig_pupil_m,
                   std::span<const char> known, const RigEyeRays& eye, cv::Mat& shadow) {
    const int side = grid.side;
    const double cell = 2.0 / side; // radians, of the smallest
    for (const int e : edges) {
        const Vec3 d = grid.direction(e % side, e / side);
        const float near = grid.cell(e % side, e / side)[0], tolerance = kLeastBehind + kBehindShare * near;
        // What a shadow is thrown on lies so near by that rays begin there where this one does.
        const Vec3 pupil_m = eye.rays.moves() ? Vec3(rig_pupil_m - eye.origin_m(d)) : rig_pupil_m;
        const Vec3 across = pupil_m - pupil_m.dot(d) * d;
        if (across.norm() < kLeastPupil_m) continue;
        // A place on the pupil's ray through the near thing, k further away in inverse distance, lies in
        // direction d - k pupil from the centre; what is seen there is hidden if it is further away still.
        const double step = kStepCells * cell / across.norm();
        for (double k = step; k < double(near); k += step) {
            const Vec3 there = d - k * pupil_m;
            const int at = octahedral_cell(there, side);
            const float far = grid.cell(at % side, at / side)[0];
            const bool found = known.empty() || known[std::size_t(at)];
            if (!found || double(far) * there.norm() + k > double(near - tolerance)) {
                if (k > kBeside * step) break; // cells beside the edge may still be of the near thing
                continue;
            }
            shadow.data[at] = 1;
        }
    }
}

/// What lies up to `reach` cells beside a shadow, as far as the thing is that the shadow is thrown on: a
/// camera's picture is soft, and the outline that throws the shadow shows in it a little beside. Not over the
/// square's own edges, which are folds of the sphere.
cv::Mat beside_shadow(const SphereGrid& grid, const cv::Mat& shadow, int reach) {
    const int side = grid.side;
    cv::Mat out = shadow.clone(), about;
    cv::dilate(shadow, about,
               cv::getStructuringElement(cv::MORPH_ELLIPSE, cv::Size(2 * reach + 1, 2 * reach + 1)));
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) {
            if (!about.at<std::uint8_t>(y, x) || shadow.at<std::uint8_t>(y, x)) continue;
            const float here = grid.cell(x, y)[0], step = outline_step(here);
            bool same = false;
            for (int v = std::max(0, y - reach); v <= std::min(side - 1, y + reach) && !same; ++v)
                for (int u = std::max(0, x - reach); u <= std::min(side - 1, x + reach) && !same; ++u)
                    same = shadow.at<std::uint8_t>(v, u) && std::abs(grid.cell(u, v)[0] - here) < step;
            if (same) out.at<std::uint8_t>(y, x) = 255;
        }
    return out;
}

} // namespace

float outline_step(float inverse_m) {
    return std::max(kLeastStep, kStepShare * inverse_m);
}

std::vector<std::uint64_t> hidden_cameras(const SphereGrid& grid, std::span<const Viewpoint> viewpoints,
                                          std::span<const char> known, double soft_cells,
                                          const RigEyeRays& eye) {
    const int side = grid.side, wide = side + 2;
    std::vector<std::uint64_t> out(std::size_t(wide) * std::size_t(wide), 0);
    const std::vector<int> edges = near_edges(grid, known);
    if (edges.empty()) return {};
    const int reach = std::max(1, int(std::lround(kBesideOfSoft * soft_cells)));
    std::vector<cv::Mat> shadows(viewpoints.size());
    parallel_ranges(int(viewpoints.size()), 1, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const auto v = std::size_t(i);
            cv::Mat shadow = cv::Mat::zeros(side, side, CV_8U), about; // and how many of nine cells
            throw_shadows(grid, edges, viewpoints[v].pupil_m, known, eye, shadow);
            cv::boxFilter(shadow, about, CV_8U, cv::Size(3, 3), cv::Point(-1, -1), false,
                          cv::BORDER_CONSTANT);
            // Shadows of neighbouring cells may leave one out between them, and a single one is noise.
            shadow = (about >= 5) | ((about >= 3) & (shadow > 0));
            shadows[v] = beside_shadow(grid, shadow, reach);
        }
    });
    parallel_ranges(side, 16, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (std::size_t v = 0; v < viewpoints.size(); ++v) {
                const std::uint8_t* const shadow = shadows[v].ptr<std::uint8_t>(y);
                std::uint64_t* const to = out.data() + std::size_t(y + 1) * std::size_t(wide) + 1;
                for (int x = 0; x < side; ++x)
                    if (shadow[x]) to[x] |= std::uint64_t(1) << viewpoints[v].camera;
            }
    });
    repeat_across_folds(side, 1, out);
    return out;
}

void cover_unseen(SphereGrid& grid, std::vector<std::uint64_t>& hidden, std::span<const Viewpoint> viewpoints,
                  const RigEyeRays& eye) {
    if (hidden.empty()) return;
    const int side = grid.side, wide = side + 2;
    const auto hidden_at = [&](int x, int y) -> std::uint64_t& {
        return hidden[std::size_t(y + 1) * std::size_t(wide) + std::size_t(x + 1)];
    };
    cv::Mat unseen = cv::Mat::zeros(side, side, CV_8U);
    parallel_ranges(side, 16, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < side; ++x) {
                const std::uint64_t from = hidden_at(x, y);
                if (!from) continue;
                const Vec3 d = grid.direction(x, y);
                const Vec3 there = d / std::max(1e-6, double(grid.cell(x, y)[0])) +
                                   (eye.rays.moves() ? eye.origin_m(d) : Vec3(Vec3::Zero()));
                const bool seen = std::any_of(viewpoints.begin(), viewpoints.end(), [&](const Viewpoint& v) {
                    return !(from >> v.camera & 1) &&
                           (there - v.pupil_m).normalized().dot(v.axis) >= v.cos_reach;
                });
                unseen.at<std::uint8_t>(y, x) = !seen;
            }
    });
    struct Cover {
        int cell;
        float inverse_m;
        std::uint64_t hidden;
    };
    std::vector<int> open;
    for (int i = 0; i < side * side; ++i)
        if (unseen.data[i]) open.push_back(i);
    for (int round = 0; round < kMostCovered && !open.empty(); ++round) {
        std::vector<Cover> covers;
        std::vector<int> left;
        for (const int i : open) {
            const int x = i % side, y = i / side;
            const float own = grid.cell(x, y)[0];
            Cover best{i, 0, 0};
            for (int v = y - 1; v <= y + 1; ++v)
                for (int u = x - 1; u <= x + 1; ++u) {
                    const bool within = u >= 0 && v >= 0 && u < side && v < side;
                    if (within && unseen.data[v * side + u]) continue;
                    const float near = grid.cell(u, v)[0];
                    if (near > best.inverse_m && near - outline_step(near) > own)
                        best.inverse_m = near, best.hidden = hidden_at(u, v);
                }
            if (best.inverse_m > 0)
                covers.push_back(best);
            else
                left.push_back(i);
        }
        if (covers.empty()) break;
        for (const Cover& c : covers) {
            unseen.data[c.cell] = 0;
            grid.cell(c.cell % side, c.cell / side)[0] = c.inverse_m;
            hidden_at(c.cell % side, c.cell / side) = c.hidden;
        }
        open = std::move(left);
    }
    grid.close_edges();
    repeat_across_folds(side, 1, hidden);
}

} // namespace porb
