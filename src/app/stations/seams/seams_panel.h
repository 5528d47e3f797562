#pragma once

#include "app/session/session.h"
#include "app/widgets/panel.h"

#include <QTableWidget>

class QButtonGroup;
class QComboBox;
class QStackedWidget;

namespace porb::app {

class CrossingsPart;
class MeasureTool;
class NumberField;
class ParallaxPart;
class PictureArea;
class ShapesPart;
class SheltersPart;

/// Seams: how much of each lens is used and how neighbours pass into each other, for the chosen cameras
/// together; where they meet and how parallax is closed there; what is cut out of a lens or brought back;
/// what must stay whole; what crosses.
class SeamsPanel : public Panel {
    Q_OBJECT
  public:
    SeamsPanel(Session& session, PictureArea& picture, QWidget* parent = nullptr);
    enum class Part { blend, parallax, shapes, shelters, crossings };
    void show_part(Part part);
    ShapesPart& shapes() { return *shapes_; }
    SheltersPart& shelters() { return *shelters_; }
    MeasureTool& measure() { return *measure_; }
    ParallaxPart& parallax() { return *parallax_; }
    CrossingsPart& crossings() { return *crossings_; }

  protected:
    void showEvent(QShowEvent* event) override;
    void hideEvent(QHideEvent* event) override;

  private:
    void refresh() override;
    void make_blend(QVBoxLayout* column);
    void refresh_blend(const Shot& shot);
    void take_tool();
    std::vector<std::size_t> chosen() const; ///< rows; all when none is selected
    void change(const QString& what, const QString& key, const std::function<void(ShotCamera&)>& set);
    Session& session_;
    PictureArea& picture_;
    MeasureTool* measure_;
    QButtonGroup* parts_;
    QStackedWidget* pages_;
    ParallaxPart* parallax_;
    CrossingsPart* crossings_;
    ShapesPart* shapes_;
    SheltersPart* shelters_;
    QComboBox* blending_;
    NumberField* widest_;
    QTableWidget* table_;
    NumberField *reach_, *feather_;
    QLabel* for_;
};

} // namespace porb::app
