#include "optics/lens.h"

#include "base/angle.h"

#include <cassert>

namespace porb {

namespace {

/// g(theta) and its derivative.
struct Value {
    double g, slope;
};

Value base(Projection projection, double theta) {
    switch (projection) {
    case Projection::equidistant:
        return {theta, 1.0};
    case Projection::equisolid:
        return {2 * std::sin(theta / 2), std::cos(theta / 2)};
    case Projection::stereographic: {
        const double t = std::tan(theta / 2);
        return {2 * t, 1 + t * t};
    }
    case Projection::orthographic:
        return {std::sin(theta), std::cos(theta)};
    case Projection::rectilinear: {
        const double t = std::tan(theta);
        return {t, 1 + t * t};
    }
    }
    return {theta, 1.0};
}

/// The end of each base projection's useful angles; the two that run to infinity stop just short of it.
double domain_end(Projection projection) {
    switch (projection) {
    case Projection::equidistant:
    case Projection::equisolid:
        return kPi;
    case Projection::stereographic:
        return kPi - 0.02;
    case Projection::orthographic:
        return kPi / 2;
    case Projection::rectilinear:
        return kPi / 2 - 0.01;
    }
    return kPi;
}

/// r(theta) in pixels and its derivative.
Value radius_at(const Lens& lens, double theta) {
    const auto [g, slope] = base(lens.projection, theta);
    const auto& k = lens.radial;
    const double q = g * g;
    const double poly = 1 + q * (k[0] + q * (k[1] + q * (k[2] + q * k[3])));
    const double poly_slope = 1 + q * (3 * k[0] + q * (5 * k[1] + q * (7 * k[2] + q * 9 * k[3])));
    return {lens.focal_px * g * poly, lens.focal_px * poly_slope * slope};
}

/// The farthest distance from the lens centre at which a usable pixel can lie.
double farthest_radius(const Lens& lens) {
    const double rim = (lens.circle.center_px - lens.center_px).norm() + lens.circle.radius_px;
    double corner = 0;
    for (const double x : {0.0, double(lens.width)})
        for (const double y : {0.0, double(lens.height)})
            corner = std::max(corner, (Vec2(x, y) - lens.center_px).norm());
    return std::min(rim, corner);
}

constexpr int kMonotoneSteps = 2048;
constexpr double kRimSlackPx = 0.5;

struct Reached {
    double theta = 0;
    bool falls = false, ends = false;
    double radius = 0;
};

/// Walks outwards until the radius reaches `target`; says where it stops growing or runs out of angles first.
Reached walk_to(const Lens& lens, double target) {
    const double end = domain_end(lens.projection);
    double previous = 0;
    for (int i = 1; i <= kMonotoneSteps; ++i) {
        const double theta = end * i / kMonotoneSteps;
        const double r = radius_at(lens, theta).g;
        if (!(r > previous)) return {end * (i - 1) / kMonotoneSteps, true, false, previous};
        if (r >= target) {
            double low = end * (i - 1) / kMonotoneSteps, high = theta;
            for (int step = 0; step < 60; ++step) {
                const double mid = 0.5 * (low + high);
                (radius_at(lens, mid).g < target ? low : high) = mid;
            }
            return {high, false, false, target};
        }
        previous = r;
    }
    return {end, false, true, previous};
}

} // namespace

const char* name_of(Projection projection) {
    switch (projection) {
    case Projection::equidistant:
        return "equidistant";
    case Projection::equisolid:
        return "equisolid";
    case Projection::stereographic:
        return "stereographic";
    case Projection::orthographic:
        return "orthographic";
    case Projection::rectilinear:
        return "rectilinear";
    }
    return "equidistant";
}

std::optional<Projection> projection_named(std::string_view name) {
    for (const auto p : {Projection::equidistant, Projection::equisolid, Projection::stereographic,
                         Projection::orthographic, Projection::rectilinear})
        if (name == name_of(p)) return p;
    return std::nullopt;
}

std::optional<LensFault> fault_in(const Lens& lens) {
    const auto is_finite = [](double v) { return std::isfinite(v) && std::abs(v) < 1e9; };
    if (lens.width < 1 || lens.width > 65536) return LensFault{"width", "must be 1 to 65536 pixels", ""};
    if (lens.height < 1 || lens.height > 65536) return LensFault{"height", "must be 1 to 65536 pixels", ""};
    if (!is_finite(lens.focal_px) || lens.focal_px < 1e-3)
        return LensFault{"focal_px", "must be above 0", "Write the focal length in pixels"};
    if (!is_finite(lens.center_px.x()) || !is_finite(lens.center_px.y()))
        return LensFault{"center_px", "is not a place on the picture", "Write two numbers in pixels"};
    for (const double k : lens.radial)
        if (!is_finite(k) || std::abs(k) > 100)
            return LensFault{"radial", "is out of range", "Use four small numbers"};
    const ImageCircle& c = lens.circle;
    if (!is_finite(c.radius_px) || c.radius_px < 1)
        return LensFault{"circle/radius_px", "must be at least 1 pixel", "Write the image circle's radius"};
    if (!is_finite(c.center_px.x()) || !is_finite(c.center_px.y()) || c.center_px.x() < -c.radius_px ||
        c.center_px.x() > lens.width + c.radius_px || c.center_px.y() < -c.radius_px ||
        c.center_px.y() > lens.height + c.radius_px)
        return LensFault{"circle/center_px", "lies off the picture", "Move the circle onto the picture"};
    if ((lens.center_px - c.center_px).norm() > c.radius_px)
        return LensFault{"center_px", "lies outside the image circle",
                         "Move the lens centre into the circle"};
    const double target = farthest_radius(lens);
    const Reached reached = walk_to(lens, target);
    if (reached.falls && reached.radius < target - kRimSlackPx)
        return LensFault{"radial",
                         "the radius stops growing at " + std::to_string(int(degrees(reached.theta))) +
                             " degrees, inside the image circle",
                         "Lower the distortion terms or the circle's radius"};
    if (reached.ends && reached.radius < target - kRimSlackPx)
        return LensFault{"focal_px",
                         "a lens of this kind and focal length reaches " +
                             std::to_string(int(reached.radius)) + " px from its centre, the image circle " +
                             std::to_string(int(target)) + " px",
                         "Raise the focal length or lower the circle's radius"};
    return std::nullopt;
}

LensMap::LensMap(const Lens& lens) : lens_(lens) {
    assert(!fault_in(lens));
    const Reached reached = walk_to(lens, farthest_radius(lens));
    theta_max_ = reached.theta;
    const Value rim = radius_at(lens, theta_max_);
    radius_max_ = rim.g;
    // Orthographic lenses are flat at their end; a small slope keeps the continuation one-to-one.
    slope_max_ = std::max(rim.slope, lens.focal_px * 1e-3);
}

double LensMap::radius(double theta) const {
    if (theta > theta_max_) return radius_max_ + (theta - theta_max_) * slope_max_;
    return radius_at(lens_, theta).g;
}

double LensMap::theta(double radius_px) const {
    if (radius_px <= 0) return 0;
    if (radius_px >= radius_max_) return theta_max_ + (radius_px - radius_max_) / slope_max_;
    // Newton, kept inside a shrinking bracket; the radius is monotone there.
    double low = 0, high = theta_max_;
    double theta = theta_max_ * radius_px / radius_max_;
    for (int i = 0; i < 80; ++i) {
        const auto [r, slope] = radius_at(lens_, theta);
        const double miss = r - radius_px;
        (miss > 0 ? high : low) = theta;
        double next = slope > 0 ? theta - miss / slope : low;
        if (!(next > low && next < high)) next = 0.5 * (low + high);
        const double moved = std::abs(next - theta);
        theta = next;
        if (moved < 1e-14) break;
    }
    return theta;
}

Vec2 LensMap::project_anywhere(const Vec3& d) const {
    const double side = std::hypot(d.x(), d.y());
    if (side < 1e-300) return lens_.center_px + Vec2(d.z() < 0 ? radius(kPi) : 0.0, 0.0);
    const double scale = radius(std::atan2(side, d.z())) / side;
    return lens_.center_px + scale * Vec2(d.x(), d.y());
}

double LensMap::clearance(const Vec2& p) const {
    const double rim = lens_.circle.radius_px - (p - lens_.circle.center_px).norm();
    return std::min({rim, p.x(), p.y(), lens_.width - p.x(), lens_.height - p.y()});
}

std::optional<Vec2> LensMap::project(const Vec3& d) const {
    if (std::atan2(std::hypot(d.x(), d.y()), d.z()) > theta_max_ + 1e-12) return std::nullopt;
    const Vec2 p = project_anywhere(d);
    if (!(clearance(p) >= 0)) return std::nullopt;
    return p;
}

std::optional<Vec3> LensMap::unproject(const Vec2& p) const {
    if (!(clearance(p) >= 0)) return std::nullopt;
    const Vec2 offset = p - lens_.center_px;
    const double r = offset.norm();
    if (r > radius_max_ + 1e-6) return std::nullopt;
    if (r == 0) return Vec3(0, 0, 1);
    const double t = theta(r);
    const double s = std::sin(t) / r;
    return Vec3(offset.x() * s, offset.y() * s, std::cos(t));
}

double field_of_view_deg(const Lens& lens) {
    const Reached reached = walk_to(lens, lens.circle.radius_px);
    return 2 * degrees(reached.theta);
}

double focal_for_field_of_view(const Lens& lens, double fov_deg) {
    Lens unit = lens;
    unit.focal_px = 1;
    const double end = domain_end(lens.projection);
    const double r = radius_at(unit, std::min(radians(fov_deg / 2), end)).g;
    return r > 1e-9 ? lens.circle.radius_px / r : lens.focal_px;
}

} // namespace porb
