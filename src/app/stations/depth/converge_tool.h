#pragma once

#include "app/picture/picture_area.h"
#include "app/picture/picture_tool.h"
#include "app/session/background_job.h"

namespace porb::app {

/// A click on what both eyes should converge on, in map or window view: its distance is found and set.
class ConvergeTool : public QObject, public PictureTool {
    Q_OBJECT
  public:
    ConvergeTool(Session& session, PictureArea& picture, PictureService& service, QObject* parent = nullptr);
    void toggle();
    BackgroundJob& job() { return job_; }

    bool press(QMouseEvent* event) override;
    bool move(QMouseEvent*) override { return false; }
    bool release(QMouseEvent*) override { return false; }
    bool double_click(QMouseEvent*) override { return true; }
    bool key(QKeyEvent* event) override;
    void paint(QPainter& painter) override;
    QString words() const override;
    Qt::CursorShape cursor() const override { return Qt::CrossCursor; }

  private:
    Session& session_;
    PictureArea& picture_;
    PictureService& service_;
    BackgroundJob job_;
    std::optional<Vec3> last_; ///< where it was clicked
};

} // namespace porb::app
