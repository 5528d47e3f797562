#pragma once

#include "stereo/measure.h"

#include <QWidget>

namespace porb::app {

/// What both eyes show, by parts of the sphere as a map lays them out: vertical disparity, and how much lies
/// outside the comfort budget. A click chooses a part.
class RegionMap : public QWidget {
    Q_OBJECT
  public:
    explicit RegionMap(QWidget* parent = nullptr);
    void show_regions(const std::array<EyeSummary, 6>& regions);
    QSize sizeHint() const override { return {260, 86}; }

  signals:
    void chosen(EyeRegion region);

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent* event) override;
    bool event(QEvent* event) override;

  private:
    QRectF part(EyeRegion region) const;
    std::optional<EyeRegion> under(const QPointF& at) const;
    std::array<EyeSummary, 6> regions_{};
};

} // namespace porb::app
