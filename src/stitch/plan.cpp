#include "stitch/plan.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "project/orientation.h"
#include "stitch/plan_lens.h"

#include <mutex>

namespace porb {

namespace {

/// Above this pixel angle a parabola over a segment bends too little: positions are stored one by one.
constexpr double kCoarsePixel = 2 * kPi / 960;
constexpr float kNearlyOne = 1 - 1e-6f;

bool serves(Eyes eyes, Eye eye) {
    return eye == Eye::mono || eyes == Eyes::both || (eye == Eye::left) == (eyes == Eyes::left);
}

bool is_stereo_pair(const Rig& rig) {
    const auto has = [&](Eyes e) {
        return std::any_of(rig.cameras.begin(), rig.cameras.end(),
                           [&](const Camera& c) { return c.eyes == e; });
    };
    return has(Eyes::left) && has(Eyes::right);
}

/// A part of the plan made by one thread, with offsets of its own until it is joined.
struct Piece {
    std::vector<Segment> segments;
    std::vector<Contribution> contributions;
    std::vector<float> weights, positions;
};

class RowPlanner {
  public:
    RowPlanner(const PlanKey& key, const std::vector<PlanLens>& lenses)
        : map_(key.view.target), region_(whole_region(key.view)), lenses_(lenses),
          exact_(map_.pixel_angle() > kCoarsePixel), agree_(agree_inverse_m(key)) {}

    void plan_row(int y, Piece& piece) const {
        for (int x = 0; x < region_.width; x += kSegment) plan_segment(x, y, piece);
    }

  private:
    struct Node {
        bool any = false; ///< the target has a direction here
        std::vector<Landing> at;
    };

    /// Only lenses of `which` are looked through (a bit each).
    Node node(double x, double y, std::uint64_t which = ~std::uint64_t(0)) const {
        Node n;
        const auto d = map_.direction({x + region_.x, y + region_.y});
        n.any = d.has_value();
        n.at.resize(lenses_.size());
        for (std::size_t l = 0; l < lenses_.size(); ++l)
            n.at[l] = n.any && (which >> l & 1) ? land(lenses_[l], lenses_[l].ray(*d, agree_))
                                                : Landing{{0, 0}, -1e9};
        return n;
    }

    /// The lenses that may have a part in a segment, from its nodes: others are too far behind the best
    /// placed.
    std::uint64_t contenders(const Node (&nodes)[3]) const {
        const double margin = degrees(map_.pixel_angle()) * kSegment;
        std::uint64_t which = 0;
        for (const auto& n : nodes) {
            if (!n.any) return ~std::uint64_t(0);
            double best = -1e9;
            for (const auto& at : n.at) best = std::max(best, at.inside_deg);
            for (std::size_t l = 0; l < lenses_.size(); ++l)
                if (n.at[l].inside_deg > -2 * margin &&
                    n.at[l].inside_deg > best - lenses_[l].feather_deg - 4 * margin)
                    which |= std::uint64_t(1) << l;
        }
        return which;
    }

    /// Final weights of each lens at a node: normalised, times the coverage.
    void weights_at(const Node& n, std::vector<float>& out) const {
        double best = -1e9;
        for (const auto& at : n.at) best = std::max(best, at.inside_deg);
        double sum = 0, cover = 0;
        std::vector<double>& raw = raw_;
        raw.assign(lenses_.size(), 0);
        for (std::size_t l = 0; l < lenses_.size(); ++l) {
            raw[l] = blend_weight(n.at[l].inside_deg, best, lenses_[l].feather_deg);
            sum += raw[l];
            cover = std::max(cover, raw[l]);
        }
        for (std::size_t l = 0; l < lenses_.size(); ++l)
            out[l] = sum > 0 ? float(raw[l] / sum * std::min(1.0, cover)) : 0;
    }

    void plan_segment(int x0, int y, Piece& piece) const {
        const double cy = y + 0.5;
        const int width = region_.width;
        const std::size_t count = lenses_.size();
        const auto first = std::uint32_t(piece.contributions.size());
        // Nodes at pixel centres 0, 7.5 and 15 of the segment (past the right edge they are only
        // extrapolation).
        const Node nodes[3] = {node(x0 + 0.5, cy), node(x0 + 8.0, cy), node(x0 + 15.5, cy)};
        const bool whole = nodes[0].any && nodes[1].any && nodes[2].any;

        // Clear of every edge and transition at all three nodes: one lens supplies the segment alone.
        if (whole && !exact_) {
            for (std::size_t l = 0; l < count; ++l)
                if (alone(nodes, l)) {
                    piece.contributions.push_back(parabola(nodes, l, true));
                    piece.segments.push_back({first, 1});
                    return;
                }
        }
        if (whole && hopeless(nodes)) {
            piece.segments.push_back({first, 0});
            return;
        }
        std::vector<float> all(count * kSegment, 0.0f);
        std::vector<Node> each(kSegment);
        const std::uint64_t which = contenders(nodes);
        std::vector<float> at(count);
        for (int i = 0; i < kSegment; ++i) {
            if (x0 + i >= width) continue;
            each[std::size_t(i)] = node(x0 + i + 0.5, cy, which);
            if (!each[std::size_t(i)].any) continue;
            weights_at(each[std::size_t(i)], at);
            for (std::size_t l = 0; l < count; ++l) all[l * kSegment + std::size_t(i)] = at[l];
        }
        for (std::size_t l = 0; l < count; ++l) {
            const float* w = &all[l * kSegment];
            if (std::all_of(w, w + kSegment, [](float v) { return v <= 0; })) continue;
            const bool full = std::all_of(w, w + kSegment, [](float v) { return v >= kNearlyOne; });
            Contribution c = whole && !exact_ ? parabola(nodes, l, full) : positions(each, l, full, piece);
            if (!full) {
                c.weights = std::uint32_t(piece.weights.size());
                piece.weights.insert(piece.weights.end(), w, w + kSegment);
            }
            piece.contributions.push_back(c);
        }
        piece.segments.push_back({first, std::uint32_t(piece.contributions.size()) - first});
    }

    /// Lens l has weight 1 all along: well inside its reach, and no other within its feather of being as far
    /// inside.
    bool alone(const Node (&nodes)[3], std::size_t l) const {
        const double margin = degrees(map_.pixel_angle()) * kSegment;
        for (const auto& n : nodes) {
            const double mine = n.at[l].inside_deg;
            if (mine < lenses_[l].feather_deg / 2 + margin) return false;
            for (std::size_t o = 0; o < lenses_.size(); ++o)
                if (o != l && n.at[o].inside_deg > mine - lenses_[o].feather_deg - 2 * margin &&
                    n.at[o].inside_deg > -2 * margin)
                    return false;
        }
        return true;
    }

    bool hopeless(const Node (&nodes)[3]) const {
        const double margin = degrees(map_.pixel_angle()) * kSegment;
        for (const auto& n : nodes)
            for (const auto& at : n.at)
                if (at.inside_deg > -margin) return false;
        return true;
    }

    Contribution parabola(const Node (&nodes)[3], std::size_t l, bool full) const {
        Contribution c;
        c.camera = std::uint16_t(l);
        c.full = full;
        const double scale = 1.0 / (1 << lenses_[l].level);
        for (std::size_t n = 0; n < 3; ++n) {
            c.u[n] = float(nodes[n].at[l].px.x() * scale);
            c.v[n] = float(nodes[n].at[l].px.y() * scale);
        }
        return c;
    }

    Contribution positions(const std::vector<Node>& each, std::size_t l, bool full, Piece& piece) const {
        Contribution c;
        c.camera = std::uint16_t(l);
        c.full = full;
        c.exact = true;
        c.positions = std::uint32_t(piece.positions.size());
        const double scale = 1.0 / (1 << lenses_[l].level);
        const Vec2 centre = lenses_[l].map.lens().center_px * scale; // a safe place for pixels of weight 0
        for (int axis = 0; axis < 2; ++axis)
            for (int i = 0; i < kSegment; ++i) {
                const Node& n = each[std::size_t(i)];
                const bool used = n.any && n.at[l].inside_deg > 0;
                piece.positions.push_back(float(used ? n.at[l].px[axis] * scale : centre[axis]));
            }
        return c;
    }

    TargetMap map_;
    Region region_;
    const std::vector<PlanLens>& lenses_;
    bool exact_;
    double agree_; ///< 1/m
    mutable std::vector<double> raw_;
};

constexpr int kRowsOfPiece = 32;

} // namespace

std::size_t BlendPlan::bytes() const {
    return segments.size() * sizeof(Segment) + contributions.size() * sizeof(Contribution) +
           (weights.size() + positions.size()) * sizeof(float);
}

double blend_weight(double inside_deg, double best_inside_deg, double feather_deg) {
    if (inside_deg <= 0) return 0;
    const auto smooth = [](double t) {
        t = std::clamp(t, 0.0, 1.0);
        return t * t * (3 - 2 * t);
    };
    return smooth(1 - (best_inside_deg - inside_deg) / feather_deg) * smooth(2 * inside_deg / feather_deg);
}

PlanKey plan_key(const Shot& shot, const View& view, Seconds time) {
    PlanKey key{shot.rig, shot.cameras, shot.orientation, Vec3(0, 0, 0), shot.agree_distance_m, view};
    if (orientation_moves(shot)) key.orientation = turn_of(orientation_at(shot, time));
    if (shot.steady && shot.steady->on && shot.steady->readout_s != 0)
        key.row_turn = shot.steady->readout_s * spin_at(*shot.steady, time.to_double());
    for (auto& c : key.cameras) { // what does not change a plan must not make it anew
        c.offset = Seconds(0);
        c.drift_ppm = 0;
        c.lens_locked = c.pose_locked = false;
        c.origins = {};
        c.colour = {};
        c.extra_json.clear();
        if (!c.media.empty()) c.media = "media";
    }
    key.rig.name.clear();
    key.rig.extra_json.clear();
    for (auto& c : key.rig.cameras) {
        c.extra_json.clear();
        c.lens.pixel_pitch_um = 0;
    }
    return key;
}

std::vector<std::size_t> contributing_cameras(const PlanKey& key) {
    const Eye eye = key.view.eye == Eye::mono && is_stereo_pair(key.rig) ? Eye::left : key.view.eye;
    std::vector<std::size_t> indices;
    for (std::size_t i = 0; i < key.cameras.size(); ++i) {
        const ShotCamera& use = key.cameras[i];
        const Camera* camera = find_camera(key.rig, use.camera);
        if (camera && use.used && !use.media.empty() && serves(camera->eyes, eye)) indices.push_back(i);
    }
    return indices;
}

BlendPlan make_plan(const PlanKey& key) {
    BlendPlan plan;
    const Region region = whole_region(key.view);
    plan.width = region.width;
    plan.height = region.height;
    plan.segments_per_row = (plan.width + kSegment - 1) / kSegment;
    const std::vector<PlanLens> lenses = plan_lenses(key);
    for (const auto& lens : lenses) plan.cameras.push_back({lens.index, lens.level});
    const int pieces = (plan.height + kRowsOfPiece - 1) / kRowsOfPiece;
    std::vector<Piece> made{std::size_t(pieces)};
    parallel_ranges(pieces, 1, [&](int begin, int end) {
        const RowPlanner planner(key, lenses);
        for (int p = begin; p < end; ++p)
            for (int y = p * kRowsOfPiece; y < std::min((p + 1) * kRowsOfPiece, plan.height); ++y)
                planner.plan_row(y, made[std::size_t(p)]);
    });
    for (auto& piece : made) {
        const auto contributions = std::uint32_t(plan.contributions.size());
        const auto weights = std::uint32_t(plan.weights.size()),
                   positions = std::uint32_t(plan.positions.size());
        for (auto& s : piece.segments) s.first += contributions;
        for (auto& c : piece.contributions) {
            c.weights += weights;
            c.positions += positions;
        }
        plan.segments.insert(plan.segments.end(), piece.segments.begin(), piece.segments.end());
        plan.contributions.insert(plan.contributions.end(), piece.contributions.begin(),
                                  piece.contributions.end());
        plan.weights.insert(plan.weights.end(), piece.weights.begin(), piece.weights.end());
        plan.positions.insert(plan.positions.end(), piece.positions.begin(), piece.positions.end());
        piece = {};
    }
    return plan;
}

struct Coverage::Impl {
    std::vector<PlanLens> lenses;
    std::size_t cameras;
    double agree; ///< 1/m
};

Coverage::Coverage(const PlanKey& key)
    : impl_(std::make_unique<Impl>(Impl{plan_lenses(key), key.cameras.size(), agree_inverse_m(key)})) {}
Coverage::~Coverage() = default;

std::vector<double> Coverage::inside_deg(const Vec3& world_direction) const {
    std::vector<double> inside(impl_->cameras, -1);
    for (const auto& lens : impl_->lenses)
        inside[lens.index] = land(lens, lens.ray(world_direction, impl_->agree)).inside_deg;
    return inside;
}

int Coverage::lenses_at(const Vec3& world_direction) const {
    return int(std::count_if(impl_->lenses.begin(), impl_->lenses.end(), [&](const PlanLens& lens) {
        return land(lens, lens.ray(world_direction, impl_->agree)).inside_deg > 0;
    }));
}

} // namespace porb
