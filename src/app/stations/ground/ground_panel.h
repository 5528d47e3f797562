#pragma once

#include "app/stations/ground/ground_jobs.h"
#include "app/stations/ground/place_tool.h"
#include "app/widgets/panel.h"

class QButtonGroup;
class QStackedWidget;

namespace porb::app {

class EdgePart;
class ExchangePart;
class LayersPart;
class PaintPart;
class PlatePart;

/// Ground: the patches of a shot, in five parts.
class GroundPanel : public Panel {
    Q_OBJECT
  public:
    GroundPanel(Session& session, PictureArea& picture, PictureService& service, QWidget* parent = nullptr);
    enum class Part { layers, plate, paint, edge, exchange };
    void show_part(Part part);
    PatchChoice& choice() { return choice_; }
    LayersPart& layers() { return *layers_; }
    PlatePart& plate() { return *plate_; }
    PaintPart& paint() { return *paint_; }
    EdgePart& edge() { return *edge_; }
    ExchangePart& exchange() { return *exchange_; }

  protected:
    void showEvent(QShowEvent*) override;
    void hideEvent(QHideEvent*) override;

  private:
    void refresh() override;
    void take_tool();
    PictureArea& picture_;
    PatchChoice choice_;
    GroundJobs jobs_;
    PlaceTool place_;
    QButtonGroup* parts_;
    QStackedWidget* pages_;
    LayersPart* layers_;
    PlatePart* plate_;
    PaintPart* paint_;
    EdgePart* edge_;
    ExchangePart* exchange_;
};

} // namespace porb::app
