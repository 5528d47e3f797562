#include "app/stations/points/points_station.h"

#include "app/stations/points/points_desk.h"
#include "app/stations/points/points_panel.h"
#include "app/stations/points/residual_lane.h"
#include "project/orientation.h"
#include "solve/agree_distance.h"

namespace porb::app {

namespace {

class PointsStation final : public Station {
  public:
    explicit PointsStation(const Workplace& place)
        : session_(place.session), picture_(place.picture),
          panel_(new PointsPanel(place.session, place.picture)), desk_(new PointsDesk(place.session)),
          lane_(new ResidualLane(place.session, place.timeline.ruler())) {}
    QString name() const override { return "Points"; }
    QWidget* panel() override { return panel_; }
    QWidget* lane() override { return lane_; }
    std::optional<Page> page() override { return Page{ViewMode::pair, desk_}; }

    StationState state() override {
        const Shot* shot = session_.shot();
        if (!shot) return {};
        const auto& solves = shot->calibration.solves;
        for (std::size_t i = solves.size(); i-- > 0;) // the latest that gave this rig
            if (solves[i].rig == shot->rig)
                return {1, QString("%1 px").arg(solves[i].rms_px, 0, 'f', 2), solves[i].rms_px > kCare_px};
        if (shot->calibration.points->empty()) return {0, "not solved", false};
        return {0.5, "changed since", false};
    }

    std::vector<Command> commands() override {
        using enum Command::Goes;
        return {
            {"Find points and solve", QKeySequence("Ctrl+P"), [this] { panel_->find_and_solve(); }, there,
             "calibrate control points features optimise"},
            {"Solve again from the points there are", QKeySequence("Ctrl+Shift+P"),
             [this] { panel_->solve_again(); }, there, "calibrate optimise bundle adjustment"},
            {"Stop finding and solving", {}, [this] { panel_->job().stop(); }, there, "cancel abort"},
            {"Trace a region to avoid", QKeySequence("X"), [this] { panel_->trace_region(true); }, there,
             "mask exclude"},
            {"Trace a region to look in", QKeySequence("Shift+X"), [this] { panel_->trace_region(false); },
             there, "mask include"},
            {"Add a sample here", QKeySequence("Shift+M"), [this] { panel_->add_sample(); }, stays,
             "frame moment calibrate"},
            {"Converge here", QKeySequence("J"), [this] { converge(); }, stays,
             "agree distance parallax single ghost double depth window"},
        };
    }

  private:
    static constexpr double kCare_px = 1.5;

    /// All cameras agree at the distance of what the window looks at.
    void converge() {
        const Shot* shot = session_.shot();
        if (!shot) return;
        const Vec3 direction = in_rig_axes(*shot, session_.playhead(), forward_of(picture_.look()));
        const double radius = std::clamp(picture_.field_of_view() / 5, 4.0, 20.0);
        const auto s = suggest_agree_distance(*shot, session_.point_fits(), direction, radius);
        if (!s)
            return session_.say(
                "There are too few solved points where the window looks. Find points first, or "
                "look at an overlap.",
                Signal::care);
        session_.edit_shot("Converge here", [&](Shot& to) {
            to.seams.agree_distance_m = s->distance_m;
            to.seams.agree_choice = AgreeChoice::chosen;
        });
        session_.say(s->distance_m > 0
                         ? QString("All cameras agree at %1 m, from %2 points there.")
                               .arg(s->distance_m, 0, 'f', 2)
                               .arg(s->points)
                         : QString("All cameras agree far away, from %1 points there.").arg(s->points));
    }

    Session& session_;
    PictureArea& picture_;
    PointsPanel* panel_;
    PointsDesk* desk_;
    ResidualLane* lane_;
};

} // namespace

std::unique_ptr<Station> points_station(const Workplace& place) {
    return std::make_unique<PointsStation>(place);
}

} // namespace porb::app
