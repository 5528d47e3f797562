#include "app/stations/level/level_station.h"

#include "app/stations/level/level_panel.h"
#include "base/angle.h"

namespace porb::app {

namespace {

class LevelStation final : public Station {
  public:
    explicit LevelStation(const Workplace& place)
        : session_(place.session), picture_(place.picture),
          panel_(new LevelPanel(place.session, place.picture)) {}
    QString name() const override { return "Level"; }
    QWidget* panel() override { return panel_; }
    void arrive() override {
        picture_.set_drag_use(DragUse::level);
        picture_.set_lines_shown(true);
    }
    void leave() override {
        picture_.set_drag_use(DragUse::look);
        picture_.set_lines_shown(false);
    }

    StationState state() override {
        const Shot* shot = session_.shot();
        if (!shot) return {};
        const Vec3 up = rotation_of(shot->levelling.orientation) * Vec3(0, -1, 0);
        const double lean = degrees(std::acos(std::clamp(-up.y(), -1.0, 1.0)));
        const bool any = std::any_of(shot->cameras.begin(), shot->cameras.end(),
                                     [](const ShotCamera& c) { return !c.media.empty(); });
        return {any ? 1.0 : 0.0, QString("%1° lean").arg(lean, 0, 'f', 1), false};
    }

    std::vector<Command> commands() override {
        using enum Command::Goes;
        LevelPanel* p = panel_;
        return {
            {"Stand upright by edges found", QKeySequence("U"), [p] { p->find_edges(); }, there,
             "horizon level straighten verticals"},
            {"Stand upright by drawn lines", QKeySequence("Shift+U"), [p] { p->level_by_lines(); }, there,
             "horizon level straighten verticals"},
            {"Stand upright by gravity",
             {},
             [p] { p->level_by_gravity(); },
             there,
             "horizon level accelerometer imu gyro"},
            {"Trace an upright line", QKeySequence("D"), [p] { p->trace(LineKind::vertical); }, there,
             "vertical plumb"},
            {"Trace a level line", QKeySequence("Shift+D"), [p] { p->trace(LineKind::horizontal); }, there,
             "horizon horizontal"},
            {"Trace a straight line", {}, [p] { p->trace(LineKind::straight); }, there, "distortion"},
            {"Set an orientation key here", QKeySequence("H"), [p] { p->set_key(); }, there,
             "keyframe horizon heading recentre"},
            {"Remove the orientation key here", QKeySequence("Shift+H"), [p] { p->remove_key(); }, there,
             "keyframe"},
            {"Steady from the footage", QKeySequence("Y"), [p] { p->steady(SteadySource::footage); }, there,
             "stabilise stabilize shake smooth"},
            {"Steady from the motion record", QKeySequence("Shift+Y"),
             [p] { p->steady(SteadySource::record); }, there, "stabilise stabilize gyro imu"},
        };
    }

  private:
    Session& session_;
    PictureArea& picture_;
    LevelPanel* panel_;
};

} // namespace

std::unique_ptr<Station> level_station(const Workplace& place) {
    return std::make_unique<LevelStation>(place);
}

} // namespace porb::app
