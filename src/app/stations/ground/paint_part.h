#pragma once

#include "app/stations/ground/ground_part.h"
#include "app/stations/ground/paint_tool.h"

class QButtonGroup;
class QCheckBox;
class QLabel;
class QPushButton;

namespace porb::app {

/// The brush: what it does, how large and soft it is, where it takes from.
class PaintPart : public GroundPart {
    Q_OBJECT
  public:
    PaintPart(Session& session, PictureArea& picture, PatchChoice& choice, QWidget* parent = nullptr);
    PaintTool& tool() { return tool_; }
    void choose(BrushKind kind);
    void refresh() override;

  private:
    NumberField* brush_field(const char* name, Range range, double step, int digits, const QString& unit,
                             const QString& tip, std::function<void(Brush&, double)> set);
    PaintTool tool_;
    QButtonGroup* kinds_;
    NumberField *size_, *softness_, *opacity_, *turn_, *scale_, *reach_;
    QCheckBox *aligned_, *mirrored_, *fresh_;
    QPushButton *source_, *colour_, *deselect_;
    QLabel* words_;
};

} // namespace porb::app
