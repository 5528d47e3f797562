#pragma once

#include "app/picture/picture_area.h"
#include "app/stations/ground/patch_choice.h"

namespace porb::app {

/// The outline of the chosen patch on its place: corners on the square, as seen in the picture.
void paint_patch_outline(QPainter& painter, const PictureArea& picture, const PatchPlacement& place,
                         bool disc, const QColor& colour);

/// The outlines of a mask, kept for as long as it stays the same.
class MaskOutlines {
  public:
    void paint(QPainter& painter, const PictureArea& picture, const PatchPlacement& place,
               const TileImage& mask);

  private:
    TileImage of_;
    std::vector<std::vector<Vec2>> lines_;
};

/// Moves the chosen patch by dragging inside it, turns and scales it by its corners.
class PlaceTool : public PictureTool {
  public:
    PlaceTool(Session& session, PictureArea& picture, PatchChoice& choice)
        : session_(session), picture_(picture), choice_(choice) {}
    /// Whether it moves anything, or shows only.
    void set_moves(bool on) { moves_ = on; }
    bool press(QMouseEvent* event) override;
    bool move(QMouseEvent* event) override;
    bool release(QMouseEvent* event) override;
    bool double_click(QMouseEvent*) override { return false; }
    bool key(QKeyEvent* event) override;
    void paint(QPainter& painter) override;
    QString words() const override;

  private:
    enum class Grip { none, inside, corner };
    Session& session_;
    PictureArea& picture_;
    PatchChoice& choice_;
    bool moves_ = true;
    Grip grip_ = Grip::none;
    Vec3 from_{0, 0, 1};
    PatchKey place_;
    PatchPlacement placement_;
    MaskOutlines mask_;
};

} // namespace porb::app
