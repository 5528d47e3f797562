#include "solve/bundle_state.h"

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
                std::vector<double> delta(std::size_t(m->TangentSize()), 0), from(block, block + size),
                    to(from);
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
        if (owner(c, set.centre) == c)
            add(centre(c), c, 3, 2,
                p_.start.cameras[c].lens.circle.radius_px * set.centre_sigma_percent / 100);
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
    const double scale = std::pow(kNoisePx / std::max(0.02, noise_px), 2);
    Eigen::MatrixXd sum = scale * told + held;
    sum.diagonal().array() += 1e-9;
    const Eigen::MatrixXd spread = sum.ldlt().solve(Eigen::MatrixXd::Identity(extra, extra));

    bool changed = false;
    values.clear();
    if (set.position != Freedom::locked)
        for (std::size_t c = 0; c < p_.start.cameras.size(); ++c)
            if (!p_.pose_locked[c] && held_move_[c][0] && problem_->HasParameterBlock(turns_[c].v))
                values.push_back(
                    {p_.start.cameras[c].id, "position", "mm", 0, 0, set.position_sigma_mm, false});
    if (set.distortion != Freedom::locked)
        for (std::size_t c = 0; c < p_.start.cameras.size(); ++c)
            if (!p_.lens_locked[c] && held_lens_[c][3] && problem_->HasParameterBlock(turns_[c].v))
                values.push_back(
                    {p_.start.cameras[c].id, "distortion", "", 0, 0, set.distortion_sigma, false});
    const Rig now = rig();
    for (int i = 0; i < own; ++i) {
        const Column& col = columns[std::size_t(i)];
        const Camera &was = p_.start.cameras[col.camera], &is = now.cameras[col.camera];
        const double sigma = std::sqrt(std::max(0.0, spread(i, i)));
        ValueFigure f;
        f.camera = was.id;
        f.determined = sigma < kToldApart * col.sigma;
        struct Naming {
            int key;
            const char *name, *unit;
            double scale;
        };
        const Naming names[] = {{0, "pitch", "deg", degrees(1)},
                                {1, "yaw", "deg", degrees(1)},
                                {2, "roll", "deg", degrees(1)},
                                {10, "x", "mm", 1e3},
                                {11, "y", "mm", 1e3},
                                {12, "z", "mm", 1e3},
                                {20, "focal length", "px", is.lens.focal_px},
                                {30, "centre x", "px", 1},
                                {31, "centre y", "px", 1},
                                {40, "k1", "", 1},
                                {41, "k2", "", 1}};
        for (const auto& n : names)
            if (n.key == col.kind * 10 + col.part)
                f.name = n.name, f.unit = n.unit, f.sigma = sigma * n.scale;
        if (!f.determined) {
            changed = true;
            const auto part = std::size_t(col.part);
            const Camera& near = p_.prior.cameras[col.camera];
            double *value = nullptr, prior = 0;
            bool* stays = nullptr;
            switch (col.kind) {
            case 0:
                value = &turns_[col.camera].v[part], stays = &held_turn_[col.camera][part];
                prior = rotation_vector(rotation_of(was.pose.turn).transpose() *
                                        rotation_of(near.pose.turn))[col.part];
                break;
            case 1:
                value = &moves_[col.camera].v[part], stays = &held_move_[col.camera][part];
                prior = near.pose.position_m[col.part] - was.pose.position_m[col.part];
                break;
            case 2:
                value = focal(col.camera), stays = &held_lens_[col.camera][0];
                prior = std::log(near.lens.focal_px / was.lens.focal_px);
                break;
            case 3:
                value = centre(col.camera) + part, stays = &held_lens_[col.camera][1 + part];
                prior = near.lens.center_px[col.part] - was.lens.center_px[col.part];
                break;
            default:
                value = radial(col.camera) + part, stays = &held_lens_[col.camera][3 + part];
                prior = near.lens.radial[part] - was.lens.radial[part];
                break;
            }
            *stays = true;
            *value = prior;
        }
        values.push_back(std::move(f));
    }
    return changed;
}

} // namespace porb
