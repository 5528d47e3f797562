#pragma once

#include "app/picture/picture_area.h"
#include "app/stations/ground/ground_jobs.h"

class QCheckBox;
class QComboBox;
class QLabel;
class QPushButton;

namespace porb::app {

class KeysRow;
class NamedList;
class NumberField;

/// The patches of the shot: made, listed, placed.
class LayersPart : public QWidget {
    Q_OBJECT
  public:
    LayersPart(Session& session, PictureArea& picture, PatchChoice& choice, GroundJobs& jobs,
               QWidget* parent = nullptr);
    void take_out_stand();
    void cover_with_picture();
    void cover_with(const QString& file);
    void add_painted();
    void add_soft(SoftenKind kind);
    void look_at_patch();
    void toggle_key();
    void refresh();

  private:
    NumberField* field(const QString& name, const char* object, Range range, double step, int digits,
                       const QString& unit, const QString& tip, std::function<void(Patch&, double)> set);
    void find_floor();
    void set_moment(std::optional<Seconds> Patch::*member);
    Session& session_;
    PictureArea& picture_;
    PatchChoice& choice_;
    GroundJobs& jobs_;
    NamedList* list_;
    NumberField *yaw_, *pitch_, *roll_, *width_, *opacity_, *feather_, *distance_, *resolution_, *ease_;
    QComboBox *hold_, *surface_;
    QCheckBox* disc_;
    QLabel* fineness_;
    QPushButton *remove_, *up_, *down_, *floor_, *from_, *to_, *look_;
    KeysRow* keys_;
    QWidget* values_;
};

} // namespace porb::app
