#pragma once

#include "app/picture/picture_area.h"
#include "app/stations/ground/ground_jobs.h"
#include "app/stations/ground/ground_part.h"

#include <QTimer>

class QCheckBox;
class QComboBox;
class QLabel;
class QPushButton;

namespace porb::app {

class KeysRow;
class NamedList;

/// The patches of the shot: made, listed, placed.
class LayersPart : public GroundPart {
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
    void refresh() override;

  private:
    void find_floor();
    void resample(); ///< to the resolution that is shown
    void set_moment(std::optional<Seconds> Patch::*member);
    PictureArea& picture_;
    GroundJobs& jobs_;
    NamedList* list_;
    NumberField *yaw_, *pitch_, *roll_, *width_, *opacity_, *feather_, *distance_, *resolution_, *ease_;
    QComboBox *hold_, *surface_;
    QCheckBox* disc_;
    QLabel* fineness_;
    QPushButton *remove_, *up_, *down_, *floor_, *from_, *to_, *look_;
    KeysRow* keys_;
    QWidget* values_;
    QTimer resample_;
    std::string resampled_; ///< the patch whose resolution was changed
};

} // namespace porb::app
