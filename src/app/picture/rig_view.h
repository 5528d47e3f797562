#pragma once

#include "app/session/session.h"
#include "stitch/plan/coverage_report.h"

#include <QWidget>

namespace porb::app {

/// The rig in three dimensions: each camera where it stands with the cone it sees, round them the sphere
/// tinted by how many lenses see each part. Drag turns, middle or right drag pans, the wheel zooms, a click
/// picks a camera; beside it the overlaps in degrees.
class RigView : public QWidget {
    Q_OBJECT
  public:
    explicit RigView(Session& session, QWidget* parent = nullptr);
    void reset_look();
    /// Where a camera's body is drawn, for tests.
    QPointF body_of(std::size_t camera) const;

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    void showEvent(QShowEvent*) override;

  private:
    struct Seen {
        QPointF at;
        double depth;
    };
    Seen seen(const Vec3& place) const;
    Vec3 place_of(const Camera& camera) const; ///< in sphere radii
    void look_again();
    void paint_figures(QPainter& p);

    Session& session_;
    double yaw_ = 32, pitch_ = 24, zoom_ = 1;
    QPointF pan_{0, 0}, last_, pressed_;
    std::optional<PlanKey> key_;
    CoverageReport report_;
    std::vector<std::pair<Vec3, int>> sphere_; ///< directions and how many lenses see each
};

/// Tints for 0, 1, 2, and 3 or more lenses, alike in the rig view and the coverage map.
QColor coverage_colour(int lenses);

} // namespace porb::app
