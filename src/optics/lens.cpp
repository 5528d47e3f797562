#include "optics/lens.h"

#include "base/angle.h"

#include <algorithm>
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
    const auto& d = lens.non_radial.denominator;
    if (d[0] == 0 && d[1] == 0 && d[2] == 0)
        return {lens.focal_px * g * poly, lens.focal_px * poly_slope * slope};
    const double under = 1 + q * (d[0] + q * (d[1] + q * d[2]));
    const double under_slope = g * (2 * d[0] + q * (4 * d[1] + q * 6 * d[2]));
    return {lens.focal_px * g * poly / under,
            lens.focal_px * (poly_slope * under - g * poly * under_slope) / (under * under) * slope};
}

/// What the tangential and prism terms add at (x, y) = g (cos phi, sin phi), in focal lengths.
Vec2 bend_at(const NonRadial& u, double x, double y) {
    const double q = x * x + y * y;
    const auto& [p1, p2] = u.tangential;
    return {2 * p1 * x * y + p2 * (q + 2 * x * x) + u.prism[0] * q + u.prism[1] * q * q,
            p1 * (q + 2 * y * y) + 2 * p2 * x * y + u.prism[2] * q + u.prism[3] * q * q};
}

/// From a place in focal lengths about the lens centre to the picture, and back: the sensor's grid.
Vec2 on_sensor(const Lens& lens, const Vec2& p) {
    return lens.center_px +
           lens.focal_px * Vec2(p.x() + lens.non_radial.skew * p.y(), lens.non_radial.aspect * p.y());
}
Vec2 off_sensor(const Lens& lens, const Vec2& pixel) {
    const Vec2 p = (pixel - lens.center_px) / lens.focal_px;
    const double y = p.y() / lens.non_radial.aspect;
    return {p.x() - lens.non_radial.skew * y, y};
}

/// The farthest distance from the lens centre at which a usable pixel can lie, on the round part's scale.
double farthest_radius(const Lens& lens) {
    const bool round = lens.non_radial.is_round();
    const auto distance = [&](const Vec2& p) {
        return round ? (p - lens.center_px).norm() : lens.focal_px * off_sensor(lens, p).norm();
    };
    double rim = (lens.circle.center_px - lens.center_px).norm() + lens.circle.radius_px;
    if (!round) {
        rim = 0;
        for (int i = 0; i < 360; ++i) {
            const double a = radians(i);
            rim = std::max(rim, distance(lens.circle.center_px +
                                         lens.circle.radius_px * Vec2(std::cos(a), std::sin(a))));
        }
    }
    double corner = 0;
    for (const double x : {0.0, double(lens.width)})
        for (const double y : {0.0, double(lens.height)}) corner = std::max(corner, distance(Vec2(x, y)));
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

/// The most that the uneven terms move anything within the angle `theta`, pixels.
double most_bend_px(const Lens& lens, double theta) {
    if (!lens.non_radial.bends()) return 0;
    const double g = base(lens.projection, theta).g;
    const auto& u = lens.non_radial;
    const double q = g * g;
    return lens.focal_px * (3 * q * (std::abs(u.tangential[0]) + std::abs(u.tangential[1])) +
                            q * (std::abs(u.prism[0]) + std::abs(u.prism[2])) +
                            q * q * (std::abs(u.prism[1]) + std::abs(u.prism[3])));
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
    const NonRadial& u = lens.non_radial;
    if (!is_finite(u.aspect) || u.aspect < 0.2 || u.aspect > 5)
        return LensFault{"aspect", "must be between 0.2 and 5", "Pixels are about as high as they are wide"};
    if (!is_finite(u.skew) || std::abs(u.skew) > 1)
        return LensFault{"skew", "must be between -1 and 1", "Leave it out unless it was measured"};
    const auto small = [&](const auto& terms) {
        return std::all_of(terms.begin(), terms.end(),
                           [&](double v) { return is_finite(v) && std::abs(v) <= 1000; });
    };
    if (!small(u.denominator)) return LensFault{"denominator", "is out of range", "Use three small numbers"};
    if (!small(u.tangential)) return LensFault{"tangential", "is out of range", "Use two small numbers"};
    if (!small(u.prism)) return LensFault{"prism", "is out of range", "Use four small numbers"};
    if (!is_finite(lens.pixel_pitch_um) || lens.pixel_pitch_um < 0 || lens.pixel_pitch_um > 1000)
        return LensFault{"pixel_pitch_um", "must be 0 to 1000 micrometres", "A usual pitch is 1 to 10"};
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
    const double edge = farthest_radius(lens);
    // NonRadial terms carry part of the way to the edge, so the round part need not reach all of it.
    const double target = edge - std::min(edge / 2, most_bend_px(lens, walk_to(lens, edge).theta));
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
    Reached reached = walk_to(lens, farthest_radius(lens));
    if (lens.non_radial.bends()) // pixels that are drawn inwards belong to somewhat larger angles
        reached = walk_to(lens, farthest_radius(lens) + most_bend_px(lens, reached.theta));
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
        const double residual = r - radius_px;
        (residual > 0 ? high : low) = theta;
        double next = slope > 0 ? theta - residual / slope : low;
        if (!(next > low && next < high)) next = 0.5 * (low + high);
        const double moved = std::abs(next - theta);
        theta = next;
        if (moved < 1e-14) break;
    }
    return theta;
}

Vec2 LensMap::place(double theta, double cos_phi, double sin_phi) const {
    const double r = radius(theta);
    const Vec2 at(cos_phi, sin_phi);
    if (lens_.non_radial.is_round()) return lens_.center_px + r * at;
    Vec2 p = r / lens_.focal_px * at;
    if (lens_.non_radial.bends()) {
        const double g = base(lens_.projection, std::min(theta, theta_max_)).g;
        p += bend_at(lens_.non_radial, g * cos_phi, g * sin_phi);
    }
    return on_sensor(lens_, p);
}

Vec2 LensMap::project_anywhere(const Vec3& d) const {
    const double side = std::hypot(d.x(), d.y());
    if (side < 1e-300) return place(d.z() < 0 ? kPi : 0.0, 1, 0);
    return place(std::atan2(side, d.z()), d.x() / side, d.y() / side);
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
    Vec2 offset =
        lens_.non_radial.is_round() ? Vec2(p - lens_.center_px) : lens_.focal_px * off_sensor(lens_, p);
    if (lens_.non_radial.bends()) {
        // The uneven terms are small against the radius: taking off what they add there converges fast.
        const Vec2 seen = offset;
        for (int i = 0; i < 100; ++i) {
            const double r = offset.norm();
            if (r <= 0 || !(r < 4 * radius_max_)) break;
            const double g = base(lens_.projection, std::min(theta(r), theta_max_)).g;
            const Vec2 next =
                seen - lens_.focal_px * bend_at(lens_.non_radial, g * offset.x() / r, g * offset.y() / r);
            const double moved = (next - offset).norm();
            offset = next;
            if (moved < 1e-11 * lens_.focal_px) break;
        }
    }
    const double r = offset.norm();
    if (!(r <= radius_max_ + 1e-6)) return std::nullopt;
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

namespace {
/// The angle at which a round lens of that kind reaches `radius_px`; nothing when it never does.
std::optional<double> angle_reaching(const Lens& lens, double radius_px) {
    if (radius_px <= 0) return 0.0;
    const Reached r = walk_to(lens, radius_px);
    if (r.falls || r.ends) return std::nullopt;
    return r.theta;
}
double across_picture(const Lens& lens) {
    const auto left = angle_reaching(lens, lens.center_px.x());
    const auto right = angle_reaching(lens, lens.width - lens.center_px.x());
    return left && right ? *left + *right : 0;
}
} // namespace

double picture_field_of_view_deg(const Lens& lens) {
    return degrees(across_picture(lens));
}

double focal_for_picture_field_of_view(const Lens& lens, double fov_deg) {
    const double wanted = radians(fov_deg);
    Lens tried = lens;
    double low = lens.width * 1e-3, high = lens.width * 1e3; // a longer focal length shows less
    for (int i = 0; i < 100; ++i) {
        tried.focal_px = std::sqrt(low * high);
        const double across = across_picture(tried);
        (across == 0 || across > wanted ? low : high) = tried.focal_px;
    }
    return std::abs(across_picture(tried) - wanted) < 1e-6 ? tried.focal_px : lens.focal_px;
}

double focal_mm(const Lens& lens) {
    return lens.focal_px * lens.pixel_pitch_um * 1e-3;
}

double sensor_width_mm(const Lens& lens) {
    return lens.width * lens.pixel_pitch_um * 1e-3;
}

Lens scaled(const Lens& lens, int width, int height) {
    Lens out = lens;
    const double k = double(width) / lens.width;
    const double lift = (height - k * lens.height) / 2;
    out.width = width;
    out.height = height;
    out.focal_px *= k;
    out.center_px = k * lens.center_px + Vec2(0, lift);
    out.circle.center_px = k * lens.circle.center_px + Vec2(0, lift);
    out.circle.radius_px *= k;
    out.pixel_pitch_um /= k;
    return out;
}

} // namespace porb
