#include "stitch/distances/distances.h"

#include "base/angle.h"
#include "base/best_two.h"
#include "base/parallel.h"
#include "base/smooth.h"
#include "stitch/colour_match/guide.h"
#include "stitch/distances/carve.h"
#include "stitch/distances/eye_field.h"
#include "stitch/distances/finer_grid.h"
#include "stitch/distances/follow_distance.h"
#include "stitch/distances/pair_borders.h"
#include "stitch/distances/shape_fill.h"
#include "stitch/plan/coverage.h"
#include "stitch/plan/line_field.h"
#include "stitch/plan/plan_lens.h"
#include "stitch/plan/shapes.h"
#include "stitch/strips/changed_match.h"
#include "stitch/strips/steadying.h"
#include "stitch/strips/strip.h"

#include <opencv2/imgproc.hpp>

#include <cmath>

namespace porb {

namespace {

constexpr int kFieldSide = 576;           ///< cells of about 0.3 degrees
constexpr double kStripStep_rad = 0.0044; ///< a quarter of a degree
constexpr double kRowStep_rad = 0.0075;   ///< parallax runs along rows: across them less will do
constexpr double kFineStep_rad = 0.003, kFineRowStep_rad = 0.0044; ///< where fine edges are on
constexpr double kProxyCoarser = 2;
constexpr double kLeastOfPixel = 0.4; ///< from one column of a fine strip to the next
constexpr double kMargin_rad = 0.02;  ///< of strips, beside where things near and far are seen
constexpr double kSmallPair = 0.25;   ///< of the largest pair's directions
constexpr int kStepBlock = 7;
constexpr int kAtOnce = 2048; ///< nodes
constexpr int kFiner = 2;     ///< cells of the fine field for one of the field's, along a side
constexpr double kSmoothing = 20, kFineSmoothing = 0.1; ///< of parallax along edges
constexpr int kAbout = 4;                               ///< cells in which bounds of a fine distance are told
constexpr float kNearer = 0.15f, kFarther = 0.1f;       ///< 1/m, past those bounds
constexpr float kStepBegins = 0.05f, kStepIs = 0.12f;   ///< 1/m between those bounds: things that hide others
constexpr float kSame = 0.5f; ///< a thing that only one of the two shows is none that hides
constexpr float kStep = 0.5f; ///< columns: parallax that tells two things from one that leans

/// Where one camera sees each place of a strip, as OpenCV's remap wants it, and whether it does.
struct StripMap {
    cv::Mat place, fraction;
    StripMask mask;
};
StripMap map_strip(const Strip& strip, const KeyCamera& camera, int level) {
    const LensMap map(camera.lens);
    const Mat3 from_rig = rotation_of(camera.pose.turn).transpose();
    cv::Mat u(strip.height, strip.width, CV_32F), v(strip.height, strip.width, CV_32F);
    StripMap out;
    cv::Mat sees(strip.height, strip.width, CV_8U);
    parallel_ranges(strip.height, 8, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < strip.width; ++x) {
                const Vec2 px = map.project_anywhere(from_rig * strip.direction(x + 0.5, y + 0.5));
                const bool seen = map.clearance(px) > (2 << level);
                u.at<float>(y, x) = seen ? float(px.x() / (1 << level) - 0.5) : -9.0f;
                v.at<float>(y, x) = seen ? float(px.y() / (1 << level) - 0.5) : -9.0f;
                sees.at<std::uint8_t>(y, x) = seen ? 255 : 0;
            }
    });
    out.mask = strip_mask(sees);
    cv::convertMaps(u, v, out.place, out.fraction, CV_16SC2);
    return out;
}

} // namespace

struct SeamZones::Impl {
    PlanKey key; ///< in the rig's axes
    struct Pair {
        Strip strip;
        std::string a_name, b_name; ///< cameras
        StripMap a, b;
        std::size_t a_source, b_source; ///< into cameras
        SphereBlocks blocks;            ///< that its nodes lie in
        StripSearch search;
        StripNodes nodes;
    };
    double agree = 0, nearest = 1;
    std::vector<Pair> pairs;
    std::vector<std::int16_t> pair_of; ///< by cell of the field; -1: not near a seam
    /// By cell, 1/m: how far the nearest of what lands there is, of all that was matched on strips; 0 where
    /// nothing lands. From the rig's centre, too, what is near hides what is behind it.
    std::vector<float> nearest_there(const std::vector<StripMatch>& says) const;
    std::vector<int> borders; ///< cells near others that belong to another pair
    ShapeFill fill;
    std::vector<BlendPlan::PlanCamera> cameras;
    /// Of the fine field.
    bool edges = false;
    std::vector<std::vector<CarveNode>> fine_nodes; ///< by pair
    std::vector<Viewpoint> viewpoints;              ///< of all cameras that supply pixels
    std::vector<char> known;                        ///< by fine cell: a distance is found
    std::vector<char> coarse;                       ///< by cell: beside shapes
    double soft_cells = 1;                          ///< fine ones that a lens's pixel covers
    void prepare_edges(std::span<const float> clear_of);

    static Vec3 direction(int i) {
        return octahedral_direction(
            {(i % kFieldSide + 0.5) / kFieldSide, (i / kFieldSide + 0.5) / kFieldSide});
    }
};

namespace {
/// Where many lenses see nearly alike (straight up in a ring, say) every pair has a few directions. They are
/// given to the pairs that have many, since each pair costs time.
template <class Zones>
void give_small_pairs_away(const Coverage& coverage, const Zones& zones,
                           std::map<std::pair<int, int>, std::vector<int>>& by_pair) {
    std::size_t largest = 0;
    for (const auto& [pair, list] : by_pair) largest = std::max(largest, list.size());
    std::vector<int> left_over;
    for (auto it = by_pair.begin(); it != by_pair.end();) {
        if (double(it->second.size()) >= kSmallPair * double(largest)) {
            ++it;
            continue;
        }
        left_over.insert(left_over.end(), it->second.begin(), it->second.end());
        it = by_pair.erase(it);
    }
    for (const int i : left_over) {
        const auto inside = coverage.margin_deg(zones.direction(i));
        std::vector<int>* best = nullptr;
        double most = 0;
        for (auto& [pair, list] : by_pair)
            if (const double both =
                    std::min(inside[std::size_t(pair.first)], inside[std::size_t(pair.second)]);
                both > most)
                most = both, best = &list;
        if (best) best->push_back(i);
    }
}
} // namespace

SeamZones::SeamZones(SeamZones&&) noexcept = default;
SeamZones::~SeamZones() = default;
const std::vector<BlendPlan::PlanCamera>& SeamZones::cameras() const {
    return impl_->cameras;
}

namespace {
double largest_focal_px(const PlanKey& key) {
    double out = 1;
    for (const std::size_t c : contributing_cameras(key)) out = std::max(out, key.cameras[c].lens.focal_px);
    return out;
}

struct StripSteps {
    double along_rad, across_rad;
};
/// Fine strips are no finer than shows in the lenses' pictures: else all that is compared lies within a
/// pixel. From proxies, which are for watching, they are half as fine.
StripSteps strip_steps(const PlanKey& key) {
    if (key.view.proxy_level > 0) return {kProxyCoarser * kStripStep_rad, kProxyCoarser * kRowStep_rad};
    if (!key.flow.fine_edges) return {kStripStep_rad, kRowStep_rad};
    const double coarser = std::max(1.0, kLeastOfPixel / largest_focal_px(key) / kFineStep_rad);
    return {coarser * kFineStep_rad, coarser * kFineRowStep_rad};
}
} // namespace

SeamZones::SeamZones(const PlanKey& shot_key) : impl_(std::make_unique<Impl>()) {
    Impl& me = *impl_;
    const FlowSettings& settings = shot_key.flow;
    const PlanKey key = me.key = in_rig_axes(shot_key);
    me.agree = agree_inverse_m(key);
    me.nearest = 1 / settings.nearest_m;
    const bool wide = mixes_widely(key);
    const auto [step_rad, row_step_rad] = strip_steps(key);
    const Coverage coverage(key);
    const auto lines = key.lines->keys.empty() ? std::nullopt : std::optional(lines_ever(*key.lines));
    constexpr int n = kFieldSide * kFieldSide;
    std::vector<float> share_of(std::size_t(n), 0.0f), clear_of(std::size_t(n), 1.0f);
    std::vector<StripNodes::Near> near_of{std::size_t(n)};
    std::vector<char> cut_out(std::size_t(n), 0);
    std::vector<std::pair<std::int16_t, std::int16_t>> who(std::size_t(n), {-1, -1});
    parallel_ranges(n, 1024, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const auto inside = coverage.margin_deg(me.direction(i));
            const double clear = smooth(coverage.clear_of_shapes_deg(me.direction(i)) / kShapeClear_deg);
            clear_of[std::size_t(i)] = float(clear);
            cut_out[std::size_t(i)] =
                std::any_of(inside.begin(), inside.end(), [](double v) { return v <= kCutAway_deg; });
            if (clear <= 0) continue;
            BestTwo two;
            double away = 0;
            if (lines) { // near where one passes at any time
                const auto& met = lines->who[std::size_t(octahedral_cell(me.direction(i), SeamLines::kSide))];
                two.best = met[0], two.second = met[1];
                if (two.best < 0 || inside[std::size_t(two.best)] <= 0 ||
                    inside[std::size_t(two.second)] <= 0)
                    continue;
                away = 2 * lines->away_deg.at(me.direction(i));
            } else {
                for (int c = 0; c < int(inside.size()); ++c)
                    if (const double v = inside[std::size_t(c)]; v > 0) two.offer(c, v);
                if (two.second < 0) continue;
                away = two.lead();
            }
            const auto best = std::size_t(two.best), second = std::size_t(two.second);
            const SeamFlow* seam = find_seam(settings, key.cameras[best].id, key.cameras[second].id);
            const double zone = distance_zone_deg(settings, seam ? seam->zone_deg : settings.zone_deg),
                         edge = std::min(inside[best], inside[second]);
            // All of the found distance within half the zone, none at its end, nor where a lens ends. And
            // beside a cut-out or restore nothing is mixed: there the two lenses show different things.
            const double may = smooth(edge / 2), share = smooth(2 * (1 - away / zone)) * may,
                         mix = wide ? smooth(5 * (1 - away / kWideZone_deg)) * may : 0;
            if (std::max(mix, share) <= 0) continue;
            share_of[std::size_t(i)] = float(share);
            near_of[std::size_t(i)] = {float(away), float(may), float(clear), float(mix)};
            who[std::size_t(i)] = {std::int16_t(std::min(two.best, two.second)),
                                   std::int16_t(std::max(two.best, two.second))};
        }
    });
    me.pair_of.assign(std::size_t(n), -1);
    std::map<std::pair<int, int>, std::vector<int>> by_pair;
    for (int i = 0; i < n; ++i)
        if (who[std::size_t(i)].first >= 0) by_pair[who[std::size_t(i)]].push_back(i);
    give_small_pairs_away(coverage, me, by_pair);
    const auto source_of = [&](std::size_t camera) {
        for (std::size_t s = 0; s < me.cameras.size(); ++s)
            if (me.cameras[s].index == camera) return s;
        int level = 0;
        while (key.cameras[camera].lens.focal_px / (1 << (level + 1)) * step_rad >= 0.9) ++level;
        level = level_for_proxies(level, key.cameras[camera].lens, key.view.proxy_level);
        me.cameras.push_back({camera, level});
        return me.cameras.size() - 1;
    };
    for (const auto& [pair, list] : by_pair) {
        const KeyCamera &a = key.cameras[std::size_t(pair.first)], &b = key.cameras[std::size_t(pair.second)];
        std::vector<Vec3> directions, zone;
        for (const int i : list) {
            directions.push_back(me.direction(i));
            if (share_of[std::size_t(i)] > 0) zone.push_back(directions.back());
        }
        const double most = (a.pose.position_m - b.pose.position_m).norm() * me.nearest;
        Impl::Pair p;
        p.strip = strip_about(a.pose.position_m, b.pose.position_m, directions, me.nearest, kMargin_rad,
                              step_rad, row_step_rad);
        if (p.strip.width < 32 || p.strip.height < 16) continue; // no baseline, no parallax
        p.search.disparities = std::max(16, int(std::ceil(most / step_rad / 16)) * 16);
        p.search.round = p.strip.height * p.strip.row_step > 2 * kPi - p.strip.row_step;
        const auto [first, end] = columns_about(p.strip, zone, me.nearest, kMargin_rad);
        p.search.columns = cv::Range(first, end);
        p.search.by_brightness = wide;
        p.search.to_edges = key.flow.fine_edges;
        p.search.smoothing = key.flow.fine_edges ? kFineSmoothing : kSmoothing;
        p.a_name = a.id;
        p.b_name = b.id;
        p.a_source = source_of(std::size_t(pair.first));
        p.b_source = source_of(std::size_t(pair.second));
        p.a = map_strip(p.strip, a, me.cameras[p.a_source].level);
        p.b = map_strip(p.strip, b, me.cameras[p.b_source].level);
        for (const int i : list) {
            me.pair_of[std::size_t(i)] = std::int16_t(me.pairs.size());
            p.blocks.in.set(std::size_t(octahedral_cell(me.direction(i), SphereBlocks::kSide)));
            p.nodes.add(p.strip, i, me.direction(i), 1.5 * me.nearest, near_of[std::size_t(i)]);
        }
        me.pairs.push_back(std::move(p));
    }
    me.borders = pair_borders(me.pair_of, kFieldSide);
    for (std::size_t i = 0; i < cut_out.size(); ++i) // in the midst of a wide one as far as others tell of it
        if (cut_out[i]) clear_of[i] *= me.pair_of[i] < 0 ? 0 : share_of[i];
    me.fill = ShapeFill(kFieldSide, clear_of);
    if (key.flow.fine_edges) me.prepare_edges(clear_of);
}

void SeamZones::Impl::prepare_edges(std::span<const float> clear_of) {
    constexpr int side = kFieldSide * kFiner;
    edges = true;
    soft_cells = side / (kPi * largest_focal_px(key));
    for (const std::size_t i : contributing_cameras(key))
        if (i < 64) // bits of DistanceField::hidden
            viewpoints.push_back({i, key.cameras[i].pose.position_m,
                                  rotation_of(key.cameras[i].pose.turn) * Vec3(0, 0, 1),
                                  std::cos(radians(key.cameras[i].reach_deg))});
    coarse.assign(pair_of.size(), 0);
    for (std::size_t i = 0; i < coarse.size(); ++i)
        if (clear_of[i] < 1) coarse[i] = 1;
    known.assign(std::size_t(side) * std::size_t(side), 0);
    fine_nodes.resize(pairs.size());
    std::vector<std::vector<int>> cells(pairs.size());
    for (int i = 0; i < side * side; ++i) {
        const auto cell = std::size_t(i / side / kFiner) * kFieldSide + std::size_t(i % side / kFiner);
        if (pair_of[cell] < 0) continue;
        known[std::size_t(i)] = 1;
        if (!coarse[cell]) cells[std::size_t(pair_of[cell])].push_back(i);
    }
    for (std::size_t p = 0; p < pairs.size(); ++p) {
        fine_nodes[p].resize(cells[p].size());
        parallel_ranges(int(cells[p].size()), kAtOnce, [&](int begin, int end) {
            for (int k = begin; k < end; ++k) {
                const int i = cells[p][std::size_t(k)];
                const Vec3 d = octahedral_direction({(i % side + 0.5) / side, (i / side + 0.5) / side});
                fine_nodes[p][std::size_t(k)] = carve_node(pairs[p].strip, i, d, 1.5 * nearest);
            }
        });
    }
}

std::vector<float> SeamZones::Impl::nearest_there(const std::vector<StripMatch>& says) const {
    std::vector<float> out(pair_of.size(), 0);
    parallel_ranges(int(pairs.size()), 1, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const Strip& strip = pairs[std::size_t(i)].strip;
            const cv::Mat& parallax = says[std::size_t(i)].parallax;
            if (parallax.empty()) continue;
            cv::Mat most, least; // only beside a step can something hide something
            cv::dilate(parallax, most, cv::Mat::ones(kStepBlock, kStepBlock, CV_8U));
            cv::erode(parallax, least, cv::Mat::ones(kStepBlock, kStepBlock, CV_8U));
            for (int y = 0; y < strip.height; ++y) {
                const double phi = strip.first_phi + (y + 0.5) * strip.row_step;
                const Vec3 across = strip.to_rig.col(0) * std::cos(phi) + strip.to_rig.col(1) * std::sin(phi);
                const float *here = parallax.ptr<float>(y), *high = most.ptr<float>(y),
                            *low = least.ptr<float>(y), *same = says[std::size_t(i)].same.ptr<float>(y);
                for (int x = 0; x < strip.width; ++x) {
                    const float shift = float(strip.step) * here[x];
                    if (same[x] < kSame || high[x] - low[x] < kStep || shift <= kLeastShift_rad) continue;
                    const double alpha = strip.first_alpha + (x + 0.5) * strip.step,
                                 far = double(strip.distance_from_b(float(x) + 0.5f, shift));
                    const Vec3 there =
                        strip.b_m + far * (across * std::sin(alpha) + strip.to_rig.col(2) * std::cos(alpha));
                    const auto inverse = float(1 / std::max(there.norm(), 2 / (3 * nearest)));
                    const Vec2 at = octahedral_place(there) * kFieldSide - Vec2(0.5, 0.5);
                    const int u = int(std::floor(at.x())), v = int(std::floor(at.y()));
                    for (int k = std::max(0, v); k <= std::min(v + 1, kFieldSide - 1); ++k)
                        for (int j = std::max(0, u); j <= std::min(u + 1, kFieldSide - 1); ++j) {
                            const auto n = std::size_t(k) * kFieldSide + std::size_t(j);
                            if (pair_of[n] == i) out[n] = std::max(out[n], inverse);
                        }
                }
            }
        }
    });
    return out;
}

struct SeamZones::MatchedMoment {
    std::vector<StripMoment> pairs;
};

namespace {
std::size_t bytes_in(std::initializer_list<const cv::Mat*> pictures) {
    std::size_t sum = 0;
    for (const cv::Mat* p : pictures) sum += p->total() * p->elemSize();
    return sum;
}
} // namespace

std::size_t SeamZones::bytes_of(const MatchedMoment& matched) {
    std::size_t sum = 0;
    for (const StripMoment& m : matched.pairs)
        sum += bytes_in({&m.a, &m.b, &m.parallax, &m.correlation, &m.same});
    return sum;
}

std::size_t SeamZones::bytes() const {
    std::size_t sum = impl_->pair_of.size() * sizeof(std::int16_t) + impl_->fill.bytes() +
                      impl_->known.size() + impl_->coarse.size();
    for (const auto& nodes : impl_->fine_nodes) sum += nodes.size() * sizeof(CarveNode);
    for (const Impl::Pair& p : impl_->pairs) {
        sum += p.nodes.bytes();
        for (const StripMap* m : {&p.a, &p.b})
            sum += bytes_in({&m->place, &m->fraction, &m->mask.seen, &m->mask.per_share});
    }
    return sum;
}

SeamZones::Pairs SeamZones::pairs_in(const SphereBlocks& blocks) const {
    Pairs out;
    for (const Impl::Pair& p : impl_->pairs) out.push_back((p.blocks.in & blocks.in).any());
    return out;
}

std::vector<bool> SeamZones::cameras_of(const Pairs& pairs) const {
    std::vector<bool> out(impl_->cameras.size(), pairs.empty());
    for (std::size_t i = 0; i < pairs.size(); ++i)
        if (pairs[i]) out[impl_->pairs[i].a_source] = out[impl_->pairs[i].b_source] = true;
    return out;
}

SeamZones::MatchedMomentPtr SeamZones::match_moment(std::span<const SourcePicture> sources,
                                                    std::span<const CameraTone> tones,
                                                    const FlowSettings& flow, const Pairs& pairs,
                                                    const MatchedMoment* before) const {
    const Impl& me = *impl_;
    auto out = std::make_shared<MatchedMoment>();
    out->pairs.resize(me.pairs.size());
    const std::vector<bool> looked_through = cameras_of(pairs);
    std::vector<cv::Mat> seen(sources.size());
    for (std::size_t c = 0; c < sources.size(); ++c)
        if (looked_through[c])
            seen[c] = me.edges ? strip_colours(sources[c].converted(), tones[c])
                               : strip_bytes(sources[c], tones[c]);
    parallel_ranges(int(me.pairs.size()), 1, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            if (!pairs.empty() && !pairs[std::size_t(i)]) continue;
            const Impl::Pair& p = me.pairs[std::size_t(i)];
            cv::Mat a, b;
            cv::remap(seen[p.a_source], a, p.a.place, p.a.fraction, cv::INTER_LINEAR);
            cv::remap(seen[p.b_source], b, p.b.place, p.b.fraction, cv::INTER_LINEAR);
            StripSearch search = p.search;
            search.smoothness = seam_flow(flow, p.a_name, p.b_name).smoothness;
            StripUpdate update;
            if (me.edges && before && !before->pairs[std::size_t(i)].parallax.empty())
                update = changed_since(before->pairs[std::size_t(i)], a, b);
            const StripMatch match = update.before ? match_changed(a, b, p.a.mask, p.b.mask, search, update)
                                                   : match_strip(a, b, p.a.mask, p.b.mask, search);
            out->pairs[std::size_t(i)] = strip_moment(brightness_of(a), brightness_of(b), match);
        }
    });
    return out;
}

std::vector<StripMatch> SeamZones::told(std::span<const Weighed> moments) const {
    std::vector<StripMatch> out(impl_->pairs.size());
    parallel_ranges(int(out.size()), 1, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            std::vector<WeighedMoment> strips;
            for (const Weighed& m : moments)
                if (const StripMoment& strip = m.matched->pairs[std::size_t(i)]; !strip.parallax.empty())
                    strips.push_back({&strip, m.weight});
            if (!strips.empty()) out[std::size_t(i)] = steadied(strips, impl_->edges);
        }
    });
    return out;
}

SphereGrid SeamZones::confidence(std::span<const Weighed> moments, const FlowSettings& flow) const {
    const Impl& me = *impl_;
    SphereGrid out(kFieldSide, 1, -1);
    const std::vector<StripMatch> pairs = told(moments);
    for (std::size_t p = 0; p < pairs.size(); ++p) {
        if (pairs[p].parallax.empty()) continue;
        const StripNodes& nodes = me.pairs[p].nodes;
        const double zone_deg =
            distance_zone_deg(flow, seam_flow(flow, me.pairs[p].a_name, me.pairs[p].b_name).zone_deg);
        for (std::size_t i = 0; i < nodes.size(); ++i)
            if (nodes.share(i, zone_deg) > 0)
                *out.cell(nodes.cell[i] % kFieldSide, nodes.cell[i] / kFieldSide) =
                    float(pairs[p].trust) * read_between(pairs[p].correlation, nodes.x[0][i], nodes.y[0][i]);
    }
    out.close_edges();
    return out;
}

/// The field, and of what it was put together.
struct SeamZones::Drawn {
    SphereGrid field;
    /// By cell: without what was found, the share of what was found, how far that correlates, and the share
    /// of what would be told by hand.
    SphereGrid parts;
    std::vector<float> nearest;
};

SeamZones::Drawn SeamZones::drawn(const std::vector<StripMatch>& told_by, const FlowSettings& flow,
                                  bool with_parts) const {
    const Impl& me = *impl_;
    const auto agree = float(me.agree), most = float(1.5 * me.nearest);
    Drawn out{SphereGrid(kFieldSide, 2, 0), with_parts ? SphereGrid(kFieldSide, 4, 0) : SphereGrid(),
              me.nearest_there(told_by)};
    SphereGrid& field = out.field;
    for (int y = 0; y < kFieldSide; ++y)
        for (int x = 0; x < kFieldSide; ++x) {
            field.cell(x, y)[0] = agree;
            if (with_parts) out.parts.cell(x, y)[0] = agree;
        }
    const std::vector<float>& nearest = out.nearest;
    for (std::size_t p = 0; p < me.pairs.size(); ++p) {
        const Impl::Pair& pair = me.pairs[p];
        const StripMatch& says = told_by[p];
        const SeamFlow seam = seam_flow(flow, pair.a_name, pair.b_name);
        const float trust = float(says.trust) * float(seam.strength);
        const float own_agree = !seam.agree_distance_m       ? agree
                                : *seam.agree_distance_m > 0 ? float(1 / *seam.agree_distance_m)
                                                             : 0;
        const StripNodes& nodes = pair.nodes;
        const double zone_deg = distance_zone_deg(flow, seam.zone_deg);
        parallel_ranges(int(nodes.size()), kAtOnce, [&](int begin, int end) {
            const auto first = std::size_t(begin), count = std::size_t(end - begin);
            std::vector<float> from(count);
            std::vector<DistanceSample> found(count);
            for (std::size_t i = 0; i < count; ++i) {
                const float near = nearest[std::size_t(nodes.cell[first + i])];
                from[i] = near > 0 ? near : agree;
            }
            if (trust > 0) follow_distances(pair.strip, says, nodes, first, from, most, found);
            for (std::size_t i = 0; i < count; ++i) {
                const int at = nodes.cell[first + i];
                float* const cell = field.cell(at % kFieldSide, at / kFieldSide);
                const float share = nodes.share(first + i, zone_deg), counts = trust * found[i].correlation,
                            mix = nodes.mix(first + i, share);
                cell[0] = agree + share * (own_agree - agree);
                if (with_parts) {
                    float* const parts = out.parts.cell(at % kFieldSide, at / kFieldSide);
                    parts[0] = cell[0], parts[1] = trust * share, parts[2] = found[i].correlation;
                    parts[3] = share * float(seam.strength);
                }
                if (trust <= 0) continue; // nothing is laid on anything
                cell[0] += counts * share * (found[i].inverse_m - own_agree);
                cell[1] = float(smooth(2 * double(counts * mix) - 1)) * found[i].same;
            }
        });
    }
    me.fill.apply(field);
    smooth_borders(field, me.borders);
    field.close_edges();
    if (with_parts) out.parts.close_edges();
    return out;
}

namespace {
/// One channel of a grid as a grid of its own.
SphereGrid channel_of(const SphereGrid& grid, int channel) {
    SphereGrid out(grid.side, 1);
    for (std::size_t i = 0; i < out.values.size(); ++i)
        out.values[i] = grid.values[i * std::size_t(grid.channels) + std::size_t(channel)];
    return out;
}
} // namespace

SphereGrid SeamZones::field(std::span<const Weighed> moments, const FlowSettings& flow,
                            std::span<const DistanceArea> areas) const {
    Drawn out = drawn(told(moments), flow, !areas.empty());
    if (!areas.empty()) apply_areas(out.field, channel_of(out.parts, 3), areas, impl_->key, impl_->agree);
    return std::move(out.field);
}

namespace {
/// The most (or the least) of what lies within kAbout cells, on the square itself.
struct Bounds {
    cv::Mat least, most;
};
Bounds bounds_of(const SphereGrid& field, const std::vector<float>& nearest) {
    cv::Mat own(kFieldSide, kFieldSide, CV_32F), near(kFieldSide, kFieldSide, CV_32F);
    for (int y = 0; y < kFieldSide; ++y)
        for (int x = 0; x < kFieldSide; ++x) {
            own.at<float>(y, x) = field.cell(x, y)[0];
            near.at<float>(y, x) =
                std::max(own.at<float>(y, x), nearest[std::size_t(y) * kFieldSide + std::size_t(x)]);
        }
    Bounds out;
    const cv::Mat about = cv::Mat::ones(2 * kAbout + 1, 2 * kAbout + 1, CV_8U);
    parallel_ranges(2, 1, [&](int begin, int end) {
        for (int i = begin; i < end; ++i)
            if (i == 0)
                cv::dilate(near, out.most, about);
            else
                cv::erode(own, out.least, about);
    });
    return out;
}
} // namespace

DistanceField SeamZones::fine(std::span<const Weighed> moments, const FlowSettings& flow,
                              std::span<const DistanceArea> areas) const {
    const Impl& me = *impl_;
    const std::vector<StripMatch> told_by = told(moments);
    const Drawn rough = drawn(told_by, flow, true);
    DistanceField out{enlarged(rough.field, kFiner), {}, {}, {}};
    const int side = out.grid.side;
    const Bounds bounds = bounds_of(rough.field, rough.nearest);
    const auto most = float(1.5 * me.nearest);
    std::vector<CarveMaps> maps(me.pairs.size());
    parallel_ranges(int(maps.size()), 1, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const auto p = std::size_t(i);
            if (told_by[p].trust <= 0) continue;
            maps[p] = carve_maps(parallax_by_a(told_by[p].parallax), told_by[p].parallax,
                                 me.pairs[p].a.mask.seen, me.pairs[p].b.mask.seen);
        }
    });
    for (std::size_t p = 0; p < me.pairs.size(); ++p) {
        if (told_by[p].trust <= 0) continue;
        const SeamFlow seam = seam_flow(flow, me.pairs[p].a_name, me.pairs[p].b_name);
        const float own_agree = !seam.agree_distance_m       ? float(me.agree)
                                : *seam.agree_distance_m > 0 ? float(1 / *seam.agree_distance_m)
                                                             : 0;
        const std::vector<CarveNode>& nodes = me.fine_nodes[p];
        parallel_ranges(int(nodes.size()), kAtOnce, [&](int begin, int end) {
            std::vector<CarveSearch> searches;
            std::vector<float> steps;
            for (int k = begin; k < end; ++k) {
                const int x = nodes[std::size_t(k)].cell % side, y = nodes[std::size_t(k)].cell / side;
                const float low = bounds.least.at<float>(y / kFiner, x / kFiner),
                            high = bounds.most.at<float>(y / kFiner, x / kFiner);
                const auto step = float(smooth(double((high - low - kStepBegins) / (kStepIs - kStepBegins))));
                if (step <= 0) continue; // one surface: the field tells it as well
                searches.push_back({k, std::min(most, high + kNearer), std::max(0.0f, low - kFarther)});
                steps.push_back(step);
            }
            std::vector<float> found(searches.size());
            carve(maps[p], nodes, searches, found);
            for (std::size_t i = 0; i < found.size(); ++i) {
                const int at = nodes[std::size_t(searches[i].node)].cell, x = at % side, y = at / side;
                float part[4];
                read_finer(rough.parts, kFiner, x, y, part);
                if (part[1] <= 0) continue;
                // Beside things that hide others, what one camera alone sees correlates with nothing.
                const float counts = part[1] * std::max(part[2], steps[i]);
                float& cell = out.grid.cell(x, y)[0];
                cell += steps[i] * (part[0] + counts * (found[i] - own_agree) - cell);
            }
        });
    }
    smooth_fine_borders(out.grid, me.borders, kFiner);
    out.grid.close_edges();
    if (!areas.empty())
        apply_areas(out.grid, enlarged(channel_of(rough.parts, 3), kFiner), areas, me.key, me.agree);
    out.hidden = hidden_cameras(out.grid, me.viewpoints, me.known, me.soft_cells);
    cover_unseen(out.grid, out.hidden, me.viewpoints);
    out.silhouettes = silhouettes_of(out.grid, out.hidden, me.known, me.soft_cells);
    out.outlines = outline_blocks(out.grid.side, out.hidden, out.silhouettes);
    return out;
}

DistanceField SeamZones::seen_by(const DistanceField& from_centre, const RigEyeRays& eye,
                                 const std::optional<SphereBlocks>& blocks) const {
    const Impl& me = *impl_;
    DistanceField out{eye_field(from_centre.grid, eye, blocks ? &*blocks : nullptr), {}, {}, {}};
    if (!me.edges) return out;
    out.hidden = hidden_cameras(out.grid, me.viewpoints, me.known, me.soft_cells, eye);
    cover_unseen(out.grid, out.hidden, me.viewpoints, eye);
    out.silhouettes = silhouettes_of(out.grid, out.hidden, me.known, me.soft_cells);
    out.outlines = outline_blocks(out.grid.side, out.hidden, out.silhouettes);
    return out;
}

} // namespace porb
