#pragma once

#include "app/session/background_job.h"
#include "app/stations/seams/shelter_tool.h"

class QComboBox;
class QLabel;
class QPushButton;

namespace porb::app {

class KeysRow;
class NamedList;
class AreaDistanceRow;
class MeasureTool;
class NumberField;

/// The part of Seams that lists the shot's shelters.
class SheltersPart : public QWidget {
    Q_OBJECT
  public:
    SheltersPart(Session& session, PictureArea& picture, MeasureTool& measure, QWidget* parent = nullptr);
    ShelterTool& tool() { return tool_; }
    BackgroundJob& job() { return job_; }
    void refresh();

  private:
    void set(const QString& label, const std::function<void(Shelter&)>& work, const QString& key = {});
    void follow();
    void grow(const Vec3& rig_direction);
    const Shelter* chosen() const;

    Session& session_;
    ShelterTool tool_;
    BackgroundJob job_;
    NamedList* list_;
    KeysRow* keys_;
    QPushButton *draw_, *grow_, *from_, *to_, *follow_, *remove_;
    QComboBox* camera_;
    AreaDistanceRow* distance_;
    NumberField *ease_, *feather_;
    QLabel* sees_;
};

} // namespace porb::app
