#pragma once

#include "app/picture/picture_area.h"
#include "app/picture/picture_tool.h"

namespace porb::app {

/// Draws and edits the selected camera's cut-outs, restores and told distances: in lens view on its picture,
/// in map and window view where it sees. Clicks set corners, dragging while setting one bends the outline
/// there.
class ShapeTool : public QObject, public PictureTool {
    Q_OBJECT
  public:
    ShapeTool(Session& session, PictureArea& picture, QObject* parent = nullptr);

    void begin(ShapeKind kind); ///< a new shape on the selected camera
    void give_up();
    bool is_drawing() const { return drawing_; }
    int selected() const { return selected_; } ///< of the selected camera's shapes; -1: none
    void select(int index);
    void remove_selected();
    /// Puts a key at the playhead, or takes the one there away.
    void toggle_key();

    bool press(QMouseEvent* event) override;
    bool move(QMouseEvent* event) override;
    bool release(QMouseEvent* event) override;
    bool double_click(QMouseEvent* event) override;
    bool key(QKeyEvent* event) override;
    void paint(QPainter& painter) override;
    QString words() const override;

  signals:
    void selection_changed();
    void drawing_changed();

  private:
    enum class Part { none, corner, before, after, whole };
    struct Hit {
        Part part = Part::none;
        int shape = -1, corner = -1;
    };
    const Camera* camera() const;
    const ShotCamera* use() const;
    std::vector<ShapeCorner> corners(int shape) const; ///< as they are at the playhead
    std::optional<QPointF> screen_of(const Vec2& place) const;
    std::optional<Vec2> place_of(const QPointF& at) const;
    Hit hit(const QPointF& at) const;
    void close();
    void edit_corners(const QString& label, const std::vector<ShapeCorner>& corners, const QString& key);
    void stroke(QPainter& p, const std::vector<ShapeCorner>& corners, ShapeKind kind, bool chosen,
                bool open) const;

    Session& session_;
    PictureArea& picture_;
    bool drawing_ = false;
    ShapeKind kind_ = ShapeKind::cut_out; ///< of the draft
    std::vector<ShapeCorner> draft_;
    std::string on_; ///< camera of the draft
    int selected_ = -1, corner_ = -1;
    Hit grip_;
    std::optional<Vec2> grip_at_;
    std::vector<ShapeCorner> grip_corners_;
    QPointF hover_;
};

} // namespace porb::app
