#pragma once

#include "app/picture/picture_service.h"
#include "app/session/background_job.h"
#include "app/session/session.h"

#include <QWidget>

namespace porb::app {

/// Two cameras' pictures side by side, magnified about a point's two places. A click in one proposes the
/// place in the other, along the line where it must lie; drag a place to move it, arrow keys nudge by 0.1 px,
/// Return refines it.
class PairView : public QWidget {
    Q_OBJECT
  public:
    PairView(Session& session, QWidget* parent = nullptr);
    void show_cameras(const std::string& a, const std::string& b);
    void show_point(int id); ///< 0: none
    int point() const { return point_; }
    QPointF widget_place(int side, const Vec2& px) const;

  signals:
    void chosen(int id);
    void cameras_changed();

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

  private:
    void ask();
    QRectF half(int side) const;
    Vec2 px_at(int side, const QPointF& at) const;
    const ControlPoint* found() const;
    void move_place(int side, const Vec2& px, const QString& key);
    void propose(int side, const Vec2& px);
    void refine(const ControlPoint& point);

    Session& session_;
    PictureService service_;
    BackgroundJob job_;
    std::string cameras_[2];
    QImage images_[2];
    double shrink_[2] = {1, 1}; ///< pixels of the source in one of the picture that was read
    Vec2 centre_[2] = {Vec2(0, 0), Vec2(0, 0)};
    double zoom_ = 0; ///< widget pixels a source pixel; 0: the whole picture
    int point_ = 0, held_ = -1, side_ = 1;
    QPointF pressed_;
    bool moved_ = false;
    quint64 number_ = 0;
};

} // namespace porb::app
