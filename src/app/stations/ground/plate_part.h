#pragma once

#include "app/stations/ground/ground_jobs.h"
#include "app/stations/ground/ground_part.h"
#include "patch/fill.h"

class QCheckBox;
class QComboBox;
class QLabel;
class QPushButton;
class QSpinBox;

namespace porb::app {

/// Clean plates of the chosen patch's place, and pixels made from its surroundings.
class PlatePart : public GroundPart {
    Q_OBJECT
  public:
    PlatePart(Session& session, PatchChoice& choice, GroundJobs& jobs, QWidget* parent = nullptr);
    void take(); ///< the plate that is chosen
    void fill();
    void refresh() override;
    /// An outline on the patch's square, pixels, that pieces may be taken from alone; fewer than three
    /// corners: from anywhere.
    void set_selection(std::function<std::vector<Vec2>()> of) { selection_ = std::move(of); }

  private:
    void take_file();
    void show_plate();
    void mend_scratches();
    GroundJobs& jobs_;
    QComboBox *from_, *other_;
    QSpinBox *moments_, *variant_;
    QLabel* words_;
    std::function<std::vector<Vec2>()> selection_;
    QCheckBox* within_;
    QPushButton *take_, *show_, *fill_, *mend_;
};

} // namespace porb::app
