#pragma once

#include "solve/bundle/point_fit.h"
#include "solve/bundle/report.h"

#include <QWidget>

namespace porb::app {

/// Plots of the residuals: how many of each size, and against the angle from the lens's axis, where a wrong
/// lens model shows.
class ResidualPlot : public QWidget {
    Q_OBJECT
  public:
    using QWidget::QWidget;
    void show(const Shot* shot, const std::vector<PointFit>& fits);

  protected:
    void paintEvent(QPaintEvent*) override;

  private:
    std::vector<double> residuals_;
    std::vector<std::pair<double, double>> by_angle_; ///< degrees, radial miss in px
    std::vector<PairFigure> pairs_;
    std::vector<std::string> cameras_;
};

} // namespace porb::app
