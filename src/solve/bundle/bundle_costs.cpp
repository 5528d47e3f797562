#include "solve/bundle/bundle_costs.h"

namespace porb {

namespace {

Mat3 cross_matrix(const Vec3& v) {
    Mat3 m;
    m << 0, -v.z(), v.y(), v.z(), 0, -v.x(), -v.y(), v.x(), 0;
    return m;
}

Mat3 left_jacobian(const Vec3& w) {
    const double a = w.norm();
    const Mat3 x = cross_matrix(w);
    if (a < 1e-5) return Mat3::Identity() + 0.5 * x + x * x / 6;
    return Mat3::Identity() + (1 - std::cos(a)) / (a * a) * x + (a - std::sin(a)) / (a * a * a) * x * x;
}

} // namespace

bool WholeEndMiss::Evaluate(double const* const* v, double* residual, double** j) const {
    using Jet = ceres::Jet<double, 3>;
    const double *eye = v[0], *place = v[1];
    const Camera& camera = *end_.camera;
    const PointBlock& point = *end_.point;
    const Vec3 turn(eye[kTurn], eye[kTurn + 1], eye[kTurn + 2]),
        move(eye[kMove], eye[kMove + 1], eye[kMove + 2]);
    const Vec3 from = camera.pose.position_m + move;
    const Mat3 to_eye = rotation_from_vector(-turn) * end_.to_camera;
    const Vec3 d = to_eye * (point.d + place[0] * point.e1 + place[1] * point.e2 - place[2] * from);
    const LensChange<Jet> change{
        Jet(eye[kFocal]),
        {Jet(eye[kCentre]), Jet(eye[kCentre + 1])},
        {Jet(eye[kRadial]), Jet(eye[kRadial + 1]), Jet(eye[kRadial + 2]), Jet(eye[kRadial + 3])}};
    const Jet direction[3] = {Jet(d.x(), 0), Jet(d.y(), 1), Jet(d.z(), 2)};
    Jet at[2];
    project_changed(camera.lens, change, direction, at);
    const double w = end_.weight;
    residual[0] = (at[0].a - end_.px.x()) * w;
    residual[1] = (at[1].a - end_.px.y()) * w;
    if (!j) return true;
    Eigen::Matrix<double, 2, 3> by_d;
    by_d << at[0].v.transpose(), at[1].v.transpose();
    by_d *= w;
    if (j[0]) {
        Eigen::Map<Eigen::Matrix<double, 2, kEyeValues, Eigen::RowMajor>> by_eye(j[0]);
        const Lens& lens = camera.lens;
        const double f = w * lens.focal_px * std::exp(eye[kFocal]);
        by_eye.middleCols<3>(kTurn) = by_d * cross_matrix(d) * left_jacobian(-turn);
        by_eye.middleCols<3>(kMove) = -place[2] * by_d * to_eye;
        by_eye(0, kFocal) = w * (at[0].a - lens.center_px.x() - eye[kCentre]);
        by_eye(1, kFocal) = w * (at[1].a - lens.center_px.y() - eye[kCentre + 1]);
        by_eye.middleCols<2>(kCentre) = w * Eigen::Matrix2d::Identity();
        const double side = std::sqrt(d.x() * d.x() + d.y() * d.y() + 1e-24), c = d.x() / side,
                     s = d.y() / side;
        const double g = base_radius(lens.projection, std::atan2(side, d.z())), q = g * g;
        const auto& den = lens.non_radial.denominator;
        double power = g * q / (1 + q * (den[0] + q * (den[1] + q * den[2])));
        for (int k = 0; k < 4; ++k, power *= q) {
            by_eye(0, kRadial + k) = f * power * (c + lens.non_radial.skew * s);
            by_eye(1, kRadial + k) = f * power * lens.non_radial.aspect * s;
        }
    }
    if (j[1]) {
        Eigen::Map<Eigen::Matrix<double, 2, 3, Eigen::RowMajor>> by_place(j[1]);
        const Eigen::Matrix<double, 2, 3> by_rig = by_d * to_eye;
        by_place.col(0) = by_rig * point.e1;
        by_place.col(1) = by_rig * point.e2;
        by_place.col(2) = -by_rig * from;
    }
    return true;
}

} // namespace porb
