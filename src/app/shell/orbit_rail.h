#pragma once

#include "app/stations/station.h"

#include <QWidget>

namespace porb::app {

/// The way through the work, drawn as a shallow orbit with a body for each station: how far it is, and its
/// one figure. Stations are counted from 0.
class OrbitRail : public QWidget {
    Q_OBJECT
  public:
    OrbitRail(Session& session, const std::vector<std::unique_ptr<Station>>& stations,
              QWidget* parent = nullptr);
    void set_station(int index);
    int station() const { return station_; }
    void refresh();
    QRectF body_rect(int index) const; ///< where a click chooses it
    QSize sizeHint() const override { return {900, 74}; }

  signals:
    void chosen(int index);

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void leaveEvent(QEvent*) override;

  private:
    QPointF body_at(double index) const;
    int count() const { return int(stations_.size()); }

    Session& session_;
    const std::vector<std::unique_ptr<Station>>& stations_;
    std::vector<StationState> states_;
    int station_ = 0, hover_ = -1;
};

} // namespace porb::app
