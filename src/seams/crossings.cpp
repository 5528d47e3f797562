#include "seams/crossings.h"

#include "base/angle.h"
#include "base/best_two.h"
#include "base/error.h"
#include "base/parallel.h"
#include "stitch/blend/sphere_sampler.h"
#include "stitch/plan/coverage.h"
#include "stitch/plan/line_field.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace porb {

namespace {

constexpr int kSide = SeamLines::kSide, kCells = kSide * kSide;
constexpr double kZone_deg = 24;       ///< in which distances are looked for; lines are crossed in its middle
constexpr double kLine_deg = 2.5;      ///< from the line on it counts as touching it
constexpr int kBackgroundMoments = 25; ///< that the median is of
constexpr float kChanged = 0.04f;      ///< on the working curve: more than noise leaves in a cell
constexpr float kNearer_px = 2.5f;     ///< than what is behind it; less is what matching leaves
constexpr int kFewestCells = 5;
constexpr double kCell_deg = 1;
constexpr int kFewestLooks = 3;     ///< that a subject touches a line
constexpr double kTogether_deg = 4; ///< subjects nearer to each other pass as one,
constexpr double kLargest_deg = 60; ///< unless that were too large to be looked at as one
constexpr int kGrow = 7;            ///< cells that a subject goes on beyond the zone
constexpr double kStray_deg = 5;    ///< of a subject from where it was expected
constexpr double kFastest_deg_s = 70;
constexpr int kGap = 2;                           ///< samples in which it may not be seen
constexpr double kOnSeam_deg = 3, kTrusted = 0.5; ///< of what a seam's distance is taken from
constexpr float kInfinitelyFar = 1e-3f;           ///< 1/m
constexpr double kPixel_rad = 2 * kPi / 3840;

Vec3 direction_of(int cell) {
    return octahedral_direction({(cell % kSide + 0.5) / kSide, (cell / kSide + 0.5) / kSide});
}

/// What a scan knows of the shot before it looks.
struct ScanGeometry {
    PlanKey key;
    std::vector<PlanLens> lenses;
    std::vector<Vec3> directions{kCells};
    std::vector<std::array<std::int16_t, 2>> pair; ///< lenses either side of the nearest line; -1: none near
    std::vector<float> away_deg;                   ///< from it
    std::vector<float> across_m;                   ///< the pair's baseline as seen from the cell

    explicit ScanGeometry(const PlanKey& with) : key(with), lenses(plan_lenses(with)) {
        pair.assign(kCells, {-1, -1});
        away_deg.assign(kCells, 180);
        across_m.assign(kCells, 0);
        const Coverage coverage(key);
        parallel_ranges(kCells, 256, [&](int begin, int end) {
            for (int c = begin; c < end; ++c) look_at(c, coverage);
        });
    }

  private:
    void look_at(int c, const Coverage& coverage) {
        const Vec3 d = directions[std::size_t(c)] = direction_of(c);
        const auto leads = coverage.lead_deg(d);
        BestTwo two;
        for (int l = 0; l < int(lenses.size()); ++l)
            if (const double s = leads[lenses[std::size_t(l)].index]; s >= -1e8) two.offer(l, s);
        if (two.second < 0 || two.lead() > kZone_deg) return;
        pair[std::size_t(c)] = {std::int16_t(std::min(two.best, two.second)),
                                std::int16_t(std::max(two.best, two.second))};
        away_deg[std::size_t(c)] = float(two.lead() / 2);
        const auto place = [&](int l) { return key.cameras[lenses[std::size_t(l)].index].pose.position_m; };
        const Vec3 base = place(two.best) - place(two.second);
        across_m[std::size_t(c)] = float((base - base.dot(d) * d).norm());
    }
};

/// What a lens shows of a cell, on the working curve, 1 to 255; all 0 where it does not look.
using CellColour = std::array<std::uint8_t, 3>;
constexpr CellColour kUnseen{0, 0, 0};

/// One look: colours by lens and cell, and how near things are.
struct ScanFrame {
    Seconds time;
    std::vector<std::vector<CellColour>> colours; ///< by lens
    std::vector<float> inverse_m;                 ///< near lines
};

/// Whether two colours differ by more than noise, in any channel: a red thing before a green one may be just
/// as bright.
bool differ(const CellColour& a, const CellColour& b) {
    for (std::size_t k = 0; k < a.size(); ++k)
        if (std::abs(int(a[k]) - int(b[k])) > kChanged * 255) return true;
    return false;
}

template <class T>
T median_of(std::vector<T>& v) {
    const auto middle = v.begin() + std::ptrdiff_t(v.size() / 2);
    std::nth_element(v.begin(), middle, v.end());
    return *middle;
}

/// What the shot shows without its subjects, from some looks at it.
ScanFrame background_of(const std::vector<ScanFrame>& some) {
    ScanFrame out;
    out.colours.assign(some[0].colours.size(), std::vector<CellColour>(kCells, kUnseen));
    out.inverse_m.assign(kCells, 0);
    parallel_ranges(kCells, 512, [&](int begin, int end) {
        std::vector<std::uint8_t> values(some.size());
        std::vector<float> nears(some.size());
        for (int c = begin; c < end; ++c) {
            for (std::size_t l = 0; l < out.colours.size(); ++l)
                for (std::size_t k = 0; k < kUnseen.size(); ++k) {
                    for (std::size_t i = 0; i < some.size(); ++i)
                        values[i] = some[i].colours[l][std::size_t(c)][k];
                    out.colours[l][std::size_t(c)][k] = median_of(values);
                }
            for (std::size_t i = 0; i < some.size(); ++i) nears[i] = some[i].inverse_m[std::size_t(c)];
            out.inverse_m[std::size_t(c)] = median_of(nears);
        }
    });
    return out;
}

/// A subject at one look.
struct Blob {
    Vec3 middle{0, 0, 1};
    ShelterKey oval;
    std::array<std::int16_t, 2> pair{-1, -1};
    bool touches = false; ///< the line between its pair
    float apart_px = 0;
};

/// An upright oval about directions.
ShelterKey oval_about(const std::vector<Vec3>& directions, Vec3& middle) {
    Vec3 sum = Vec3::Zero();
    for (const Vec3& d : directions) sum += d;
    middle = sum.normalized();
    ShelterKey oval;
    for (int round = 0; round < 2; ++round) { // about the middle of its extent rather than of its mass
        const Turn to = turn_towards(middle);
        oval.yaw_deg = to.yaw_deg, oval.pitch_deg = to.pitch_deg;
        const Mat3 to_oval = rotation_of(to).transpose();
        double low_x = 9, high_x = -9, low_y = 9, high_y = -9;
        for (const Vec3& d : directions) {
            const Vec3 v = to_oval * d;
            const double theta = std::atan2(std::hypot(v.x(), v.y()), v.z()),
                         scale = theta / std::max(1e-9, std::hypot(v.x(), v.y()));
            low_x = std::min(low_x, v.x() * scale), high_x = std::max(high_x, v.x() * scale);
            low_y = std::min(low_y, v.y() * scale), high_y = std::max(high_y, v.y() * scale);
        }
        const double x = (low_x + high_x) / 2, y = (low_y + high_y) / 2, theta = std::hypot(x, y);
        oval.width_deg = std::clamp(degrees(high_x - low_x), 2.0, 120.0);
        oval.height_deg = std::clamp(degrees(high_y - low_y), 2.0, 120.0);
        if (theta > 1e-6)
            middle = (to_oval.transpose() *
                      Vec3(std::sin(theta) * x / theta, std::sin(theta) * y / theta, std::cos(theta)))
                         .normalized();
    }
    return oval;
}

std::vector<Blob> blobs_of(const ScanFrame& look, const ScanFrame& behind, const ScanGeometry& geometry,
                           const ScanSettings& settings) {
    std::vector<char> changed(kCells, 0), stands(kCells, 0);
    for (int c = 0; c < kCells; ++c) {
        const auto i = std::size_t(c);
        int sees = 0, differs = 0;
        for (std::size_t l = 0; l < look.colours.size(); ++l) {
            if (look.colours[l][i] == kUnseen || behind.colours[l][i] == kUnseen) continue;
            ++sees;
            differs += differ(look.colours[l][i], behind.colours[l][i]);
        }
        changed[i] = differs > 0;
        if (!changed[i] || geometry.pair[i][0] < 0 || sees < 2) continue;
        const float agree = float(agree_inverse_m(geometry.key));
        const float px = geometry.across_m[i] / float(kPixel_rad);
        stands[i] = (look.inverse_m[i] - behind.inverse_m[i]) * px > kNearer_px &&
                    std::abs(look.inverse_m[i] - agree) * px > float(settings.least_px);
    }
    std::vector<Blob> out;
    std::vector<char> done(kCells, 0);
    for (int begin = 0; begin < kCells; ++begin) {
        if (!stands[std::size_t(begin)] || done[std::size_t(begin)]) continue;
        std::vector<int> cells = {begin};
        done[std::size_t(begin)] = 1;
        for (std::size_t i = 0; i < cells.size(); ++i)
            for (const int o : cells_beside(cells[i], kSide))
                if (stands[std::size_t(o)] && !done[std::size_t(o)]) {
                    done[std::size_t(o)] = 1;
                    cells.push_back(o);
                }
        if (int(cells.size()) < kFewestCells) continue;
        Blob b;
        std::vector<float> apart;
        std::map<std::array<std::int16_t, 2>, int> votes;
        for (const int c : cells) {
            const auto i = std::size_t(c);
            b.touches = b.touches || geometry.away_deg[i] < float(kLine_deg);
            apart.push_back(std::abs(look.inverse_m[i] - float(agree_inverse_m(geometry.key))) *
                            geometry.across_m[i] / float(kPixel_rad));
            if (geometry.away_deg[i] < float(kLine_deg) * 2) ++votes[geometry.pair[i]];
        }
        int most = 0;
        for (const auto& [pair, n] : votes)
            if (n > most) most = n, b.pair = pair;
        b.apart_px = median_of(apart);
        // It may go on where distances are not looked for.
        std::vector<int> whole = cells;
        std::vector<char> mine(kCells, 0);
        for (const int c : cells) mine[std::size_t(c)] = 1;
        std::size_t ring = 0;
        for (int grow = 0; grow < kGrow; ++grow) {
            const std::size_t end = whole.size();
            for (; ring < end; ++ring)
                for (const int o : cells_beside(whole[ring], kSide))
                    if (changed[std::size_t(o)] && !mine[std::size_t(o)] &&
                        (geometry.pair[std::size_t(o)][0] < 0 || stands[std::size_t(o)])) {
                        mine[std::size_t(o)] = 1;
                        whole.push_back(o);
                    }
        }
        std::vector<Vec3> places;
        for (const int c : whole) places.push_back(geometry.directions[std::size_t(c)]);
        b.oval = oval_about(places, b.middle);
        b.oval.width_deg += kCell_deg,
            b.oval.height_deg += kCell_deg; // from the cells' middles to their edges
        b.oval.time = look.time;
        out.push_back(b);
    }
    return out;
}

/// A subject from look to look.
struct Track {
    std::vector<Blob> blobs;
    Vec3 speed = Vec3::Zero(); ///< of its middle, a second
    Seconds last{0};
    bool over = false;
};

std::vector<Track> linked(const std::vector<std::vector<Blob>>& looks, double step_s) {
    std::vector<Track> tracks;
    for (const auto& blobs : looks) {
        std::vector<char> taken(blobs.size(), 0);
        struct Offer {
            double cost;
            std::size_t track, blob;
        };
        std::vector<Offer> offers;
        for (std::size_t t = 0; t < tracks.size(); ++t) {
            if (tracks[t].over) continue;
            for (std::size_t b = 0; b < blobs.size(); ++b) {
                const Blob& last = tracks[t].blobs.back();
                const double dt = (blobs[b].oval.time - last.oval.time).to_double();
                if (dt > (kGap + 1.5) * step_s) {
                    tracks[t].over = true;
                    break;
                }
                const Vec3 expected = (last.middle + tracks[t].speed * dt).normalized();
                const double off = degrees((expected - blobs[b].middle).norm());
                const bool known = tracks[t].blobs.size() > 1;
                const double size = std::max(last.oval.width_deg, blobs[b].oval.width_deg) / 2;
                if (off < (known ? kStray_deg : kFastest_deg_s * dt) + size / 2)
                    offers.push_back({off, t, b});
            }
        }
        std::sort(offers.begin(), offers.end(),
                  [](const Offer& a, const Offer& b) { return a.cost < b.cost; });
        std::vector<char> fed(tracks.size(), 0);
        for (const Offer& o : offers) {
            if (fed[o.track] || taken[o.blob]) continue;
            fed[o.track] = taken[o.blob] = 1;
            Track& t = tracks[o.track];
            const double dt = (blobs[o.blob].oval.time - t.blobs.back().oval.time).to_double();
            const Vec3 now = (blobs[o.blob].middle - t.blobs.back().middle) / dt;
            t.speed = t.blobs.size() > 1 ? Vec3(0.5 * t.speed + 0.5 * now) : now;
            t.blobs.push_back(blobs[o.blob]);
        }
        for (std::size_t b = 0; b < blobs.size(); ++b)
            if (!taken[b]) tracks.push_back({{blobs[b]}, Vec3::Zero(), blobs[b].oval.time, false});
    }
    return tracks;
}

/// The parts of a track in which it touches one pair's line, each with what lies just before and after it.
void add_crossings(const Track& track, const ScanGeometry& geometry, std::vector<Crossing>& out) {
    const auto& blobs = track.blobs;
    for (std::size_t i = 0; i < blobs.size();) {
        if (!blobs[i].touches) {
            ++i;
            continue;
        }
        std::size_t end = i;
        int gap = 0;
        for (std::size_t k = i; k < blobs.size() && gap <= kGap; ++k)
            if (blobs[k].touches && blobs[k].pair == blobs[i].pair)
                end = k, gap = 0;
            else
                ++gap;
        Crossing c;
        const auto id = [&](std::int16_t l) {
            return geometry.key.cameras[geometry.lenses[std::size_t(l)].index].id;
        };
        if (blobs[i].pair[0] >= 0 && int(end - i) + 1 >= kFewestLooks) {
            c.a = id(blobs[i].pair[0]), c.b = id(blobs[i].pair[1]);
            c.from = blobs[i].oval.time, c.to = blobs[end].oval.time;
            std::vector<float> apart;
            for (std::size_t k = i > 0 ? i - 1 : 0; k <= std::min(end + 1, blobs.size() - 1); ++k) {
                c.path.push_back(blobs[k].oval);
                if (k >= i && k <= end) apart.push_back(blobs[k].apart_px);
            }
            c.apart_px = double(median_of(apart));
            out.push_back(std::move(c));
        }
        i = end + 1;
    }
}

/// Directions along an oval's edge.
void add_edge(const ShelterKey& oval, std::vector<Vec3>& out) {
    const Mat3 back = rotation_of({oval.yaw_deg, oval.pitch_deg, 0});
    for (int i = 0; i < 12; ++i) {
        const double phi = 2 * kPi * i / 12, x = radians(oval.width_deg / 2) * std::cos(phi),
                     y = radians(oval.height_deg / 2) * std::sin(phi), theta = std::hypot(x, y);
        out.push_back(back * Vec3(std::sin(theta) * x / theta, std::sin(theta) * y / theta, std::cos(theta)));
    }
}

/// Whether two subjects come so near to each other that people see one: an arm and what it carries.
bool together(const Crossing& a, const Crossing& b) {
    if (a.a != b.a || a.b != b.b || a.to < b.from || b.to < a.from) return false;
    for (const ShelterKey& k : a.path)
        for (const ShelterKey& m : b.path) {
            if (k.time != m.time) continue;
            std::vector<Vec3> edge;
            add_edge(k, edge);
            const Mat3 to_oval = rotation_of({m.yaw_deg, m.pitch_deg, 0}).transpose();
            for (const Vec3& d : edge) {
                const Vec3 v = to_oval * d;
                const double side = std::hypot(v.x(), v.y()), theta = degrees(std::atan2(side, v.z()));
                if (side < 1e-9 || theta * std::hypot(v.x() / side / (m.width_deg / 2 + kTogether_deg),
                                                      v.y() / side / (m.height_deg / 2 + kTogether_deg)) <
                                       1)
                    return true;
            }
        }
    return false;
}

/// Both as one; nothing when that is too large.
std::optional<Crossing> joined(const Crossing& a, const Crossing& b) {
    Crossing out = a;
    out.from = std::min(a.from, b.from), out.to = std::max(a.to, b.to);
    out.apart_px = std::max(a.apart_px, b.apart_px);
    std::map<Seconds, std::vector<Vec3>> edges;
    for (const Crossing* c : {&a, &b})
        for (const ShelterKey& k : c->path) add_edge(k, edges[k.time]);
    out.path.clear();
    for (const auto& [time, edge] : edges) {
        Vec3 middle;
        ShelterKey oval = oval_about(edge, middle);
        oval.time = time;
        if (std::max(oval.width_deg, oval.height_deg) > kLargest_deg) return std::nullopt;
        out.path.push_back(oval);
    }
    return out;
}

void join_fragments(std::vector<Crossing>& crossings) {
    for (std::size_t i = 0; i < crossings.size(); ++i)
        for (std::size_t k = i + 1; k < crossings.size();) {
            const auto both =
                together(crossings[i], crossings[k]) ? joined(crossings[i], crossings[k]) : std::nullopt;
            if (!both) {
                ++k;
                continue;
            }
            crossings[i] = *both;
            crossings.erase(crossings.begin() + std::ptrdiff_t(k));
            k = i + 1; // what was too far from the one may be near both
        }
}

} // namespace

CrossingScan scan_crossings(const Project& project, const Shot& shot, Composer& composer,
                            const ScanSettings& settings, const std::function<void(double)>& step,
                            const Cancel& cancel) {
    Shot plain = shot;
    plain.seams.shelters.clear();
    plain.levelling.orientation = {};
    plain.levelling.orientation_keys.clear();
    plain.levelling.steady.reset();
    plain.seams.flow = FlowSettings();
    plain.seams.flow.on = true;
    plain.seams.flow.zone_deg = kZone_deg;
    plain.seams.flow.nearest_m = shot.seams.flow.nearest_m;
    const PlanKey key = for_every_view(plan_key(plain, View(), plain.timing.in));
    const ScanGeometry geometry(key);
    if (std::all_of(geometry.pair.begin(), geometry.pair.end(), [](const auto& p) { return p[0] < 0; }))
        throw Error("No two cameras overlap, so nothing can cross from one to the other", "",
                    "Give cameras more reach, or switch more of them on");
    PlanKey zone_key = key;
    zone_key.hard = true; // for distances alone: what would be mixed is of no account
    zone_key.line_state = {};
    const SeamZones zones(zone_key);
    const SphereSampler sphere(geometry.lenses, kSide, agree_inverse_m(key), FlowSettings());
    const Span span = used_span(project, plain, composer.library());
    CrossingScan scan;
    scan.from = span.in, scan.to = span.out, scan.step_s = settings.step_s;
    const Rational every = Rational::from_double(settings.step_s);
    const auto scan_frame_at = [&](Seconds t) -> std::optional<ScanFrame> {
        cancel.check();
        const auto near = composer.source_frames(project, plain, t, zones.cameras());
        const auto seen = composer.source_frames(project, plain, t, sphere.cameras());
        if (!near || !seen) return std::nullopt;
        const SeamZones::Weighed matched[] = {
            {zones.match_moment(as_sources(near->sources), near->tones, plain.seams.flow)}};
        const SphereGrid distances = zones.field(matched, plain.seams.flow);
        ScanFrame look;
        look.time = t;
        for (const SphereGrid& one : sphere.sample(seen->sources, seen->tones, {})) {
            std::vector<CellColour> colours(kCells, kUnseen);
            for (int c = 0; c < kCells; ++c) {
                const float* p = one.cell(c % kSide, c / kSide);
                if (p[3] < 0.9f) continue;
                for (std::size_t k = 0; k < kUnseen.size(); ++k)
                    colours[std::size_t(c)][k] = std::uint8_t(1 + std::clamp(p[k] / p[3], 0.0f, 1.0f) * 254);
            }
            look.colours.push_back(std::move(colours));
        }
        look.inverse_m.resize(kCells);
        for (int c = 0; c < kCells; ++c)
            look.inverse_m[std::size_t(c)] = float(distances.at(geometry.directions[std::size_t(c)]));
        return look;
    };
    std::vector<Seconds> times;
    for (Seconds t = span.in; t < span.out; t = t + every) times.push_back(t);
    // First what is behind, from a few moments, then one look after the other: an hour takes no more memory
    // than a minute.
    const std::size_t apart = std::max<std::size_t>(1, times.size() / kBackgroundMoments);
    std::vector<ScanFrame> some;
    const std::size_t begins = (times.size() + apart - 1) / apart;
    double done = 0;
    const auto tell = [&] { step(0.6 * done++ / double(begins + times.size())); };
    for (std::size_t i = 0; i < times.size(); i += apart) {
        tell();
        if (auto look = scan_frame_at(times[i])) some.push_back(std::move(*look));
    }
    const auto too_few = [&] {
        return Error("The used part of the shot has too few pictures to see what moves", "shot " + shot.name,
                     "Set in and out where all sources run, at least three steps of the scan apart");
    };
    if (some.empty()) throw too_few();
    const ScanFrame behind = background_of(some);
    std::vector<std::vector<Blob>> blobs;
    std::map<std::size_t, ScanGeometry> geometries; // lines may take other places later
    for (const Seconds t : times) {
        tell();
        const auto kept =
            std::find_if(some.begin(), some.end(), [t](const ScanFrame& g) { return g.time == t; });
        auto look = kept != some.end() ? std::optional(std::move(*kept)) : scan_frame_at(t);
        if (!look) continue;
        PlanKey then = key;
        then.line_state.key = line_state_at(*key.lines, t).key;
        const ScanGeometry& its = geometries.try_emplace(then.line_state.key, then).first->second;
        blobs.push_back(blobs_of(*look, behind, its, settings));
    }
    if (blobs.size() < 3) throw too_few();
    for (const Track& track : linked(blobs, settings.step_s)) add_crossings(track, geometry, scan.crossings);
    join_fragments(scan.crossings);
    std::stable_sort(scan.crossings.begin(), scan.crossings.end(),
                     [](const Crossing& a, const Crossing& b) { return a.from < b.from; });
    for (std::size_t i = 0; i < scan.crossings.size(); ++i) scan.crossings[i].id = std::to_string(i + 1);
    Shot scanned = shot;
    scanned.seams.crossings = Shared(std::move(scan));
    scan = measured_again(
        project, scanned, composer, [&](double share) { step(0.6 + 0.4 * share); }, cancel);
    for (Crossing& c : scan.crossings) // their pictures are apart, but not where flow draws them
        if (shot.seams.flow.on && !is_open(c)) c.resolution = CrossingResolution::flow;
    return scan;
}

std::optional<double> seam_distance_m(const Project& project, const Shot& shot, Composer& composer,
                                      const std::string& a, const std::string& b, Seconds time) {
    Shot plain = shot;
    plain.levelling.orientation = {};
    plain.levelling.orientation_keys.clear();
    plain.levelling.steady.reset();
    plain.seams.flow.on = true;
    plain.seams.flow.keys.clear();
    plain.seams.flow.seams.clear();
    plain.seams.flow.strength = 1;
    const ScanGeometry geometry(for_every_view(plan_key(plain, View(), time)));
    const SphereGrid inverse_m = composer.distances(project, plain, time),
                     trust = composer.confidence(project, plain, time);
    struct Place {
        float inverse_m;
        double size; ///< of the sphere: cells of the octahedron differ by up to five times
    };
    std::vector<Place> found;
    double whole = 0;
    for (int c = 0; c < kCells; ++c) {
        const auto& pair = geometry.pair[std::size_t(c)];
        if (pair[0] < 0 || geometry.away_deg[std::size_t(c)] > kOnSeam_deg) continue;
        const auto id = [&](std::int16_t l) {
            return geometry.key.cameras[geometry.lenses[std::size_t(l)].index].id;
        };
        if (!((id(pair[0]) == a && id(pair[1]) == b) || (id(pair[0]) == b && id(pair[1]) == a))) continue;
        const Vec3& d = geometry.directions[std::size_t(c)];
        if (trust.at(d) <= kTrusted) continue;
        found.push_back({float(inverse_m.at(d)), std::pow(d.cwiseAbs().sum(), 3)});
        whole += found.back().size;
    }
    if (found.size() < std::size_t(kFewestCells)) return std::nullopt;
    std::sort(found.begin(), found.end(),
              [](const Place& p, const Place& q) { return p.inverse_m < q.inverse_m; });
    double passed = 0;
    const auto middle = std::find_if(found.begin(), found.end(), [&](const Place& p) {
        passed += p.size;
        return 2 * passed >= whole;
    });
    return middle->inverse_m > kInfinitelyFar ? 1 / double(middle->inverse_m) : 0;
}

} // namespace porb
