#include "app/picture/trace_tool.h"

#include "app/widgets/theme.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>

namespace porb::app {

namespace {
constexpr double kTraceStepPx = 10; // a trace gets a place every so many pixels of the widget
}

void stroke_line(QPainter& p, const QPolygonF& line, LineKind kind) {
    p.setBrush(Qt::NoBrush);
    p.setPen(QPen(QColor(0, 0, 0, 160), 4));
    p.drawPolyline(line);
    p.setPen(QPen(colour::accent, 1.8,
                  kind == LineKind::vertical     ? Qt::SolidLine
                  : kind == LineKind::horizontal ? Qt::DashLine
                                                 : Qt::DotLine));
    p.drawPolyline(line);
}

bool TraceTool::press(QMouseEvent* event) {
    if (event->button() != Qt::LeftButton || !session_.shot()) return false;
    trace_ = QPolygonF({event->position()});
    return true;
}

bool TraceTool::move(QMouseEvent* event) {
    if (trace_.isEmpty()) return false;
    const QPointF d = event->position() - trace_.last();
    if (std::hypot(d.x(), d.y()) >= kTraceStepPx) trace_ << event->position();
    picture_.update();
    return true;
}

bool TraceTool::release(QMouseEvent* event) {
    if (trace_.isEmpty()) return false;
    trace_ << event->position();
    const QPolygonF trace = std::exchange(trace_, {});
    picture_.update();
    traced(trace);
    return true;
}

bool TraceTool::key(QKeyEvent* event) {
    if (event->key() != Qt::Key_Escape) return false;
    trace_.clear();
    picture_.set_tool(nullptr);
    return true;
}

void TraceTool::paint(QPainter& p) {
    if (trace_.size() < 2) return;
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    stroke_line(p, trace_, drawn_as());
    p.restore();
}

} // namespace porb::app
