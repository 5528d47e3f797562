#pragma once

#include "app/picture/picture_area.h"
#include "app/stations/ground/place_tool.h"
#include "patch/brush.h"

#include <QElapsedTimer>

namespace porb::app {

/// How a stroke may be limited.
enum class SelectionKind { none, rectangle, outline };

/// Paints on the chosen patch with a brush, in any view of the sphere. One stroke is one step of undo.
class PaintTool : public QObject, public PictureTool {
    Q_OBJECT
  public:
    PaintTool(Session& session, PictureArea& picture, PatchChoice& choice, QObject* parent = nullptr);

    const Brush& brush() const { return brush_; }
    void set_brush(const Brush& brush);
    bool aligned() const { return aligned_; }
    void set_aligned(bool on) { aligned_ = on; }
    /// Whether the mask shows what is painted.
    bool reveals() const { return reveals_; }
    void set_reveals(bool on) { reveals_ = on; }
    bool has_source() const { return source_.has_value(); }
    /// The next press on the picture sets where the brush takes from, or the colour.
    void pick_next();
    /// The next drag draws what strokes are limited to.
    void select_next(SelectionKind kind);
    void clear_selection();
    const std::vector<Vec2>& selection() const { return selection_; }
    bool has_selection() const { return selection_.size() >= 3; }

    bool press(QMouseEvent* event) override;
    bool move(QMouseEvent* event) override;
    bool release(QMouseEvent* event) override;
    bool double_click(QMouseEvent*) override { return true; }
    bool key(QKeyEvent* event) override;
    bool pen(QTabletEvent* event) override;
    void paint(QPainter& painter) override;
    QString words() const override;
    Qt::CursorShape cursor() const override { return Qt::CrossCursor; }
    bool is_painting() const override { return true; }

  signals:
    void brush_changed();
    void source_changed();

  private:
    std::optional<Vec2> pixel_at_point(const QPointF& point) const; ///< of the patch's square
    std::optional<QPointF> point_of_pixel(const Vec2& pixel) const;
    void begin(const QPointF& at, double pressure);
    void go_on(const QPointF& at, double pressure);
    void end();
    void put();
    void pick(const QPointF& at);
    bool takes() const { return brush_.kind == BrushKind::clone || brush_.kind == BrushKind::heal; }
    void paint_circle(QPainter& painter, const Vec2& middle, double radius_px, const QPen& pen) const;

    Session& session_;
    PictureArea& picture_;
    PatchChoice& choice_;
    Brush brush_;
    bool aligned_ = true, reveals_ = true, picking_ = false;
    SelectionKind selecting_ = SelectionKind::none;
    std::optional<Vec2> source_, target_; ///< pixels: what is taken from, and the place that belongs to it
    std::vector<Vec2> selection_;
    std::optional<Stroke> stroke_;
    MaskOutlines outlines_;
    TileImage mask_; ///< as the stroke found it
    QString stroke_key_;
    int strokes_ = 0;
    QPointF pointer_{-1, -1}, sizing_from_;
    bool sizing_ = false, dragging_selection_ = false;
    Brush sized_;
    QElapsedTimer since_put_;
};

} // namespace porb::app
