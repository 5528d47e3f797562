#pragma once

#include "app/picture/picture_area.h"
#include "app/session/background_job.h"
#include "app/stations/points/region_tool.h"
#include "app/widgets/panel.h"
#include "solve/bundle/vertical_agreement.h"

#include <optional>

class QCheckBox;
class QComboBox;
class QListWidget;
class QPushButton;
class QSpinBox;
class QToolButton;

namespace porb::app {

class NumberField;

/// Points: samples, what a solve may change, finding and solving in the background, leaving points out,
/// solves that were kept.
class PointsPanel : public Panel {
    Q_OBJECT
  public:
    PointsPanel(Session& session, PictureArea& picture, QWidget* parent = nullptr);
    void find_and_solve() { run(true); }
    void solve_again() { run(false); }
    void add_sample();
    /// Where points are not looked for, or looked for alone.
    void trace_region(bool avoid);
    BackgroundJob& job() { return job_; }

  private:
    void refresh() override;
    void run(bool find);
    void set(const QString& label, const std::function<void(Shot&)>& change, const QString& key = {});
    void show_busy();
    void show_tools();

    Session& session_;
    PictureArea& picture_;
    BackgroundJob job_;
    RegionTool region_tool_;
    QLabel *rms_, *facts_, *samples_text_, *would_drop_, *undetermined_, *regions_;
    QToolButton *avoid_, *only_;
    QSpinBox* samples_;
    QComboBox *pick_, *freedoms_[5];
    QCheckBox *own_distance_, *straight_edges_, *agreement_, *from_far_;
    QPushButton *find_, *again_;
    NumberField* limit_;
    QListWidget* kept_;
    struct Agreed {
        Rig rig; ///< as that solve left it
        VerticalAgreement how;
    };
    std::optional<Agreed> agreed_; ///< of the last solve here
};

} // namespace porb::app
