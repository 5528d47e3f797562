#pragma once

#include "app/stations/depth/converge_tool.h"
#include "app/stations/depth/eye_measures.h"
#include "app/widgets/panel.h"

#include <QCheckBox>

class QComboBox;
class QPushButton;
class QTableWidget;
class QToolButton;

namespace porb::app {

class DisparityPlot;
class KeysRow;
class NumberField;

/// Depth: where two eyes come from, where they converge, and whether a viewer can stand in them.
class DepthPanel : public Panel {
    Q_OBJECT
  public:
    DepthPanel(Session& session, PictureArea& picture, PictureService& service, QWidget* parent = nullptr);
    EyeMeasures& measures() { return measures_; }
    void measure();
    void fit();
    void pick_convergence() { tool_.toggle(); }
    void toggle_key();
    void swap();
    void meet_before();              ///< the shot before it in the list, where the window looks
    void converge_by(double factor); ///< nearer below 1
    void next_eyes_look();

  private:
    void refresh() override;
    void show_findings();
    void show_figures();
    void set_from(EyesFrom from);
    void change(const QString& label, const std::function<void(StereoSettings&)>& work,
                const QString& key = {});
    void go_to(int finding);
    Session& session_;
    PictureArea& picture_;
    PictureService& service_;
    EyeMeasures measures_;
    BackgroundJob meeting_;
    ConvergeTool tool_;
    std::vector<EyeFinding> findings_;
    QComboBox *from_, *mono_;
    NumberField *ipd_, *merge_from_, *merge_to_, *border_, *converge_, *near_, *far_;
    QLabel *rig_words_, *figures_, *mend_;
    QCheckBox* swap_;
    KeysRow* keys_;
    QToolButton* pick_;
    QPushButton *measure_, *fit_, *meet_;
    DisparityPlot* plot_;
    QTableWidget* table_;
};

} // namespace porb::app
