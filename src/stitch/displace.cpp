#include "base/angle.h"
#include "base/parallel.h"
#include "stitch/distances.h"
#include "stitch/plan_lens.h"

#include <array>

namespace porb {

namespace {

constexpr double kSameInverse = 1e-4;   ///< 1/m: nothing moves visibly
constexpr double kNodeStep_rad = 0.007; ///< places are worked out about as closely as distances are known
constexpr int kRowsOfPiece = 32;

/// New places of a few rows, with offsets of their own.
struct Moved {
    std::vector<std::pair<std::uint32_t, std::uint32_t>> where; ///< contribution, offset into positions
    std::vector<float> positions;
};

class Displacer {
  public:
    Displacer(const BlendPlan& plan, const PlanKey& key, const DistanceField& distances,
              const std::vector<PlanLens>& lenses)
        : plan_(plan), distances_(distances), lenses_(lenses), map_(key.view.target),
          region_(whole_region(key.view)), agree_(agree_inverse_m(key)),
          to_rig_(rotation_of(key.orientation).transpose()),
          intervals_(
              std::clamp(int(std::ceil(kSegment * map_.pixel_angle() / kNodeStep_rad)), 4, kSegment - 1)) {}

    void row(int y, Moved& out) const {
        for (int s = 0; s < plan_.segments_per_row; ++s) {
            const Segment& segment =
                plan_.segments[std::size_t(y) * std::size_t(plan_.segments_per_row) + std::size_t(s)];
            if (segment.count > 0) move(segment, s * kSegment, y, out);
        }
    }

  private:
    struct Node {
        Vec3 direction{0, 0, 1};
        double inverse_m = 0;
    };

    void move(const Segment& segment, int x0, int y, Moved& out) const {
        std::array<Node, kSegment> nodes;
        bool moves = false;
        for (int n = 0; n <= intervals_; ++n) {
            const double x = x0 + 0.5 + (kSegment - 1.0) * n / intervals_;
            // Past the right edge nothing is shown: the last direction stands in.
            const auto d =
                map_.direction({std::min(x, region_.width - 0.5) + region_.x, y + 0.5 + region_.y});
            if (!d) return; // the target's own edge: left at the agree distance
            nodes[std::size_t(n)] = {*d, distances_.at(to_rig_ * *d)};
            moves = moves || std::abs(nodes[std::size_t(n)].inverse_m - agree_) > kSameInverse;
        }
        if (!moves) return;
        for (std::uint32_t c = segment.first; c < segment.first + segment.count; ++c) {
            const std::size_t l = plan_.contributions[c].camera;
            const PlanLens& lens = lenses_[l];
            std::array<Vec2, kSegment> at;
            for (int n = 0; n <= intervals_; ++n) {
                const Node& node = nodes[std::size_t(n)];
                Landing there = land(lens, lens.ray(node.direction, node.inverse_m));
                if (there.inside_deg <= 0) there = land(lens, lens.ray(node.direction, agree_));
                at[std::size_t(n)] = there.px / (1 << lens.level);
            }
            out.where.emplace_back(c, std::uint32_t(out.positions.size()));
            for (int axis = 0; axis < 2; ++axis)
                for (int i = 0; i < kSegment; ++i) {
                    const double t = double(i) * intervals_ / (kSegment - 1);
                    const auto n = std::size_t(std::min(int(t), intervals_ - 1));
                    out.positions.push_back(
                        float(at[n][axis] + (t - double(n)) * (at[n + 1][axis] - at[n][axis])));
                }
        }
    }

    const BlendPlan& plan_;
    const DistanceField& distances_;
    const std::vector<PlanLens>& lenses_;
    TargetMap map_;
    Region region_;
    double agree_;
    Mat3 to_rig_;
    int intervals_;
};

} // namespace

BlendPlan displaced(const BlendPlan& plan, const PlanKey& key, const DistanceField& distances) {
    const std::vector<PlanLens> lenses = plan_lenses(key);
    const Displacer displacer(plan, key, distances, lenses);
    const int pieces = (plan.height + kRowsOfPiece - 1) / kRowsOfPiece;
    std::vector<Moved> moved{std::size_t(pieces)};
    parallel_ranges(pieces, 1, [&](int begin, int end) {
        for (int p = begin; p < end; ++p)
            for (int y = p * kRowsOfPiece; y < std::min((p + 1) * kRowsOfPiece, plan.height); ++y)
                displacer.row(y, moved[std::size_t(p)]);
    });
    BlendPlan out = plan;
    for (const Moved& m : moved) {
        const auto offset = std::uint32_t(out.positions.size());
        for (const auto& [c, at] : m.where) {
            out.contributions[c].exact = true;
            out.contributions[c].positions = offset + at;
        }
        out.positions.insert(out.positions.end(), m.positions.begin(), m.positions.end());
    }
    return out;
}

} // namespace porb
