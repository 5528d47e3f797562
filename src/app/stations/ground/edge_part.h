#pragma once

#include "app/stations/ground/ground_jobs.h"
#include "app/stations/ground/ground_part.h"
#include "patch/light.h"

class QCheckBox;
class QLabel;
class QPushButton;

namespace porb::app {

/// Where the chosen patch ends: its mask proposed, the footage's light followed, the step that is left.
class EdgePart : public GroundPart {
    Q_OBJECT
  public:
    EdgePart(Session& session, PatchChoice& choice, GroundJobs& jobs, QWidget* parent = nullptr);
    /// What was measured last, of the chosen patch as it is; empty otherwise.
    const std::vector<EdgeStep>& steps() const;
    void measure();
    void follow();
    void refresh() override;

  signals:
    void measured();

  private:
    void propose_region();
    void propose_edge();
    GroundJobs& jobs_;
    QCheckBox* follows_;
    NumberField *shadows_, *feather_;
    QLabel *figures_, *mask_words_;
    QPushButton *region_, *edge_, *whole_, *invert_, *follow_, *measure_, *reference_;
    std::vector<EdgeStep> steps_;
    Patch of_; ///< that was measured
};

} // namespace porb::app
