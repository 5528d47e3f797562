#include "solve/bundle_state.h"

#include "base/angle.h"
#include "project/orientation.h"
#include "solve/edges.h"

#include <Eigen/Dense>

#include <map>
#include <thread>

namespace porb {

namespace {

constexpr double kLeastWidth = 0.12, kMeanSlack = 0.02; ///< 1/m
constexpr double kBeyond = 0.02; ///< how far beyond infinity noise alone may put a point, 1/m
constexpr double kOwnDistances =
    8; ///< neighbours are about as far away: distances hardly speak for one another
constexpr double kMeanInWidths =
    1.5; ///< where the mean of inverse distances is thought to lie, in widths of their spread
constexpr double kTolerance = 1e-8, kFarTolerance = 1e-6; ///< of the cost, where a solve ends
constexpr int kRadialTerms = 2;                           ///< of the four, those that are solved

class Stop : public ceres::IterationCallback {
  public:
    explicit Stop(const Cancel& cancel) : cancel_(cancel) {}
    ceres::CallbackReturnType operator()(const ceres::IterationSummary&) override {
        return cancel_.raised() ? ceres::SOLVER_ABORT : ceres::SOLVER_CONTINUE;
    }

  private:
    Cancel cancel_;
};

} // namespace

Bundle::Bundle(const BundleProblem& problem, const Cancel& cancel) : p_(problem), cancel_(cancel) {
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
    put_back_.assign(n, false);
}

bool Bundle::draw_distances() {
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

double Bundle::solve(bool with_lens, bool with_position, double loss_px) {
    build(with_lens, with_position, loss_px);
    ceres::Solver::Options o;
    o.linear_solver_type = ceres::DENSE_SCHUR;
    o.max_num_iterations = most_steps_;
    o.num_threads = int(std::max(1u, std::thread::hardware_concurrency()));
    o.function_tolerance = far_ ? kFarTolerance : kTolerance;
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
    return summary.final_cost;
}

Rig Bundle::rig() const {
    Rig rig = p_.start;
    for (std::size_t i = 0; i < rig.cameras.size(); ++i) {
        Camera& c = rig.cameras[i];
        const LensBlock& l = lens(i);
        if (!fixed_turn(i))
            c.pose.turn = turn_of(rotation_of(c.pose.turn) *
                                  rotation_from_vector(Vec3(turns_[i].v[0], turns_[i].v[1], turns_[i].v[2])));
        c.pose.position_m += Vec3(moves_[i].v[0], moves_[i].v[1], moves_[i].v[2]);
        if (p_.lens_locked[i]) continue;
        c.lens.focal_px *= std::exp(l.log_focal[0]);
        c.lens.center_px += Vec2(l.centre[0], l.centre[1]);
        for (std::size_t k = 0; k < 4; ++k) c.lens.radial[k] += l.radial[k];
    }
    return rig;
}

bool Bundle::put_back(std::size_t camera) {
    const std::size_t c = owner(camera, p_.settings.distortion);
    if (put_back_[c]) return false;
    put_back_[c] = true;
    lenses_[c] = {};
    held_lens_[c][3] = held_lens_[c][4] = true;
    return true;
}

double Bundle::noise() const {
    std::vector<double> misses;
    const Rig now = rig();
    for (const auto& c : now.cameras)
        if (fault_in(c.lens)) return 1e9;
    const auto eyes = fit_eyes(now);
    for (std::size_t i = 0; i < tracks_.size(); ++i) {
        const double numbers = 2.0 * double(tracks_[i].ends.size()),
                     left = numbers - (distances_free() ? 3 : 2);
        for (const auto& end : tracks_[i].ends)
            misses.push_back(eyes[end.camera].miss(points_[i], end.px).norm() * std::sqrt(numbers / left));
    }
    if (misses.empty()) return kNoisePx;
    std::nth_element(misses.begin(), misses.begin() + std::ptrdiff_t(misses.size() / 2), misses.end());
    return misses[misses.size() / 2] / 1.1774;
}

double Bundle::line_noise() const {
    const Rig now = rig();
    for (const auto& c : now.cameras)
        if (fault_in(c.lens)) return 1e9;
    std::vector<double> bends;
    for (const auto& l : p_.lines)
        if (l.places_px.size() > 2) bends.push_back(bend_px(now.cameras[l.camera].lens, l.places_px));
    if (bends.empty()) return 0;
    std::nth_element(bends.begin(), bends.begin() + std::ptrdiff_t(bends.size() / 2), bends.end());
    return bends[bends.size() / 2];
}

std::vector<double> Bundle::together(const Rig& rig) const {
    const auto eyes = fit_eyes(rig);
    std::vector<double> out;
    for (std::size_t i = 0; i < p_.sights.size(); ++i) {
        const Sight& s = p_.sights[i];
        out.push_back(std::sqrt(0.5 * (eyes[s.a].miss(points_[track_of_[i]], s.a_px).squaredNorm() +
                                       eyes[s.b].miss(points_[track_of_[i]], s.b_px).squaredNorm())));
    }
    return out;
}

void Bundle::hold_distortion(bool on) {
    for (std::size_t c = 0; c < held_lens_.size(); ++c) {
        held_lens_[c][3] = held_lens_[c][4] = on;
        if (on && !p_.lens_locked[c])
            for (std::size_t k = 0; k < 4; ++k)
                lenses_[c].radial[k] =
                    p_.prior.cameras[c].lens.radial[k] - p_.start.cameras[c].lens.radial[k];
    }
}

std::size_t Bundle::owner(std::size_t camera, Freedom freedom) const {
    if (freedom != Freedom::shared || p_.lens_locked[camera]) return camera;
    for (std::size_t i = 0; i < camera; ++i)
        if (p_.alike[i] == p_.alike[camera] && !p_.lens_locked[i]) return i;
    return camera;
}

LensBlock Bundle::lens(std::size_t c) const {
    LensBlock l;
    const auto &f = lenses_[owner(c, p_.settings.focal)], &m = lenses_[owner(c, p_.settings.centre)],
               &r = lenses_[owner(c, p_.settings.distortion)];
    l.log_focal[0] = f.log_focal[0];
    std::copy(m.centre, m.centre + 2, l.centre);
    std::copy(r.radial, r.radial + 4, l.radial);
    return l;
}

Vec3 Bundle::plane_of(const LineSight& l) const {
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

/// Where a place would be if the lens had radial terms alone (as LineMiss takes it).
Vec2 Bundle::without_uneven(std::size_t camera, const Vec2& px) const {
    const Lens& lens = p_.start.cameras[camera].lens;
    const auto d = LensMap(lens).unproject(px);
    if (!d) return px;
    const double side = std::hypot(d->x(), d->y());
    if (side < 1e-9) return lens.center_px;
    const double r = lens.focal_px * bent_radius(lens, LensChange<double>{},
                                                 base_radius(lens.projection, std::atan2(side, d->z())));
    return lens.center_px + r / side * Vec2(d->x(), d->y());
}

Vec3 Bundle::first_up() const {
    Mat3 sum = Mat3::Zero();
    int n = 0;
    for (std::size_t i = 0; i < p_.lines.size(); ++i)
        if (p_.lines[i].kind == LineKind::vertical) sum += normals_[i].d * normals_[i].d.transpose(), ++n;
    if (n < 2) return Vec3(0, -1, 0);
    return Eigen::SelfAdjointEigenSolver<Mat3>(sum).eigenvectors().col(0);
}

double Bundle::inverse_noise(std::size_t i) const {
    const Camera &a = p_.start.cameras[tracks_[i].ends[0].camera],
                 &b = p_.start.cameras[tracks_[i].ends[1].camera];
    const Vec3 base = a.pose.position_m - b.pose.position_m;
    return 1.4 * kNoisePx / a.lens.focal_px /
           std::max(1e-4, (base - base.dot(points_[i].d) * points_[i].d).norm());
}

void Bundle::free_part(double* block, int size, const std::vector<bool>& held) {
    if (!problem_->HasParameterBlock(block)) return;
    std::vector<int> constant;
    for (int i = 0; i < size; ++i)
        if (held[std::size_t(i)]) constant.push_back(i);
    if (int(constant.size()) == size)
        problem_->SetParameterBlockConstant(block);
    else if (!constant.empty())
        problem_->SetManifold(block, new ceres::SubsetManifold(size, constant));
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
                new EndMiss{&camera, rotation_of(camera.pose.turn).transpose(), &points_[i], end.px,
                            end.weight / kNoisePx});
            ends_.push_back(problem_->AddResidualBlock(cost, new ceres::CauchyLoss(loss_px / kNoisePx),
                                                       turns_[c].v, moves_[c].v, focal(c), centre(c),
                                                       radial(c), points_[i].v));
        }
        if (!distances_free())
            problem_->SetManifold(points_[i].v, new ceres::SubsetManifold(3, {2}));
        else
            problem_->AddResidualBlock(
                new NearMean(width_ * std::sqrt(std::max(1.0, double(tracks_.size()) / kOwnDistances)),
                             std::max(kBeyond, inverse_noise(i))),
                nullptr, points_[i].v, mean_);
    }
    for (std::size_t i = 0; i < p_.lines.size(); ++i) {
        const LineSight& l = p_.lines[i];
        const Camera& camera = p_.start.cameras[l.camera];
        for (const auto& px : l.places_px) {
            auto* cost = new ceres::AutoDiffCostFunction<LineMiss, 1, 3, 1, 2, 4, 2>(
                new LineMiss{&camera, rotation_of(camera.pose.turn), &normals_[i],
                             without_uneven(l.camera, px), 1 / l.noise_px});
            line_ends_.push_back(problem_->AddResidualBlock(
                cost, new ceres::CauchyLoss(2 * loss_px / l.noise_px), turns_[l.camera].v, focal(l.camera),
                centre(l.camera), radial(l.camera), normals_[i].v));
            problem_->SetManifold(normals_[i].v, nullptr);
        }
        if (l.kind == LineKind::vertical) {
            auto* cost = new ceres::AutoDiffCostFunction<UprightMiss, 1, 2, 2>(
                new UprightMiss{&normals_[i], &up_, camera.lens.focal_px / l.noise_px});
            line_ends_.push_back(problem_->AddResidualBlock(
                cost, new ceres::CauchyLoss(2 * loss_px / l.noise_px), normals_[i].v, up_.v));
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
                priors_.push_back(
                    problem_->AddResidualBlock(new Prior(std::move(at), sigma), nullptr, block));
        };
        const Vec3 turn =
            rotation_vector(rotation_of(from.pose.turn).transpose() * rotation_of(near.pose.turn));
        prior(turns_[c].v, {turn.x(), turn.y(), turn.z()}, radians(set.turn_sigma_deg));
        const Vec3 move = near.pose.position_m - from.pose.position_m;
        prior(moves_[c].v, {move.x(), move.y(), move.z()}, set.position_sigma_mm * 1e-3);
        const double ring = from.lens.circle.radius_px * set.centre_sigma_percent / 100;
        if (owner(c, set.focal) == c)
            prior(focal(c), {std::log(near.lens.focal_px / from.lens.focal_px)},
                  set.focal_sigma_percent / 100);
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
        free_part(turns_[c].v, 3,
                  {fixed_turn(c) || held_turn_[c][0], fixed_turn(c) || held_turn_[c][1],
                   fixed_turn(c) || held_turn_[c][2]});
        const bool no_move = !with_position || fixed_move(c) || !set.depth_per_point;
        free_part(moves_[c].v, 3,
                  {no_move || held_move_[c][0], no_move || held_move_[c][1], no_move || held_move_[c][2]});
        if (owner(c, set.focal) == c)
            free_part(focal(c), 1, {no_lens || p_.lens_locked[c] || set.focal == Freedom::locked || h[0]});
        const bool no_centre = no_lens || p_.lens_locked[c] || set.centre == Freedom::locked;
        if (owner(c, set.centre) == c) free_part(centre(c), 2, {no_centre || h[1], no_centre || h[2]});
        const bool no_radial = no_lens || p_.lens_locked[c] || set.distortion == Freedom::locked;
        static_assert(kRadialTerms == 2);
        if (owner(c, set.distortion) == c)
            free_part(radial(c), 4, {no_radial || h[3], no_radial || h[4], true, true});
    }
    // With a pose locked, that camera holds the rig.
    const bool anchored = std::any_of(p_.pose_locked.begin(), p_.pose_locked.end(), [](bool b) { return b; });
    if (!anchored && !all_turns.empty()) {
        priors_.push_back(problem_->AddResidualBlock(new MeanStays(turn_axes), nullptr, all_turns));
        priors_.push_back(problem_->AddResidualBlock(new MeanStays(move_axes), nullptr, all_moves));
    }
}

} // namespace porb
