#pragma once

#include "solve/calibrate.h"

#include <QWidget>

namespace porb::app {

/// Plots of the misses: how many of each size, and against the angle from the lens's axis, where a wrong lens
/// model shows.
class MissPlot : public QWidget {
    Q_OBJECT
  public:
    using QWidget::QWidget;
    void show(const Shot* shot, const std::vector<PointFit>& fits);

  protected:
    void paintEvent(QPaintEvent*) override;

  private:
    std::vector<double> misses_;
    std::vector<std::pair<double, double>> by_angle_; ///< degrees, radial miss in px
    std::vector<PairFigure> pairs_;
    std::vector<std::string> cameras_;
};

} // namespace porb::app
