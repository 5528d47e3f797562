#pragma once

#include "align/offsets.h"
#include "app/session/background_job.h"
#include "app/session/session.h"

#include <QWidget>

#include <map>

class QCheckBox;
class QComboBox;
class QLabel;
class QPushButton;

namespace porb::app {

class TimeRuler;

/// The sources' waveforms lined up under the timeline's ruler, one lane a file, with offset, confidence and
/// the peak each was found by. A lane is dragged sideways to move its source by hand.
class AlignLanes : public QWidget {
    Q_OBJECT
  public:
    AlignLanes(Session& session, TimeRuler& ruler, QWidget* parent = nullptr);
    void set_found(const std::vector<FoundOffset>& found);
    void refresh();
    bool has_waves() const { return !waves_.empty(); }

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void showEvent(QShowEvent*) override;

  private:
    struct Lane {
        std::string media;
        std::vector<std::size_t> cameras;
    };
    std::vector<Lane> lanes() const;
    double x_of(double shot_seconds) const;
    double shift() const; ///< of the ruler against this, pixels
    void read_waves();

    Session& session_;
    TimeRuler& ruler_;
    std::map<std::string, std::vector<float>>
        waves_;                                ///< loudest in each hundredth of a second of source time
    std::map<std::string, FoundOffset> found_; ///< by camera, while its offset is as it was found
    BackgroundJob reading_;
    int grip_ = -1;
    double grip_x_ = 0;
    Seconds grip_offset_;
};

/// Align time: the lanes, and how offsets are found: method, range, progress, clocks.
class AlignStrip : public QWidget {
    Q_OBJECT
  public:
    AlignStrip(Session& session, TimeRuler& ruler, QWidget* parent = nullptr);
    void find();
    bool is_busy() const { return job_.is_running(); }

  signals:
    void closed();

  private:
    void take(const ProjectPtr& for_project, const std::string& shot, const std::vector<FoundOffset>& found);
    void refresh();
    Session& session_;
    AlignLanes* lanes_;
    QComboBox *method_, *range_;
    QCheckBox* clocks_;
    QPushButton* find_;
    QLabel* words_;
    BackgroundJob job_;
};

} // namespace porb::app
