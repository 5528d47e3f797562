#pragma once

#include "optics/lens.h"

#include <cmath>

namespace porb {

/// What a solve may change of a lens, as departures from where it began: the logarithm of the focal length's
/// ratio, the centre in pixels, the radial terms.
template <class T>
struct LensChange {
    T log_focal;
    T centre[2];
    T radial[4];
};

/// g(theta) of the base projections, for any scalar.
template <class T>
T base_radius(Projection projection, const T& theta) {
    using std::sin;
    using std::tan;
    switch (projection) {
    case Projection::equidistant:
        return theta;
    case Projection::equisolid:
        return 2.0 * sin(theta / 2.0);
    case Projection::stereographic:
        return 2.0 * tan(theta / 2.0);
    case Projection::orthographic:
        return sin(theta);
    case Projection::rectilinear:
        return tan(theta);
    }
    return theta;
}

/// g after the radial polynomial and its denominator.
template <class T>
T bent_radius(const Lens& lens, const LensChange<T>& change, const T& g) {
    const T q = g * g;
    T k[4];
    for (int i = 0; i < 4; ++i) k[i] = lens.radial[std::size_t(i)] + change.radial[i];
    const auto& d = lens.non_radial.denominator;
    return g * (1.0 + q * (k[0] + q * (k[1] + q * (k[2] + q * k[3])))) /
           (1.0 + q * (d[0] + q * (d[1] + q * d[2])));
}

/// LensMap::project_anywhere for scalars that carry derivatives (docs/conventions.md, "Lenses"; optics/lens.h
/// for the uneven terms). A test holds the two together.
template <class T>
void project_changed(const Lens& lens, const LensChange<T>& change, const T direction[3], T px[2]) {
    using std::atan2;
    using std::exp;
    using std::sqrt;
    const T side = sqrt(direction[0] * direction[0] + direction[1] * direction[1] + 1e-24);
    const T c = direction[0] / side, s = direction[1] / side;
    const T g = base_radius(lens.projection, T(atan2(side, direction[2])));
    const T r = bent_radius(lens, change, g);
    const T x0 = g * c, y0 = g * s, q = g * g;
    const auto& u = lens.non_radial;
    T x = r * c + 2.0 * u.tangential[0] * x0 * y0 + u.tangential[1] * (q + 2.0 * x0 * x0) + u.prism[0] * q +
          u.prism[1] * q * q;
    T y = r * s + u.tangential[0] * (q + 2.0 * y0 * y0) + 2.0 * u.tangential[1] * x0 * y0 + u.prism[2] * q +
          u.prism[3] * q * q;
    const T f = lens.focal_px * exp(change.log_focal);
    px[0] = lens.center_px.x() + change.centre[0] + f * (x + u.skew * y);
    px[1] = lens.center_px.y() + change.centre[1] + f * u.aspect * y;
}

} // namespace porb
