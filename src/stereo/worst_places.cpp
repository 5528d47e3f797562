#include "base/angle.h"
#include "stereo/findings.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace porb {

namespace {

constexpr double kHigh_px = 2, kShort_px = 10; ///< of a place, and of torn edges
constexpr double kPast_deg = 0.25;             ///< as bad as the other two at their limits
constexpr double kApart_deg = 20;
constexpr int kMostOfKind = 4;

enum class Kind { near, far, vertical, torn };
struct Place {
    Kind kind;
    Seconds time;
    Vec3 direction;
    double figure, weight; ///< weight 1 at the limit
    Eye eye = Eye::left;
    const EyePlace* place = nullptr; ///< of what is too near or too far
    const EyeMoment* moment = nullptr;
};

std::string what_of(const Place& p, const ComfortBudget& budget) {
    switch (p.kind) {
    case Kind::near:
        return fmt::format("{:.2f}° before convergence, {:.2f}° past the budget", p.figure,
                           p.figure - budget.near_deg);
    case Kind::far:
        return fmt::format("{:.2f}° behind convergence, {:.2f}° past the budget", p.figure,
                           p.figure - budget.far_deg);
    case Kind::vertical:
        return fmt::format("The right eye shows it {:.1f} px {}", std::abs(p.figure),
                           p.figure > 0 ? "lower" : "higher");
    case Kind::torn:
        break;
    }
    return fmt::format("{:.0f} px of edges torn in the {} eye alone", p.figure,
                       p.eye == Eye::left ? "left" : "right");
}

/// Whether no place beside it, then or a moment before or after, shows about as much: it may be mistaken.
bool is_alone(const EyePlace& p, const EyeMoment& moment, std::span<const EyeMoment> moments) {
    constexpr double kBeside_deg = 9, kSoon_s = 1.5, kAlike_deg = 0.3, kAlike = 0.25;
    const double h = double(p.horizontal_deg);
    return std::none_of(moments.begin(), moments.end(), [&](const EyeMoment& m) {
        return std::abs((m.time - moment.time).to_double()) < kSoon_s &&
               std::any_of(m.places.begin(), m.places.end(), [&](const EyePlace& q) {
                   return &q != &p && q.direction.dot(p.direction) > std::cos(radians(kBeside_deg)) &&
                          std::abs(double(q.horizontal_deg) - h) < kAlike_deg + kAlike * std::abs(h);
               });
    });
}

const char* mend_of(Kind kind, bool drawn) {
    switch (kind) {
    case Kind::near:
        return drawn ? "Converge nearer, or let the eyes stand closer together" : "Converge nearer";
    case Kind::far:
        return drawn ? "Converge further away, or let the eyes stand closer together"
                     : "Converge further away";
    case Kind::vertical:
        return drawn ? "Look at the distances there in Seams; solve the rig again if it is so all about"
                     : "Solve the pair in Points";
    case Kind::torn:
        break;
    }
    return "Give what is there its distance in Seams, or draw a shelter about it";
}

} // namespace

std::vector<EyeFinding> worst_places(const Shot& shot, std::span<const EyeMoment> moments, std::size_t most) {
    const ComfortBudget& budget = shot.stereo.comfort;
    std::vector<Place> all;
    const auto offer = [&](Kind kind, Seconds time, const Vec3& direction, double figure, double weight,
                           Eye eye = Eye::left) -> Place* {
        if (weight <= 1) return nullptr;
        all.push_back({kind, time, direction, figure, weight, eye});
        return &all.back();
    };
    for (const EyeMoment& m : moments) {
        for (const EyePlace& p : m.places) {
            const double h = double(p.horizontal_deg), v = double(p.vertical_deg) / kEyePx_deg;
            if (Place* near =
                    offer(Kind::near, m.time, p.direction, h, 1 + (h - budget.near_deg) / kPast_deg))
                near->place = &p, near->moment = &m;
            if (Place* far = offer(Kind::far, m.time, p.direction, -h, 1 + (-h - budget.far_deg) / kPast_deg))
                far->place = &p, far->moment = &m;
            if (degrees(std::asin(std::abs(p.direction.y()))) <= kEyeHorizon_deg)
                offer(Kind::vertical, m.time, p.direction, v, std::abs(v) / kHigh_px);
        }
        for (const TornEdge& t : m.torn)
            offer(Kind::torn, m.time, t.direction, t.length_px, t.length_px / kShort_px, t.eye);
    }
    std::stable_sort(all.begin(), all.end(),
                     [](const Place& a, const Place& b) { return a.weight > b.weight; });
    std::vector<Place> chosen;
    for (const Place& p : all) {
        if (chosen.size() >= most) break;
        const auto alike = [&](const Place& c) { return c.kind == p.kind; };
        const bool told = std::any_of(chosen.begin(), chosen.end(), [&](const Place& c) {
            return alike(c) && c.direction.dot(p.direction) > std::cos(radians(kApart_deg));
        });
        if (told || std::count_if(chosen.begin(), chosen.end(), alike) >= kMostOfKind) continue;
        if (!p.place || !is_alone(*p.place, *p.moment, moments)) chosen.push_back(p);
    }
    std::vector<EyeFinding> out;
    for (const Place& p : chosen)
        out.push_back({what_of(p, budget), mend_of(p.kind, shot.stereo.from == EyesFrom::distances), false,
                       p.time, p.direction});
    return out;
}

} // namespace porb
