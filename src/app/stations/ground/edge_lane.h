#pragma once

#include "app/picture/timeline.h"
#include "app/stations/ground/edge_part.h"

namespace porb::app {

/// The step along the patch's edge over the shot.
class EdgeLane : public QWidget {
    Q_OBJECT
  public:
    EdgeLane(Session& session, EdgePart& edge, PatchChoice& choice, TimeRuler& ruler,
             QWidget* parent = nullptr);

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    bool event(QEvent*) override;

  private:
    int under(const QPointF& at) const;
    Session& session_;
    EdgePart& edge_;
    TimeRuler& ruler_;
};

} // namespace porb::app
