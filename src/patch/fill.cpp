#include "patch/fill.h"

#include "base/angle.h"
#include "base/error.h"
#include "base/parallel.h"
#include "patch/colours.h"
#include "patch/first_guess.h"
#include "stitch/patches/soften.h"

#include <opencv2/imgproc.hpp>
#include <opencv2/photo.hpp>

#include <random>

namespace porb {

namespace {

constexpr int kPieceHalf = 3, kPieceSide = 2 * kPieceHalf + 1; ///< of a piece, pixels
constexpr int kCoarsest = 24;                                  ///< pixels a side, at least
constexpr int kStrips = 8; ///< worked on side by side, whatever the machine
constexpr float kFullTurn = float(2 * kPi);

/// Where a piece of the hole finds its like.
struct Like {
    float x = 0, y = 0, angle = 0, scale = 1;
    float cost = 1e30f; ///< mean squared difference of a channel
};

struct PieceLevel {
    cv::Mat colours; ///< CV_32FC3
    cv::Mat hole;    ///< CV_8U: is to be made
    cv::Mat centres; ///< CV_8U: a piece, however turned, lies wholly in what may be taken
    cv::Mat targets; ///< CV_8U: a piece there shows some of the hole
    cv::Mat inwards; ///< CV_32F: pixels from the hole's edge
    std::vector<cv::Point> sources;
};

class Completion {
  public:
    Completion(PieceLevel level, const FillSettings& settings, std::mt19937::result_type seed)
        : level_(std::move(level)), settings_(settings), seed_(seed),
          likes_(std::size_t(level_.colours.rows) * std::size_t(level_.colours.cols)) {}

    void start_random() {
        std::mt19937 random(seed_);
        each_target([&](int x, int y) { like(x, y) = any(random); });
    }
    void start_from(const Completion& coarse) {
        const float kx = float(level_.colours.cols) / float(coarse.level_.colours.cols),
                    ky = float(level_.colours.rows) / float(coarse.level_.colours.rows);
        std::mt19937 random(seed_);
        each_target([&](int x, int y) {
            const int cx = std::min(int(float(x) / kx), coarse.level_.colours.cols - 1),
                      cy = std::min(int(float(y) / ky), coarse.level_.colours.rows - 1);
            const Like& from = coarse.like(cx, cy);
            Like l = from;
            if (from.cost < 1e29f) {
                const float dx = float(x) + 0.5f - (float(cx) + 0.5f) * kx,
                            dy = float(y) + 0.5f - (float(cy) + 0.5f) * ky;
                const float c = std::cos(l.angle) * l.scale, s = std::sin(l.angle) * l.scale;
                l.x = (from.x + 0.5f) * kx - 0.5f + c * dx - s * dy;
                l.y = (from.y + 0.5f) * ky - 0.5f + s * dx + c * dy;
            }
            if (from.cost >= 1e29f || !allowed(l)) l = any(random);
            like(x, y) = l;
        });
        vote(1);
    }
    void improve(int round, const Cancel& cancel) {
        each_target_parallel(
            [&](int x, int y, std::mt19937&, bool) {
                Like& l = like(x, y);
                l.cost = 1e30f;
                l.cost = cost(x, y, l, 1e30f);
            },
            round * 10);
        for (int sweep = 0; sweep < 2; ++sweep) {
            cancel.check();
            before_ = likes_;
            each_target_parallel(
                [&](int x, int y, std::mt19937& random, bool forwards) { search(x, y, random, forwards); },
                round * 10 + sweep + 1);
        }
    }
    /// `sharp`: only the most alike count.
    void vote(float sharp) {
        std::vector<float> costs;
        each_target([&](int x, int y) {
            if (like(x, y).cost < 1e29f) costs.push_back(like(x, y).cost);
        });
        float spread = 1e-4f;
        if (!costs.empty()) {
            const auto at = costs.begin() + std::ptrdiff_t(costs.size() * 3 / 4);
            std::nth_element(costs.begin(), at, costs.end());
            spread = std::max(spread, *at);
        }
        cv::Mat next = level_.colours.clone();
        parallel_ranges(level_.colours.rows, 8, [&](int begin, int end) {
            for (int y = begin; y < end; ++y)
                for (int x = 0; x < level_.colours.cols; ++x) {
                    if (!level_.hole.at<std::uint8_t>(y, x)) continue;
                    cv::Vec3f sum(0, 0, 0);
                    float weight = 0;
                    for (int dy = -kPieceHalf; dy <= kPieceHalf; ++dy)
                        for (int dx = -kPieceHalf; dx <= kPieceHalf; ++dx) {
                            const int tx = x - dx, ty = y - dy;
                            if (tx < 0 || ty < 0 || tx >= level_.colours.cols || ty >= level_.colours.rows ||
                                !level_.targets.at<std::uint8_t>(ty, tx))
                                continue;
                            const Like& l = like(tx, ty);
                            // What is near the edge knows better (Wexler's confidence).
                            const float sure = std::pow(1.3f, -level_.inwards.at<float>(ty, tx));
                            const float cost = l.cost < 1e29f ? l.cost : 0;
                            const float w =
                                std::max(1e-6f, sure) * std::exp(-sharp * cost / (2 * spread)) + 1e-12f;
                            sum += w * taken(l, float(dx), float(dy));
                            weight += w;
                        }
                    if (weight > 0) next.at<cv::Vec3f>(y, x) = sum / weight;
                }
        });
        level_.colours = next;
    }
    const cv::Mat& colours() const { return level_.colours; }

  private:
    Like& like(int x, int y) {
        return likes_[std::size_t(y) * std::size_t(level_.colours.cols) + std::size_t(x)];
    }
    const Like& like(int x, int y) const {
        return likes_[std::size_t(y) * std::size_t(level_.colours.cols) + std::size_t(x)];
    }
    Like any(std::mt19937& random) const {
        const cv::Point& p = level_.sources[random() % level_.sources.size()];
        Like l{float(p.x), float(p.y), 0, 1};
        if (settings_.turned) l.angle = kFullTurn * share(random);
        return l;
    }
    static float share(std::mt19937& random) { return float(random() >> 8) / float(1 << 24); }
    bool allowed(const Like& l) const {
        const int x = int(std::lround(l.x)), y = int(std::lround(l.y));
        return x >= 0 && y >= 0 && x < level_.colours.cols && y < level_.colours.rows &&
               level_.centres.at<std::uint8_t>(y, x);
    }
    cv::Vec3f taken(const Like& l, float dx, float dy) const {
        float x = l.x, y = l.y;
        if (settings_.turned) {
            const float c = std::cos(l.angle) * l.scale, s = std::sin(l.angle) * l.scale;
            x += c * dx - s * dy, y += s * dx + c * dy;
        } else {
            x += dx, y += dy;
        }
        return between(x, y);
    }
    cv::Vec3f between(float x, float y) const {
        x = std::clamp(x, 0.0f, float(level_.colours.cols - 1) - 1e-3f);
        y = std::clamp(y, 0.0f, float(level_.colours.rows - 1) - 1e-3f);
        const int ix = int(x), iy = int(y);
        const float fx = x - float(ix), fy = y - float(iy);
        const auto* a = level_.colours.ptr<cv::Vec3f>(iy) + ix;
        const auto* b = level_.colours.ptr<cv::Vec3f>(std::min(iy + 1, level_.colours.rows - 1)) + ix;
        return (1 - fy) * ((1 - fx) * a[0] + fx * a[1]) + fy * ((1 - fx) * b[0] + fx * b[1]);
    }
    float cost(int tx, int ty, const Like& l, float limit) const {
        if (!allowed(l)) return 1e30f;
        const float c = std::cos(l.angle) * l.scale, s = std::sin(l.angle) * l.scale;
        float sum = 0;
        int n = 0;
        const float stop = limit * float(kPieceSide * kPieceSide * 3);
        for (int dy = -kPieceHalf; dy <= kPieceHalf; ++dy) {
            const int y = ty + dy;
            if (y < 0 || y >= level_.colours.rows) continue;
            const auto* row = level_.colours.ptr<cv::Vec3f>(y);
            for (int dx = -kPieceHalf; dx <= kPieceHalf; ++dx) {
                const int x = tx + dx;
                if (x < 0 || x >= level_.colours.cols) continue;
                const cv::Vec3f d = row[x] - (settings_.turned ? between(l.x + c * float(dx) - s * float(dy),
                                                                         l.y + s * float(dx) + c * float(dy))
                                                               : between(l.x + float(dx), l.y + float(dy)));
                sum += d.dot(d);
                ++n;
            }
            if (sum > stop) return 1e30f;
        }
        return sum / float(3 * std::max(n, 1));
    }
    void offer(int x, int y, const Like& candidate) {
        Like& best = like(x, y);
        const float c = cost(x, y, candidate, best.cost);
        if (c < best.cost) best = candidate, best.cost = c;
    }
    void search(int x, int y, std::mt19937& random, bool forwards) {
        const int step = forwards ? -1 : 1;
        for (const auto& [dx, dy] : {std::pair(step, 0), std::pair(0, step)}) {
            const int nx = x + dx, ny = y + dy;
            if (nx < 0 || ny < 0 || nx >= level_.colours.cols || ny >= level_.colours.rows ||
                !level_.targets.at<std::uint8_t>(ny, nx))
                continue;
            // Across strips what stood there before: the outcome does not depend on who is first.
            Like l = strip(ny) == strip(y)
                         ? like(nx, ny)
                         : before_[std::size_t(ny) * std::size_t(level_.colours.cols) + std::size_t(nx)];
            const float c = std::cos(l.angle) * l.scale, s = std::sin(l.angle) * l.scale;
            l.x -= c * float(dx) - s * float(dy);
            l.y -= s * float(dx) + c * float(dy);
            offer(x, y, l);
        }
        const Like from = like(x, y);
        float reach = float(std::max(level_.colours.cols, level_.colours.rows)) * float(settings_.reach);
        float turn = float(kPi);
        offer(x, y, any(random));
        while (reach > 0.7f) {
            Like l = from;
            l.x += reach * (2 * share(random) - 1);
            l.y += reach * (2 * share(random) - 1);
            if (settings_.turned) {
                l.angle += turn * (2 * share(random) - 1);
                l.scale = std::clamp(l.scale * (1 + 0.1f * (2 * share(random) - 1)), 0.9f, 1.1f);
            }
            offer(x, y, l);
            reach *= 0.5f, turn *= 0.6f;
        }
    }
    int strip(int y) const { return y * kStrips / level_.colours.rows; }
    template <class Work>
    void each_target(const Work& work) {
        for (int y = 0; y < level_.colours.rows; ++y)
            for (int x = 0; x < level_.colours.cols; ++x)
                if (level_.targets.at<std::uint8_t>(y, x)) work(x, y);
    }
    template <class Work>
    void each_target_parallel(const Work& work, int round) {
        const int rows = level_.colours.rows, cols = level_.colours.cols;
        const bool forwards = round % 2 == 0;
        parallel_ranges(kStrips, 1, [&](int begin, int end) {
            for (int s = begin; s < end; ++s) {
                std::mt19937 random(seed_ + 7919u * unsigned(round) + 104729u * unsigned(s));
                int y0 = rows, y1 = 0;
                for (int y = 0; y < rows; ++y)
                    if (strip(y) == s) y0 = std::min(y0, y), y1 = std::max(y1, y + 1);
                for (int j = y0; j < y1; ++j)
                    for (int i = 0; i < cols; ++i) {
                        const int y = forwards ? j : y1 - 1 - (j - y0), x = forwards ? i : cols - 1 - i;
                        if (level_.targets.at<std::uint8_t>(y, x)) work(x, y, random, forwards);
                    }
            }
        });
    }

    PieceLevel level_;
    FillSettings settings_;
    std::mt19937::result_type seed_;
    std::vector<Like> likes_, before_;
};

/// Half the size; what is unknown counts for nothing.
void reduce(cv::Mat& colours, cv::Mat& hole, cv::Mat& unfit) {
    cv::Mat known, weighted = colours.clone();
    hole.convertTo(known, CV_32F, -1.0 / 255, 1.0);
    for (int y = 0; y < colours.rows; ++y)
        for (int x = 0; x < colours.cols; ++x) weighted.at<cv::Vec3f>(y, x) *= known.at<float>(y, x);
    constexpr float kMostlyKnown = 0.9f; // else what ran through a thin hole would be gone with it
    const cv::Size size((colours.cols + 1) / 2, (colours.rows + 1) / 2);
    cv::Mat sums, weights, smaller_hole, smaller_unfit;
    cv::resize(weighted, sums, size, 0, 0, cv::INTER_AREA);
    cv::resize(known, weights, size, 0, 0, cv::INTER_AREA);
    cv::resize(unfit, smaller_unfit, size, 0, 0, cv::INTER_AREA);
    smaller_hole = cv::Mat(size, CV_8U);
    for (int y = 0; y < size.height; ++y)
        for (int x = 0; x < size.width; ++x) {
            const float w = weights.at<float>(y, x);
            smaller_hole.at<std::uint8_t>(y, x) = w < kMostlyKnown ? 255 : 0;
            if (w > 1e-3f) sums.at<cv::Vec3f>(y, x) /= w;
            smaller_unfit.at<std::uint8_t>(y, x) = smaller_unfit.at<std::uint8_t>(y, x) > 0 ? 255 : 0;
        }
    colours = sums, hole = smaller_hole, unfit = smaller_unfit;
}

PieceLevel level_of(const cv::Mat& colours, const cv::Mat& hole, const cv::Mat& unfit) {
    PieceLevel out;
    out.colours = colours.clone();
    out.hole = hole.clone();
    cv::dilate(hole, out.targets, cv::Mat::ones(kPieceSide, kPieceSide, CV_8U));
    cv::Mat fit = cv::Mat(hole.size(), CV_8U), clear;
    for (int y = 0; y < hole.rows; ++y)
        for (int x = 0; x < hole.cols; ++x)
            fit.at<std::uint8_t>(y, x) = hole.at<std::uint8_t>(y, x) || unfit.at<std::uint8_t>(y, x) ||
                                                 x == 0 || y == 0 || x == hole.cols - 1 || y == hole.rows - 1
                                             ? 0
                                             : 255;
    cv::distanceTransform(fit, clear, cv::DIST_L2, 3);
    constexpr float kCorner = kPieceHalf * 1.4143f * 1.1f + 1; // of a turned piece, the next pixel included
    out.centres = clear > kCorner;
    cv::distanceTransform(out.hole, out.inwards, cv::DIST_L2, 3);
    for (int y = 0; y < hole.rows; ++y)
        for (int x = 0; x < hole.cols; ++x)
            if (out.centres.at<std::uint8_t>(y, x)) out.sources.emplace_back(x, y);
    return out;
}

void check_size(const Picture& picture, const std::vector<float>& hole) {
    if (hole.size() != std::size_t(picture.width()) * std::size_t(picture.height()))
        throw Error("is of another size than the picture", "the mask", "Make it anew");
}

} // namespace

cv::Mat colours_of(const Picture& p) {
    cv::Mat out(p.height(), p.width(), CV_32FC3);
    for (int y = 0; y < p.height(); ++y)
        for (int x = 0; x < p.width(); ++x) {
            const Rgba c = pixel_at(p, x, y);
            const float k = c.a > 1e-3f ? 1 / c.a : 0;
            out.at<cv::Vec3f>(y, x) = {c.r * k, c.g * k, c.b * k};
        }
    return out;
}

Picture completed(const Picture& picture, const std::vector<float>& hole, const std::vector<float>& source,
                  const FillSettings& settings, const TellShare& tell, const Cancel& cancel) {
    check_size(picture, hole);
    cv::Mat colours = colours_of(picture), missing(colours.size(), CV_8U), unfit(colours.size(), CV_8U);
    bool any = false;
    for (int y = 0; y < colours.rows; ++y)
        for (int x = 0; x < colours.cols; ++x) {
            const std::size_t i = std::size_t(y) * std::size_t(colours.cols) + std::size_t(x);
            const bool out = hole[i] > 0.5f;
            const bool known = pixel_at(picture, x, y).a > 0.99f;
            missing.at<std::uint8_t>(y, x) = out ? 255 : 0;
            unfit.at<std::uint8_t>(y, x) = !known || (!source.empty() && source[i] <= 0.5f) ? 255 : 0;
            any |= out;
        }
    if (!any) return picture;
    std::vector<PieceLevel> levels;
    cv::Mat c = colours, h = missing, u = unfit;
    while (true) {
        levels.push_back(level_of(c, h, u));
        // Coarse enough when a piece sees across the hole.
        double deepest = 0;
        cv::minMaxLoc(levels.back().inwards, nullptr, &deepest);
        if (deepest <= kPieceHalf || std::min(c.cols, c.rows) < 2 * kCoarsest) break;
        reduce(c, h, u);
    }
    while (!levels.empty() && levels.back().sources.size() < 16) levels.pop_back();
    if (levels.empty())
        throw Error("there is nothing around the hole to fill it from", "filling",
                    "Make the patch wider, or the mask smaller");
    fill_in_order(levels.back().colours, levels.back().hole, levels.back().sources, kPieceHalf,
                  settings.turned, settings.seed, cancel);
    std::unique_ptr<Completion> at;
    const std::size_t count = levels.size();
    for (std::size_t n = 0; n < count; ++n) {
        const std::size_t i = count - 1 - n;
        auto next = std::make_unique<Completion>(std::move(levels[i]), settings,
                                                 settings.seed * 2654435761u + unsigned(i));
        if (at)
            next->start_from(*at);
        else
            next->start_random();
        const int rounds = i == 0 ? 3 : n == 0 ? 12 : 6;
        for (int r = 0; r < rounds; ++r) {
            next->improve(r, cancel);
            // The last vote of the finest is the sharpest: no mixing of what differs.
            next->vote(i == 0 && r == rounds - 1 ? 8.0f : 1.0f);
            // Each level costs four times the one before it.
            const double share = std::pow(0.25, double(i)) * (0.75 + 0.25 * (r + 1) / rounds);
            if (tell) tell(std::min(share, 1.0));
        }
        at = std::move(next);
    }
    Picture out(picture.width(), picture.height());
    for (int y = 0; y < out.height(); ++y)
        for (int x = 0; x < out.width(); ++x) {
            if (!missing.at<std::uint8_t>(y, x)) {
                set_pixel(out, x, y, pixel_at(picture, x, y));
                continue;
            }
            const auto v = at->colours().at<cv::Vec3f>(y, x);
            set_pixel(out, x, y, {v[0], v[1], v[2], 1});
        }
    return out;
}

Picture inpainted(const Picture& picture, const std::vector<float>& hole, double radius_px) {
    check_size(picture, hole);
    cv::Mat missing(picture.height(), picture.width(), CV_8U), channels[3];
    cv::split(colours_of(picture), channels);
    for (int y = 0; y < missing.rows; ++y)
        for (int x = 0; x < missing.cols; ++x)
            missing.at<std::uint8_t>(y, x) =
                hole[std::size_t(y) * std::size_t(missing.cols) + std::size_t(x)] > 0.05f ? 255 : 0;
    // Extrapolated gradients may overshoot: nothing becomes lighter or darker than what lies about it.
    const int reach = 2 * int(std::ceil(radius_px)) + 1;
    const cv::Mat square = cv::Mat::ones(2 * reach + 1, 2 * reach + 1, CV_8U);
    for (cv::Mat& c : channels) {
        cv::Mat low = c.clone(), high = c.clone(), made;
        low.setTo(1e9f, missing), high.setTo(-1e9f, missing);
        cv::erode(low, low, square);
        cv::dilate(high, high, square);
        // OpenCV's steps are of one unit, and it rounds: units are made small against a picture's.
        constexpr double kUnits = 4096;
        cv::inpaint(cv::Mat(c * kUnits), missing, made, radius_px, cv::INPAINT_TELEA);
        made = (made - 0.5) / kUnits;
        c = cv::max(cv::min(made, high), low);
    }
    Picture out(picture.width(), picture.height());
    for (int y = 0; y < missing.rows; ++y)
        for (int x = 0; x < missing.cols; ++x)
            set_pixel(out, x, y,
                      missing.at<std::uint8_t>(y, x)
                          ? Rgba{channels[0].at<float>(y, x), channels[1].at<float>(y, x),
                                 channels[2].at<float>(y, x), 1}
                          : pixel_at(picture, x, y));
    return out;
}

Picture healed(const Picture& inside, const Picture& around, const std::vector<float>& hole) {
    check_size(around, hole);
    check_size(inside, hole);
    // What is to be added inside is known outside the hole, and passes through it as smoothly as can be.
    Picture difference(around.width(), around.height());

    std::vector<float> hidden(hole.size());
    for (int y = 0; y < around.height(); ++y)
        for (int x = 0; x < around.width(); ++x) {
            const std::size_t i = std::size_t(y) * std::size_t(around.width()) + std::size_t(x);
            const Rgba a = pixel_at(around, x, y), b = pixel_at(inside, x, y);
            const bool known = a.a > 0.99f && b.a > 0.99f;
            hidden[i] = hole[i] > 0.5f || !known ? 1.0f : 0.0f;
            set_pixel(difference, x, y, {a.r - b.r, a.g - b.g, a.b - b.b, 1});
        }
    const Picture through = smoothed_over(difference, hidden);
    Picture out(around.width(), around.height());
    for (int y = 0; y < around.height(); ++y)
        for (int x = 0; x < around.width(); ++x) {
            const std::size_t i = std::size_t(y) * std::size_t(around.width()) + std::size_t(x);
            if (hole[i] <= 0.5f) {
                set_pixel(out, x, y, pixel_at(around, x, y));
                continue;
            }
            const Rgba d = pixel_at(through, x, y);
            Rgba v = pixel_at(inside, x, y);
            v.r += d.r, v.g += d.g, v.b += d.b;
            set_pixel(out, x, y, v);
        }
    return out;
}

} // namespace porb
