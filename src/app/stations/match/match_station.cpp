#include "app/stations/match/match_station.h"

#include "app/stations/match/grade_part.h"
#include "app/stations/match/match_panel.h"

namespace porb::app {

namespace {

class MatchStation final : public Station {
  public:
    explicit MatchStation(const Workplace& place)
        : session_(place.session), panel_(new MatchPanel(place.session)) {}
    QString name() const override { return "Match"; }
    QWidget* panel() override { return panel_; }

    StationState state() override {
        const Shot* shot = session_.shot();
        if (!shot) return {};
        const bool matched = std::any_of(shot->cameras.begin(), shot->cameras.end(),
                                         [](const ShotCamera& c) { return !c.colour.gains.empty(); });
        return {matched ? 1.0 : 0.0,
                !matched || !shot->colour.match.on ? QString("as shot")
                : shot->colour.match.apart_ev
                    ? QString("%1 EV apart").arg(*shot->colour.match.apart_ev, 0, 'f', 2)
                    : QString("matched"),
                false};
    }

    std::vector<Command> commands() override {
        using enum Command::Goes;
        MatchPanel* p = panel_;
        return {
            {"Match the cameras' colours", QKeySequence("E"), [p] { p->match_now(); }, there,
             "exposure white balance vignetting colour color"},
            {"Show matched or as shot", QKeySequence("B"), [p] { p->toggle_as_shot(); }, stays,
             "bypass before after"},
            {"Grade the shot", QKeySequence("Ctrl+G"), [p] { p->show_part(MatchPanel::Part::grade); }, there,
             "colour color correction lut cdl look"},
            {"Bypass the grade", QKeySequence("Shift+B"), [p] { p->grade().toggle_bypass(); }, stays,
             "before after colour color look"},
        };
    }

  private:
    Session& session_;
    MatchPanel* panel_;
};

} // namespace

std::unique_ptr<Station> match_station(const Workplace& place) {
    return std::make_unique<MatchStation>(place);
}

} // namespace porb::app
