#pragma once

#include "app/session.h"
#include "stitch/plan.h"

#include <QWidget>

#include <array>

namespace porb::app {

enum class Station { gather, rig, points, level, match, seams, master };
inline constexpr int kStations = 7;
QString station_name(Station station);

/// The way through the work, drawn as a shallow orbit with a body for each station: how far it is, and its
/// one figure.
class OrbitRail : public QWidget {
    Q_OBJECT
  public:
    explicit OrbitRail(Session& session, QWidget* parent = nullptr);
    void set_station(Station station);
    Station station() const { return station_; }
    void set_rendered(int done, int all);    ///< deliverables, for Master's figure
    QRectF body_rect(Station station) const; ///< where a click chooses it
    QSize sizeHint() const override { return {900, 74}; }

  signals:
    void chosen(porb::app::Station station);

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void leaveEvent(QEvent*) override;

  private:
    struct State {
        double progress = 0; ///< 0 not begun, 1 done
        QString figure;
        bool care = false;
    };
    void refresh();
    double covered_share();
    QPointF body_at(int index) const;

    Session& session_;
    Station station_ = Station::gather;
    std::array<State, kStations> states_;
    int hover_ = -1, rendered_ = 0, deliverables_ = 0;
    std::optional<PlanKey> covered_key_;
    double covered_ = 0;
};

} // namespace porb::app
