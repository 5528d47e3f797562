#include "patch/propose.h"

#include "base/angle.h"
#include "base/error.h"
#include "base/parallel.h"
#include "patch/colours.h"
#include "project/limits.h"
#include "project/orientation.h"
#include "project/span.h"
#include "stitch/patches/sampler.h"

#include <opencv2/imgproc.hpp>

namespace porb {

namespace {

cv::Mat apart(const cv::Mat& a, const cv::Mat& b) {
    cv::Mat out(a.size(), CV_32F);
    for (int y = 0; y < a.rows; ++y)
        for (int x = 0; x < a.cols; ++x) {
            const cv::Vec3f d = a.at<cv::Vec3f>(y, x) - b.at<cv::Vec3f>(y, x);
            out.at<float>(y, x) = std::max({std::abs(d[0]), std::abs(d[1]), std::abs(d[2])});
        }
    return out;
}

/// Of the pieces of a mask those that have a part within `reach` of its middle, pixels.
cv::Mat about_middle(const cv::Mat& mask, double reach, int least) {
    cv::Mat labels, facts, centres;
    const int n = cv::connectedComponentsWithStats(mask, labels, facts, centres, 8, CV_32S);
    std::vector<std::uint8_t> kept(std::size_t(n), 0);
    const cv::Point middle(mask.cols / 2, mask.rows / 2);
    for (int y = 0; y < mask.rows; ++y)
        for (int x = 0; x < mask.cols; ++x)
            if (const int l = labels.at<int>(y, x); l > 0 && std::hypot(x - middle.x, y - middle.y) <= reach)
                kept[std::size_t(l)] = facts.at<int>(l, cv::CC_STAT_AREA) >= least;
    cv::Mat out(mask.size(), CV_8U, cv::Scalar(0));
    for (int y = 0; y < mask.rows; ++y)
        for (int x = 0; x < mask.cols; ++x)
            if (kept[std::size_t(labels.at<int>(y, x))]) out.at<std::uint8_t>(y, x) = 255;
    return out;
}

std::size_t direction_deg(const Vec2& way) {
    return std::size_t(int(degrees(std::atan2(way.y(), way.x())) + 360) % 360);
}

/// By degree of direction from the middle: how far a mask goes there or nearby, pixels.
std::vector<double> extent_of(const cv::Mat& mask) {
    constexpr int kNearby = 10;
    std::vector<double> far(360, 0.0), out(360, 0.0);
    for (int y = 0; y < mask.rows; ++y)
        for (int x = 0; x < mask.cols; ++x)
            if (mask.at<std::uint8_t>(y, x)) {
                const Vec2 way(x - mask.cols / 2.0, y - mask.rows / 2.0);
                double& r = far[direction_deg(way)];
                r = std::max(r, way.norm());
            }
    for (int d = 0; d < 360; ++d)
        for (int k = -kNearby; k <= kNearby; ++k)
            out[std::size_t(d)] = std::max(out[std::size_t(d)], far[std::size_t((d + k + 360) % 360)]);
    return out;
}

/// Of the pieces of a mask those that lie wholly inside another, and at its outer end as seen from the
/// middle.
cv::Mat ends_within(const cv::Mat& mask, const cv::Mat& inside, const std::vector<double>& extent) {
    constexpr double kEnd = 0.8, kFar = 0.35;
    const double farthest = *std::max_element(extent.begin(), extent.end());
    cv::Mat labels;
    const int n = cv::connectedComponents(mask, labels, 8, CV_32S);
    std::vector<std::uint8_t> out_of_it(std::size_t(n), 0), at_end(std::size_t(n), 0);
    for (int y = 0; y < mask.rows; ++y)
        for (int x = 0; x < mask.cols; ++x) {
            const auto l = std::size_t(labels.at<int>(y, x));
            if (!inside.at<std::uint8_t>(y, x)) out_of_it[l] = 1;
            const Vec2 way(x - mask.cols / 2.0, y - mask.rows / 2.0);
            if (way.norm() >= std::max(kEnd * extent[direction_deg(way)], kFar * farthest)) at_end[l] = 1;
        }
    for (std::size_t l = 0; l < out_of_it.size(); ++l)
        if (!at_end[l]) out_of_it[l] = 1;
    cv::Mat out(mask.size(), CV_8U, cv::Scalar(0));
    for (int y = 0; y < mask.rows; ++y)
        for (int x = 0; x < mask.cols; ++x)
            if (const int l = labels.at<int>(y, x); l > 0 && !out_of_it[std::size_t(l)])
                out.at<std::uint8_t>(y, x) = 255;
    return out;
}

/// Long pieces are joints or borders of the floor that a foot stands on: of these only what lies at the outer
/// end stays.
void keep_outer_ends(cv::Mat& mask, const std::vector<double>& extent) {
    constexpr double kLong = 5, kOuter = 0.75; // length squared by area; of the extent
    cv::Mat labels, facts, centres;
    const int n = cv::connectedComponentsWithStats(mask, labels, facts, centres, 8, CV_32S);
    std::vector<std::uint8_t> is_long(std::size_t(n), 0);
    for (int l = 1; l < n; ++l) {
        const double length =
            std::hypot(facts.at<int>(l, cv::CC_STAT_WIDTH), facts.at<int>(l, cv::CC_STAT_HEIGHT));
        is_long[std::size_t(l)] = length * length > kLong * facts.at<int>(l, cv::CC_STAT_AREA);
    }
    for (int y = 0; y < mask.rows; ++y)
        for (int x = 0; x < mask.cols; ++x) {
            const Vec2 way(x - mask.cols / 2.0, y - mask.rows / 2.0);
            if (is_long[std::size_t(labels.at<int>(y, x))] &&
                way.norm() < kOuter * extent[direction_deg(way)])
                mask.at<std::uint8_t>(y, x) = 0;
        }
}

cv::Mat disc(double radius) {
    const int r = std::max(1, int(std::lround(radius)));
    return cv::getStructuringElement(cv::MORPH_ELLIPSE, {2 * r + 1, 2 * r + 1});
}

TileImage tiles_of_mask(const cv::Mat& mask) {
    Picture p(mask.cols, mask.rows);
    for (int y = 0; y < mask.rows; ++y)
        for (int x = 0; x < mask.cols; ++x) {
            const float v = float(mask.at<std::uint8_t>(y, x)) / 255;
            set_pixel(p, x, y, {v, v, v, v});
        }
    return mask_of(p);
}

/// How sure colours are to be those of one set rather than another: Gaussians about each pixel's own
/// surroundings would ask for many; counts in a cube of colours do.
class Colours {
  public:
    void add(const cv::Vec3f& c, bool of_stand) { (of_stand ? stand_ : rest_)[index(c)] += 1; }
    void smooth() {
        for (auto* counts : {&stand_, &rest_}) {
            cv::Mat flat(kBins * kBins, kBins, CV_32F, counts->data());
            cv::GaussianBlur(flat, flat, {3, 3}, 0.8);
            double sum = 0;
            for (const float v : *counts) sum += v;
            for (float& v : *counts) v = float((v + 0.02) / (sum + 1));
        }
    }
    float odds(const cv::Vec3f& c) const { return std::log(stand_[index(c)] / rest_[index(c)]); }

  private:
    static constexpr int kBins = 24;
    static std::size_t index(const cv::Vec3f& c) {
        const auto bin = [](float v) { return std::clamp(int(v * kBins), 0, kBins - 1); };
        return std::size_t((bin(c[0]) * kBins + bin(c[1])) * kBins + bin(c[2]));
    }
    std::vector<float> stand_ = std::vector<float>(kBins * kBins * kBins),
                       rest_ = std::vector<float>(kBins * kBins * kBins);
};

/// What stays as it is over moments at which all else changes; empty when the rig stands still.
cv::Mat what_stays(const std::vector<cv::Mat>& moments) {
    if (moments.size() < 3) return {};
    const cv::Size size = moments.front().size();
    cv::Mat spread(size, CV_32F);
    std::vector<float> all;
    for (int y = 0; y < size.height; ++y)
        for (int x = 0; x < size.width; ++x) {
            cv::Vec3f sum(0, 0, 0), squares(0, 0, 0);
            for (const cv::Mat& m : moments) {
                const cv::Vec3f& c = m.at<cv::Vec3f>(y, x);
                sum += c, squares += c.mul(c);
            }
            const float n = float(moments.size());
            float variance = 0;
            for (int c = 0; c < 3; ++c) variance += squares[c] / n - sum[c] * sum[c] / (n * n);
            spread.at<float>(y, x) = std::sqrt(std::max(0.0f, variance));
            all.push_back(spread.at<float>(y, x));
        }
    const auto middle = all.begin() + std::ptrdiff_t(all.size() / 2);
    std::nth_element(all.begin(), middle, all.end());
    constexpr float kChanges = 0.045f; ///< of full scale, over the floor: footage that stands still has less
    if (*middle < kChanges) return {};
    cv::GaussianBlur(spread, spread, {}, size.width / 200.0 + 0.5);
    return spread < 0.4f * *middle;
}

} // namespace

Patch ground_patch(Composer& composer, const Project& project, const Shot& shot, Seconds time,
                   int sphere_width, const TellShare& tell, const Cancel& cancel) {
    Patch patch;
    patch.name = "ground";
    patch.kind = PatchKind::fill;
    patch.hold = orientation_moves(shot) ? PatchHold::rig : PatchHold::world;
    patch.keys = {{Seconds(0), 0, -90, 0, 70, 1, {}}};
    patch.resolution = std::max(512, matching_resolution(70, sphere_width));
    patch.feather_deg = 0.4;
    if (const auto height = found_height_m(composer, project, shot, patch, time, tell, cancel))
        patch.distance_m = *height;
    return patch;
}

Proposal proposed(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                  std::span<const Seconds> times, const TellShare& tell, const Cancel& cancel) {
    const int side = patch.resolution;
    const double unit = side / 1024.0; // lengths below are told for a square of 1024 pixels
    const auto say = [&](double share) {
        if (tell) tell(share);
    };
    if (times.empty()) throw Error("has no moments", "the proposal", "Choose a part of the shot");
    std::vector<cv::Mat> moments;
    for (std::size_t i = 0; i < times.size(); ++i) {
        moments.push_back(colours_of(moment_plate(composer, project, shot, patch, times[i], cancel)));
        cv::GaussianBlur(moments.back(), moments.back(), {}, 1.2 * unit + 0.3);
        say(0.3 * double(i + 1) / double(times.size()));
    }
    const cv::Mat stays = what_stays(moments);
    // Over moments at which the floor passes by, a median of it would be of nothing.
    const auto still = stays.empty() ? times : times.subspan(times.size() / 2, 1);
    NeighbourPlate neighbours = neighbour_plate(
        composer, project, shot, patch, still, [&](double s) { say(0.3 + 0.6 * s); }, cancel);
    cancel.check();
    const cv::Mat& shown = moments[moments.size() / 2];
    cv::Mat clean = colours_of(neighbours.plate), difference;
    cv::GaussianBlur(clean, clean, {}, 1.2 * unit + 0.3);
    difference = apart(shown, clean);
    const auto at = [&](int x, int y) { return std::size_t(y) * std::size_t(side) + std::size_t(x); };

    cv::Mat found(side, side, CV_8U, cv::Scalar(0));
    constexpr float kDiffers = 0.055f;
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) {
            const bool known = pixel_at(neighbours.plate, x, y).a > 0.5f;
            const bool stands =
                known ? difference.at<float>(y, x) > kDiffers && neighbours.obstructed[at(x, y)] > 0
                      : neighbours.obstructed[at(x, y)] > 0;
            found.at<std::uint8_t>(y, x) = stands ? 255 : 0;
        }
    // Thin differences are edges that lie a fraction of a pixel apart.
    cv::morphologyEx(found, found, cv::MORPH_OPEN, disc(1.5 * unit));
    cv::morphologyEx(found, found, cv::MORPH_CLOSE, disc(4 * unit));
    if (!stays.empty()) {
        cv::Mat whole;
        cv::morphologyEx(stays, whole, cv::MORPH_OPEN, disc(2 * unit));
        found |= whole;
    }
    cv::Mat joined;
    cv::morphologyEx(found, joined, cv::MORPH_CLOSE, disc(10 * unit));
    const int least = std::max(12, int(120 * unit * unit));
    const cv::Mat core = found & about_middle(joined, 0.12 * side, least);
    // Its soft edges: half-transparent where two cameras' pictures of it pass into each other.
    cv::Mat beside, faint(side, side, CV_8U, cv::Scalar(0));
    cv::dilate(core, beside, disc(16 * unit));
    constexpr float kFaint = 0.025f;
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x)
            if (beside.at<std::uint8_t>(y, x) && difference.at<float>(y, x) > kFaint &&
                pixel_at(neighbours.plate, x, y).a > 0.5f)
                faint.at<std::uint8_t>(y, x) = 255;
    cv::morphologyEx(faint, faint, cv::MORPH_OPEN, disc(2 * unit));
    found = core | faint;
    cv::morphologyEx(found, joined, cv::MORPH_CLOSE, disc(10 * unit));
    found &= about_middle(joined, 0.12 * side, least);
    if (cv::countNonZero(found) < least)
        throw Error("nothing is found that stands before the floor below the rig", patch.name,
                    "Draw the mask by hand; or set the height of the floor, if it was not found");

    // Feet: no camera sees behind what stands on the floor itself. They look like the rest of the stand and
    // end beside it; what a floor has of such colours (joints, borders) goes on.
    Colours colours;
    cv::Mat sure, far, near;
    cv::erode(found, sure, disc(2 * unit));
    cv::dilate(found, far, disc(8 * unit));
    cv::dilate(found, near, disc(36 * unit));
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) {
            if (sure.at<std::uint8_t>(y, x)) colours.add(shown.at<cv::Vec3f>(y, x), true);
            if (!far.at<std::uint8_t>(y, x) && neighbours.agreeing[at(x, y)] > 1)
                colours.add(shown.at<cv::Vec3f>(y, x), false);
        }
    colours.smooth();
    constexpr float kLikeStand = 0.8f, kRatherStand = -0.5f; // natural logarithm of the odds
    cv::Mat alike(side, side, CV_8U, cv::Scalar(0));
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x)
            if (pixel_at(neighbours.plate, x, y).a > 0.5f &&
                colours.odds(clean.at<cv::Vec3f>(y, x)) > kLikeStand)
                alike.at<std::uint8_t>(y, x) = 255;
    const std::vector<double> extent = extent_of(found);
    cv::Mat feet(side, side, CV_8U, cv::Scalar(0));
    for (const double wide : {2.5, 4.0, 6.0, 9.0}) { // half as wide as what it leaves, at least
        cv::Mat kept;
        cv::morphologyEx(alike, kept, cv::MORPH_OPEN, disc(wide * unit));
        feet |= ends_within(kept, near, extent);
    }
    keep_outer_ends(feet, extent);
    // And the hair that leads to one, where the leg is wider than cameras are apart: thin, and cameras differ
    // about it, as they do not about what lies on the floor.
    cv::Mat rather(side, side, CV_8U, cv::Scalar(0)), bodies;
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x)
            if (neighbours.obstructed[at(x, y)] > 0 && colours.odds(clean.at<cv::Vec3f>(y, x)) > kRatherStand)
                rather.at<std::uint8_t>(y, x) = 255;
    cv::morphologyEx(alike, bodies, cv::MORPH_OPEN, disc(2.2 * unit));
    const cv::Mat thin = rather & ~bodies;
    for (int i = 0; i < int(90 * unit); ++i) {
        cv::Mat wider;
        cv::dilate(feet, wider, disc(1));
        cv::Mat goes_on = wider & thin & ~feet;
        if (cv::countNonZero(goes_on) == 0) break;
        feet |= goes_on;
    }
    cv::Mat masked = found | feet, unknown = feet.clone();
    cv::dilate(masked, masked, disc(6 * unit));
    cv::morphologyEx(masked, masked, cv::MORPH_CLOSE, disc(6 * unit));
    cv::dilate(unknown, unknown, disc(4 * unit));
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x)
            if (pixel_at(neighbours.plate, x, y).a <= 0.5f) unknown.at<std::uint8_t>(y, x) = 255;
    unknown &= masked;
    Proposal out;
    out.plate = Picture(side, side);
    out.hole.resize(at(0, side));
    std::size_t covered = 0;
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) {
            const bool gone = unknown.at<std::uint8_t>(y, x) > 0;
            out.hole[at(x, y)] = gone ? 1.0f : 0.0f;
            set_pixel(out.plate, x, y, gone ? Rgba() : pixel_at(neighbours.plate, x, y));
            covered += masked.at<std::uint8_t>(y, x) > 0;
        }
    out.mask = tiles_of_mask(masked);
    out.moves = !stays.empty();
    out.share = double(covered) / double(side) / side;
    say(1);
    return out;
}

TileImage least_edge(const Picture& plate, const Picture& footage, const std::vector<float>& inside,
                     double reach) {
    const int side = plate.width();
    constexpr int kDirections = 720;
    cv::Mat difference = apart(colours_of(plate), colours_of(footage));
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x)
            if (pixel_at(plate, x, y).a < 0.5f || pixel_at(footage, x, y).a < 0.5f)
                difference.at<float>(y, x) = 1;
    cv::GaussianBlur(difference, difference, {}, side / 400.0 + 0.5);
    // Its middle, and how far it goes in each direction.
    double mx = 0, my = 0, n = 0;
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x)
            if (inside[std::size_t(y) * std::size_t(side) + std::size_t(x)] > 0.5f) mx += x, my += y, ++n;
    if (n == 0) throw Error("is empty", "the mask", "Paint on what is to be covered first");
    mx /= n, my /= n;
    std::vector<int> least(kDirections, 1);
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) {
            if (inside[std::size_t(y) * std::size_t(side) + std::size_t(x)] <= 0.5f) continue;
            const double r = std::hypot(x - mx, y - my), a = std::atan2(y - my, x - mx);
            // A pixel covers more directions the nearer it is.
            const int wide = std::max(1, int(std::ceil(kDirections / (2 * kPi) / std::max(r, 1.0))));
            const int d = int(std::lround(a / (2 * kPi) * kDirections));
            for (int k = -wide; k <= wide; ++k) {
                int& l = least[std::size_t((d + k + 2 * kDirections) % kDirections)];
                l = std::max(l, int(r) + 2);
            }
        }
    const int deep = std::max(4, int(reach * side));
    const auto cost_at = [&](int d, int k) {
        const double r = least[std::size_t(d)] + k, a = d * 2 * kPi / kDirections;
        const int x = int(std::lround(mx + r * std::cos(a))), y = int(std::lround(my + r * std::sin(a)));
        if (x < 2 || y < 2 || x >= side - 2 || y >= side - 2) return 10.0f;
        return difference.at<float>(y, x) + 0.0004f * float(k) / float(deep) + 0.002f;
    };
    // The closed way: the best of those that begin and end alike, twice round so that the beginning settles.
    std::vector<float> sums(std::size_t(deep), 0.0f), next(sums.size());
    std::vector<std::vector<int>> came(2 * kDirections, std::vector<int>(std::size_t(deep)));
    for (int step = 0; step < 2 * kDirections; ++step) {
        const int d = step % kDirections, before = (d + kDirections - 1) % kDirections;
        const int shift = least[std::size_t(d)] - least[std::size_t(before)];
        for (int k = 0; k < deep; ++k) {
            float best = 1e30f;
            int from = -1;
            constexpr int kTurn = 3;
            for (int j = k + shift - kTurn; j <= k + shift + kTurn; ++j) {
                if (j < 0 || j >= deep) continue;
                const float v = sums[std::size_t(j)] + 0.001f * float(std::abs(j - k - shift));
                if (v < best) best = v, from = j;
            }
            if (from < 0) { // what it covers jumps outwards here: from the nearest
                from = std::clamp(k + shift, 0, deep - 1);
                best = sums[std::size_t(from)] + 0.02f;
            }
            next[std::size_t(k)] = best + cost_at(d, k);
            came[std::size_t(step)][std::size_t(k)] = from;
        }
        std::swap(sums, next);
    }
    int k = int(std::min_element(sums.begin(), sums.end()) - sums.begin());
    std::vector<cv::Point> outline(kDirections);
    for (int step = 2 * kDirections - 1; step >= kDirections; --step) {
        const int d = step % kDirections;
        const double r = least[std::size_t(d)] + k, a = d * 2 * kPi / kDirections;
        outline[std::size_t(d)] = {int(std::lround(mx + r * std::cos(a))),
                                   int(std::lround(my + r * std::sin(a)))};
        k = came[std::size_t(step)][std::size_t(k)];
    }
    cv::Mat mask(side, side, CV_8U, cv::Scalar(0));
    cv::fillPoly(mask, std::vector<std::vector<cv::Point>>{outline}, cv::Scalar(255));
    return tiles_of_mask(mask);
}

Picture filling_plate(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                      std::span<const Seconds> times, std::vector<float>& hole, const Cancel& cancel) {
    const int side = patch.resolution;
    Picture plate = median_plate(composer, project, shot, patch, times, {}, cancel);
    std::optional<NeighbourPlate> neighbours;
    if (shot.rig.cameras.size() > 1) {
        try {
            neighbours = neighbour_plate(composer, project, shot, patch, times, {}, cancel);
        } catch (const Error&) { // nobody sees it on its surface: everything is made
        }
    }
    hole.assign(std::size_t(side) * std::size_t(side), 0.0f);
    constexpr double kRim = 0.9; // of a square without a mask
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) {
            const Vec2 at(2 * (x + 0.5) / side - 1, 2 * (y + 0.5) / side - 1);
            const bool in = patch.mask.empty() ? (patch.disc ? at.norm() : at.cwiseAbs().maxCoeff()) < kRim
                                               : patch.mask.at(x, y, 0) > 0.02f;
            if (!in) continue;
            const std::size_t i = std::size_t(y) * std::size_t(side) + std::size_t(x);
            // Behind what stands there: two cameras agree, or one looks past it.
            const Rgba behind = neighbours ? pixel_at(neighbours->plate, x, y) : Rgba();
            const bool known = behind.a > 0.5f && neighbours->obstructed[i] > 0;
            if (known)
                set_pixel(plate, x, y, behind);
            else
                hole[i] = 1, set_pixel(plate, x, y, {});
        }
    return plate;
}

namespace {
/// An image whose every place shows what `from` says of the old one; nothing outside it.
TileImage placed_anew(const TileImage& image, const std::function<std::optional<Vec2>(const Vec2&)>& from) {
    const TileSampler sampler(image, 0);
    Picture out(image.width(), image.height());
    parallel_ranges(out.height(), 8, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < out.width(); ++x) {
                const auto at = from({2 * (x + 0.5) / out.width() - 1, 2 * (y + 0.5) / out.height() - 1});
                Rgba c;
                if (at && at->cwiseAbs().maxCoeff() < 1) {
                    if (image.channels() == 4) {
                        const auto v = sampler.at<4>(sampler.pixel(*at));
                        c = {v[0], v[1], v[2], std::clamp(v[3], 0.0f, 1.0f)};
                    } else {
                        const float v = std::clamp(sampler.at<1>(sampler.pixel(*at))[0], 0.0f, 1.0f);
                        c = {v, v, v, v};
                    }
                }
                set_pixel(out, x, y, c);
            }
    });
    return image.channels() == 4 ? tiles_of(out) : mask_of(out);
}
} // namespace

Patch carried_over(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                   Seconds time, const Shot& other, const Cancel& cancel) {
    // Both grounds in the square, wide enough to have features about it.
    Patch wide = patch;
    constexpr double kWidest = 130;
    const PatchKey place = place_at(patch, time);
    const double across = std::min(kWidest, std::max(2 * place.width_deg, 90.0));
    wide.keys = {place};
    wide.keys.front().width_deg = across;
    wide.resolution = 1024;
    const Seconds there = nearest_frame_time(std::max(other.timing.in, Seconds(0)), other.timing.rate);
    const Picture a = moment_plate(composer, project, shot, wide, time, cancel),
                  b = moment_plate(composer, project, other, wide, there, cancel);
    const RegisteredPlate found = registered(a, b);
    // Where its square's middle and its right lie now, as directions of the other shot's square.
    const double half = std::tan(radians(across) / 2), own = std::tan(radians(place.width_deg) / 2);
    const auto moved = [&](double u, double v) {
        const double k = own / half;
        const Vec3 p = found.other_to_this * Vec3((u * k + 1) / 2 * 1024, (v * k + 1) / 2 * 1024, 1);
        return Vec3((2 * p.x() / p.z() / 1024 - 1) * half, (2 * p.y() / p.z() / 1024 - 1) * half, 1)
            .normalized();
    };
    const Mat3 frame = rotation_of({place.yaw_deg, place.pitch_deg, place.roll_deg});
    const Vec3 middle = frame * moved(0, 0), right = frame * moved(1, 0), left = frame * moved(-1, 0);
    Vec3 x = right - left;
    x = (x - x.dot(middle) * middle).normalized();
    Mat3 turned;
    turned.col(0) = x, turned.col(2) = middle, turned.col(1) = middle.cross(x);
    const Turn turn = turn_of(turned);
    Patch out = patch;
    out.keys = {place};
    PatchKey& key = out.keys.front();
    key.time = Seconds(0);
    key.yaw_deg = turn.yaw_deg, key.pitch_deg = turn.pitch_deg, key.roll_deg = turn.roll_deg;
    key.width_deg = std::clamp(degrees(std::acos(std::clamp(right.dot(left), -1.0, 1.0))),
                               limits::kPatchWidth_deg.low, limits::kPatchWidth_deg.high);
    // Seen from elsewhere a square of the floor is none: its pixels go along with the ground, each to its
    // place.
    const Mat3 back = found.other_to_this.inverse();
    const auto own_place = [&](const Vec2& at) -> std::optional<Vec2> {
        const double wide_half = std::tan(radians(key.width_deg) / 2);
        const Vec3 seen = frame.transpose() * turned * Vec3(at.x() * wide_half, at.y() * wide_half, 1);
        if (seen.z() < 1e-3) return std::nullopt;
        const Vec3 p = back * Vec3((seen.x() / seen.z() / half + 1) / 2 * 1024,
                                   (seen.y() / seen.z() / half + 1) / 2 * 1024, 1);
        if (std::abs(p.z()) < 1e-9) return std::nullopt;
        return Vec2((2 * p.x() / p.z() / 1024 - 1) * half / own, (2 * p.y() / p.z() / 1024 - 1) * half / own);
    };
    for (TileImage* image : {&out.pixels, &out.plate, &out.mask})
        if (!image->empty()) *image = placed_anew(*image, own_place);
    out.from = out.to = std::nullopt;
    out.light.clear();
    out.follows_light = false;
    out.reference = {};
    out.shadows = 0;
    return out;
}

const char* drawn_elsewhere(const Shot& shot, const Patch& patch) {
    constexpr double kAlike = 1.3; // of distances
    if (shot.seams.flow.on || shot.rig.cameras.size() < 2) return nullptr;
    const double agree = shot.seams.agree_distance_m;
    if (agree > 0 && agree < kAlike * patch.distance_m && agree * kAlike > patch.distance_m) return nullptr;
    return "the footage about the patch is drawn at the agree distance, the patch where its surface lies: "
           "switch flow "
           "on (Seams), or what runs across its edge is displaced";
}

} // namespace porb
