#pragma once

#include "app/panel.h"
#include "app/picture_area.h"

#include <QCheckBox>

namespace porb::app {

class NumberField;

/// Level: upright and facing what matters, by typed angles or by dragging the sphere in map and window view.
class LevelPanel : public Panel {
    Q_OBJECT
  public:
    LevelPanel(Session& session, PictureArea& picture, QWidget* parent = nullptr);

  private:
    void refresh() override;
    void set(const QString& label, const Turn& turn, const QString& key = {});
    Session& session_;
    PictureArea& picture_;
    NumberField *yaw_, *pitch_, *roll_;
    QLabel* lean_;
};

} // namespace porb::app
