#include "stitch/distances/areas.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "base/smooth.h"
#include "project/seams.h"
#include "stitch/distances/shape_fill.h"
#include "stitch/plan/shapes.h"
#include "stitch/plan/shelters.h"

#include <algorithm>
#include <cmath>

namespace porb {

namespace {

constexpr int kFillSide = 144; ///< what lies about an area is smooth: cells of 1.25 degrees will do
constexpr double kLeastFeather_deg = 0.35; ///< a cell of the field
constexpr double kAround_deg = 12;         ///< about an outline's corners: parallax of the nearest things

/// Whether and how far a direction lies in the area, 0 to 1.
class Inside {
  public:
    Inside(const DistanceArea& area, const PlanKey& key) : area_(area) {
        if (area.corners.empty()) {
            oval_.to_oval = rotation_of({area.oval.yaw_deg, area.oval.pitch_deg, 0}).transpose();
            oval_.half_width_deg = area.oval.width_deg / 2;
            oval_.half_height_deg = area.oval.height_deg / 2;
            middle_ = oval_.to_oval.row(2).transpose();
            least_cosine_ =
                std::cos(std::min(kPi, radians(std::max(oval_.half_width_deg, oval_.half_height_deg) +
                                               2 * area.feather_deg + 1)));
            return;
        }
        const KeyCamera& camera = key.cameras[area.camera];
        lens_ = &camera.lens;
        map_ = LensMap(camera.lens);
        turn_ = rotation_of(camera.pose.turn);
        pupil_m_ = camera.pose.position_m;
        deg_per_radius_ = degrees(map_->theta_max());
        outline_ = outline_of(area.corners);
        // A cone about the camera's rays through the outline: few directions need the outline itself.
        std::vector<Vec3> rays;
        for (const Vec2& p : outline_)
            if (const auto ray = map_->unproject(lens_->circle.center_px + lens_->circle.radius_px * p))
                rays.push_back(turn_ * *ray), middle_ += rays.back();
        if (middle_.norm() < 1e-6) return;
        middle_.normalize();
        double widest = 0;
        for (const Vec3& r : rays)
            widest = std::max(widest, std::acos(std::clamp(middle_.dot(r), -1.0, 1.0)));
        least_cosine_ = std::cos(std::min(kPi, widest + radians(area.feather_deg + kAround_deg)));
    }

    double share(const Vec3& direction, double inverse_m) const {
        const double feather = std::max(area_.feather_deg, kLeastFeather_deg);
        if (middle_.dot(direction) < least_cosine_) return 0;
        if (!lens_) return smooth(1.5 + oval_.margin_deg(direction) / feather);
        const Vec3 ray = turn_.transpose() * (direction - inverse_m * pupil_m_);
        if (std::atan2(std::hypot(ray.x(), ray.y()), ray.z()) > map_->theta_max()) return 0;
        const Vec2 at = (map_->project_anywhere(ray) - lens_->circle.center_px) / lens_->circle.radius_px;
        return smooth(1 + inside_polygon(outline_, at) * deg_per_radius_ / feather);
    }

  private:
    const DistanceArea& area_;
    ShelterAtTime oval_;
    const Lens* lens_ = nullptr;
    std::optional<LensMap> map_;
    Mat3 turn_ = Mat3::Identity();
    Vec3 pupil_m_ = Vec3::Zero(), middle_ = Vec3::Zero();
    double deg_per_radius_ = 1, least_cosine_ = 1;
    std::vector<Vec2> outline_;
};

/// What lies about the cells, evenly across them.
SphereGrid surroundings_of(const SphereGrid& field, const std::vector<AreaCell>& cells) {
    const int side = field.side % kFillSide == 0 ? kFillSide : field.side, times = field.side / side;
    SphereGrid out(side, 1);
    std::vector<float> clear(std::size_t(side) * std::size_t(side), 1.0f);
    for (const AreaCell& c : cells)
        clear[std::size_t(c.cell / field.side / times) * std::size_t(side) +
              std::size_t(c.cell % field.side / times)] = 0;
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) {
            float sum = 0;
            for (int j = 0; j < times; ++j)
                for (int i = 0; i < times; ++i) sum += field.cell(x * times + i, y * times + j)[0];
            out.cell(x, y)[0] = sum / float(times * times);
        }
    ShapeFill(side, clear).apply(out);
    out.close_edges();
    return out;
}

} // namespace

std::vector<DistanceArea> distance_areas(const Shot& shot, Seconds time) {
    std::vector<DistanceArea> out;
    for (const Shelter& s : shot.seams.shelters) {
        const double presence = s.on && !s.keys.empty() ? presence_at(s, time) : 0;
        if (presence > 0) out.push_back({s.distance, presence, s.feather_deg, 0, {}, oval_at(s, time)});
    }
    for (std::size_t c = 0; c < shot.cameras.size(); ++c)
        for (const Shape& s : shot.cameras[c].shapes)
            if (s.on && s.distance && !s.keys.empty())
                out.push_back({*s.distance, 1, s.feather_deg, c, corners_at(s, time), {}});
    return out;
}

std::vector<AreaCell> area_cells(const DistanceArea& area, const PlanKey& key, const SphereGrid& field) {
    const Inside inside(area, key);
    std::vector<std::vector<AreaCell>> rows(std::size_t(field.side));
    parallel_ranges(field.side, 8, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < field.side; ++x) {
                const Vec3 direction = field.direction(x, y);
                const auto told = told_inverse_m(area.distance, direction);
                const double share =
                    area.presence * inside.share(direction, told ? *told : double(field.cell(x, y)[0]));
                if (share > 0)
                    rows[std::size_t(y)].push_back(
                        {y * field.side + x, float(share), told ? float(*told) : -1});
            }
    });
    std::vector<AreaCell> out;
    for (const auto& row : rows) out.insert(out.end(), row.begin(), row.end());
    return out;
}

void apply_areas(SphereGrid& field, const SphereGrid& counts, std::span<const DistanceArea> areas,
                 const PlanKey& key, double agree_inverse_m) {
    for (const DistanceArea& area : areas) {
        const std::vector<AreaCell> cells = area_cells(area, key, field);
        if (cells.empty()) continue;
        const SphereGrid around =
            area.distance.rule == DistanceRule::surroundings ? surroundings_of(field, cells) : SphereGrid();
        parallel_ranges(int(cells.size()), 2048, [&](int begin, int end) {
            for (int i = begin; i < end; ++i) {
                const AreaCell& c = cells[std::size_t(i)];
                const int x = c.cell % field.side, y = c.cell / field.side;
                const auto agree = float(agree_inverse_m);
                const float told = c.inverse_m < 0 ? float(around.at(field.direction(x, y)))
                                                   : agree + counts.cell(x, y)[0] * (c.inverse_m - agree);
                float* const cell = field.cell(x, y);
                cell[0] += c.share * (told - cell[0]);
                if (field.channels > 1) cell[1] *= 1 - c.share;
            }
        });
    }
    field.close_edges();
}

} // namespace porb
