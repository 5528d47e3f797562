#pragma once

// The terms of the bundle adjustment, for bundle_state.cpp alone.
#include "solve/bundle/lens_model.h"
#include "solve/bundle/point_block.h"

#include <ceres/ceres.h>
#include <ceres/rotation.h>

#include <algorithm>

namespace porb {

/// How closely the mean of turns and places is held, radians and metres; and the mean of turns where the
/// cameras' places say how the rig lies.
inline constexpr double kGauge = 1e-5, kLooseGauge = 0.05;

/// Where the values of one camera lie among its thirteen: departures from where the solve began. Turns are
/// rotation vectors in the camera's axes, places metres, the focal length the logarithm of its ratio.
enum EyeValue { kTurn = 0, kMove = 3, kFocal = 6, kCentre = 7, kRadial = 9, kEyeValues = 13 };

/// The plain value of a number that may carry derivatives.
inline double value_of(double v) {
    return v;
}
template <class T, int N>
double value_of(const ceres::Jet<T, N>& v) {
    return v.a;
}

/// One end of a point: where the camera should see it, minus where it did, over the noise; in parts, since
/// alike lenses may share some. Where none are shared, WholeEndMiss is faster.
struct EndMiss {
    const Camera* camera;
    Mat3 to_camera;
    const PointBlock* point;
    Vec2 px;
    double weight;

    template <class T>
    bool operator()(const T* turn, const T* move, const T* log_focal, const T* centre, const T* radial,
                    const T* place, T* residual) const {
        T v[3], c[3], d[3];
        for (int i = 0; i < 3; ++i)
            v[i] = point->d[i] + place[0] * point->e1[i] + place[1] * point->e2[i] -
                   place[2] * (camera->pose.position_m[i] + move[i]);
        for (int i = 0; i < 3; ++i)
            c[i] = to_camera(i, 0) * v[0] + to_camera(i, 1) * v[1] + to_camera(i, 2) * v[2];
        const T back[3] = {-turn[0], -turn[1], -turn[2]};
        ceres::AngleAxisRotatePoint(back, c, d);
        LensChange<T> change{
            log_focal[0], {centre[0], centre[1]}, {radial[0], radial[1], radial[2], radial[3]}};
        T at[2];
        project_changed(camera->lens, change, d, at);
        residual[0] = (at[0] - px.x()) * weight;
        residual[1] = (at[1] - px.y()) * weight;
        return true;
    }
};

/// The same with a camera's values as one block, and derivatives by hand: most of a solve's time is spent
/// here. d = exp(-[turn]) c, so its derivative is [d] J(-turn) with J the left Jacobian of the rotation
/// vector (Sola, Deray, Atchuthan 2018, (145)).
class WholeEndMiss : public ceres::SizedCostFunction<2, kEyeValues, 3> {
  public:
    explicit WholeEndMiss(const EndMiss& end) : end_(end) {}
    bool Evaluate(double const* const* v, double* residual, double** j) const override;

  private:
    EndMiss end_;
};

/// How far one place of a line lies from the line's great circle, in pixels. The place's ray follows the lens
/// by the implicit function theorem: only Newton's last step, from the exact angle, is done with derivatives.
struct LineMiss {
    const Camera* camera;
    Mat3 to_rig;
    const PointBlock* normal;
    Vec2 px;
    double weight;

    template <class T>
    bool operator()(const T* eye, const T* tilt, T* residual) const {
        return (*this)(eye + kTurn, eye + kFocal, eye + kCentre, eye + kRadial, tilt, residual);
    }
    template <class T>
    bool operator()(const T* turn, const T* log_focal, const T* centre, const T* radial, const T* tilt,
                    T* residual) const {
        using std::cos;
        using std::exp;
        using std::sin;
        using std::sqrt;
        const Lens& lens = camera->lens;
        LensChange<T> change{
            log_focal[0], {centre[0], centre[1]}, {radial[0], radial[1], radial[2], radial[3]}};
        const T f = lens.focal_px * exp(change.log_focal);
        const T x = (px.x() - lens.center_px.x() - centre[0]) / f,
                y = (px.y() - lens.center_px.y() - centre[1]) / f;
        const T r = sqrt(x * x + y * y + 1e-20);
        constexpr double kStep = 1e-6, kSettledAngle = 1e-9; // what is left the last step takes
        const LensChange<double> plain{value_of(change.log_focal),
                                       {value_of(change.centre[0]), value_of(change.centre[1])},
                                       {value_of(change.radial[0]), value_of(change.radial[1]),
                                        value_of(change.radial[2]), value_of(change.radial[3])}};
        double angle = value_of(r);
        for (int i = 0; i < 12; ++i) {
            const double here = bent_radius(lens, plain, base_radius(lens.projection, angle)),
                         there = bent_radius(lens, plain, base_radius(lens.projection, angle + kStep));
            const double by = (here - value_of(r)) * kStep / (there - here);
            angle -= by;
            if (std::abs(by) < kSettledAngle) break;
        }
        const double slope = (bent_radius(lens, plain, base_radius(lens.projection, angle + kStep)) -
                              bent_radius(lens, plain, base_radius(lens.projection, angle))) /
                             kStep;
        const T theta =
            T(angle) - (bent_radius(lens, change, base_radius(lens.projection, T(angle))) - r) / slope;
        const T c[3] = {sin(theta) * x / r, sin(theta) * y / r, cos(theta)};
        T turned[3];
        ceres::AngleAxisRotatePoint(turn, c, turned);
        T sum = T(0), length = T(0);
        for (int i = 0; i < 3; ++i) {
            const T n = normal->d[i] + tilt[0] * normal->e1[i] + tilt[1] * normal->e2[i];
            sum += n * (to_rig(i, 0) * turned[0] + to_rig(i, 1) * turned[1] + to_rig(i, 2) * turned[2]);
            length += n * n;
        }
        residual[0] = sum / sqrt(length) * lens.focal_px * weight;
        return true;
    }
};

/// An upright line's plane holds the upright direction.
struct UprightMiss {
    const PointBlock *normal, *up;
    double weight;
    template <class T>
    bool operator()(const T* tilt, const T* lean, T* residual) const {
        T dot = T(0);
        for (int i = 0; i < 3; ++i)
            dot += (normal->d[i] + tilt[0] * normal->e1[i] + tilt[1] * normal->e2[i]) *
                   (up->d[i] + lean[0] * up->e1[i] + lean[1] * up->e2[i]);
        residual[0] = dot * weight;
        return true;
    }
};

/// Values held near others with a stated strength each.
class Prior : public ceres::CostFunction {
  public:
    Prior(std::vector<double> at, std::vector<double> sigma) : at_(std::move(at)), sigma_(std::move(sigma)) {
        set_num_residuals(int(at_.size()));
        mutable_parameter_block_sizes()->push_back(int(at_.size()));
    }
    bool Evaluate(double const* const* v, double* r, double** j) const override {
        const std::size_t n = at_.size();
        for (std::size_t i = 0; i < n; ++i) r[i] = (v[0][i] - at_[i]) / sigma_[i];
        if (j && j[0])
            for (std::size_t i = 0; i < n * n; ++i) j[0][i] = i % (n + 1) ? 0 : 1 / sigma_[i / n];
        return true;
    }

  private:
    std::vector<double> at_, sigma_;
};

/// A point's inverse distance lies near the mean of all, and nothing lies beyond infinity.
class NearMean : public ceres::SizedCostFunction<2, 3, 1> {
  public:
    NearMean(double width, double beyond) : width_(width), beyond_(beyond) {}
    bool Evaluate(double const* const* v, double* r, double** j) const override {
        r[0] = (v[0][2] - v[1][0]) / width_;
        r[1] = std::min(0.0, v[0][2]) / beyond_;
        if (j && j[0]) {
            std::fill(j[0], j[0] + 6, 0.0);
            j[0][2] = 1 / width_;
            j[0][5] = v[0][2] < 0 ? 1 / beyond_ : 0;
        }
        if (j && j[1]) j[1][0] = -1 / width_, j[1][1] = 0;
        return true;
    }

  private:
    double width_, beyond_;
};

/// The mean of all cameras' turns (or places) stays: what a solve cannot know is not moved. The three values
/// of each camera lie at `first` of a block of `size`.
class MeanStays : public ceres::CostFunction {
  public:
    MeanStays(std::vector<Mat3> axes, int size, int first, double sigma)
        : axes_(std::move(axes)), size_(size), first_(first), sigma_(sigma) {
        set_num_residuals(3);
        for (std::size_t i = 0; i < axes_.size(); ++i) mutable_parameter_block_sizes()->push_back(size);
    }
    bool Evaluate(double const* const* v, double* r, double** j) const override {
        Eigen::Map<Vec3> sum(r);
        sum.setZero();
        const double scale = 1 / (sigma_ * double(axes_.size()));
        for (std::size_t i = 0; i < axes_.size(); ++i)
            sum += scale * (axes_[i] * Eigen::Map<const Vec3>(v[i] + first_));
        if (j)
            for (std::size_t i = 0; i < axes_.size(); ++i)
                if (j[i]) {
                    std::fill(j[i], j[i] + 3 * size_, 0.0);
                    for (Eigen::Index r3 = 0; r3 < 3; ++r3)
                        for (Eigen::Index c3 = 0; c3 < 3; ++c3)
                            j[i][size_ * r3 + first_ + c3] = scale * axes_[i](r3, c3);
                }
        return true;
    }

  private:
    std::vector<Mat3> axes_;
    int size_, first_;
    double sigma_;
};

} // namespace porb
