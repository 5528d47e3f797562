#pragma once

#include "app/stations/depth/comfort_part.h"
#include "app/stations/depth/converge_tool.h"
#include "app/stations/depth/eye_measures.h"
#include "app/widgets/panel.h"

class QButtonGroup;
class QComboBox;
class QPushButton;
class QStackedWidget;
class QToolButton;

namespace porb::app {

class KeysRow;
class NumberField;

/// Depth: where two eyes come from, where they converge, and whether a viewer can stand in them.
class DepthPanel : public Panel {
    Q_OBJECT
  public:
    DepthPanel(Session& session, PictureArea& picture, PictureService& service, QWidget* parent = nullptr);
    EyeMeasures& measures() { return measures_; }
    enum class Part { eyes, comfort };
    void show_part(Part part);
    void measure();
    void fit();
    void pick_convergence() { tool_.toggle(); }
    void toggle_key();
    void swap();
    void meet_before();              ///< the shot before it in the list, where the window looks
    void converge_by(double factor); ///< nearer below 1
    void next_eyes_look();

  protected:
    void showEvent(QShowEvent* event) override;
    void hideEvent(QHideEvent* event) override;

  private:
    void refresh() override;
    void show_playhead();
    void set_from(EyesFrom from);
    void change(const QString& label, const std::function<void(StereoSettings&)>& work,
                const QString& key = {});
    Session& session_;
    PictureArea& picture_;
    PictureService& service_;
    EyeMeasures measures_;
    BackgroundJob meeting_;
    ConvergeTool tool_;
    QButtonGroup* parts_;
    QStackedWidget* pages_;
    ComfortPart* comfort_;
    QComboBox *from_, *mono_;
    NumberField *ipd_, *merge_from_, *merge_to_, *border_, *converge_;
    QLabel *rig_words_, *finding_;
    QCheckBox* swap_;
    KeysRow* keys_;
    QToolButton* pick_;
    QPushButton* meet_;
};

} // namespace porb::app
