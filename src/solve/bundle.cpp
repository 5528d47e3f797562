#include "solve/bundle.h"

#include "base/angle.h"
#include "base/error.h"
#include "base/parallel.h"
#include "project/orientation.h"
#include "solve/lens_model.h"

#include <Eigen/Dense>
#include <ceres/ceres.h>
#include <ceres/rotation.h>
#include <fmt/format.h>
#include <map>

namespace porb {

namespace {

constexpr double kNoisePx = 0.12;      ///< what one place weighs against priors: its noise is less, but errors alike for
                                      ///< neighbours do not average out
constexpr double kTightLoss = 3.5, kLeastNoisePx = 0.04;
constexpr double kToldApart = 0.8;    ///< a value whose uncertainty stays above this share of its prior was not told
constexpr double kGauge = 1e-5;       ///< how closely the mean of turns and places is held, radians and metres
constexpr double kPositionsTell = 0.6;   ///< and to this share before other places of the cameras are
constexpr double kDistortionTells = 0.96; ///< misses must shrink to this share before distortion is believed
constexpr double kFarNoise = 1.25, kFarSlackPx = 0.04; ///< no parallax is visible when misses grow by less without it
constexpr double kLeastWidth = 0.12, kMeanSlack = 0.02; ///< 1/m
constexpr double kBeyond = 0.02;      ///< how far beyond infinity noise alone may put a point, 1/m
constexpr double kOwnDistances = 8;   ///< neighbours are about as far away: distances hardly speak for one another
constexpr double kMeanInWidths = 1.5; ///< where the mean of inverse distances is thought to lie, in widths of their spread
constexpr int kRadialTerms = 2;       ///< of the four, those that are solved

/// The values of one camera, or of all that share them.
struct TurnBlock {
    double v[3] = {};
};
struct LensBlock {
    double log_focal[1] = {}, centre[2] = {}, radial[4] = {};
};

struct PointBlock {
    Vec3 d, e1, e2;
    double v[3] = {}; ///< along e1, along e2, inverse distance
    Vec3 direction() const { return (d + v[0] * e1 + v[1] * e2).normalized(); }
    double inverse() const { return v[2] / (d + v[0] * e1 + v[1] * e2).norm(); }
};
PointBlock point_about(const Vec3& d) {
    PointBlock p;
    p.d = d;
    p.e1 = (std::abs(d.y()) < 0.8 ? Vec3(0, 1, 0) : Vec3(1, 0, 0)).cross(d).normalized();
    p.e2 = d.cross(p.e1);
    return p;
}

/// One end of a point: where the camera should see it, minus where it did, over the noise.
struct EndMiss {
    const Camera* camera;
    Mat3 to_camera;
    const PointBlock* point;
    Vec2 px;
    double weight;

    template <class T>
    bool operator()(const T* turn, const T* move, const T* log_focal, const T* centre, const T* radial, const T* place, T* miss) const {
        T v[3], c[3], d[3];
        for (int i = 0; i < 3; ++i)
            v[i] = point->d[i] + place[0] * point->e1[i] + place[1] * point->e2[i] - place[2] * (camera->pose.position_m[i] + move[i]);
        for (int i = 0; i < 3; ++i) c[i] = to_camera(i, 0) * v[0] + to_camera(i, 1) * v[1] + to_camera(i, 2) * v[2];
        const T back[3] = {-turn[0], -turn[1], -turn[2]};
        ceres::AngleAxisRotatePoint(back, c, d);
        LensChange<T> change{log_focal[0], {centre[0], centre[1]}, {radial[0], radial[1], radial[2], radial[3]}};
        T at[2];
        project_changed(camera->lens, change, d, at);
        miss[0] = (at[0] - px.x()) * weight;
        miss[1] = (at[1] - px.y()) * weight;
        return true;
    }
};

/// How far one place of a drawn line lies from the line's great circle, in pixels. The place's ray follows the lens by
/// the implicit function theorem: Newton's last step is done with derivatives.
struct LineMiss {
    const Camera* camera;
    Mat3 to_rig;
    const PointBlock* normal;
    Vec2 px;
    double weight;

    template <class T>
    bool operator()(const T* turn, const T* log_focal, const T* centre, const T* radial, const T* tilt, T* miss) const {
        using std::exp;
        using std::sin;
        using std::cos;
        using std::sqrt;
        const Lens& lens = camera->lens;
        LensChange<T> change{log_focal[0], {centre[0], centre[1]}, {radial[0], radial[1], radial[2], radial[3]}};
        const T f = lens.focal_px * exp(change.log_focal);
        const T x = (px.x() - lens.center_px.x() - centre[0]) / f, y = (px.y() - lens.center_px.y() - centre[1]) / f;
        const T r = sqrt(x * x + y * y + 1e-20);
        T theta = r; // any start; Newton on the whole value converges, derivatives with it
        for (int i = 0; i < 12; ++i) {
            constexpr double kStep = 1e-6;
            const T here = bent_radius(lens, change, base_radius(lens.projection, theta));
            const T there = bent_radius(lens, change, base_radius(lens.projection, T(theta + kStep)));
            theta = theta - (here - r) * kStep / (there - here);
        }
        const T c[3] = {sin(theta) * x / r, sin(theta) * y / r, cos(theta)};
        T turned[3];
        ceres::AngleAxisRotatePoint(turn, c, turned);
        T sum = T(0), length = T(0);
        for (int i = 0; i < 3; ++i) {
            const T n = normal->d[i] + tilt[0] * normal->e1[i] + tilt[1] * normal->e2[i];
            sum += n * (to_rig(i, 0) * turned[0] + to_rig(i, 1) * turned[1] + to_rig(i, 2) * turned[2]);
            length += n * n;
        }
        miss[0] = sum / sqrt(length) * lens.focal_px * weight;
        return true;
    }
};

/// An upright line's plane holds the upright direction.
struct UprightMiss {
    const PointBlock *normal, *up;
    double weight;
    template <class T>
    bool operator()(const T* tilt, const T* lean, T* miss) const {
        T dot = T(0);
        for (int i = 0; i < 3; ++i)
            dot += (normal->d[i] + tilt[0] * normal->e1[i] + tilt[1] * normal->e2[i]) *
                   (up->d[i] + lean[0] * up->e1[i] + lean[1] * up->e2[i]);
        miss[0] = dot * weight;
        return true;
    }
};

/// A value held near another with a stated strength.
class Prior : public ceres::CostFunction {
  public:
    Prior(std::vector<double> at, double sigma) : at_(std::move(at)), sigma_(sigma) {
        set_num_residuals(int(at_.size()));
        mutable_parameter_block_sizes()->push_back(int(at_.size()));
    }
    bool Evaluate(double const* const* v, double* r, double** j) const override {
        const std::size_t n = at_.size();
        for (std::size_t i = 0; i < n; ++i) r[i] = (v[0][i] - at_[i]) / sigma_;
        if (j && j[0])
            for (std::size_t i = 0; i < n * n; ++i) j[0][i] = i % (n + 1) ? 0 : 1 / sigma_;
        return true;
    }

  private:
    std::vector<double> at_;
    double sigma_;
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

/// The mean of all cameras' turns (or places) stays: what a solve cannot know is not moved.
class MeanStays : public ceres::CostFunction {
  public:
    explicit MeanStays(std::vector<Mat3> axes) : axes_(std::move(axes)) {
        set_num_residuals(3);
        for (std::size_t i = 0; i < axes_.size(); ++i) mutable_parameter_block_sizes()->push_back(3);
    }
    bool Evaluate(double const* const* v, double* r, double** j) const override {
        Eigen::Map<Vec3> sum(r);
        sum.setZero();
        const double scale = 1 / (kGauge * double(axes_.size()));
        for (std::size_t i = 0; i < axes_.size(); ++i) sum += scale * (axes_[i] * Eigen::Map<const Vec3>(v[i]));
        if (j)
            for (std::size_t i = 0; i < axes_.size(); ++i)
                if (j[i])
                    for (Eigen::Index r3 = 0; r3 < 3; ++r3)
                        for (Eigen::Index c3 = 0; c3 < 3; ++c3) j[i][3 * r3 + c3] = scale * axes_[i](r3, c3);
        return true;
    }

  private:
    std::vector<Mat3> axes_;
};

class Stop : public ceres::IterationCallback {
  public:
    explicit Stop(const Cancel& cancel) : cancel_(cancel) {}
    ceres::CallbackReturnType operator()(const ceres::IterationSummary&) override {
        return cancel_.raised() ? ceres::SOLVER_ABORT : ceres::SOLVER_CONTINUE;
    }

  private:
    Cancel cancel_;
};

struct FitEye {
    LensMap map;
    Mat3 to_camera;
    Vec3 position;
};
Vec2 miss_of(const FitEye& eye, const PointBlock& p, const Vec2& px) {
    return px - eye.map.project_anywhere(eye.to_camera * (p.d + p.v[0] * p.e1 + p.v[1] * p.e2 - p.v[2] * eye.position));
}

PointFit fit_one(const FitEye& a, const FitEye& b, const Sight& s, const double* fixed) {
    PointFit fit;
    const auto da = a.map.unproject(s.a_px), db = b.map.unproject(s.b_px);
    const auto outside = [&](const LensMap& map, const Vec2& px) { // past the rim, a ray is still needed
        const Vec2 c = map.lens().circle.center_px;
        return map.unproject(c + (px - c) * 0.98 * map.lens().circle.radius_px / std::max(1e-9, (px - c).norm()));
    };
    const Vec3 wa = a.to_camera.transpose() * (da ? *da : outside(a.map, s.a_px).value_or(Vec3(0, 0, 1)));
    const Vec3 wb = b.to_camera.transpose() * (db ? *db : outside(b.map, s.b_px).value_or(Vec3(0, 0, 1)));
    PointBlock p = point_about((wa + wb).normalized());
    // A first distance where the two rays come nearest: sin of the angle between them over the baseline across.
    if (fixed) {
        p.v[2] = *fixed;
    } else {
        const Vec3 base = a.position - b.position, across = base - base.dot(p.d) * p.d;
        if (across.squaredNorm() > 1e-12) p.v[2] = (wb - wa).dot(across) / across.squaredNorm();
    }
    const auto miss = [&](const double v[3]) {
        Eigen::Vector4d r;
        const Vec3 x = p.d + v[0] * p.e1 + v[1] * p.e2;
        r << a.map.project_anywhere(a.to_camera * (x - v[2] * a.position)) - s.a_px,
            b.map.project_anywhere(b.to_camera * (x - v[2] * b.position)) - s.b_px;
        return r;
    };
    const int free = fixed ? 2 : 3;
    double damping = 1e-9;
    Eigen::Vector4d now = miss(p.v);
    for (int round = 0; round < 20; ++round) {
        Eigen::Matrix<double, 4, 3> j = Eigen::Matrix<double, 4, 3>::Zero();
        for (int k = 0; k < free; ++k) {
            double v[3] = {p.v[0], p.v[1], p.v[2]};
            const double step = 1e-6;
            v[k] += step;
            j.col(k) = (miss(v) - now) / step;
        }
        Mat3 normal = j.transpose() * j;
        normal.diagonal().array() += damping * normal.diagonal().maxCoeff() + 1e-12;
        const Vec3 move = -normal.ldlt().solve(j.transpose() * now);
        double next[3] = {p.v[0] + move[0], p.v[1] + move[1], free == 3 ? p.v[2] + move[2] : p.v[2]};
        const Eigen::Vector4d then = miss(next);
        if (then.squaredNorm() > now.squaredNorm()) {
            damping = std::max(1e-6, damping * 10);
            if (damping > 1) break;
            continue;
        }
        const bool settled = now.squaredNorm() - then.squaredNorm() < 1e-14 * (1 + now.squaredNorm());
        std::copy(next, next + 3, p.v);
        now = then;
        if (settled) break;
    }
    fit.direction = p.direction();
    fit.inverse_m = p.inverse();
    fit.miss_a = -now.head<2>();
    fit.miss_b = -now.tail<2>();
    const auto angle = [&](const FitEye& eye, const std::optional<Vec3>& seen) {
        if (!seen) return 0.0;
        const Vec3 d = eye.to_camera * (fit.direction - fit.inverse_m * eye.position).normalized();
        return std::atan2(d.cross(*seen).norm(), d.dot(*seen));
    };
    fit.miss_a_rad = angle(a, da);
    fit.miss_b_rad = angle(b, db);
    return fit;
}

/// One thing and all places at which cameras see it.
struct Track {
    struct End {
        std::size_t camera;
        Vec2 px;
        double weight;
    };
    std::vector<End> ends;
};

/// All that Ceres works on, and the one place that knows which block belongs to whom.
class Bundle {
  public:
    Bundle(const BundleProblem& problem, const Cancel& cancel) : p_(problem), cancel_(cancel) {
        const std::size_t n = p_.start.cameras.size();
        turns_.resize(n);
        moves_.resize(n);
        lenses_.resize(n);
        const auto fits = fit_points(p_.start, p_.sights);
        std::map<int, std::size_t> numbers;
        for (std::size_t i = 0; i < p_.sights.size(); ++i) {
            const Sight& s = p_.sights[i];
            const auto known = s.track >= 0 ? numbers.find(s.track) : numbers.end();
            if (known != numbers.end()) {
                tracks_[known->second].ends.push_back({s.b, s.b_px, s.weight});
                track_of_.push_back(known->second);
                continue;
            }
            if (s.track >= 0) numbers[s.track] = tracks_.size();
            track_of_.push_back(tracks_.size());
            tracks_.push_back({{{s.a, s.a_px, s.weight}, {s.b, s.b_px, s.weight}}});
            points_.push_back(point_about(fits[i].direction));
            points_.back().v[2] = p_.settings.depth_per_point ? std::clamp(fits[i].inverse_m, 0.0, 3.0) : agree();
        }
        for (const auto& l : p_.lines) normals_.push_back(point_about(plane_of(l)));
        up_ = point_about(first_up());
        held_turn_.assign(n, {});
        held_move_.assign(n, {});
        held_lens_.assign(n, {});
    }

    /// How inverse distances are spread, from those solved so far (one step of empirical Bayes). Lenses that stand close
    /// together can hardly tell a wider view from nearer things all round, so what is known of distances beforehand
    /// matters: each lies near a common mean, which is solved, within a width that is estimated; and the farthest things
    /// are far compared with how distances differ, so that without visible parallax everything is far.
    /// False when the width has settled.
    bool draw_distances() {
        if (!p_.settings.depth_per_point || points_.empty()) return false;
        const double before = width_;
        std::vector<double> squares;
        for (std::size_t i = 0; i < points_.size(); ++i)
            squares.push_back(std::pow(points_[i].v[2] - mean_[0], 2) - std::pow(inverse_noise(i), 2));
        // The mean of squares of a bell, from its median: wrong matches must not widen it.
        const auto half = squares.begin() + std::ptrdiff_t(squares.size() / 2);
        std::nth_element(squares.begin(), half, squares.end());
        width_ = std::clamp(std::sqrt(std::max(0.0, *half)) / 0.6745, kLeastWidth, 1.0);
        return std::abs(width_ - before) > 0.05 * before;
    }

    /// Returns the cost that is left.
    double solve(bool with_lens, bool with_position, double loss_px) {
        build(with_lens, with_position, loss_px);
        ceres::Solver::Options o;
        o.linear_solver_type = ceres::DENSE_SCHUR;
        o.max_num_iterations = most_steps_;
        o.num_threads = 2;
        o.function_tolerance = 1e-9;
        o.logging_type = ceres::SILENT;
        auto ordering = std::make_shared<ceres::ParameterBlockOrdering>();
        std::vector<double*> blocks;
        problem_->GetParameterBlocks(&blocks);
        for (double* b : blocks) ordering->AddElementToGroup(b, 1);
        for (auto& point : points_) ordering->AddElementToGroup(point.v, 0);
        o.linear_solver_ordering = ordering;
        Stop stop(cancel_);
        o.callbacks.push_back(&stop);
        ceres::Solver::Summary summary;
        ceres::Solve(o, problem_.get(), &summary);
        cancel_.check();
        rounds_ += int(summary.iterations.size());
        return summary.final_cost;
    }

    Rig rig() const {
        Rig rig = p_.start;
        for (std::size_t i = 0; i < rig.cameras.size(); ++i) {
            Camera& c = rig.cameras[i];
            const LensBlock& l = lens(i);
            if (!fixed_turn(i)) c.pose.turn = turn_of(rotation_of(c.pose.turn) * rotation_from_vector(Vec3(turns_[i].v[0], turns_[i].v[1], turns_[i].v[2])));
            c.pose.position_m += Vec3(moves_[i].v[0], moves_[i].v[1], moves_[i].v[2]);
            if (p_.lens_locked[i]) continue;
            c.lens.focal_px *= std::exp(l.log_focal[0]);
            c.lens.center_px += Vec2(l.centre[0], l.centre[1]);
            for (std::size_t k = 0; k < 4; ++k) c.lens.radial[k] += l.radial[k];
        }
        return rig;
    }

    /// Uncertainties of everything that was free, and which of it the points could not tell (then held from now on).
    bool judge(double noise_px, std::vector<ValueFigure>& values);
    /// A lens that came out impossible goes back, and its distortion stays as it was.
    bool put_back(std::size_t camera) {
        LensBlock& l = lens(camera);
        if (put_back_[camera]) return false;
        put_back_[camera] = true;
        l = {};
        for (std::size_t k = 3; k < 5; ++k) held_lens(camera)[k] = true;
        return true;
    }
    int rounds() const { return rounds_; }
    /// Where points begin to count less, pixels: a few times what they turned out to be good to.
    double tight_loss_px() const { return kTightLoss * std::max(kLeastNoisePx, noise()); }
    void limit_steps(int most) { most_steps_ = most; }
    /// What one place is good to along one axis, from how the places of each thing miss what they agree on; each counts
    /// for what is left over once the thing's own place is fitted. Robust: from the median.
    double noise() const {
        std::vector<double> misses;
        const Rig now = rig();
        std::vector<FitEye> eyes;
        for (const auto& c : now.cameras)
            if (fault_in(c.lens)) return 1e9;
            else eyes.push_back({LensMap(c.lens), rotation_of(c.pose.turn).transpose(), c.pose.position_m});
        for (std::size_t i = 0; i < tracks_.size(); ++i) {
            const double numbers = 2.0 * double(tracks_[i].ends.size()), left = numbers - (distances_free() ? 3 : 2);
            for (const auto& end : tracks_[i].ends) misses.push_back(miss_of(eyes[end.camera], points_[i], end.px).norm() * std::sqrt(numbers / left));
        }
        if (misses.empty()) return kNoisePx;
        std::nth_element(misses.begin(), misses.begin() + std::ptrdiff_t(misses.size() / 2), misses.end());
        return misses[misses.size() / 2] / 1.1774;
    }
    /// By how much each sight misses what all sights of its thing agree on, pixels.
    std::vector<double> together() const {
        const Rig now = rig();
        std::vector<FitEye> eyes;
        for (const auto& c : now.cameras) eyes.push_back({LensMap(c.lens), rotation_of(c.pose.turn).transpose(), c.pose.position_m});
        std::vector<double> out;
        for (std::size_t i = 0; i < p_.sights.size(); ++i) {
            const Sight& s = p_.sights[i];
            out.push_back(std::sqrt(0.5 * (miss_of(eyes[s.a], points_[track_of_[i]], s.a_px).squaredNorm() + miss_of(eyes[s.b], points_[track_of_[i]], s.b_px).squaredNorm())));
        }
        return out;
    }
    /// Takes everything to be infinitely far from now on, or (with what remember() kept) not.
    void set_far() {
        far_ = true;
        for (auto& p : points_) p.v[2] = 0;
    }
    /// Keeps all places, or lets them go again.
    void hold_positions(bool on) {
        for (auto& h : held_move_) h = {on, on, on};
    }
    /// Keeps all distortion terms at their prior, or lets them go again.
    void hold_distortion(bool on) {
        for (std::size_t c = 0; c < held_lens_.size(); ++c) {
            held_lens_[c][3] = held_lens_[c][4] = on;
            if (on)
                for (std::size_t k = 0; k < 4; ++k)
                    lenses_[c].radial[k] = p_.prior.cameras[c].lens.radial[k] - p_.start.cameras[c].lens.radial[k];
        }
    }
    struct Memory {
        std::vector<TurnBlock> turns, moves;
        std::vector<LensBlock> lenses;
        std::vector<PointBlock> points;
    };
    Memory remember() const { return {turns_, moves_, lenses_, points_}; }
    void go_back(const Memory& m, bool far = false) {
        far_ = far;
        turns_ = m.turns, moves_ = m.moves, lenses_ = m.lenses, points_ = m.points;
    }

  private:
    bool distances_free() const { return p_.settings.depth_per_point && !far_; }
    double agree() const { return p_.agree_distance_m > 0 ? 1 / p_.agree_distance_m : 0; }
    std::size_t owner(std::size_t camera, Freedom freedom) const {
        if (freedom != Freedom::shared) return camera;
        for (std::size_t i = 0; i < camera; ++i)
            if (p_.alike[i] == p_.alike[camera] && !p_.lens_locked[i]) return i;
        return camera;
    }
    /// Lens values: 0 focal length, 1 and 2 centre, 3 and 4 distortion.
    double* focal(std::size_t c) { return lenses_[owner(c, p_.settings.focal)].log_focal; }
    double* centre(std::size_t c) { return lenses_[owner(c, p_.settings.centre)].centre; }
    double* radial(std::size_t c) { return lenses_[owner(c, p_.settings.distortion)].radial; }
    LensBlock lens(std::size_t c) const {
        LensBlock l;
        const auto &f = lenses_[owner(c, p_.settings.focal)], &m = lenses_[owner(c, p_.settings.centre)], &r = lenses_[owner(c, p_.settings.distortion)];
        l.log_focal[0] = f.log_focal[0];
        std::copy(m.centre, m.centre + 2, l.centre);
        std::copy(r.radial, r.radial + 4, l.radial);
        return l;
    }
    LensBlock& lens(std::size_t c) { return lenses_[owner(c, p_.settings.distortion)]; }
    std::array<bool, 5>& held_lens(std::size_t c) { return held_lens_[owner(c, p_.settings.distortion)]; }
    bool fixed_turn(std::size_t c) const { return p_.pose_locked[c] || p_.settings.turn == Freedom::locked; }
    bool fixed_move(std::size_t c) const { return p_.pose_locked[c] || p_.settings.position == Freedom::locked; }

    Vec3 plane_of(const LineSight& l) const {
        const Camera& c = p_.start.cameras[l.camera];
        const LensMap map(c.lens);
        Mat3 sum = Mat3::Zero();
        for (const auto& px : l.places_px)
            if (const auto d = map.unproject(px)) {
                const Vec3 w = rotation_of(c.pose.turn) * *d;
                sum += w * w.transpose();
            }
        const Eigen::SelfAdjointEigenSolver<Mat3> e(sum);
        return e.eigenvectors().col(0);
    }
    Vec3 first_up() const {
        Mat3 sum = Mat3::Zero();
        int n = 0;
        for (std::size_t i = 0; i < p_.lines.size(); ++i)
            if (p_.lines[i].kind == LineKind::vertical) sum += normals_[i].d * normals_[i].d.transpose(), ++n;
        if (n < 2) return Vec3(0, -1, 0);
        return Eigen::SelfAdjointEigenSolver<Mat3>(sum).eigenvectors().col(0);
    }

    /// What noise makes of one inverse distance, 1/m.
    double inverse_noise(std::size_t i) const {
        const Camera &a = p_.start.cameras[tracks_[i].ends[0].camera], &b = p_.start.cameras[tracks_[i].ends[1].camera];
        const Vec3 base = a.pose.position_m - b.pose.position_m;
        return 1.4 * kNoisePx / a.lens.focal_px / std::max(1e-4, (base - base.dot(points_[i].d) * points_[i].d).norm());
    }
    void build(bool with_lens, bool with_position, double loss_px);
    void free_part(double* block, int size, const std::vector<bool>& held);

    const BundleProblem& p_;
    Cancel cancel_;
    std::vector<TurnBlock> turns_, moves_;
    std::vector<LensBlock> lenses_;
    std::vector<Track> tracks_;
    std::vector<std::size_t> track_of_; ///< of each sight
    std::vector<PointBlock> points_, normals_;
    PointBlock up_;
    std::vector<std::array<bool, 3>> held_turn_, held_move_;
    std::vector<std::array<bool, 5>> held_lens_;
    std::map<std::size_t, bool> put_back_;
    std::unique_ptr<ceres::Problem> problem_;
    std::vector<ceres::ResidualBlockId> ends_, line_ends_, priors_;
    int rounds_ = 0, most_steps_ = 60;
    bool far_ = false;
    double mean_[1] = {0.3}, width_ = 0.3; ///< of inverse distances, 1/m
};

void Bundle::free_part(double* block, int size, const std::vector<bool>& held) {
    if (!problem_->HasParameterBlock(block)) return;
    std::vector<int> constant;
    for (int i = 0; i < size; ++i)
        if (held[std::size_t(i)]) constant.push_back(i);
    if (int(constant.size()) == size) problem_->SetParameterBlockConstant(block);
    else if (!constant.empty()) problem_->SetManifold(block, new ceres::SubsetManifold(size, constant));
}

void Bundle::build(bool with_lens, bool with_position, double loss_px) {
    problem_ = std::make_unique<ceres::Problem>();
    ends_.clear();
    line_ends_.clear();
    priors_.clear();
    const SolveSettings& set = p_.settings;
    for (std::size_t i = 0; i < tracks_.size(); ++i) {
        for (const auto& end : tracks_[i].ends) {
            const std::size_t c = end.camera;
            const Camera& camera = p_.start.cameras[c];
            auto* cost = new ceres::AutoDiffCostFunction<EndMiss, 2, 3, 3, 1, 2, 4, 3>(
                new EndMiss{&camera, rotation_of(camera.pose.turn).transpose(), &points_[i], end.px, end.weight / kNoisePx});
            ends_.push_back(problem_->AddResidualBlock(cost, new ceres::CauchyLoss(loss_px / kNoisePx), turns_[c].v, moves_[c].v,
                                                       focal(c), centre(c), radial(c), points_[i].v));
        }
        if (!distances_free()) problem_->SetManifold(points_[i].v, new ceres::SubsetManifold(3, {2}));
        else problem_->AddResidualBlock(new NearMean(width_ * std::sqrt(std::max(1.0, double(tracks_.size()) / kOwnDistances)), std::max(kBeyond, inverse_noise(i))),
                                        nullptr, points_[i].v, mean_);
    }
    for (std::size_t i = 0; i < p_.lines.size(); ++i) {
        const LineSight& l = p_.lines[i];
        const Camera& camera = p_.start.cameras[l.camera];
        for (const auto& px : l.places_px) {
            auto* cost = new ceres::AutoDiffCostFunction<LineMiss, 1, 3, 1, 2, 4, 2>(
                new LineMiss{&camera, rotation_of(camera.pose.turn), &normals_[i], px, 1 / kNoisePx});
            line_ends_.push_back(problem_->AddResidualBlock(cost, new ceres::CauchyLoss(2 * loss_px / kNoisePx), turns_[l.camera].v,
                                                            focal(l.camera), centre(l.camera), radial(l.camera), normals_[i].v));
            problem_->SetManifold(normals_[i].v, nullptr);
        }
        if (l.kind == LineKind::vertical) {
            auto* cost = new ceres::AutoDiffCostFunction<UprightMiss, 1, 2, 2>(
                new UprightMiss{&normals_[i], &up_, camera.lens.focal_px / kNoisePx});
            line_ends_.push_back(problem_->AddResidualBlock(cost, new ceres::CauchyLoss(2 * loss_px / kNoisePx), normals_[i].v, up_.v));
        }
    }
    if (problem_->HasParameterBlock(mean_))
        problem_->AddResidualBlock(new Prior({kMeanInWidths * width_}, width_ + kMeanSlack), nullptr, mean_);
    std::vector<double*> all_turns, all_moves;
    std::vector<Mat3> turn_axes, move_axes;
    for (std::size_t c = 0; c < p_.start.cameras.size(); ++c) {
        const Camera &from = p_.start.cameras[c], &near = p_.prior.cameras[c];
        const auto prior = [&](double* block, std::vector<double> at, double sigma) {
            if (problem_->HasParameterBlock(block))
                priors_.push_back(problem_->AddResidualBlock(new Prior(std::move(at), sigma), nullptr, block));
        };
        prior(turns_[c].v, {0, 0, 0}, radians(set.turn_sigma_deg));
        const Vec3 move = near.pose.position_m - from.pose.position_m;
        prior(moves_[c].v, {move.x(), move.y(), move.z()}, set.position_sigma_mm * 1e-3);
        const double ring = from.lens.circle.radius_px * set.centre_sigma_percent / 100;
        if (owner(c, set.focal) == c)
            prior(focal(c), {std::log(near.lens.focal_px / from.lens.focal_px)}, set.focal_sigma_percent / 100);
        if (owner(c, set.centre) == c) {
            const Vec2 shift = near.lens.center_px - from.lens.center_px;
            prior(centre(c), {shift.x(), shift.y()}, ring);
        }
        if (owner(c, set.distortion) == c) {
            std::vector<double> at;
            for (std::size_t k = 0; k < 4; ++k) at.push_back(near.lens.radial[k] - from.lens.radial[k]);
            prior(radial(c), at, set.distortion_sigma);
        }
        if (problem_->HasParameterBlock(turns_[c].v)) {
            all_turns.push_back(turns_[c].v);
            turn_axes.push_back(rotation_of(from.pose.turn));
            all_moves.push_back(moves_[c].v);
            move_axes.push_back(Mat3::Identity());
        }
        const auto& h = held_lens_[c];
        const bool no_lens = !with_lens;
        free_part(turns_[c].v, 3, {fixed_turn(c) || held_turn_[c][0], fixed_turn(c) || held_turn_[c][1], fixed_turn(c) || held_turn_[c][2]});
        const bool no_move = !with_position || fixed_move(c) || !set.depth_per_point;
        free_part(moves_[c].v, 3, {no_move || held_move_[c][0], no_move || held_move_[c][1], no_move || held_move_[c][2]});
        if (owner(c, set.focal) == c)
            free_part(focal(c), 1, {no_lens || p_.lens_locked[c] || set.focal == Freedom::locked || h[0]});
        const bool no_centre = no_lens || p_.lens_locked[c] || set.centre == Freedom::locked;
        if (owner(c, set.centre) == c) free_part(centre(c), 2, {no_centre || h[1], no_centre || h[2]});
        const bool no_radial = no_lens || p_.lens_locked[c] || set.distortion == Freedom::locked;
        static_assert(kRadialTerms == 2);
        if (owner(c, set.distortion) == c) free_part(radial(c), 4, {no_radial || h[3], no_radial || h[4], true, true});
    }
    // With a pose locked, that camera holds the rig.
    const bool anchored = std::any_of(p_.pose_locked.begin(), p_.pose_locked.end(), [](bool b) { return b; });
    if (!anchored && !all_turns.empty()) {
        priors_.push_back(problem_->AddResidualBlock(new MeanStays(turn_axes), nullptr, all_turns));
        priors_.push_back(problem_->AddResidualBlock(new MeanStays(move_axes), nullptr, all_moves));
    }
}

bool Bundle::judge(double noise_px, std::vector<ValueFigure>& values) {
    // Columns: every camera value that is not held, then up and the lines' planes; points are eliminated one by one.
    std::vector<double*> blocks;
    struct Column {
        std::size_t camera;
        int kind, part; ///< 0 turn, 1 move, 2 focal, 3 centre, 4 radial
        double sigma;
    };
    std::vector<Column> columns;
    const SolveSettings& set = p_.settings;
    const auto add = [&](double* block, std::size_t c, int kind, int size, double sigma) {
        if (!problem_->HasParameterBlock(block) || problem_->IsParameterBlockConstant(block)) return;
        blocks.push_back(block);
        const auto* m = problem_->GetManifold(block);
        std::vector<int> parts;
        if (!m || m->TangentSize() == size)
            for (int i = 0; i < size; ++i) parts.push_back(i);
        else { // which parts are free: those that a tangent step moves
            for (int t = 0; t < m->TangentSize(); ++t) {
                std::vector<double> delta(std::size_t(m->TangentSize()), 0), from(block, block + size), to(from);
                delta[std::size_t(t)] = 1;
                m->Plus(from.data(), delta.data(), to.data());
                for (int i = 0; i < size; ++i)
                    if (to[std::size_t(i)] != from[std::size_t(i)]) parts.push_back(i);
            }
        }
        for (const int part : parts) columns.push_back({c, kind, part, sigma});
    };
    for (std::size_t c = 0; c < p_.start.cameras.size(); ++c) {
        add(turns_[c].v, c, 0, 3, radians(set.turn_sigma_deg));
        add(moves_[c].v, c, 1, 3, set.position_sigma_mm * 1e-3);
        if (owner(c, set.focal) == c) add(focal(c), c, 2, 1, set.focal_sigma_percent / 100);
        if (owner(c, set.centre) == c) add(centre(c), c, 3, 2, p_.start.cameras[c].lens.circle.radius_px * set.centre_sigma_percent / 100);
        if (owner(c, set.distortion) == c) add(radial(c), c, 4, 4, set.distortion_sigma);
    }
    const auto own = int(columns.size());
    std::vector<double*> all = blocks;
    int extra = own;
    for (auto& n : normals_)
        if (problem_->HasParameterBlock(n.v)) all.push_back(n.v), extra += 2;
    if (problem_->HasParameterBlock(up_.v)) all.push_back(up_.v), extra += 2;
    for (auto& point : points_) all.push_back(point.v);
    ceres::Problem::EvaluateOptions o;
    o.num_threads = 2;
    o.parameter_blocks = all;
    const auto jacobian = [&](const std::vector<ceres::ResidualBlockId>& rows) {
        o.residual_blocks = rows;
        ceres::CRSMatrix m;
        if (!rows.empty()) problem_->Evaluate(o, nullptr, nullptr, nullptr, &m);
        return m;
    };
    Eigen::MatrixXd told = Eigen::MatrixXd::Zero(extra, extra), held = Eigen::MatrixXd::Zero(extra, extra);
    const int depth = distances_free() ? 3 : 2;
    const ceres::CRSMatrix m = jacobian(ends_);
    int first_row = 0;
    for (std::size_t i = 0; i < points_.size(); ++i) {
        Mat3 pp = 1e-9 * Mat3::Identity();
        std::map<int, Vec3> cross;
        std::vector<std::pair<int, double>> row;
        const int rows = 2 * int(tracks_[i].ends.size());
        first_row += rows;
        for (int r = first_row - rows; r < first_row; ++r) {
            Vec3 point = Vec3::Zero();
            row.clear();
            for (int k = m.rows[std::size_t(r)]; k < m.rows[std::size_t(r + 1)]; ++k) {
                const int col = m.cols[std::size_t(k)];
                if (col >= extra) point[(col - extra) % depth] = m.values[std::size_t(k)];
                else row.emplace_back(col, m.values[std::size_t(k)]);
            }
            pp += point * point.transpose();
            for (const auto& [p, v] : row) {
                auto it = cross.try_emplace(p, Vec3::Zero()).first;
                it->second += v * point;
                for (const auto& [q, w] : row) told(p, q) += v * w;
            }
        }
        const Mat3 inverse = pp.inverse();
        for (const auto& [p, u] : cross)
            for (const auto& [q, w] : cross) told(p, q) -= u.dot(inverse * w);
    }
    const auto add_rows = [&](const ceres::CRSMatrix& rows, Eigen::MatrixXd& to) {
        for (int r = 0; r < rows.num_rows; ++r)
            for (int k = rows.rows[std::size_t(r)]; k < rows.rows[std::size_t(r + 1)]; ++k)
                for (int l = rows.rows[std::size_t(r)]; l < rows.rows[std::size_t(r + 1)]; ++l)
                    if (rows.cols[std::size_t(k)] < extra && rows.cols[std::size_t(l)] < extra)
                        to(rows.cols[std::size_t(k)], rows.cols[std::size_t(l)]) += rows.values[std::size_t(k)] * rows.values[std::size_t(l)];
    };
    add_rows(jacobian(line_ends_), told);
    add_rows(jacobian(priors_), held);
    const double scale = std::pow(kNoisePx / std::max(0.02, noise_px), 2);
    Eigen::MatrixXd sum = scale * told + held;
    sum.diagonal().array() += 1e-9;
    const Eigen::MatrixXd spread = sum.ldlt().solve(Eigen::MatrixXd::Identity(extra, extra));

    bool changed = false;
    values.clear();
    if (set.position != Freedom::locked)
        for (std::size_t c = 0; c < p_.start.cameras.size(); ++c)
            if (!p_.pose_locked[c] && held_move_[c][0] && problem_->HasParameterBlock(turns_[c].v))
                values.push_back({p_.start.cameras[c].id, "position", "mm", 1e3 * p_.start.cameras[c].pose.position_m.norm(), 1e3 * p_.start.cameras[c].pose.position_m.norm(),
                                  set.position_sigma_mm, false});
    if (set.distortion != Freedom::locked)
        for (std::size_t c = 0; c < p_.start.cameras.size(); ++c)
            if (!p_.lens_locked[c] && held_lens_[c][3] && problem_->HasParameterBlock(turns_[c].v))
                values.push_back({p_.start.cameras[c].id, "distortion", "", p_.start.cameras[c].lens.radial[0], p_.start.cameras[c].lens.radial[0],
                                  set.distortion_sigma, false});
    const Rig now = rig();
    for (int i = 0; i < own; ++i) {
        const Column& col = columns[std::size_t(i)];
        const Camera &was = p_.start.cameras[col.camera], &is = now.cameras[col.camera];
        const double sigma = std::sqrt(std::max(0.0, spread(i, i)));
        ValueFigure f;
        f.camera = was.id;
        f.determined = sigma < kToldApart * col.sigma;
        const auto set_figure = [&](const char* name, const char* unit, double before, double value, double s) {
            f.name = name, f.unit = unit, f.before = before, f.value = value, f.sigma = s;
        };
        const Turn &t0 = was.pose.turn, &t1 = is.pose.turn;
        switch (col.kind * 10 + col.part) {
        case 0: set_figure("pitch", "deg", t0.pitch_deg, t1.pitch_deg, degrees(sigma)); break;
        case 1: set_figure("yaw", "deg", t0.yaw_deg, t1.yaw_deg, degrees(sigma)); break;
        case 2: set_figure("roll", "deg", t0.roll_deg, t1.roll_deg, degrees(sigma)); break;
        case 10: case 11: case 12: {
            static const char* const kAxes[] = {"x", "y", "z"};
            set_figure(kAxes[col.part], "mm", 1e3 * was.pose.position_m[col.part], 1e3 * is.pose.position_m[col.part], 1e3 * sigma);
            break;
        }
        case 20: set_figure("focal length", "px", was.lens.focal_px, is.lens.focal_px, sigma * is.lens.focal_px); break;
        case 30: set_figure("centre x", "px", was.lens.center_px.x(), is.lens.center_px.x(), sigma); break;
        case 31: set_figure("centre y", "px", was.lens.center_px.y(), is.lens.center_px.y(), sigma); break;
        case 40: set_figure("k1", "", was.lens.radial[0], is.lens.radial[0], sigma); break;
        case 41: set_figure("k2", "", was.lens.radial[1], is.lens.radial[1], sigma); break;
        default: break;
        }
        if (!f.determined) {
            changed = true;
            const auto part = std::size_t(col.part);
            switch (col.kind) {
            case 0: held_turn_[col.camera][part] = true, turns_[col.camera].v[part] = 0; break;
            case 1:
                held_move_[col.camera][part] = true;
                moves_[col.camera].v[part] = p_.prior.cameras[col.camera].pose.position_m[col.part] - was.pose.position_m[col.part];
                break;
            case 2: held_lens_[col.camera][0] = true, focal(col.camera)[0] = std::log(p_.prior.cameras[col.camera].lens.focal_px / was.lens.focal_px); break;
            case 3: held_lens_[col.camera][1 + part] = true, centre(col.camera)[part] = p_.prior.cameras[col.camera].lens.center_px[col.part] - was.lens.center_px[col.part]; break;
            default: held_lens_[col.camera][3 + part] = true, radial(col.camera)[part] = p_.prior.cameras[col.camera].lens.radial[part] - was.lens.radial[part]; break;
            }
        }
        values.push_back(std::move(f));
    }
    return changed;
}

} // namespace

std::vector<PointFit> fit_points(const Rig& rig, std::span<const Sight> sights, const double* fixed) {
    std::vector<FitEye> eyes;
    for (const auto& c : rig.cameras) eyes.push_back({LensMap(c.lens), rotation_of(c.pose.turn).transpose(), c.pose.position_m});
    std::vector<PointFit> fits(sights.size());
    parallel_ranges(int(sights.size()), 256, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const Sight& s = sights[std::size_t(i)];
            fits[std::size_t(i)] = fit_one(eyes[s.a], eyes[s.b], s, fixed);
        }
    });
    return fits;
}

Rms rms_of(std::span<const PointFit> fits) {
    Rms rms;
    if (fits.empty()) return rms;
    for (const auto& f : fits) {
        rms.px += f.miss_a.squaredNorm() + f.miss_b.squaredNorm();
        rms.arcmin += f.miss_a_rad * f.miss_a_rad + f.miss_b_rad * f.miss_b_rad;
    }
    rms.px = std::sqrt(rms.px / (2.0 * double(fits.size())));
    rms.arcmin = degrees(std::sqrt(rms.arcmin / (2.0 * double(fits.size())))) * 60;
    return rms;
}

BundleSolution solve_bundle(const BundleProblem& problem, const Cancel& cancel) {
    if (problem.sights.empty() && problem.lines.empty())
        throw Error("there is nothing to solve from", "the shot's points", "Find points, or set some by hand");
    Bundle bundle(problem, cancel);
    BundleSolution out;
    const double fixed = problem.agree_distance_m > 0 ? 1 / problem.agree_distance_m : 0;
    const double* depth = problem.settings.depth_per_point ? nullptr : &fixed;
    bool positions = problem.warm && problem.warm->positions; // believed last, and only where the points speak for them
    if (problem.warm) {
        // Not far from the end already: what was decided stays, and a few steps are enough.
        bundle.hold_distortion(!problem.warm->distortion);
        if (problem.warm->far) bundle.set_far();
        bundle.limit_steps(problem.last ? 60 : 30);
        bundle.draw_distances();
        bundle.hold_positions(!positions);
        bundle.solve(true, positions, kTightLoss * std::max(kLeastNoisePx, problem.warm->noise_px));
        bundle.draw_distances();
        bundle.solve(true, positions, bundle.tight_loss_px());
        out.decided = *problem.warm;
    }
    if (!problem.warm) bundle.solve(false, false, 12);
    const double loss = problem.rough ? 4 : 1;
    // In the last rounds points that miss by a few times the noise count less: edges of things, where two lenses see
    // different grounds behind, would pull otherwise.
    const auto settle = [&] {
        double cost = bundle.solve(true, positions, loss);
        for (int round = 0; round < 3 && bundle.draw_distances(); ++round)
            cost = bundle.solve(true, positions, problem.rough ? loss : bundle.tight_loss_px());
        return cost;
    };
    // A wider view, more distortion and nearer things look much alike, and the valley between them is long: it is
    // entered from both ends, everything infinitely far and distances free, and the lower end kept.
    bool is_far = false;
    if (problem.warm) {
        is_far = problem.warm->far;
    } else if (depth != nullptr || problem.sights.size() < 20) {
        bundle.solve(true, false, 4);
        settle();
    } else {
        const auto begin = bundle.remember();
        bundle.set_far();
        bundle.solve(true, false, 4);
        bundle.solve(true, false, loss);
        const auto far = bundle.remember();
        const double far_noise = bundle.noise();
        bundle.go_back(far);
        const double from_far = settle();
        const double free_noise = bundle.noise();
        // Without visible parallax, distances are not left free to hide what is wrong with a lens.
        if (far_noise < kFarNoise * free_noise + kFarSlackPx) {
            bundle.go_back(far, true);
            is_far = true;
        } else if (!problem.rough) {
            const auto one = bundle.remember();
            bundle.go_back(begin);
            bundle.solve(true, false, 4);
            if (settle() > from_far) bundle.go_back(one);
        }
    }
    // Distortion only where the points speak for it: near a rim alone it can hardly be told from the focal length.
    bool bent = problem.warm ? problem.warm->distortion : problem.settings.distortion != Freedom::locked;
    if (!problem.rough && !problem.warm && bent) {
        const auto with = bundle.remember();
        const double bent_noise = bundle.noise();
        bundle.hold_distortion(true);
        if (is_far) bundle.solve(true, false, bundle.tight_loss_px());
        else settle();
        if (bent_noise < kDistortionTells * bundle.noise()) {
            bundle.hold_distortion(false);
            bundle.go_back(with, is_far);
        } else {
            bent = false;
        }
    }
    // Places last, and only where they make misses clearly smaller: with them free a wider view, nearer things and cameras
    // a little farther out all fit almost alike.
    if (!problem.warm && !problem.rough && !is_far && depth == nullptr && problem.settings.position != Freedom::locked) {
        const auto without = bundle.remember();
        const double held_noise = bundle.noise();
        positions = true;
        settle();
        if (bundle.noise() > kPositionsTell * held_noise) {
            bundle.go_back(without);
            positions = false;
        }
    }
    bundle.hold_positions(!positions);
    out.decided = {is_far, bent, positions, bundle.noise()};
    if (problem.rough || !problem.last) {
        out.rig = bundle.rig();
        for (std::size_t c = 0; c < out.rig.cameras.size(); ++c)
            if (fault_in(out.rig.cameras[c].lens)) out.rig.cameras[c].lens = problem.start.cameras[c].lens;
        out.fits = fit_points(out.rig, problem.sights, depth);
        out.noise_px = bundle.noise();
        out.together_px = bundle.together();
        return out;
    }
    for (int round = 0; round < 4; ++round) {
        Rig rig = bundle.rig();
        bool impossible = false;
        for (std::size_t c = 0; c < rig.cameras.size(); ++c)
            if (const auto fault = fault_in(rig.cameras[c].lens)) {
                if (!bundle.put_back(c))
                    throw Error(fmt::format("the points ask for an impossible lens: {} {}", fault->member, fault->what),
                                "camera " + rig.cameras[c].id, "Lock its lens, or drop the points that are wrong");
                impossible = true;
            }
        if (impossible) {
            bundle.solve(true, true, bundle.tight_loss_px());
            continue;
        }
        out.fits = fit_points(rig, problem.sights, depth);
        out.noise_px = bundle.noise();
        std::vector<ValueFigure> values;
        const bool again = bundle.judge(out.noise_px, values);
        // What was put back in an earlier round keeps its place in the list.
        for (const auto& old : out.values)
            if (!old.determined && std::none_of(values.begin(), values.end(), [&](const ValueFigure& v) { return v.camera == old.camera && v.name == old.name; }))
                values.push_back(old);
        out.values = std::move(values);
        if (!again) break;
        bundle.solve(true, true, bundle.tight_loss_px());
    }
    out.rig = bundle.rig();
    for (const auto& c : out.rig.cameras)
        if (const auto fault = fault_in(c.lens))
            throw Error(fmt::format("the points ask for an impossible lens: {} {}", fault->member, fault->what), "camera " + c.id,
                        "Lock its lens, or drop the points that are wrong");
    for (auto& v : out.values) { // put back to where they were held
        const Camera* c = find_camera(out.rig, v.camera);
        if (v.determined || !c) continue;
        if (v.name == "position") continue;
        if (v.unit == "mm") v.value = 1e3 * c->pose.position_m[v.name == "x" ? 0 : v.name == "y" ? 1 : 2];
        else v.value = v.name == "focal length" ? c->lens.focal_px : v.name == "centre x" ? c->lens.center_px.x() : v.name == "centre y" ? c->lens.center_px.y() : v.name == "k1" ? c->lens.radial[0] : v.name == "k2" ? c->lens.radial[1] : v.before;
    }
    out.fits = fit_points(out.rig, problem.sights, depth);
    out.together_px = bundle.together();
    out.rounds = bundle.rounds();
    return out;
}

} // namespace porb
