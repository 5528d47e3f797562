#pragma once

#include "app/picture/picture_area.h"

#include <QPolygonF>

namespace porb::app {

/// What people draw: dark below, so that it shows on any picture; dashed level lines, dotted straight ones.
void stroke_line(QPainter& painter, const QPolygonF& line, LineKind kind);

/// Traces with the left button held: where the pointer went becomes one value of the shot. Escape takes the
/// tool off the picture.
class TraceTool : public PictureTool {
  public:
    TraceTool(Session& session, PictureArea& picture) : session_(session), picture_(picture) {}

    bool press(QMouseEvent* event) override;
    bool move(QMouseEvent* event) override;
    bool release(QMouseEvent* event) override;
    bool double_click(QMouseEvent*) override { return true; }
    bool key(QKeyEvent* event) override;
    void paint(QPainter& painter) override;
    Qt::CursorShape cursor() const override { return Qt::CrossCursor; }

  protected:
    virtual void traced(const QPolygonF& trace) = 0;
    virtual LineKind drawn_as() const { return LineKind::straight; }
    Session& session_;
    PictureArea& picture_;

  private:
    QPolygonF trace_;
};

} // namespace porb::app
