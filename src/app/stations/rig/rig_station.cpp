#include "app/stations/rig/rig_station.h"

#include "app/stations/rig/rig_panel.h"

namespace porb::app {

namespace {

class RigStation final : public Station {
  public:
    explicit RigStation(const Workplace& place)
        : session_(place.session), panel_(new RigPanel(place.session)) {}
    QString name() const override { return "Rig"; }
    QWidget* panel() override { return panel_; }
    bool take_files(const QStringList& files) override {
        if (files.size() != 1 || !files[0].endsWith(".rig.json")) return false;
        panel_->load_rig_file(files[0]);
        return true;
    }

    StationState state() override {
        const Shot* shot = session_.shot();
        if (!shot) return {};
        double widest = 0;
        for (const auto& c : shot->rig.cameras) widest = std::max(widest, field_of_view_deg(c.lens));
        const bool any = std::any_of(shot->cameras.begin(), shot->cameras.end(),
                                     [](const ShotCamera& c) { return !c.media.empty(); });
        return {any ? 1.0 : 0.5, QString("%1 × %2°").arg(shot->cameras.size()).arg(widest, 0, 'f', 1), false};
    }

    std::vector<Command> commands() override {
        using enum Command::Goes;
        using Part = RigPanel::Part;
        RigPanel* p = panel_;
        return {
            {"Find the image circles", QKeySequence("C"), [p] { p->find_circles_now(); }, there,
             "fisheye crop rim lens"},
            {"Choose a profile…", QKeySequence("P"), [p] { p->choose_profile(); }, there,
             "lens preset camera"},
            {"Save the rig as a profile…", {}, [p] { p->save_as_profile(); }, there, "lens preset template"},
            {"Compare with the profile…", {}, [p] { p->compare_with_profile(); }},
            {"Read a lens calibration…",
             {},
             [p] { p->read_calibration(); },
             there,
             "import intrinsics distortion"},
            {"Write a lens calibration…", {}, [p] { p->write_calibration(); }, there, "export intrinsics"},
            {"Use the video's own rig…", {}, [p] { p->use_embedded_rig(); }, there, "metadata"},
            {"Read a motion record…", {}, [p] { p->read_motion(); }, there, "gyro imu telemetry"},
            {"Load a rig file…", {}, [p] { p->load_rig_file(); }, stays, "import"},
            {"Save the rig as a file…", {}, [p] { p->save_rig_file(); }, stays, "export"},
            {"Turn the selected camera to the back", QKeySequence("Ctrl+B"), [p] { p->turn_selected_back(); },
             there, "yaw 180"},
            {"Copy the lens", QKeySequence("Ctrl+Shift+C"), [p] { p->copy(Part::lens); }},
            {"Paste the lens", QKeySequence("Ctrl+Shift+V"), [p] { p->paste(Part::lens); }},
            {"Copy the pose", {}, [p] { p->copy(Part::pose); }},
            {"Paste the pose", {}, [p] { p->paste(Part::pose); }},
            {"Copy the circle to alike cameras", {}, [p] { p->circle_to_alike(); }, there, "fisheye crop"},
            {"Lock or unlock the lens", {}, [p] { p->lock(Part::lens); }, there, "freeze intrinsics"},
            {"Lock or unlock the pose", {}, [p] { p->lock(Part::pose); }, there, "freeze extrinsics"},
            {"Reset the lens to the profile", {}, [p] { p->reset(Part::lens); }},
            {"Reset the pose to the profile", {}, [p] { p->reset(Part::pose); }},
        };
    }

  private:
    Session& session_;
    RigPanel* panel_;
};

} // namespace

std::unique_ptr<Station> rig_station(const Workplace& place) {
    return std::make_unique<RigStation>(place);
}

} // namespace porb::app
