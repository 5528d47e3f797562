#pragma once

#include "app/session/session.h"

#include <QVBoxLayout>
#include <QWidget>

class QLabel;
class QToolButton;

namespace porb::app {

/// The ruler: shot time with in and out handles, the playhead and what each source covers. Wheel zooms about
/// the pointer.
class TimeRuler : public QWidget {
    Q_OBJECT
  public:
    explicit TimeRuler(Session& session, QWidget* parent = nullptr);
    double x_of(double seconds) const;
    void zoom(double factor, double about_x);
    void show_all();
    double seconds_at(double x) const;
    double first_seconds() const { return first_; }

  signals:
    void scrubbed();
    void view_changed();
    void marker_wanted(int index); ///< double-clicked: to be named

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void leaveEvent(QEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;
    bool event(QEvent*) override;

  private:
    enum class Grip { none, playhead, in, out, pan, marker };
    Grip grip_near(const QPointF& at) const;
    int marker_near(const QPointF& at) const; ///< index, or -1
    Seconds frame_near(double x) const;
    double in_s() const;
    double out_s() const;

    Session& session_;
    Grip grip_ = Grip::none;
    Marker held_;                  ///< the marker being dragged, as it was
    double first_ = 0, shown_ = 0; ///< seconds at the left end; across the width (0: all)
    double hover_x_ = -1, pan_x_ = 0;
};

/// The strip under the picture: transport, the time in large figures, and the ruler.
class Timeline : public QWidget {
    Q_OBJECT
  public:
    explicit Timeline(Session& session, QWidget* parent = nullptr);
    void set_playing(bool playing);
    /// Few words in place of what is used of the shot, and more on hovering; empty: none.
    void set_note(const QString& note, const QString& more);
    TimeRuler& ruler() { return *ruler_; }
    /// A health lane under the ruler, as wide.
    void add_lane(QWidget* lane) { lanes_->addWidget(lane); }

  signals:
    void play_wanted(bool play);
    void step_wanted(int frames);
    void in_wanted();
    void out_wanted();
    void scrubbed();

  private:
    void refresh();
    Session& session_;
    TimeRuler* ruler_;
    QVBoxLayout* lanes_;
    QLabel *time_, *frame_, *used_;
    QString note_;
    QToolButton* play_;
};

QString time_text(Seconds t);

} // namespace porb::app
