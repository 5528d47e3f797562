#pragma once

#include "app/picture/trace_tool.h"

namespace porb::app {

/// Traces an edge that is upright, level or straight, in lens, window or map view.
class LineTool final : public TraceTool {
  public:
    using TraceTool::TraceTool;
    LineKind kind() const { return kind_; }
    void set_kind(LineKind kind) { kind_ = kind; }
    QString words() const override {
        return "Trace along the edge: press at one end, let go at the other (Esc ends)";
    }

  private:
    void traced(const QPolygonF& trace) override;
    LineKind drawn_as() const override { return kind_; }
    LineKind kind_ = LineKind::vertical;
};

} // namespace porb::app
