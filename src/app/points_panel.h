#pragma once

#include "app/background_job.h"
#include "app/panel.h"
#include "app/picture_area.h"

class QCheckBox;
class QComboBox;
class QListWidget;
class QProgressBar;
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
    void trace_region(PictureArea::RegionTool tool) { picture_.set_region_tool(tool); }
    BackgroundJob& job() { return job_; }

  private:
    void refresh() override;
    void run(bool find);
    void set(const QString& label, const std::function<void(Shot&)>& change, const QString& key = {});
    void show_busy();

    Session& session_;
    PictureArea& picture_;
    BackgroundJob job_;
    QLabel *rms_, *facts_, *samples_text_, *would_drop_, *undetermined_, *regions_;
    QToolButton *avoid_, *only_;
    QSpinBox* samples_;
    QComboBox *pick_, *freedoms_[5];
    QCheckBox *own_distance_, *straight_edges_, *from_far_;
    QPushButton *find_, *again_, *stop_;
    QProgressBar* progress_;
    NumberField* limit_;
    QListWidget* kept_;
};

} // namespace porb::app
