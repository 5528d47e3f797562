#pragma once

#include <QString>

class QKeyEvent;
class QMouseEvent;
class QPainter;
class QTabletEvent;

namespace porb::app {

/// What is drawn and edited over the picture at a station. Gestures go to it first; those it does not take do
/// what they always do.
class PictureTool {
  public:
    virtual ~PictureTool() = default;
    virtual bool press(QMouseEvent* event) = 0;
    virtual bool move(QMouseEvent* event) = 0;
    virtual bool release(QMouseEvent* event) = 0;
    virtual bool double_click(QMouseEvent* event) = 0;
    virtual bool key(QKeyEvent* event) = 0;
    virtual void paint(QPainter& painter) = 0;
    virtual QString words() const = 0; ///< what to do next, or empty
    virtual Qt::CursorShape cursor() const { return Qt::ArrowCursor; }
    /// Whether edits it makes are to show in full at once, not coarse until they rest.
    virtual bool is_painting() const { return false; }
    /// A pen over the picture; true: it is taken, and becomes no mouse event.
    virtual bool pen(QTabletEvent*) { return false; }
};

} // namespace porb::app
