#pragma once

#include "app/picture/picture_area.h"
#include "app/session/background_job.h"
#include "app/stations/depth/eye_measures.h"

#include <QCheckBox>
#include <QImage>

class QLabel;
class QPushButton;
class QTableWidget;

namespace porb::app {

class DisparityPlot;
class NumberField;
class RegionMap;

/// The part of Depth that measures what a viewer gets: the budget, what was found, and the places that are
/// worst.
class ComfortPart : public QWidget {
    Q_OBJECT
  public:
    ComfortPart(Session& session, PictureArea& picture, EyeMeasures& measures, QWidget* parent = nullptr);
    void refresh();
    void show_figures(); ///< of the measured moment nearest to the playhead
    void fit();

  private:
    void show_findings();
    void make_pictures();
    void go_to(int row);
    void look_at(const Vec3& direction);
    Session& session_;
    PictureArea& picture_;
    EyeMeasures& measures_;
    BackgroundJob pictures_;
    std::vector<EyeFinding> rows_; ///< findings, then the worst places
    struct Pictured {
        Seconds time;
        Vec3 direction;
        int state; ///< of the measures
        bool operator==(const Pictured&) const = default;
    };
    std::vector<Pictured> pictured_; ///< what small_ shows
    std::vector<QImage> small_;
    NumberField *near_, *far_;
    DisparityPlot* plot_;
    RegionMap* regions_;
    QPushButton *measure_, *fit_;
    QCheckBox* by_itself_;
    QLabel *figures_, *mend_;
    QTableWidget* table_;
};

} // namespace porb::app
