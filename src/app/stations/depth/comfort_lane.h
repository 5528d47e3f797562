#pragma once

#include "app/picture/timeline.h"
#include "app/stations/depth/eye_measures.h"

#include <QWidget>

namespace porb::app {

/// The lane under the ruler that shows, at each measured moment, from where to where horizontal disparity
/// reaches against the comfort budget. A click goes to the moment.
class ComfortLane : public QWidget {
    Q_OBJECT
  public:
    ComfortLane(Session& session, EyeMeasures& measures, TimeRuler& ruler, QWidget* parent = nullptr);
    QSize sizeHint() const override { return {200, 30}; }

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    bool event(QEvent*) override;

  private:
    int under(const QPointF& at);
    Session& session_;
    EyeMeasures& measures_;
    TimeRuler& ruler_;
};

} // namespace porb::app
