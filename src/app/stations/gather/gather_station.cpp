#include "app/stations/gather/gather_station.h"

#include "app/stations/gather/align_strip.h"
#include "app/stations/gather/gather_panel.h"

namespace porb::app {

namespace {

class GatherStation final : public Station {
  public:
    explicit GatherStation(const Workplace& place)
        : session_(place.session), panel_(new GatherPanel(place.session, place.service)),
          strip_(new AlignStrip(place.session, place.timeline.ruler())) {
        strip_->hide();
        QObject::connect(panel_, &GatherPanel::align_wanted, strip_,
                         [this] { strip_->setVisible(!strip_->isVisible()); });
        QObject::connect(strip_, &AlignStrip::closed, strip_, &QWidget::hide);
        QObject::connect(&place.picture, &PictureArea::add_files_wanted, panel_, &GatherPanel::choose_files);
    }
    QString name() const override { return "Gather"; }
    QWidget* panel() override { return panel_; }
    QWidget* strip() override { return strip_; }
    void leave() override { strip_->hide(); }
    bool take_files(const QStringList& files) override {
        panel_->add_files(files);
        return true;
    }

    StationState state() override {
        const Shot* shot = session_.shot();
        if (!shot) return {0, "no source yet", false};
        const auto count = int(shot->cameras.size());
        const auto assigned = int(std::count_if(shot->cameras.begin(), shot->cameras.end(),
                                                [](const ShotCamera& c) { return !c.media.empty(); }));
        const bool missing = !session_.missing().empty();
        return {double(assigned) / std::max(1, count),
                missing ? "files missing" : QString("%1 of %2 sources").arg(assigned).arg(count), missing};
    }

    std::vector<Command> commands() override {
        using enum Command::Goes;
        return {
            {"Add files…", QKeySequence("Ctrl+I"), [this] { panel_->choose_files(); }, stays,
             "import ingest media footage", "File"},
            {"Add a folder…", QKeySequence("Ctrl+Shift+A"), [this] { panel_->choose_folder(); }, stays,
             "import ingest media", "File"},
            {"Make shots of the proposed takes", QKeySequence("Ctrl+Return"),
             [this] { panel_->make_shots(); }, stays, "import"},
            {"Align time", QKeySequence("L"), [this] { strip_->setVisible(!strip_->isVisible()); }, there,
             "sync synchronise offset waveform"},
            {"Find the time offsets", QKeySequence("Ctrl+L"),
             [this] {
                 strip_->show();
                 strip_->find();
             },
             there, "sync synchronise audio timecode"},
            {"Earlier source: nudge by a frame", QKeySequence("Ctrl+Left"), [this] { nudge(-1); }, stays,
             "sync slip"},
            {"Later source: nudge by a frame", QKeySequence("Ctrl+Right"), [this] { nudge(1); }, stays,
             "sync slip"},
            {"Earlier source: nudge by a tenth", QKeySequence("Ctrl+Shift+Left"), [this] { nudge(-0.1); },
             stays, "sync slip"},
            {"Later source: nudge by a tenth", QKeySequence("Ctrl+Shift+Right"), [this] { nudge(0.1); },
             stays, "sync slip"},
            {"Next shot", QKeySequence("Ctrl+PgDown"), [this] { next_shot(1); }, stays},
            {"Previous shot", QKeySequence("Ctrl+PgUp"), [this] { next_shot(-1); }, stays},
        };
    }

  private:
    void nudge(double frames) {
        const Shot* shot = session_.shot();
        const ShotCamera* chosen = shot ? find_camera(*shot, session_.selected_camera()) : nullptr;
        if (!chosen || chosen->media.empty()) return;
        const std::string media = chosen->media;
        const Seconds by = Rational(std::int64_t(std::llround(frames * 10)), 10) / shot->timing.rate;
        session_.edit_shot(
            "Nudge " + QString::fromStdString(media),
            [&](Shot& s) {
                for (auto& c : s.cameras)
                    if (c.media == media) c.offset = c.offset + by;
            },
            "nudge-" + QString::fromStdString(media));
        session_.say(QString("Camera %1: offset %2 frames")
                         .arg(QString::fromStdString(session_.selected_camera()))
                         .arg((find_camera(*session_.shot(), session_.selected_camera())->offset *
                               session_.shot()->timing.rate)
                                  .to_double(),
                              0, 'f', 2));
    }

    void next_shot(int step) {
        const auto& shots = session_.project()->shots;
        for (std::size_t i = 0; i < shots.size(); ++i)
            if (session_.shot() && shots[i].id == session_.shot()->id)
                return session_.choose_shot(
                    shots[(i + shots.size() + std::size_t(step + int(shots.size()))) % shots.size()].id);
    }

    Session& session_;
    GatherPanel* panel_;
    AlignStrip* strip_;
};

} // namespace

std::unique_ptr<Station> gather_station(const Workplace& place) {
    return std::make_unique<GatherStation>(place);
}

} // namespace porb::app
