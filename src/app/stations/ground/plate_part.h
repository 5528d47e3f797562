#pragma once

#include "app/stations/ground/ground_jobs.h"
#include "patch/fill.h"

#include <QWidget>

class QComboBox;
class QLabel;
class QPushButton;
class QSpinBox;

namespace porb::app {

/// Clean plates of the chosen patch's place, and pixels made from its surroundings.
class PlatePart : public QWidget {
    Q_OBJECT
  public:
    PlatePart(Session& session, PatchChoice& choice, GroundJobs& jobs, QWidget* parent = nullptr);
    void take(); ///< the plate that is chosen
    void fill();
    void refresh();

  private:
    void take_file();
    void show_plate();
    void mend_scratches();
    Session& session_;
    PatchChoice& choice_;
    GroundJobs& jobs_;
    QComboBox *from_, *other_;
    QSpinBox *moments_, *variant_;
    QLabel* words_;
    QPushButton *take_, *show_, *fill_, *mend_;
};

} // namespace porb::app
