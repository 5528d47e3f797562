#pragma once

#include "app/session/session.h"

#include <QWidget>

namespace porb::app {

/// The selected lens as a curve: radius in the picture against the angle from its axis, the ideal of its kind
/// beside it, and below how far it departs from that in pixels.
class LensPlot : public QWidget {
    Q_OBJECT
  public:
    explicit LensPlot(Session& session, QWidget* parent = nullptr);

  protected:
    void paintEvent(QPaintEvent*) override;

  private:
    Session& session_;
};

} // namespace porb::app
