#pragma once

#include "app/session/background_job.h"
#include "app/stations/rig/rig_table.h"
#include "app/widgets/panel.h"
#include "base/progress.h"

#include <QPushButton>

#include <thread>

class QCheckBox;

namespace porb::app {

class NumberField;

/// Rig: lenses and poses, where their values come from, profiles, circles, calibrations; the agree distance.
class RigPanel : public Panel {
    Q_OBJECT
  public:
    explicit RigPanel(Session& session, QWidget* parent = nullptr);
    void turn_selected_back();
    void load_rig_file(QString file = {}); ///< asks for one when none is named
    void circle_to_alike();
    void save_rig_file();
    void read_calibration();
    void write_calibration();
    void choose_profile();
    void save_as_profile();
    void find_circles_now();
    void use_embedded_rig();
    void compare_with_profile();
    void read_motion();
    enum class Part { lens, pose };
    void copy(Part part);
    void paste(Part part);
    void lock(Part part);
    void reset(Part part);

  private:
    void refresh() override;
    /// Takes another rig and says what went with the old one.
    void start_from_rig(const QString& label, const Rig& rig, const Origin& origin);
    void take_rig_after_look(const Rig& rig, const QString& label, const Origin& origin);
    QPushButton* button(QLayout* row, const QString& text, const char* name, const QString& tip,
                        void (RigPanel::*work)());
    std::vector<std::string> selected_cameras() const;
    Session& session_;
    RigModel model_;
    RigTable* table_;
    QLabel *name_, *origin_, *found_words_;
    QWidget* found_;
    QCheckBox* alike_;
    NumberField* agree_;
    std::optional<Lens> lens_copy_;
    std::optional<Pose> pose_copy_;
    /// The videos' own rig, parsed once for each set of sources: panels refresh at every step of a drag.
    const std::optional<Rig>& rig_inside();
    std::vector<Media> inside_of_;
    std::vector<std::string> inside_cameras_;
    std::optional<Rig> inside_;
    BackgroundJob job_;
    QPushButton* find_;
};

} // namespace porb::app
