#pragma once

#include "app/picture/trace_tool.h"

namespace porb::app {

/// Traces an outline on a lens or the map in which points are not looked for, or are looked for alone.
class RegionTool final : public TraceTool {
  public:
    using TraceTool::TraceTool;
    bool avoids() const { return avoids_; }
    void set_avoids(bool avoids) { avoids_ = avoids; }
    QString words() const override {
        return avoids_ ? "Trace round what points should avoid (Esc ends)"
                       : "Trace round where points should be looked for (Esc ends)";
    }

  private:
    void traced(const QPolygonF& trace) override;
    bool avoids_ = true;
};

} // namespace porb::app
