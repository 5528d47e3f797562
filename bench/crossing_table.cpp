// Crossings found against crossings true: a ray-traced hall in which it is known what moves where. Prints,
// for each scene, how many of the true ones were found and how many of those found are true, then what shows
// before and after they were closed.
#include "base/angle.h"
#include "base/error.h"
#include "seams/crossings.h"
#include "sim/hall.h"
#include "sim/simulate.h"
#include "stitch/plan/coverage.h"
#include "stitch/plan/line_field.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <iostream>
#include <map>

namespace {
using namespace porb;

constexpr int kSide = 192;
constexpr double kNearer = 0.88;  ///< of the distance there otherwise: something stands in front
constexpr double kLine_deg = 1.2; ///< from the line
constexpr double kPixel_rad = 2 * kPi / 3840;
constexpr int kFewest = 14; ///< cells and moments together

/// Something moving on a line, over moments.
struct TrueCrossing {
    std::string a, b;
    double from = 1e9, to = -1e9, most_px = 0;
    std::vector<std::pair<double, Vec3>> places;
};

std::vector<TrueCrossing> truth_of(const Shot& shot, sim::Things things, unsigned things_seed, double seconds,
                                   double step) {
    View view;
    view.target = equirect_target(4096);
    Shot plain = shot;
    plain.levelling.orientation = {};
    const PlanKey key = plan_key(plain, view, Seconds(0));
    const Coverage coverage(key);
    struct Cell {
        int id;
        Vec3 d;
        std::size_t a, b;
        double across;
    };
    std::vector<Cell> cells;
    for (int c = 0; c < kSide * kSide; ++c) {
        const Vec3 d = octahedral_direction({(c % kSide + 0.5) / kSide, (c / kSide + 0.5) / kSide});
        const auto s = coverage.lead_deg(d);
        std::vector<std::size_t> order(s.size());
        for (std::size_t i = 0; i < s.size(); ++i) order[i] = i;
        std::sort(order.begin(), order.end(), [&](std::size_t p, std::size_t q) { return s[p] > s[q]; });
        if (order.size() < 2 || s[order[1]] < -1e8 || (s[order[0]] - s[order[1]]) / 2 > kLine_deg) continue;
        const Vec3 base = find_camera(shot.rig, shot.cameras[order[0]].camera)->pose.position_m -
                          find_camera(shot.rig, shot.cameras[order[1]].camera)->pose.position_m;
        cells.push_back({c, d, std::min(order[0], order[1]), std::max(order[0], order[1]),
                         (base - base.dot(d) * d).norm()});
    }
    sim::Hall hall(things, things_seed);
    std::vector<std::vector<float>> depth;
    for (double t = 0; t < seconds - 1e-6; t += step) {
        hall.set_time(t);
        std::vector<float> row;
        for (const Cell& c : cells)
            row.push_back(hall.depth({0, 0, 0}, {float(c.d.x()), float(c.d.y()), float(c.d.z())}));
        depth.push_back(std::move(row));
    }
    std::vector<float> behind(cells.size());
    for (std::size_t c = 0; c < cells.size(); ++c) {
        std::vector<float> v;
        for (const auto& row : depth) v.push_back(row[c]);
        std::nth_element(v.begin(), v.begin() + std::ptrdiff_t(v.size() / 2), v.end());
        behind[c] = v[v.size() / 2];
    }
    // How far apart a cell's thing is shown by its two cameras: at the agree distance nothing is.
    const double agree = shot.seams.agree_distance_m > 0 ? 1 / shot.seams.agree_distance_m : 0;
    const auto apart_px = [&](std::size_t t, std::size_t c) {
        return std::abs(1 / double(depth[t][c]) - agree) * cells[c].across / kPixel_rad;
    };
    std::map<std::pair<int, int>, std::size_t> open; // (moment, cell id) -> index into cells
    for (std::size_t t = 0; t < depth.size(); ++t)
        for (std::size_t c = 0; c < cells.size(); ++c)
            if (depth[t][c] < kNearer * behind[c] && apart_px(t, c) > 3 &&
                (1 / double(depth[t][c]) - 1 / double(behind[c])) * cells[c].across / kPixel_rad > 2.5)
                open[{int(t), cells[c].id}] = c;
    std::vector<TrueCrossing> out;
    while (!open.empty()) {
        std::vector<std::pair<std::pair<int, int>, std::size_t>> mine = {*open.begin()};
        open.erase(open.begin());
        for (std::size_t i = 0; i < mine.size(); ++i) {
            const auto [t, id] = mine[i].first;
            std::vector<std::pair<int, int>> beside = {{t - 1, id}, {t + 1, id}};
            for (const int o : cells_beside(id, kSide))
                for (int dt = -1; dt <= 1; ++dt) beside.push_back({t + dt, o});
            for (const auto& n : beside)
                if (const auto it = open.find(n); it != open.end() &&
                                                  cells[it->second].a == cells[mine[0].second].a &&
                                                  cells[it->second].b == cells[mine[0].second].b) {
                    mine.push_back(*it);
                    open.erase(it);
                }
        }
        if (int(mine.size()) < kFewest) continue;
        TrueCrossing x;
        x.a = shot.cameras[cells[mine[0].second].a].camera,
        x.b = shot.cameras[cells[mine[0].second].b].camera;
        for (const auto& [at, c] : mine) {
            const double t = at.first * step;
            x.from = std::min(x.from, t), x.to = std::max(x.to, t);
            x.places.emplace_back(t, cells[c].d);
            x.most_px = std::max(x.most_px, apart_px(std::size_t(at.first), c));
        }
        out.push_back(std::move(x));
    }
    return out;
}

double inside(const ShelterKey& oval, const Vec3& d) { ///< below 1 inside
    const Vec3 v = rotation_of({oval.yaw_deg, oval.pitch_deg, 0}).transpose() * d;
    const double theta = degrees(std::atan2(std::hypot(v.x(), v.y()), v.z())),
                 side = std::hypot(v.x(), v.y());
    if (side < 1e-9) return v.z() > 0 ? 0 : 99;
    return theta *
           std::hypot(v.x() / side / (oval.width_deg / 2 + 1.5), v.y() / side / (oval.height_deg / 2 + 1.5));
}

bool meets(const Crossing& c, const TrueCrossing& x) {
    for (const auto& [t, d] : x.places)
        for (const ShelterKey& k : c.path)
            if (std::abs(k.time.to_double() - t) < 0.15 && inside(k, d) < 1) return true;
    return false;
}
} // namespace

int main(int argc, char** argv) {
    if (argc < 2) {
        std::cerr << "crossing_table PROJECT [cluttered SEED] [--list] [--solve]: a project made by porbit "
                     "simulate\n";
        return 2;
    }
    try {
        sim::Things things = sim::Things::none;
        bool list = false, solve = false;
        unsigned seed = 1;
        for (int i = 2; i < argc; ++i) {
            const std::string word = argv[i];
            if (word == "cluttered" && i + 1 < argc)
                things = sim::Things::clutter, seed = unsigned(std::atoi(argv[++i]));
            if (word == "--list") list = true;
            if (word == "--solve") solve = true;
        }
        quiet_media_libraries();
        const Project project = load_project(argv[1]);
        Shot shot = project.shots.at(0);
        Composer composer(std::make_shared<MediaLibrary>());
        const Span span = used_span(project, shot, composer.library());
        const auto truth = truth_of(shot, things, seed, span.out.to_double(), 0.05);
        CrossingScan scan = scan_crossings(project, shot, composer, {}, [](double) {}, {});
        int found = 0, right = 0, big = 0, big_found = 0;
        for (const TrueCrossing& x : truth) {
            const bool hit = std::any_of(scan.crossings.begin(), scan.crossings.end(),
                                         [&](const Crossing& c) { return meets(c, x); });
            found += hit;
            const bool large = x.places.size() > 80;
            big += large, big_found += large && hit;
            if (list)
                std::cout << fmt::format(
                    "true  {:>3}-{:<3} {:5.2f} to {:5.2f}  at {:6.1f} {:5.1f}  {:4} places {:4.0f} px  {}\n",
                    x.a, x.b, x.from, x.to,
                    degrees(std::atan2(x.places[0].second.x(), x.places[0].second.z())),
                    degrees(std::asin(-x.places[0].second.y())), x.places.size(), x.most_px,
                    hit ? "found" : "MISSED");
        }
        for (const Crossing& c : scan.crossings) {
            const bool hit =
                std::any_of(truth.begin(), truth.end(), [&](const TrueCrossing& x) { return meets(c, x); });
            right += hit;
            if (list)
                std::cout << fmt::format(
                    "found {:>3}-{:<3} {:5.2f} to {:5.2f}  at {:6.1f} {:5.1f}  {:3.0f} x {:3.0f} deg {:3.0f} "
                    "px apart {:3.0f} show  {}\n",
                    c.a, c.b, c.from.to_double(), c.to.to_double(), c.path[c.path.size() / 2].yaw_deg,
                    c.path[c.path.size() / 2].pitch_deg, c.path[c.path.size() / 2].width_deg,
                    c.path[c.path.size() / 2].height_deg, c.apart_px, c.visible_parallax_px,
                    hit ? "true" : "FALSE");
        }
        std::cout << fmt::format("{} true, {} found of them ({} of {} large); {} found, {} true of them\n",
                                 truth.size(), found, big_found, big, scan.crossings.size(), right);
        if (solve) {
            shot.seams.crossings = Shared(scan);
            const auto told = [](const CrossingScan& s) {
                int open = 0;
                double worst = 0;
                for (const Crossing& c : s.crossings)
                    open += is_open(c), worst = std::max(worst, c.visible_parallax_px);
                return fmt::format("{} open, worst {:.0f} px", open, worst);
            };
            Shot bare = shot;
            bare.seams.flow.on = false;
            std::cout << "without flow: " << told(measured_again(project, bare, composer, [](double) {}, {}))
                      << "\n";
            std::cout << "as it is:     " << told(scan) << "\n";
            const ClosedCrossings closed =
                close_crossings(project, shot, composer, {}, [](double, const std::string&) {}, {});
            std::cout << "solved:       " << told(**closed.shot.seams.crossings) << "\n";
            for (const auto& r : closed.remarks) std::cout << "  " << r << "\n";
        }
    } catch (const std::exception& e) {
        std::cerr << e.what() << "\n";
        return 1;
    }
    return 0;
}
