#pragma once

// The state of one bundle adjustment, for bundle.cpp, bundle_state.cpp and bundle_judge.cpp alone.
#include "solve/bundle/bundle.h"
#include "solve/bundle/bundle_costs.h"

#include <array>
#include <span>

namespace porb {

inline constexpr double kNoisePx = 0.12; ///< what one place weighs against priors: its noise is less, but
                                         ///< errors alike for neighbours do not average out
inline constexpr double kTightLoss = 3.5, kLeastNoisePx = 0.04;

inline constexpr double kImpossiblePx = 1e9; ///< the noise under a lens that cannot be

/// The values of one camera (EyeValue), or of all that share them.
using EyeValues = std::array<double, kEyeValues>;
using EyeMask = std::array<bool, kEyeValues>;

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
    Bundle(const BundleProblem& problem, const Cancel& cancel);

    /// How inverse distances are spread, from those solved so far (one step of empirical Bayes). Lenses that
    /// stand close together can hardly tell a wider view from nearer things all round, so what is known of
    /// distances beforehand matters: each lies near a common mean, which is solved, within a width that is
    /// estimated; and the farthest things are far compared with how distances differ, so that without visible
    /// parallax everything is far. False when the width has settled.
    bool draw_distances();

    /// Returns the cost that is left.
    double solve(bool with_lens, bool with_position, double loss_px);

    Rig rig() const;
    /// The same, turned as a whole so that the cameras' turns are on the mean what they were when the solve
    /// began: pictures stay where they were. With positions or a pose locked it is rig() itself.
    Rig rig_in_place() const;

    /// Uncertainties of everything that was free, by name, and which of it the points could not tell (put
    /// back and held from now on; then true). Values themselves are read from rig().
    bool judge(double noise_px, std::vector<ValueFigure>& values);
    /// A lens that came out impossible goes back, and its distortion stays as it was.
    bool put_back(std::size_t camera);
    /// Where points begin to count less, pixels: a few times what they turned out to be good to.
    double tight_loss_px() const { return kTightLoss * std::max(kLeastNoisePx, noise()); }
    void limit_steps(int most) { most_steps_ = most; }
    /// What one place is good to along one axis, from how the places of each thing miss what they agree on;
    /// each counts for what is left over once the thing's own place is fitted. Robust: from the median.
    /// kImpossiblePx when a lens came out impossible.
    double noise() const;
    /// The same of the lines' places, across the great circle that fits each best; 0 without lines.
    double line_noise() const;
    /// The residual of each observation against what all observations of its thing agree on, pixels.
    std::vector<double> joint_residuals(const Rig& rig) const;
    /// Takes everything to be infinitely far from now on, or (with what remember() kept) not.
    void set_far() {
        far_ = true;
        for (auto& p : points_) p.v[2] = 0;
    }
    /// Keeps all places, or lets them go again.
    void hold_positions(bool on) {
        for (auto& h : held_) std::fill_n(h.begin() + kMove, 3, on);
    }
    /// Keeps all distortion terms at their prior, or lets them go again.
    void hold_distortion(bool on);
    struct Memory {
        std::vector<EyeValues> eyes;
        std::vector<PointBlock> points;
    };
    Memory remember() const { return {eyes_, points_}; }
    void go_back(const Memory& m, bool far = false) {
        far_ = far;
        eyes_ = m.eyes, points_ = m.points;
    }

  private:
    bool distances_free() const { return p_.settings.depth_per_point && !far_; }
    double agree() const { return p_.agree_distance_m > 0 ? 1 / p_.agree_distance_m : 0; }
    /// The camera whose block a value of this one is in: its own, or that of the first unlocked one alike.
    std::size_t owner(std::size_t camera, int value) const;
    double value(std::size_t camera, int value) const {
        return eyes_[owner(camera, value)][std::size_t(value)];
    }
    Freedom freedom_of(int value) const;
    /// Which values of a camera stay where they are in a solve.
    EyeMask fixed_values(std::size_t camera, bool with_lens, bool with_position) const;

    /// A run of values that is one block to Ceres: all thirteen, which is several times as fast, or each kind
    /// by itself where alike lenses share some.
    struct Run {
        int first, size;
    };
    std::span<const Run> runs() const;
    double* block(std::size_t camera, const Run& run) {
        return eyes_[owner(camera, run.first)].data() + run.first;
    }

    Vec3 plane_of(const LineObservation& l) const;
    Vec2 without_uneven(std::size_t camera, const Vec2& px) const;
    Vec3 first_up() const;

    /// What noise makes of one inverse distance, 1/m.
    double inverse_noise(std::size_t i) const;
    void build(bool with_lens, bool with_position, double loss_px);
    void add_point(std::size_t i, double loss_px);
    void add_line(std::size_t i, double loss_px);
    void set_priors();
    void add_priors();
    void fix_values(bool with_lens, bool with_position);
    void hold_means(bool with_lens);

    const BundleProblem& p_;
    Cancel cancel_;
    std::vector<EyeValues> eyes_, prior_, sigma_; ///< values, where they are held near and how closely
    std::vector<EyeMask> held_;                   ///< put back, or held for now
    std::vector<EyeMask> fixed_;                  ///< in the problem as it was built last
    bool sharing_ = false;                        ///< some value belongs to several cameras
    std::vector<Track> tracks_;
    std::vector<std::size_t> track_of_; ///< of each observation
    std::vector<PointBlock> points_, normals_;
    PointBlock up_;
    std::vector<bool> put_back_;
    std::unique_ptr<ceres::Problem> problem_;
    std::vector<ceres::ResidualBlockId> ends_, line_ends_, priors_;
    ceres::ResidualBlockId mean_turn_ = nullptr; ///< one of the priors, if any
    double mean_turn_sigma_ = kGauge;
    int most_steps_ = 60;
    bool far_ = false;
    double mean_[1] = {0.3}, width_ = 0.3; ///< of inverse distances, 1/m
};

} // namespace porb
