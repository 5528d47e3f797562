#include "app/stations/master/master_station.h"

#include "app/stations/master/master_panel.h"

namespace porb::app {

namespace {

class MasterStation final : public Station {
  public:
    explicit MasterStation(const Workplace& place)
        : session_(place.session), queue_(place.queue), panel_(new MasterPanel(place.session, place.queue)) {}
    QString name() const override { return "Master"; }
    QWidget* panel() override { return panel_; }

    StationState state() override {
        if (!session_.shot()) return {};
        const auto all = session_.project()->deliverables.size();
        const int done = queue_.count(RenderQueue::State::done);
        if (all == 0) return {0, "nothing to render", false};
        return {double(done) / double(all), QString("%1 of %2 done").arg(done).arg(all), false};
    }

    std::vector<Command> commands() override {
        return {{"Render the selected deliverable", QKeySequence("Ctrl+R"),
                 [this] { panel_->render_selected(); }, Command::Goes::stays, "export output encode master"}};
    }

  private:
    Session& session_;
    RenderQueue& queue_;
    MasterPanel* panel_;
};

} // namespace

std::unique_ptr<Station> master_station(const Workplace& place) {
    return std::make_unique<MasterStation>(place);
}

} // namespace porb::app
