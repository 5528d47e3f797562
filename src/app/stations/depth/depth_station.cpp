#include "app/stations/depth/depth_station.h"

#include "app/stations/depth/comfort_lane.h"
#include "app/stations/depth/depth_panel.h"

namespace porb::app {

namespace {

class DepthStation final : public Station {
  public:
    explicit DepthStation(const Workplace& place)
        : session_(place.session), panel_(new DepthPanel(place.session, place.picture, place.service)),
          lane_(new ComfortLane(place.session, panel_->measures(), place.timeline.ruler())) {}
    QString name() const override { return "Depth"; }
    QWidget* panel() override { return panel_; }
    QWidget* lane() override { return lane_; }

    StationState state() override {
        const Shot* shot = session_.shot();
        if (!shot) return {};
        const StereoSettings& s = shot->stereo;
        const double apart = s.from == EyesFrom::distances ? s.ipd_m
                             : s.from == EyesFrom::cameras ? eye_separation_m(shot->rig)
                                                           : 0;
        if (apart <= 0) return {0, "mono", false};
        const auto& measured = panel_->measures().summaries();
        const bool care =
            std::any_of(measured.begin(), measured.end(), [](const EyeSummary& m) { return wants_care(m); });
        return {measured.empty() ? 0.5 : 1.0, QString("%1 mm").arg(1000 * apart, 0, 'f', 0), care};
    }

    std::vector<Command> commands() override {
        using enum Command::Goes;
        DepthPanel* p = panel_;
        return {
            {"Measure both eyes", QKeySequence("Shift+E"), [p] { p->measure(); }, there,
             "stereo disparity vertical comfort compare"},
            {"Converge on what I click", QKeySequence("Shift+C"), [p] { p->pick_convergence(); }, there,
             "convergence zero parallax screen plane"},
            {"Converge nearer", QKeySequence("Ctrl+["), [p] { p->converge_by(1 / kStep); }, there,
             "convergence"},
            {"Converge further away", QKeySequence("Ctrl+]"), [p] { p->converge_by(kStep); }, there,
             "convergence"},
            {"Set or remove a key of convergence here", {}, [p] { p->toggle_key(); }, there, "keyframe"},
            {"Meet the shot before",
             {},
             [p] { p->meet_before(); },
             there,
             "convergence cut depth jump continuity"},
            {"Fit eyes to the comfort budget",
             {},
             [p] { p->fit(); },
             there,
             "interpupillary distance ipd interaxial disparity comfort"},
            {"Swap left and right eye", {}, [p] { p->swap(); }, there, "pseudoscopic reversed"},
            {"Show the two eyes in the next way", QKeySequence("Shift+V"), [p] { p->next_eyes_look(); },
             stays, "anaglyph side by side left right stereo"},
        };
    }

  private:
    static constexpr double kStep = 1.05;
    Session& session_;
    DepthPanel* panel_;
    ComfortLane* lane_;
};

} // namespace

std::unique_ptr<Station> depth_station(const Workplace& place) {
    return std::make_unique<DepthStation>(place);
}

} // namespace porb::app
