#include "stitch/plan/plan.h"

#include "base/angle.h"
#include "base/best_two.h"
#include "base/parallel.h"
#include "base/smooth.h"
#include "stitch/plan/plan_lens.h"
#include "stitch/plan/supply.h"

#include <mutex>

namespace porb {

namespace {

/// Above this pixel angle a parabola over a segment bends too little: positions are stored one by one.
constexpr double kCoarsePixel = 2 * kPi / 960;
constexpr double kPastRim_deg = 3; ///< places outside a lens's reach are followed as far, for smooth weights
constexpr double kLeastInverse = 0.02; ///< 1/m
constexpr float kNearlyOne = 1 - 1e-6f;
constexpr double kReserveMargin_deg = 1; ///< inside its reach, of a lens that steps in
constexpr std::size_t kMostReserves = 2;
constexpr double kLean = 0.5; ///< of an eye, to the lens on its side

/// A part of the plan made by one thread, with offsets of its own until it is joined.
struct Piece {
    std::vector<Segment> segments;
    std::vector<Contribution> contributions;
    std::vector<float> weights, positions;
    std::vector<Parallax> parallaxes;
};

double lead_radius(const std::vector<PlanLens>& lenses, const EyeRays& rays) {
    constexpr double kMostTurn = 0.5;
    double sum = 0;
    for (const PlanLens& lens : lenses) sum += lens.position_m.norm();
    return std::max(
        {sum / double(std::max<std::size_t>(1, lenses.size())), std::abs(rays.offset_m) / kMostTurn, 1e-6});
}

class RowPlanner {
  public:
    RowPlanner(const PlanKey& key, const std::vector<PlanLens>& lenses)
        : map_(key.view.target), region_(whole_region(key.view)), lenses_(lenses), supply_(key, lenses),
          exact_(map_.pixel_angle() > kCoarsePixel), agree_(agree_inverse_m(key)), flow_(key.flow),
          to_rig_(rotation_of(key.orientation).transpose()), rays_(key.rays),
          lead_radius_m_(lead_radius(lenses, key.rays)), margin_(degrees(map_.pixel_angle()) * kSegment) {
        widest_zone_deg_ = flow_.zone_deg;
        for (const SeamFlow& seam : flow_.seams) widest_zone_deg_ = std::max(widest_zone_deg_, seam.zone_deg);
        widest_zone_deg_ = distance_zone_deg(flow_, widest_zone_deg_);
        if (mixes_widely(key)) widest_zone_deg_ = std::max(widest_zone_deg_, kWideZone_deg);
        if (flow_.on && supply_.follows_lines()) ever_ = lines_ever(*key.lines);
    }

    void plan_row(int y, Piece& piece) const {
        for (int x = 0; x < region_.width; x += kSegment) plan_segment(x, y, piece);
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
        const bool special = near_change(nodes) || near_shape(nodes);

        // Clear of every edge and transition at all three nodes: one lens supplies the segment alone.
        if (whole && !exact_ && !special) {
            for (std::size_t l = 0; l < count; ++l)
                if (alone(nodes, l)) {
                    piece.contributions.push_back(parabola(nodes, l, true));
                    close_segment(nodes, piece, first, true);
                    return;
                }
        }
        if (whole && !special && hopeless(nodes)) {
            piece.segments.push_back({first, 0});
            return;
        }
        std::vector<float> all(count * kSegment, 0.0f);
        std::vector<Node> each(kSegment);
        const std::uint64_t which = special ? ~std::uint64_t(0) : contenders(nodes);
        std::vector<float> at(count);
        const bool even = whole && !exact_ && !special && bends_evenly(nodes, which);
        for (int i = 0; i < kSegment; ++i) {
            if (x0 + i >= width) continue;
            each[std::size_t(i)] = even ? between(nodes, i, which) : node(x0 + i + 0.5, cy, which);
            if (!each[std::size_t(i)].any) continue;
            supply_.weights(to_rig_ * each[std::size_t(i)].from_centre, each[std::size_t(i)].at, at);
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
        if (whole)
            close_segment(nodes, piece, first, !exact_ && !special);
        else
            piece.segments.push_back({first, std::uint32_t(piece.contributions.size()) - first});
    }

    /// Directions of a segment's nodes, rig axes; those that the target has not take a neighbour's.
    SegmentDirections directions_of(int x0, int y) const {
        SegmentDirections out{};
        std::optional<Vec3> known[3];
        for (int n = 0; n < 3; ++n)
            known[n] = map_.direction({x0 + 0.5 + 7.5 * n + region_.x, y + 0.5 + region_.y});
        for (std::size_t n = 0; n < 3; ++n) {
            const auto& d = known[n] ? known[n] : known[1] ? known[1] : n == 0 ? known[2] : known[0];
            const Vec3 rig = d ? Vec3(to_rig_ * rays_.looks(*d)) : Vec3(0, 0, 1);
            out[n] = {float(rig.x()), float(rig.y()), float(rig.z())};
        }
        return out;
    }

    /// Whether a shelter or a moving line has a say in a segment.
    bool changing(int x0, int y) const {
        const double cy = y + 0.5;
        for (const double x : {x0 + 0.5, x0 + 8.0, x0 + 15.5})
            if (const auto d = map_.direction({x + region_.x, cy + region_.y});
                d && near_change(from_centre(rays_.looks(*d))))
                return true;
        return false;
    }

  private:
    struct Node {
        bool any = false;                       ///< the target has a direction here
        Vec3 looks{0, 0, 1}, origin_m{0, 0, 0}; ///< of the ray
        Vec3 from_centre{0, 0, 1};              ///< where the centre sees what lies at the agree distance
        std::vector<Landing> at;
    };

    /// Only lenses of `which` are looked through (a bit each).
    Node node(double x, double y, std::uint64_t which = ~std::uint64_t(0)) const {
        Node n;
        const auto d = map_.direction({x + region_.x, y + region_.y});
        n.any = d.has_value();
        if (d) {
            n.looks = rays_.looks(*d);
            n.origin_m = rays_.origin_m(n.looks);
            n.from_centre = n.looks + agree_ * n.origin_m;
        }
        n.at.resize(lenses_.size());
        for (std::size_t l = 0; l < lenses_.size(); ++l)
            n.at[l] = n.any && (which >> l & 1)
                          ? land(lenses_[l], lenses_[l].ray(n.looks, n.origin_m, agree_))
                          : Landing{{0, 0}, -1e9};
        if (!n.any) return n;
        if (rays_.moves()) set_own_leads(n, which);
        supply_.set_leads(to_rig_ * n.from_centre, n.at);
        return n;
    }

    /// An eye leans to the lens on its own side: the one that would supply the centre's picture further
    /// there, by half of what the eye's place on the circle of lenses would ask for. In full, parallax is
    /// least, but each eye sees other lenses, and what these differ by becomes vertical disparity
    /// (docs/figures.md).
    void set_own_leads(Node& n, std::uint64_t which) const {
        const Vec3 beside = n.looks + kLean * n.origin_m / lead_radius_m_;
        for (std::size_t l = 0; l < lenses_.size(); ++l)
            if (which >> l & 1)
                n.at[l].lead_deg = land(lenses_[l], lenses_[l].ray(beside, agree_)).margin_deg;
    }

    Vec3 from_centre(const Vec3& looks) const { return looks + agree_ * rays_.origin_m(looks); }

    bool near_change(const Vec3& direction) const {
        return supply_.near_change(to_rig_ * direction, margin_);
    }
    bool near_change(const Node (&nodes)[3]) const {
        return std::any_of(nodes, nodes + 3,
                           [&](const Node& n) { return n.any && near_change(n.from_centre); });
    }

    /// Whether a shape of any lens may change something within a segment.
    bool near_shape(const Node (&nodes)[3]) const {
        return std::any_of(nodes, nodes + 3, [&](const Node& n) {
            return std::any_of(n.at.begin(), n.at.end(),
                               [&](const Landing& at) { return at.edge_deg < float(margin_); });
        });
    }

    /// The lenses that may have a part in a segment, from its nodes: others are too far behind the best
    /// placed.
    std::uint64_t contenders(const Node (&nodes)[3]) const {
        std::uint64_t which = 0;
        for (const auto& n : nodes) {
            if (!n.any) return ~std::uint64_t(0);
            double best = -1e9;
            for (const auto& at : n.at) best = std::max(best, at.lead_deg);
            for (std::size_t l = 0; l < lenses_.size(); ++l)
                if (n.at[l].margin_deg > -2 * margin_ &&
                    (supply_.follows_lines() || n.at[l].lead_deg > best - lenses_[l].mix_deg - 4 * margin_))
                    which |= std::uint64_t(1) << l;
        }
        return which;
    }

    /// Whether angles inside follow a parabola over a segment as places do: no lens of `which` begins or ends
    /// in it, and they say themselves who is ahead.
    bool bends_evenly(const Node (&nodes)[3], std::uint64_t which) const {
        if (supply_.follows_lines()) return false;
        for (std::size_t l = 0; l < lenses_.size(); ++l) {
            const auto inside = [&](const Node& n) { return n.at[l].margin_deg > 0; };
            if ((which >> l & 1) && std::any_of(nodes, nodes + 3, inside) &&
                !std::all_of(nodes, nodes + 3, inside))
                return false;
        }
        return true;
    }

    /// The node at a segment's pixel `i`, as far as weights need it, by the parabola through its three.
    Node between(const Node (&nodes)[3], int i, std::uint64_t which) const {
        const double t = (i - 7.5) / 7.5, shares[3] = {t * (t - 1) / 2, 1 - t * t, t * (t + 1) / 2};
        Node n;
        n.any = true;
        n.from_centre = nodes[1].from_centre; // no haven is near
        n.at.assign(lenses_.size(), Landing{{0, 0}, -1e9});
        for (std::size_t l = 0; l < lenses_.size(); ++l) {
            if (!(which >> l & 1) || nodes[1].at[l].margin_deg <= 0) continue; // past its end nothing is even
            Landing& at = n.at[l];
            at.margin_deg = at.lead_deg = 0;
            for (int k = 0; k < 3; ++k) {
                at.margin_deg += shares[k] * nodes[k].at[l].margin_deg;
                at.lead_deg += shares[k] * nodes[k].at[l].lead_deg;
            }
        }
        return n;
    }

    /// Lens l has weight 1 all along: well inside its reach, and no other within its feather of being as far
    /// inside.
    bool alone(const Node (&nodes)[3], std::size_t l) const {
        for (const auto& n : nodes) {
            const double mine = n.at[l].lead_deg;
            if (n.at[l].margin_deg < lenses_[l].feather_deg / 2 + margin_) return false;
            for (std::size_t o = 0; o < lenses_.size(); ++o)
                if (o != l && n.at[o].lead_deg > mine - lenses_[o].mix_deg - 2 * margin_ &&
                    n.at[o].margin_deg > -2 * margin_)
                    return false;
        }
        return true;
    }

    bool hopeless(const Node (&nodes)[3]) const {
        for (const auto& n : nodes)
            for (const auto& at : n.at)
                if (at.margin_deg > -margin_) return false;
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
                const bool used = n.any && n.at[l].margin_deg > 0;
                piece.positions.push_back(float(used ? n.at[l].px[axis] * scale : centre[axis]));
            }
        return c;
    }

    /// Whether distances found have a say in a segment: the two best placed lenses are nearly as well placed.
    bool in_flow_zone(const Node (&nodes)[3]) const {
        if (!flow_.on) return false;
        for (const Node& n : nodes) // behind a cut-out, the distances about it
            for (const Landing& at : n.at)
                if (at.margin_deg <= kCutAway_deg && at.edge_deg < 1e3f) return true;
        if (ever_) // wherever a line passes at any time, as the distances have it
            return std::any_of(nodes, nodes + 3, [&](const Node& n) {
                return ever_->away_deg.at(to_rig_ * n.from_centre) * 2 < widest_zone_deg_ + margin_;
            });
        for (const auto& n : nodes) {
            BestTwo two;
            for (const auto& at : n.at) two.offer(0, at.margin_deg);
            if (two.next > -margin_ && two.lead() < widest_zone_deg_ + margin_) return true;
        }
        return false;
    }

    /// Gives the segment's contributions their parallaxes, where distances may have a say.
    void add_parallax(const Node (&nodes)[3], Piece& piece, std::uint32_t first) const {
        if (!in_flow_zone(nodes)) return;
        for (auto c = piece.contributions.begin() + first; c != piece.contributions.end(); ++c)
            if (const auto p = parallax(nodes, c->camera)) {
                c->parallax = std::uint32_t(piece.parallaxes.size());
                piece.parallaxes.push_back(*p);
            }
    }

    /// Ends a segment of the contributions from `first` on.
    void close_segment(const Node (&nodes)[3], Piece& piece, std::uint32_t first,
                       bool may_have_reserves) const {
        const auto count = std::uint32_t(piece.contributions.size()) - first;
        if (may_have_reserves && flow_.fine_edges && count > 0) add_reserves(nodes, piece, first);
        add_parallax(nodes, piece, first);
        // Without a parallax one would show what lies at the agree distance, not what is there.
        piece.contributions.erase(
            std::remove_if(piece.contributions.begin() + first + count, piece.contributions.end(),
                           [](const Contribution& c) { return c.parallax == Contribution::kNone; }),
            piece.contributions.end());
        piece.segments.push_back({first, count, std::uint32_t(piece.contributions.size()) - first - count});
    }

    /// A contribution has weight at every pixel of its segment.
    static bool all_weigh(const Piece& piece, const Contribution& c) {
        const float* const w = piece.weights.data() + c.weights;
        return std::all_of(w, w + kSegment, [](float v) { return v >= kSupplies; });
    }

    /// The other lenses that see a segment well inside their reach, the best placed first. Lenses whose
    /// weight ends within the segment are among them: past there they see the place as well as any other.
    void add_reserves(const Node (&nodes)[3], Piece& piece, std::uint32_t first) const {
        if (!in_flow_zone(nodes)) return;
        std::vector<std::pair<double, std::size_t>> others;
        for (std::size_t l = 0; l < lenses_.size(); ++l) {
            const bool everywhere = std::any_of(
                piece.contributions.begin() + first, piece.contributions.end(),
                [&](const Contribution& c) { return c.camera == l && (c.full || all_weigh(piece, c)); });
            if (everywhere || std::any_of(nodes, nodes + 3, [&](const Node& n) {
                    return n.at[l].margin_deg < kReserveMargin_deg + margin_ || n.at[l].edge_deg < margin_;
                }))
                continue;
            others.emplace_back(-nodes[1].at[l].lead_deg, l);
        }
        std::sort(others.begin(), others.end());
        for (std::size_t i = 0; i < std::min(others.size(), kMostReserves); ++i)
            piece.contributions.push_back(parabola(nodes, others[i].second, false));
    }

    std::optional<Parallax> parallax(const Node (&nodes)[3], std::size_t l) const {
        const PlanLens& lens = lenses_[l];
        const auto seen = [&](double inverse_m, Vec2(&px)[3]) {
            for (std::size_t n = 0; n < 3; ++n) {
                const Landing at = land(lens, lens.ray(nodes[n].looks, nodes[n].origin_m, inverse_m));
                px[n] = at.px;
                if (at.margin_deg <= (nodes[n].at[l].margin_deg > 0 ? 0 : -2 * margin_ - kPastRim_deg))
                    return false;
            }
            return true;
        };
        Vec2 near[3], mid[3];
        const double nearest = 1.5 / flow_.nearest_m; // what distances are bounded by
        double high = nearest - agree_;
        while (high > kLeastInverse && !seen(agree_ + high, near)) high *= 0.6;
        if (high <= kLeastInverse) return std::nullopt;
        double low = -agree_, third = low; // of the parabola: the agree distance, high, and a third
        if (agree_ <= kLeastInverse || !seen(0, mid)) low = 0;
        if (low > -0.15 * high) {
            third = high / 2;
            if (!seen(agree_ + third, mid)) return std::nullopt;
        }
        Parallax p;
        p.low = float(low), p.high = float(high);
        const double scale = 1.0 / (1 << lens.level);
        for (std::size_t n = 0; n < 3; ++n) {
            const Vec2 a = (near[n] - nodes[n].at[l].px) * (scale / high),
                       b = (mid[n] - nodes[n].at[l].px) * (scale / third);
            const Vec2 second = (a - b) / (high - third), slope = a - second * high;
            p.u1[n] = float(slope.x()), p.u2[n] = float(second.x());
            p.v1[n] = float(slope.y()), p.v2[n] = float(second.y());
        }
        return p;
    }

    TargetMap map_;
    Region region_;
    const std::vector<PlanLens>& lenses_;
    Supply supply_;
    bool exact_;
    double agree_; ///< 1/m
    FlowSettings flow_;
    double widest_zone_deg_ = 0;
    std::optional<LinesEver> ever_;
    Mat3 to_rig_;
    EyeRays rays_;
    double lead_radius_m_; ///< of the circle that the lenses stand on, and no less than turns leads by 27
                           ///< degrees
    double margin_;        ///< degrees of a segment's length: by as much may angles inside differ over it
};

constexpr int kRowsOfPiece = 32;

} // namespace

std::size_t BlendPlan::bytes() const {
    return segments.size() * sizeof(Segment) + contributions.size() * sizeof(Contribution) +
           (weights.size() + positions.size()) * sizeof(float) + parallaxes.size() * sizeof(Parallax) +
           directions.size() * sizeof(SegmentDirections);
}

double blend_weight(double margin_deg, double lead_deg, double best_lead_deg, double feather_deg,
                    double mix_deg) {
    if (margin_deg <= 0) return 0;
    return smooth(1 - (best_lead_deg - lead_deg) / mix_deg) * smooth(2 * margin_deg / feather_deg);
}

void narrow_weights(std::span<float> weights, float agreement, int feather_power) {
    if (feather_power <= 1 || agreement >= 1) return;
    float most = 0, sum = 0, narrow_sum = 0;
    for (const float w : weights) most = std::max(most, w), sum += w;
    if (most <= 0) return;
    for (float& w : weights) {
        const float share = w / most;
        float power = 1, square = share;
        for (int n = feather_power; n > 0; n >>= 1, square *= square)
            if (n & 1) power *= square;
        w = agreement * share + (1 - agreement) * power;
        narrow_sum += w;
    }
    for (float& w : weights) w *= sum / narrow_sum;
}

void share_out_hidden(std::span<float> weights, std::span<const float> visible, std::size_t count) {
    const auto claim = [&](std::size_t k) { // of who hardly sees: next to nothing
        const float v = visible[k] * visible[k];
        return (weights[k] + (k <= count ? kFirstClaim : kOtherClaim)) * v * v + kUnseenClaim * weights[k];
    };
    float missing = 0, claims = 0;
    for (std::size_t k = 0; k < weights.size(); ++k) {
        missing += weights[k] * (1 - visible[k]);
        claims += claim(k);
    }
    if (missing <= 0 || claims <= 0) return;
    for (std::size_t k = 0; k < weights.size(); ++k)
        weights[k] = weights[k] * visible[k] + missing * claim(k) / claims;
}

int power_for_feather(double mix_deg, double feather_deg) {
    if (mix_deg <= feather_deg) return 1;
    return std::clamp(int(std::lround(std::log(0.5) / std::log(smooth(1 - feather_deg / 2 / mix_deg)))), 1,
                      64);
}

namespace {

BlendPlan empty_plan(const PlanKey& key, const std::vector<PlanLens>& lenses) {
    BlendPlan plan;
    const Region region = whole_region(key.view);
    plan.width = region.width;
    plan.height = region.height;
    plan.segments_per_row = (plan.width + kSegment - 1) / kSegment;
    plan.agree_inverse_m = agree_inverse_m(key);
    plan.pixel_angle = TargetMap(key.view.target).pixel_angle();
    for (const auto& lens : lenses) plan.cameras.push_back({lens.index, lens.level});
    plan.feather_power = feather_power_of(lenses);
    return plan;
}

/// Puts a piece's parts behind those of the plan, so that its segments count from there.
void append_parts(BlendPlan& plan, Piece& piece) {
    const auto contributions = std::uint32_t(plan.contributions.size()),
               weights = std::uint32_t(plan.weights.size()), positions = std::uint32_t(plan.positions.size()),
               parallaxes = std::uint32_t(plan.parallaxes.size());
    for (auto& s : piece.segments) s.first += contributions;
    for (auto& c : piece.contributions) {
        c.weights += weights;
        c.positions += positions;
        if (c.parallax != Contribution::kNone) c.parallax += parallaxes;
    }
    const auto append = [](auto& to, const auto& from) { to.insert(to.end(), from.begin(), from.end()); };
    append(plan.contributions, piece.contributions);
    append(plan.weights, piece.weights);
    append(plan.positions, piece.positions);
    append(plan.parallaxes, piece.parallaxes);
}

void find_shown(BlendPlan& plan) {
    for (auto& camera : plan.cameras) camera.shown = false;
    for (const Contribution& c : plan.contributions) plan.cameras[c.camera].shown = true;
}

/// Works on pieces of rows in parallel, then joins what they made, in order.
template <class Work, class Join>
void by_pieces(int height, const Work& work, const Join& join) {
    const int pieces = (height + kRowsOfPiece - 1) / kRowsOfPiece;
    std::vector<Piece> made{std::size_t(pieces)};
    parallel_ranges(pieces, 1, [&](int begin, int end) {
        for (int p = begin; p < end; ++p)
            work(made[std::size_t(p)], p * kRowsOfPiece, std::min((p + 1) * kRowsOfPiece, height));
    });
    for (int p = 0; p < pieces; ++p) {
        join(made[std::size_t(p)], p * kRowsOfPiece);
        made[std::size_t(p)] = {};
    }
}

} // namespace

BlendPlan make_plan(const PlanKey& key) {
    const std::vector<PlanLens> lenses = plan_lenses(key);
    const RowPlanner planner(key, lenses);
    BlendPlan plan = empty_plan(key, lenses);
    if (key.flow.on || key.multiband)
        plan.directions.resize(std::size_t(plan.height) * std::size_t(plan.segments_per_row));
    by_pieces(
        plan.height,
        [&](Piece& piece, int begin, int end) {
            for (int y = begin; y < end; ++y) {
                planner.plan_row(y, piece);
                if (plan.directions.empty()) continue;
                SegmentDirections* directions =
                    &plan.directions[std::size_t(y) * std::size_t(plan.segments_per_row)];
                for (int s = 0; s < plan.segments_per_row; ++s)
                    directions[s] = planner.directions_of(s * kSegment, y);
            }
        },
        [&](Piece& piece, int) {
            append_parts(plan, piece);
            plan.segments.insert(plan.segments.end(), piece.segments.begin(), piece.segments.end());
        });
    find_shown(plan);
    return plan;
}

BlendPlan with_changes(const BlendPlan& base, const PlanKey& key) {
    const std::vector<PlanLens> lenses = plan_lenses(key);
    const RowPlanner planner(key, lenses);
    BlendPlan plan = base;
    std::vector<std::vector<std::size_t>> where{std::size_t((plan.height + kRowsOfPiece - 1) / kRowsOfPiece)};
    by_pieces(
        plan.height,
        [&](Piece& piece, int begin, int end) {
            for (int y = begin; y < end; ++y)
                for (int s = 0; s < plan.segments_per_row; ++s) {
                    if (!planner.changing(s * kSegment, y)) continue;
                    planner.plan_segment(s * kSegment, y, piece);
                    where[std::size_t(begin / kRowsOfPiece)].push_back(
                        std::size_t(y) * std::size_t(plan.segments_per_row) + std::size_t(s));
                }
        },
        [&](Piece& piece, int begin) {
            append_parts(plan, piece);
            const auto& places = where[std::size_t(begin / kRowsOfPiece)];
            for (std::size_t i = 0; i < places.size(); ++i) plan.segments[places[i]] = piece.segments[i];
        });
    find_shown(plan);
    return plan;
}

} // namespace porb
