#include "solve/bundle/bundle_state.h"

#include "base/angle.h"
#include "project/orientation.h"
#include "solve/pictures/edges.h"

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
    eyes_.assign(n, {});
    prior_.assign(n, {});
    sigma_.assign(n, {});
    held_.assign(n, {});
    fixed_.assign(n, {});
    set_priors();
    const auto fits = fit_points(p_.start, p_.observations);
    std::map<int, std::size_t> numbers;
    for (std::size_t i = 0; i < p_.observations.size(); ++i) {
        const Observation& s = p_.observations[i];
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
        if (!p_.pose_locked[i] && p_.settings.turn != Freedom::locked)
            c.pose.turn = turn_of(rotation_of(c.pose.turn) *
                                  rotation_from_vector(Eigen::Map<const Vec3>(eyes_[i].data() + kTurn)));
        c.pose.position_m += Eigen::Map<const Vec3>(eyes_[i].data() + kMove);
        if (p_.lens_locked[i]) continue;
        c.lens.focal_px *= std::exp(value(i, kFocal));
        c.lens.center_px += Vec2(value(i, kCentre), value(i, kCentre + 1));
        for (int k = 0; k < 4; ++k) c.lens.radial[std::size_t(k)] += value(i, kRadial + k);
    }
    return rig;
}

Rig Bundle::rig_in_place() const {
    Rig out = rig();
    if (p_.settings.position == Freedom::locked ||
        std::any_of(p_.pose_locked.begin(), p_.pose_locked.end(), [](bool b) { return b; }))
        return out;
    Vec3 mean = Vec3::Zero();
    for (std::size_t c = 0; c < eyes_.size(); ++c)
        mean += rotation_of(p_.start.cameras[c].pose.turn) * Eigen::Map<const Vec3>(eyes_[c].data() + kTurn) /
                double(eyes_.size());
    const Mat3 back = rotation_from_vector(-mean);
    for (auto& c : out.cameras) {
        c.pose.turn = turn_of(back * rotation_of(c.pose.turn));
        c.pose.position_m = back * c.pose.position_m;
    }
    return out;
}

bool Bundle::put_back(std::size_t camera) {
    const std::size_t c = owner(camera, kRadial);
    if (put_back_[c]) return false;
    put_back_[c] = true;
    std::fill(eyes_[c].begin() + kFocal, eyes_[c].end(), 0.0);
    std::fill(held_[c].begin() + kRadial, held_[c].end(), true);
    return true;
}

double Bundle::noise() const {
    std::vector<double> residuals;
    const Rig now = rig();
    for (const auto& c : now.cameras)
        if (fault_in(c.lens)) return kImpossiblePx;
    const auto eyes = fit_eyes(now);
    for (std::size_t i = 0; i < tracks_.size(); ++i) {
        const double numbers = 2.0 * double(tracks_[i].ends.size()),
                     left = numbers - (distances_free() ? 3 : 2);
        for (const auto& end : tracks_[i].ends)
            residuals.push_back(eyes[end.camera].residual(points_[i], end.px).norm() *
                                std::sqrt(numbers / left));
    }
    if (residuals.empty()) return kNoisePx;
    std::nth_element(residuals.begin(), residuals.begin() + std::ptrdiff_t(residuals.size() / 2),
                     residuals.end());
    return residuals[residuals.size() / 2] / 1.1774;
}

double Bundle::line_noise() const {
    const Rig now = rig();
    for (const auto& c : now.cameras)
        if (fault_in(c.lens)) return kImpossiblePx;
    std::vector<double> bends;
    for (const auto& l : p_.lines)
        if (l.places_px.size() > 2) bends.push_back(bend_px(now.cameras[l.camera].lens, l.places_px));
    if (bends.empty()) return 0;
    std::nth_element(bends.begin(), bends.begin() + std::ptrdiff_t(bends.size() / 2), bends.end());
    return bends[bends.size() / 2];
}

std::vector<double> Bundle::joint_residuals(const Rig& rig) const {
    const auto eyes = fit_eyes(rig);
    std::vector<double> out;
    for (std::size_t i = 0; i < p_.observations.size(); ++i) {
        const Observation& s = p_.observations[i];
        out.push_back(std::sqrt(0.5 * (eyes[s.a].residual(points_[track_of_[i]], s.a_px).squaredNorm() +
                                       eyes[s.b].residual(points_[track_of_[i]], s.b_px).squaredNorm())));
    }
    return out;
}

void Bundle::hold_distortion(bool on) {
    for (std::size_t c = 0; c < held_.size(); ++c) {
        std::fill(held_[c].begin() + kRadial, held_[c].end(), on);
        if (on && !p_.lens_locked[c])
            std::copy(prior_[c].begin() + kRadial, prior_[c].end(), eyes_[c].begin() + kRadial);
    }
}

Freedom Bundle::freedom_of(int value) const {
    const SolveSettings& set = p_.settings;
    return value < kMove     ? set.turn
           : value < kFocal  ? set.position
           : value < kCentre ? set.focal
           : value < kRadial ? set.centre
                             : set.distortion;
}

std::size_t Bundle::owner(std::size_t camera, int value) const {
    if (value < kFocal || freedom_of(value) != Freedom::shared || p_.lens_locked[camera]) return camera;
    for (std::size_t i = 0; i < camera; ++i)
        if (p_.alike[i] == p_.alike[camera] && !p_.lens_locked[i]) return i;
    return camera;
}

std::span<const Bundle::Run> Bundle::runs() const {
    static constexpr Run kWhole[] = {{0, kEyeValues}};
    static constexpr Run kKinds[] = {{kTurn, 3}, {kMove, 3}, {kFocal, 1}, {kCentre, 2}, {kRadial, 4}};
    return sharing_ ? std::span<const Run>(kKinds) : std::span<const Run>(kWhole);
}

void Bundle::set_priors() {
    const SolveSettings& set = p_.settings;
    for (std::size_t c = 0; c < p_.start.cameras.size(); ++c) {
        const Camera &from = p_.start.cameras[c], &near = p_.prior.cameras[c];
        EyeValues &at = prior_[c], &sigma = sigma_[c];
        const Vec3 turn =
                       rotation_vector(rotation_of(from.pose.turn).transpose() * rotation_of(near.pose.turn)),
                   move = near.pose.position_m - from.pose.position_m;
        const Vec2 shift = near.lens.center_px - from.lens.center_px;
        for (int i = 0; i < 3; ++i) {
            at[std::size_t(kTurn + i)] = turn[i];
            at[std::size_t(kMove + i)] = move[i];
            sigma[std::size_t(kTurn + i)] = radians(set.turn_sigma_deg);
            sigma[std::size_t(kMove + i)] = set.position_sigma_mm * 1e-3;
        }
        at[kFocal] = std::log(near.lens.focal_px / from.lens.focal_px);
        sigma[kFocal] = set.focal_sigma_percent / 100;
        for (int i = 0; i < 2; ++i) {
            at[std::size_t(kCentre + i)] = shift[i];
            sigma[std::size_t(kCentre + i)] = from.lens.circle.radius_px * set.centre_sigma_percent / 100;
        }
        for (std::size_t k = 0; k < 4; ++k) {
            at[kRadial + k] = near.lens.radial[k] - from.lens.radial[k];
            sigma[kRadial + k] = set.distortion_sigma;
        }
        for (const int value : {int(kFocal), int(kCentre), int(kRadial)}) sharing_ |= owner(c, value) != c;
    }
}

Vec3 Bundle::plane_of(const LineObservation& l) const {
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

void Bundle::add_point(std::size_t i, double loss_px) {
    for (const auto& end : tracks_[i].ends) {
        const Camera& camera = p_.start.cameras[end.camera];
        const EndMiss residual{&camera, rotation_of(camera.pose.turn).transpose(), &points_[i], end.px,
                               end.weight / kNoisePx};
        ceres::CostFunction* cost = nullptr;
        if (sharing_)
            cost = new ceres::AutoDiffCostFunction<EndMiss, 2, 3, 3, 1, 2, 4, 3>(new EndMiss(residual));
        else
            cost = new WholeEndMiss(residual);
        std::vector<double*> blocks;
        for (const auto& run : runs()) blocks.push_back(block(end.camera, run));
        blocks.push_back(points_[i].v);
        ends_.push_back(problem_->AddResidualBlock(cost, new ceres::CauchyLoss(loss_px / kNoisePx), blocks));
    }
    if (!distances_free())
        problem_->SetManifold(points_[i].v, new ceres::SubsetManifold(3, {2}));
    else
        problem_->AddResidualBlock(
            new NearMean(width_ * std::sqrt(std::max(1.0, double(tracks_.size()) / kOwnDistances)),
                         std::max(kBeyond, inverse_noise(i))),
            nullptr, points_[i].v, mean_);
}

void Bundle::add_line(std::size_t i, double loss_px) {
    const LineObservation& l = p_.lines[i];
    const Camera& camera = p_.start.cameras[l.camera];
    const double loss = 2 * loss_px / l.noise_px;
    for (const auto& px : l.places_px) {
        auto* residual = new LineMiss{&camera, rotation_of(camera.pose.turn), &normals_[i],
                                      without_uneven(l.camera, px), 1 / l.noise_px};
        ceres::CostFunction* cost = nullptr;
        if (sharing_)
            cost = new ceres::AutoDiffCostFunction<LineMiss, 1, 3, 1, 2, 4, 2>(residual);
        else
            cost = new ceres::AutoDiffCostFunction<LineMiss, 1, kEyeValues, 2>(residual);
        std::vector<double*> blocks;
        for (const auto& run : runs())
            if (run.first != kMove) blocks.push_back(block(l.camera, run));
        blocks.push_back(normals_[i].v);
        line_ends_.push_back(problem_->AddResidualBlock(cost, new ceres::CauchyLoss(loss), blocks));
    }
    if (l.kind == LineKind::vertical) {
        auto* cost = new ceres::AutoDiffCostFunction<UprightMiss, 1, 2, 2>(
            new UprightMiss{&normals_[i], &up_, camera.lens.focal_px / l.noise_px});
        line_ends_.push_back(
            problem_->AddResidualBlock(cost, new ceres::CauchyLoss(loss), normals_[i].v, up_.v));
    }
}

void Bundle::add_priors() {
    for (std::size_t c = 0; c < eyes_.size(); ++c)
        for (const auto& run : runs()) {
            double* values = block(c, run);
            if (owner(c, run.first) != c || !problem_->HasParameterBlock(values)) continue;
            const auto part = [&](const EyeValues& v) {
                return std::vector<double>(v.begin() + run.first, v.begin() + run.first + run.size);
            };
            priors_.push_back(
                problem_->AddResidualBlock(new Prior(part(prior_[c]), part(sigma_[c])), nullptr, values));
        }
}

EyeMask Bundle::fixed_values(std::size_t c, bool with_lens, bool with_position) const {
    EyeMask fixed{};
    for (int i = 0; i < kEyeValues; ++i) {
        const bool lens = i >= kFocal, place = i >= kMove && i < kFocal;
        fixed[std::size_t(i)] = held_[c][std::size_t(i)] || freedom_of(i) == Freedom::locked ||
                                (lens ? p_.lens_locked[c] || !with_lens : p_.pose_locked[c]) ||
                                (place && (!with_position || !p_.settings.depth_per_point)) ||
                                i >= kRadial + kRadialTerms;
    }
    return fixed;
}

void Bundle::fix_values(bool with_lens, bool with_position) {
    for (std::size_t c = 0; c < eyes_.size(); ++c) {
        fixed_[c] = fixed_values(c, with_lens, with_position);
        for (const auto& run : runs()) {
            double* values = block(c, run);
            if (owner(c, run.first) != c || !problem_->HasParameterBlock(values)) continue;
            std::vector<int> constant;
            for (int i = 0; i < run.size; ++i)
                if (fixed_[c][std::size_t(run.first + i)]) constant.push_back(i);
            if (int(constant.size()) == run.size)
                problem_->SetParameterBlockConstant(values);
            else if (!constant.empty())
                problem_->SetManifold(values, new ceres::SubsetManifold(run.size, constant));
        }
    }
}

/// With a pose locked, that camera holds the rig; without one, the means do. Places that stay where they are
/// and things near enough for parallax say themselves how the cameras lie as a whole to their baselines: were
/// the mean of their turns held as well, it would have to be right, and centres would move for it.
void Bundle::hold_means(bool with_lens) {
    mean_turn_ = nullptr;
    if (std::any_of(p_.pose_locked.begin(), p_.pose_locked.end(), [](bool b) { return b; })) return;
    std::vector<double*> turns, moves;
    std::vector<Mat3> turn_axes, move_axes;
    const Run turn = runs()[0], move = sharing_ ? runs()[1] : runs()[0];
    bool places_move = false;
    for (std::size_t c = 0; c < eyes_.size(); ++c) {
        if (!problem_->HasParameterBlock(block(c, turn))) continue;
        turns.push_back(block(c, turn));
        moves.push_back(block(c, move));
        turn_axes.push_back(rotation_of(p_.start.cameras[c].pose.turn));
        move_axes.push_back(Mat3::Identity());
        places_move |= !fixed_[c][kMove];
    }
    if (turns.empty()) return;
    mean_turn_sigma_ = with_lens && distances_free() && !places_move ? kLooseGauge : kGauge;
    mean_turn_ = problem_->AddResidualBlock(
        new MeanStays(turn_axes, turn.size, kTurn - turn.first, mean_turn_sigma_), nullptr, turns);
    priors_.push_back(mean_turn_);
    priors_.push_back(problem_->AddResidualBlock(
        new MeanStays(move_axes, move.size, kMove - move.first, kGauge), nullptr, moves));
}

void Bundle::build(bool with_lens, bool with_position, double loss_px) {
    problem_ = std::make_unique<ceres::Problem>();
    ends_.clear();
    line_ends_.clear();
    priors_.clear();
    for (std::size_t i = 0; i < tracks_.size(); ++i) add_point(i, loss_px);
    for (std::size_t i = 0; i < p_.lines.size(); ++i) add_line(i, loss_px);
    if (problem_->HasParameterBlock(mean_))
        problem_->AddResidualBlock(new Prior({kMeanInWidths * width_}, {width_ + kMeanSlack}), nullptr,
                                   mean_);
    add_priors();
    fix_values(with_lens, with_position);
    hold_means(with_lens);
}

} // namespace porb
