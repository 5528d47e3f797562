#pragma once

#include "stereo/measure.h"

#include <QWidget>

namespace porb::app {

/// How much of what both eyes show has which horizontal disparity, against the comfort budget.
class DisparityPlot : public QWidget {
    Q_OBJECT
  public:
    explicit DisparityPlot(QWidget* parent = nullptr);
    void show_moment(const EyeMoment* moment, const ComfortBudget& budget); ///< nullptr: nothing was measured
    QSize sizeHint() const override { return {260, 92}; }

  protected:
    void paintEvent(QPaintEvent*) override;

  private:
    std::vector<float> degrees_;
    ComfortBudget budget_;
};

} // namespace porb::app
