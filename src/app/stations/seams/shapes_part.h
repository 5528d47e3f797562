#pragma once

#include "app/session/background_job.h"
#include "app/stations/seams/shape_tool.h"
#include "stitch/plan/coverage_report.h"

class QCheckBox;
class QComboBox;
class QLabel;
class QPushButton;

namespace porb::app {

class KeysRow;
class NamedList;
class AreaDistanceRow;
class MeasureTool;
class NumberField;

/// The part of Seams that lists the selected camera's cut-outs, restores and told distances.
class ShapesPart : public QWidget {
    Q_OBJECT
  public:
    ShapesPart(Session& session, PictureArea& picture, MeasureTool& measure, QWidget* parent = nullptr);
    ShapeTool& tool() { return tool_; }
    BackgroundJob& job() { return job_; }
    void refresh();

  private:
    void set(const QString& label, const std::function<void(Shape&)>& work, const QString& key = {});
    void copy_to_others();
    void follow();
    void show_hole(const Shot& shot);
    bool any_moves() const; ///< a shape has more than one key
    const ShotCamera* use() const;

    Session& session_;
    PictureArea& picture_;
    ShapeTool tool_;
    BackgroundJob job_;
    QComboBox* camera_;
    NamedList* list_;
    KeysRow* keys_;
    QPushButton *cut_, *restore_, *tell_, *copy_, *remove_, *look_, *follow_;
    NumberField* feather_;
    AreaDistanceRow* distance_;
    QLabel* hole_;
    std::optional<PlanKey> hole_of_; ///< what the hole was looked for in last
    CutHole found_;
};

} // namespace porb::app
