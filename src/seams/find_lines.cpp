#include "seams/find_lines.h"

#include "base/error.h"
#include "base/parallel.h"
#include "stitch/blend/sphere_sampler.h"
#include "stitch/plan/line_field.h"

#include <opencv2/core.hpp>
#include <opencv2/imgproc/detail/gcgraph.hpp>

#include <cmath>

namespace porb {

namespace {

constexpr int kSide = SeamLines::kSide, kCells = kSide * kSide;
constexpr int kFine = 2;            ///< pictures are compared on cells half as large
constexpr int kLooksEach = 2;       ///< moments looked at between two keys
constexpr float kGradient = 1.0f;   ///< what a difference in gradient costs beside one in colour
constexpr float kStandsOut = 0.15f; ///< and an edge that both show: straight and round things stay whole
constexpr float kMoves = 1.0f;      ///< and what changes from look to look
constexpr float kUnseen = 1.0f;     ///< where one of them does not see
constexpr float kFarther = 1.2e-3f; ///< a cell, for each degree that another lens is deeper inside its reach
constexpr float kElsewhere = 0.02f; ///< a cell that changes hands
constexpr float kNever = 1e4f;
constexpr double kFewChanges = 12; ///< cells: a line does not stir for less
constexpr int kMostRounds = 3;

/// By pair of cameras: what it costs to pass from one to the other at each cell.
class PassCosts {
  public:
    explicit PassCosts(std::size_t cameras) : cameras_(cameras), pairs_(cameras * cameras) {}
    std::vector<float>& of(std::size_t a, std::size_t b) {
        auto& list = pairs_[std::min(a, b) * cameras_ + std::max(a, b)];
        if (list.empty()) list.assign(kCells, 0.0f);
        return list;
    }
    float at(std::size_t a, std::size_t b, int cell) const {
        const auto& list = pairs_[std::min(a, b) * cameras_ + std::max(a, b)];
        return list.empty() ? kUnseen : list[std::size_t(cell)];
    }
    /// The dearer of both everywhere.
    void raise_to(const PassCosts& other) {
        for (std::size_t p = 0; p < pairs_.size(); ++p)
            for (std::size_t c = 0; c < other.pairs_[p].size(); ++c) {
                if (pairs_[p].empty()) pairs_[p].assign(kCells, 0.0f);
                pairs_[p][c] = std::max(pairs_[p][c], other.pairs_[p][c]);
            }
    }

  private:
    std::size_t cameras_;
    std::vector<std::vector<float>> pairs_;
};

/// What one camera shows at a cell: colour, and how it changes to the right and downwards.
struct Shown {
    float v[9] = {};
    float seen = 0;
};
std::vector<Shown> shown_by(const SphereGrid& look) {
    constexpr int side = kSide * kFine;
    std::vector<Shown> out(std::size_t(side) * side);
    const auto colour = [&](int x, int y, int c) {
        const float* p = look.cell(x, y);
        return p[3] > 0.05f ? p[c] / p[3] : 0.0f;
    };
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) {
            Shown& s = out[std::size_t(y) * side + std::size_t(x)];
            s.seen = look.cell(x, y)[3];
            if (s.seen <= 0.05f) continue;
            for (int c = 0; c < 3; ++c) {
                s.v[c] = colour(x, y, c);
                if (x + 1 < side && look.cell(x + 1, y)[3] > 0.05f) s.v[3 + c] = colour(x + 1, y, c) - s.v[c];
                if (y + 1 < side && look.cell(x, y + 1)[3] > 0.05f) s.v[6 + c] = colour(x, y + 1, c) - s.v[c];
            }
        }
    return out;
}

using Moment = std::vector<std::vector<Shown>>; ///< by lens

float edge_of(const Shown& s) {
    float sum = 0;
    for (int c = 3; c < 9; ++c) sum += std::abs(s.v[c]);
    return sum / 3;
}

/// A fine cell's cost of passing from one camera to the other, at a moment and since the one before it.
float cost_of(const Moment& now, const Moment* before, std::size_t a, std::size_t b, std::size_t i) {
    const Shown &sa = now[a][i], &sb = now[b][i];
    if (sa.seen <= 0.05f || sb.seen <= 0.05f) return kUnseen;
    float colour = 0, gradient = 0;
    for (int c = 0; c < 3; ++c) colour += std::abs(sa.v[c] - sb.v[c]);
    for (int c = 3; c < 9; ++c) gradient += std::abs(sa.v[c] - sb.v[c]);
    float cost = colour / 3 + kGradient * gradient / 3 + kStandsOut * std::max(edge_of(sa), edge_of(sb));
    if (before) {
        float moved = 0;
        for (int c = 0; c < 3; ++c)
            moved += std::abs(sa.v[c] - (*before)[a][i].v[c]) + std::abs(sb.v[c] - (*before)[b][i].v[c]);
        cost += kMoves * moved / 6;
    }
    return cost;
}

/// One shot's overlaps, ready for cuts.
class LineFinder {
  public:
    explicit LineFinder(const PlanKey& key)
        : lenses_(plan_lenses(key)), sampler_(lenses_, kSide * kFine, agree_inverse_m(key), key.flow),
          farther_(lenses_.size(), std::vector<float>(kCells, kNever)), begin_(kCells, LineKey::kNobody) {
        parallel_ranges(kCells, 512, [&](int first, int end) {
            for (int c = first; c < end; ++c) settle(c, agree_inverse_m(key));
        });
        for (int c = 0; c < kCells; ++c) {
            int sees = 0;
            for (const auto& f : farther_) sees += f[std::size_t(c)] < kNever;
            if (sees > 1) open_.push_back(c);
        }
        if (open_.empty())
            throw Error("No two cameras overlap, so there are no lines to find", "",
                        "Give cameras more reach, or switch more of them on");
    }
    const SphereSampler& sampler() const { return sampler_; }
    std::vector<std::uint8_t> geometric() const { return begin_; }

    PassCosts costs(const Moment& now, const Moment* before) const {
        PassCosts out(lenses_.size());
        for (std::size_t a = 0; a < lenses_.size(); ++a)
            for (std::size_t b = a + 1; b < lenses_.size(); ++b) {
                const auto both = [&](int c) {
                    return farther_[a][std::size_t(c)] < kNever && farther_[b][std::size_t(c)] < kNever;
                };
                if (std::none_of(open_.begin(), open_.end(), both)) continue;
                std::vector<float>& list = out.of(a, b);
                for (int c = 0; c < kCells; ++c) {
                    float sum = 0;
                    for (int j = 0; j < kFine; ++j)
                        for (int i = 0; i < kFine; ++i)
                            sum += cost_of(now, before, a, b,
                                           std::size_t(c / kSide * kFine + j) * kSide * kFine +
                                               std::size_t(c % kSide * kFine + i));
                    list[std::size_t(c)] = sum / (kFine * kFine);
                }
            }
        return out;
    }

    /// The cheapest labels, from `who` on; where `stay`, leaving `who` costs.
    std::vector<std::uint8_t> cut(const std::vector<std::uint8_t>& who, const PassCosts& costs,
                                  bool stay) const {
        std::vector<std::uint8_t> labels = lens_labels(who);
        const std::vector<std::uint8_t> before = labels;
        double energy = energy_of(labels, before, costs, stay);
        for (int round = 0; round < kMostRounds; ++round) {
            const double last = energy;
            for (std::size_t alpha = 0; alpha < lenses_.size(); ++alpha) {
                const auto grown = expanded(labels, before, costs, stay, std::uint8_t(alpha));
                const double e = energy_of(grown, before, costs, stay);
                if (e < energy - 1e-6) labels = grown, energy = e;
            }
            if (energy > last - 1e-3) break;
        }
        for (auto& l : labels)
            if (l != LineKey::kNobody) l = std::uint8_t(lenses_[l].index);
        return labels;
    }

  private:
    /// A cell's data costs, and who supplies it without lines.
    void settle(int c, double agree) {
        const Vec3 d = octahedral_direction({(c % kSide + 0.5) / kSide, (c / kSide + 0.5) / kSide});
        std::vector<double> inside(lenses_.size());
        double best = 0;
        bool whole = false;
        for (std::size_t l = 0; l < lenses_.size(); ++l) {
            inside[l] = land(lenses_[l], lenses_[l].ray(d, agree)).margin_deg;
            if (inside[l] > best) best = inside[l], begin_[std::size_t(c)] = std::uint8_t(lenses_[l].index);
            whole = whole || inside[l] >= lenses_[l].feather_deg / 2;
        }
        for (std::size_t l = 0; l < lenses_.size(); ++l) // one that fades at its reach is the last choice
            if (inside[l] > 0 && (inside[l] >= lenses_[l].feather_deg / 2 || !whole))
                farther_[l][std::size_t(c)] = kFarther * float(best - inside[l]);
    }

    std::vector<std::uint8_t> lens_labels(const std::vector<std::uint8_t>& who) const {
        std::vector<std::uint8_t> out(kCells, LineKey::kNobody);
        for (int c = 0; c < kCells; ++c) {
            float least = kNever;
            for (std::size_t l = 0; l < lenses_.size(); ++l) {
                const float f = farther_[l][std::size_t(c)];
                if (f >= kNever) continue;
                if (lenses_[l].index == who[std::size_t(c)]) {
                    out[std::size_t(c)] = std::uint8_t(l);
                    break;
                }
                if (f < least) least = f, out[std::size_t(c)] = std::uint8_t(l);
            }
        }
        return out;
    }

    float alone(std::uint8_t label, const std::vector<std::uint8_t>& before, int c, bool stay) const {
        return farther_[label][std::size_t(c)] +
               (stay && before[std::size_t(c)] != label ? kElsewhere : 0.0f);
    }
    float between(std::uint8_t a, std::uint8_t b, int p, int q, const PassCosts& costs) const {
        if (a == b || a == LineKey::kNobody || b == LineKey::kNobody) return 0;
        return costs.at(a, b, p) + costs.at(a, b, q);
    }

    double energy_of(const std::vector<std::uint8_t>& labels, const std::vector<std::uint8_t>& before,
                     const PassCosts& costs, bool stay) const {
        double sum = 0;
        for (const int c : open_) sum += double(alone(labels[std::size_t(c)], before, c, stay));
        for (int c = 0; c < kCells; ++c) {
            const auto beside = cells_beside(c, kSide);
            for (int k = 0; k < 4; ++k)
                if (beside[std::size_t(k)] > c)
                    sum += double(between(labels[std::size_t(c)], labels[std::size_t(beside[std::size_t(k)])],
                                          c, beside[std::size_t(k)], costs));
        }
        return sum;
    }

    /// The best labels in which any cells may have gone over to `alpha`: one minimal cut.
    std::vector<std::uint8_t> expanded(const std::vector<std::uint8_t>& labels,
                                       const std::vector<std::uint8_t>& before, const PassCosts& costs,
                                       bool stay, std::uint8_t alpha) const {
        cv::detail::GCGraph<float> graph(unsigned(open_.size()), unsigned(open_.size()) * 4);
        std::vector<int> node(kCells, -1);
        std::vector<float> keep(kCells, 0.0f), change(kCells, 0.0f);
        for (const int c : open_)
            if (labels[std::size_t(c)] != alpha && farther_[alpha][std::size_t(c)] < kNever) {
                node[std::size_t(c)] = graph.addVtx();
                keep[std::size_t(c)] = alone(labels[std::size_t(c)], before, c, stay);
                change[std::size_t(c)] = alone(alpha, before, c, stay);
            }
        for (int p = 0; p < kCells; ++p) {
            const auto beside = cells_beside(p, kSide);
            for (int k = 0; k < 4; ++k) {
                const int q = beside[std::size_t(k)];
                if (q <= p) continue;
                const std::uint8_t lp = labels[std::size_t(p)], lq = labels[std::size_t(q)];
                const int np = node[std::size_t(p)], nq = node[std::size_t(q)];
                if (np < 0 && nq < 0) continue;
                const float as_is = between(lp, lq, p, q, costs);
                if (np >= 0 && nq >= 0) {
                    // Kolmogorov and Zabih 2004: 0 keeps, 1 changes; both changing costs nothing.
                    const float p_stays = between(lp, alpha, p, q, costs),
                                q_stays = between(alpha, lq, p, q, costs);
                    keep[std::size_t(p)] += as_is;
                    keep[std::size_t(p)] -= q_stays, keep[std::size_t(q)] += q_stays;
                    // E(keep, change) beyond what the terms above say.
                    const float rest = std::max(0.0f, p_stays + q_stays - as_is);
                    if (rest > 0) graph.addEdges(np, nq, rest, 0);
                } else if (np >= 0) {
                    keep[std::size_t(p)] += as_is, change[std::size_t(p)] += between(alpha, lq, p, q, costs);
                } else {
                    keep[std::size_t(q)] += as_is, change[std::size_t(q)] += between(lp, alpha, p, q, costs);
                }
            }
        }
        for (const int c : open_)
            if (const int n = node[std::size_t(c)]; n >= 0) { // source side keeps
                const float low = std::min(keep[std::size_t(c)], change[std::size_t(c)]);
                graph.addTermWeights(n, change[std::size_t(c)] - low, keep[std::size_t(c)] - low);
            }
        graph.maxFlow();
        std::vector<std::uint8_t> out = labels;
        for (const int c : open_)
            if (const int n = node[std::size_t(c)]; n >= 0 && !graph.inSourceSegment(n))
                out[std::size_t(c)] = alpha;
        return out;
    }

    std::vector<PlanLens> lenses_;
    SphereSampler sampler_;
    std::vector<std::vector<float>> farther_; ///< by lens and cell; kNever: it does not serve there
    std::vector<std::uint8_t> begin_;
    std::vector<int> open_; ///< cells that several lenses see
};

} // namespace

SeamLines find_lines(const Project& project, const Shot& shot, Composer& composer, const LineSearch& search,
                     const std::function<void(double)>& step, const Cancel& cancel) {
    Shot plain = shot; // shelters are laid over lines, whatever these are
    plain.seams.shelters.clear();
    plain.seams.seam_lines = SeamLines();
    plain.levelling.orientation = {};
    plain.levelling.orientation_keys.clear();
    plain.levelling.steady.reset();
    View view;
    view.target = equirect_target(4096);
    const LineFinder finder(plan_key(plain, view, plain.timing.in));
    const Span span = used_span(project, plain, composer.library());
    SeamLines lines;
    lines.ease_s = std::min(SeamLines().ease_s, search.every_s);
    const Rational every = Rational::from_double(search.every_s), frame = Rational(1) / plain.timing.rate;
    const int keys = std::max(1, int(std::ceil((span.out - span.in).to_double() / search.every_s)));
    std::optional<Moment> last;
    const auto costs_at = [&](Seconds time) -> std::optional<PassCosts> {
        cancel.check();
        time = std::min(time, std::max(span.in, span.out - frame));
        const auto seen = composer.source_frames(project, plain, time, finder.sampler().cameras());
        if (!seen) return std::nullopt;
        const SphereGrid distances = composer.distances(project, plain, time);
        const auto looks = finder.sampler().sample(seen->sources, seen->tones, distances);
        Moment now;
        for (const SphereGrid& l : looks) now.push_back(shown_by(l));
        PassCosts costs = finder.costs(now, last ? &*last : nullptr);
        last = std::move(now);
        return costs;
    };
    const auto costs_between = [&](int key) { // of the moments from this key up to the next
        std::optional<PassCosts> all;
        for (int look = 0; look < kLooksEach; ++look) {
            const Seconds time = span.in + every * Rational(key) + every * Rational(look, kLooksEach);
            if (look > 0 && time >= span.out) break;
            const auto costs = costs_at(time);
            step((key + double(look + 1) / kLooksEach) / keys);
            if (!costs) continue;
            if (all)
                all->raise_to(*costs);
            else
                all = costs;
        }
        return all;
    };
    std::vector<std::uint8_t> who = finder.geometric();
    std::optional<PassCosts> ahead = costs_between(0);
    for (int key = 0; key < keys; ++key) {
        const std::optional<PassCosts> mine = std::move(ahead);
        ahead = key + 1 < keys ? costs_between(key + 1) : std::nullopt;
        if (!mine) continue;
        PassCosts both = *mine; // a line gets out of the way before something comes
        if (ahead) both.raise_to(*ahead);
        const auto next = finder.cut(who, both, !lines.keys.empty());
        int changes = 0;
        for (int c = 0; c < kCells; ++c) changes += next[std::size_t(c)] != who[std::size_t(c)];
        if (!lines.keys.empty() && changes < kFewChanges) continue;
        who = next;
        lines.keys.push_back({span.in + every * Rational(key), who});
    }
    if (lines.keys.empty())
        throw Error("No moment of the shot has pictures of all cameras", "shot " + shot.name,
                    "Set in and out where all sources run");
    return lines;
}

} // namespace porb
