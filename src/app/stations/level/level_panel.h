#pragma once

#include "app/picture/picture_area.h"
#include "app/session/background_job.h"
#include "app/stations/level/line_tool.h"
#include "app/widgets/panel.h"

#include <QCheckBox>

class QPushButton;
class QToolButton;

namespace porb::app {

class NumberField;

/// The turning of the rig over time, before and after steadying: yaw, pitch and roll, with the orientation
/// keys.
class TurnCurves : public QWidget {
    Q_OBJECT
  public:
    explicit TurnCurves(Session& session, QWidget* parent = nullptr);

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;

  private:
    QRectF plot() const;
    const std::vector<Turn>& turns(int steps); ///< along the shot, kept until something of it changes
    double x_of(double seconds) const;
    Session& session_;
    struct Key {
        Turn orientation;
        std::vector<OrientationKey> keys;
        std::optional<Steady> steady;
        double length_s = 0;
        int steps = 0;
        bool operator==(const Key&) const = default;
    };
    Key key_;
    std::vector<Turn> turns_;  ///< of key_
    int held_ = -1, axis_ = 0; ///< a key being dragged, and which of its angles
    double grip_y_ = 0;
    Turn grip_turn_;
};

/// Level: upright and facing what matters, by lines, gravity, typed angles or dragging the sphere; keys over
/// time; steadying.
class LevelPanel : public Panel {
    Q_OBJECT
  public:
    LevelPanel(Session& session, PictureArea& picture, QWidget* parent = nullptr);
    void find_edges();
    void level_by_lines();
    void level_by_gravity();
    void set_key();
    void remove_key();
    void steady(SteadySource source);
    void trace(LineKind kind);
    BackgroundJob& job() { return job_; }

  private:
    void refresh() override;
    void show_angles();
    void show_tools();
    void set(const QString& label, const Turn& turn, const QString& key = {});
    void change(const QString& label, const std::function<void(Shot&)>& work, const QString& key = {});
    void set_steady(const QString& label, const std::function<void(Steady&)>& work, const QString& key = {});
    Session& session_;
    PictureArea& picture_;
    BackgroundJob job_;
    LineTool line_tool_;
    NumberField *yaw_, *pitch_, *roll_, *strength_, *follow_, *readout_;
    QLabel *lean_, *lines_, *keys_, *steady_words_;
    QToolButton* tools_[3];
    QCheckBox *steady_on_, *horizon_;
    QPushButton* by_lines_;
    TurnCurves* curves_;
};

} // namespace porb::app
