#pragma once

#include "app/panel.h"
#include "app/session.h"

#include <QCheckBox>
#include <QTableWidget>

class QButtonGroup;
class QComboBox;
class QStackedWidget;

namespace porb::app {

class NumberField;
class PictureArea;
class ShapesPart;
class SheltersPart;

/// Seams: how much of each lens is used and how neighbours pass into each other, for the chosen cameras
/// together; what is cut out of a lens or brought back; what must stay whole.
class SeamsPanel : public Panel {
    Q_OBJECT
  public:
    SeamsPanel(Session& session, PictureArea& picture, QWidget* parent = nullptr);
    enum class Part { blend, shapes, shelters };
    void show_part(Part part);
    ShapesPart& shapes() { return *shapes_; }
    SheltersPart& shelters() { return *shelters_; }
    void toggle_flow();

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
    QButtonGroup* parts_;
    QStackedWidget* pages_;
    ShapesPart* shapes_;
    SheltersPart* shelters_;
    QComboBox* blending_;
    NumberField* widest_;
    QTableWidget* table_;
    void change_flow(const QString& label, const std::function<void(FlowSettings&)>& set,
                     const QString& key = {});
    NumberField *reach_, *feather_, *strength_, *zone_, *nearest_;
    QCheckBox* flow_;
    QLabel* for_;
};

} // namespace porb::app
