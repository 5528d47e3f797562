#include "solve/bundle/bundle_state.h"

#include "base/angle.h"
#include "project/orientation.h"

#include <Eigen/Dense>

#include <map>

namespace porb {

namespace {
constexpr double kToldApart =
    0.8; ///< a value whose uncertainty stays above this share of its prior was not told
}

bool Bundle::judge(double noise_px, std::vector<ValueFigure>& values) {
    // Columns: every camera value that is not held, then up and the lines' planes; points are eliminated one
    // by one.
    std::vector<double*> blocks;
    struct Column {
        std::size_t camera;
        int value; ///< EyeValue
    };
    std::vector<Column> columns;
    const SolveSettings& set = p_.settings;
    for (std::size_t c = 0; c < eyes_.size(); ++c)
        for (const auto& run : runs()) {
            double* values_of_run = block(c, run);
            if (owner(c, run.first) != c || !problem_->HasParameterBlock(values_of_run) ||
                problem_->IsParameterBlockConstant(values_of_run))
                continue;
            blocks.push_back(values_of_run);
            for (int v = run.first; v < run.first + run.size; ++v)
                if (!fixed_[c][std::size_t(v)]) columns.push_back({c, v});
        }
    const auto own = int(columns.size());
    std::vector<double*> all = blocks;
    int extra = own;
    for (auto& n : normals_)
        if (problem_->HasParameterBlock(n.v)) all.push_back(n.v), extra += 2;
    if (problem_->HasParameterBlock(up_.v)) all.push_back(up_.v), extra += 2;
    for (auto& point : points_) all.push_back(point.v);
    ceres::Problem::EvaluateOptions o;
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
                if (col >= extra)
                    point[(col - extra) % depth] = m.values[std::size_t(k)];
                else
                    row.emplace_back(col, m.values[std::size_t(k)]);
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
                        to(rows.cols[std::size_t(k)], rows.cols[std::size_t(l)]) +=
                            rows.values[std::size_t(k)] * rows.values[std::size_t(l)];
    };
    add_rows(jacobian(line_ends_), told);
    add_rows(jacobian(priors_), held);
    if (mean_turn_ &&
        mean_turn_sigma_ > kGauge) { // how well turns are known is asked of them, not of the rig
        ceres::CRSMatrix rows = jacobian({mean_turn_});
        for (double& v : rows.values) v *= mean_turn_sigma_ / kGauge;
        add_rows(rows, held);
    }
    const double scale = std::pow(kNoisePx / std::max(0.02, noise_px), 2);
    Eigen::MatrixXd sum = scale * told + held;
    sum.diagonal().array() += 1e-9;
    const Eigen::MatrixXd spread = sum.ldlt().solve(Eigen::MatrixXd::Identity(extra, extra));

    bool changed = false;
    values.clear();
    if (set.position != Freedom::locked)
        for (std::size_t c = 0; c < p_.start.cameras.size(); ++c)
            if (!p_.pose_locked[c] && held_[c][kMove] && problem_->HasParameterBlock(eyes_[c].data()))
                values.push_back(
                    {p_.start.cameras[c].id, "position", "mm", 0, 0, set.position_sigma_mm, false});
    if (set.distortion != Freedom::locked)
        for (std::size_t c = 0; c < p_.start.cameras.size(); ++c)
            if (!p_.lens_locked[c] && held_[c][kRadial] && problem_->HasParameterBlock(eyes_[c].data()))
                values.push_back(
                    {p_.start.cameras[c].id, "distortion", "", 0, 0, set.distortion_sigma, false});
    const Rig now = rig();
    struct Naming {
        int value;
        const char *name, *unit;
        double scale;
    };
    for (int i = 0; i < own; ++i) {
        const Column& col = columns[std::size_t(i)];
        const auto v = std::size_t(col.value);
        const Camera& is = now.cameras[col.camera];
        const double sigma = std::sqrt(std::max(0.0, spread(i, i)));
        const Naming names[] = {{kTurn, "pitch", "deg", degrees(1)},
                                {kTurn + 1, "yaw", "deg", degrees(1)},
                                {kTurn + 2, "roll", "deg", degrees(1)},
                                {kMove, "x", "mm", 1e3},
                                {kMove + 1, "y", "mm", 1e3},
                                {kMove + 2, "z", "mm", 1e3},
                                {kFocal, "focal length", "px", is.lens.focal_px},
                                {kCentre, "centre x", "px", 1},
                                {kCentre + 1, "centre y", "px", 1},
                                {kRadial, "k1", "", 1},
                                {kRadial + 1, "k2", "", 1}};
        ValueFigure f;
        f.camera = is.id;
        f.determined = sigma < kToldApart * sigma_[col.camera][v];
        for (const auto& n : names)
            if (n.value == col.value) f.name = n.name, f.unit = n.unit, f.sigma = sigma * n.scale;
        if (!f.determined) {
            changed = true;
            held_[col.camera][v] = true;
            eyes_[col.camera][v] = prior_[col.camera][v];
        }
        values.push_back(std::move(f));
    }
    return changed;
}

} // namespace porb
