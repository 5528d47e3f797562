#include "patch/first_guess.h"

#include "base/parallel.h"

#include <mutex>
#include <random>

namespace porb {

namespace {

constexpr std::size_t kMostSources = 1500;
constexpr int kTurns = 16;

struct Candidate {
    float x = 0, y = 0, angle = 0, cost = 1e30f;
    std::size_t order = 0; ///< of equals the first, whoever found it
};

class InOrder {
  public:
    InOrder(cv::Mat& colours, const cv::Mat& hole, int half, bool turned)
        : colours_(colours), open_(hole.clone()), sure_(hole.size(), CV_32F), half_(half), turned_(turned) {
        for (int y = 0; y < hole.rows; ++y)
            for (int x = 0; x < hole.cols; ++x)
                sure_.at<float>(y, x) = hole.at<std::uint8_t>(y, x) ? 0.0f : 1.0f;
    }
    /// The open pixel at the rim that is to be next; nothing when all is filled.
    std::optional<cv::Point> next() const {
        std::optional<cv::Point> best;
        float most = -1;
        for (int y = 0; y < open_.rows; ++y)
            for (int x = 0; x < open_.cols; ++x) {
                if (!open_.at<std::uint8_t>(y, x) || !at_rim(x, y)) continue;
                const float p = confidence(x, y) * (edge_into(x, y) + 0.004f);
                if (p > most) most = p, best = cv::Point(x, y);
            }
        return best;
    }
    void fill(const cv::Point& at, const std::vector<cv::Point>& sources) {
        std::vector<Candidate> found(kPieces);
        parallel_ranges(kPieces, 1, [&](int begin, int end) {
            for (int piece = begin; piece < end; ++piece) {
                Candidate& best = found[std::size_t(piece)];
                const std::size_t from = sources.size() * std::size_t(piece) / kPieces,
                                  to = sources.size() * std::size_t(piece + 1) / kPieces;
                for (std::size_t i = from; i < to; ++i)
                    for (int t = 0; t < (turned_ ? kTurns : 1); ++t) {
                        Candidate c{float(sources[i].x), float(sources[i].y), float(t) * 6.2831853f / kTurns,
                                    0, i};
                        c.cost = cost(at, c, best.cost);
                        if (c.cost < best.cost) best = c;
                    }
            }
        });
        Candidate best;
        for (const Candidate& c : found)
            if (c.cost < best.cost || (c.cost == best.cost && c.order < best.order)) best = c;
        const float sure = confidence(at.x, at.y);
        for (int dy = -half_; dy <= half_; ++dy)
            for (int dx = -half_; dx <= half_; ++dx) {
                const int x = at.x + dx, y = at.y + dy;
                if (x < 0 || y < 0 || x >= open_.cols || y >= open_.rows || !open_.at<std::uint8_t>(y, x))
                    continue;
                colours_.at<cv::Vec3f>(y, x) = taken(best, float(dx), float(dy));
                open_.at<std::uint8_t>(y, x) = 0;
                sure_.at<float>(y, x) = sure;
            }
    }

  private:
    static constexpr int kPieces = 4;
    bool known(int x, int y) const {
        return x >= 0 && y >= 0 && x < open_.cols && y < open_.rows && !open_.at<std::uint8_t>(y, x);
    }
    bool at_rim(int x, int y) const {
        return known(x - 1, y) || known(x + 1, y) || known(x, y - 1) || known(x, y + 1);
    }
    float confidence(int x, int y) const {
        float sum = 0;
        for (int dy = -half_; dy <= half_; ++dy)
            for (int dx = -half_; dx <= half_; ++dx)
                if (known(x + dx, y + dy)) sum += sure_.at<float>(y + dy, x + dx);
        return sum / float((2 * half_ + 1) * (2 * half_ + 1));
    }
    /// How strong the strongest edge is that runs from what is known into the hole there.
    float edge_into(int x, int y) const {
        const auto open = [&](int i, int j) { return known(i, j) ? 0.0f : 1.0f; };
        cv::Vec2f inwards(open(x + 1, y) - open(x - 1, y), open(x, y + 1) - open(x, y - 1));
        const float length = std::hypot(inwards[0], inwards[1]);
        if (length > 0) inwards /= length;
        float most = 0;
        for (int dy = -half_; dy <= half_; ++dy)
            for (int dx = -half_; dx <= half_; ++dx) {
                const int i = x + dx, j = y + dy;
                if (!known(i - 1, j) || !known(i + 1, j) || !known(i, j - 1) || !known(i, j + 1)) continue;
                const auto grey = [&](int u, int v) {
                    const auto& c = colours_.at<cv::Vec3f>(v, u);
                    return (c[0] + c[1] + c[2]) / 3;
                };
                const float gx = grey(i + 1, j) - grey(i - 1, j), gy = grey(i, j + 1) - grey(i, j - 1);
                most = std::max(most, std::abs(-gy * inwards[0] + gx * inwards[1]));
            }
        return length > 0 ? most : 0;
    }
    cv::Vec3f taken(const Candidate& c, float dx, float dy) const {
        const float co = std::cos(c.angle), si = std::sin(c.angle);
        const float x = std::clamp(c.x + co * dx - si * dy, 0.0f, float(colours_.cols - 1) - 1e-3f),
                    y = std::clamp(c.y + si * dx + co * dy, 0.0f, float(colours_.rows - 1) - 1e-3f);
        const int ix = int(x), iy = int(y);
        const float fx = x - float(ix), fy = y - float(iy);
        const auto* a = colours_.ptr<cv::Vec3f>(iy) + ix;
        const auto* b = colours_.ptr<cv::Vec3f>(std::min(iy + 1, colours_.rows - 1)) + ix;
        return (1 - fy) * ((1 - fx) * a[0] + fx * a[1]) + fy * ((1 - fx) * b[0] + fx * b[1]);
    }
    float cost(const cv::Point& at, const Candidate& c, float limit) const {
        float sum = 0;
        for (int dy = -half_; dy <= half_; ++dy) {
            for (int dx = -half_; dx <= half_; ++dx) {
                if (!known(at.x + dx, at.y + dy)) continue;
                const cv::Vec3f d =
                    colours_.at<cv::Vec3f>(at.y + dy, at.x + dx) - taken(c, float(dx), float(dy));
                sum += d.dot(d);
            }
            if (sum > limit) return 1e30f;
        }
        return sum;
    }
    cv::Mat& colours_;
    cv::Mat open_, sure_;
    int half_;
    bool turned_;
};

} // namespace

void fill_in_order(cv::Mat& colours, const cv::Mat& hole, const std::vector<cv::Point>& all, int half,
                   bool turned, unsigned seed, const Cancel& cancel) {
    std::vector<cv::Point> sources = all;
    if (sources.size() > kMostSources) { // some of them, chosen once
        std::mt19937 random(seed);
        for (std::size_t i = 0; i < kMostSources; ++i)
            std::swap(sources[i], sources[i + random() % (sources.size() - i)]);
        sources.resize(kMostSources);
    }
    InOrder filling(colours, hole, half, turned);
    while (const auto at = filling.next()) {
        cancel.check();
        filling.fill(*at, sources);
    }
}

} // namespace porb
