#pragma once

#include "app/session/session.h"

#include <QImage>
#include <QTimer>
#include <QWidget>

class QButtonGroup;
class QComboBox;

namespace porb::app {

class NumberField;

/// The strip over the picture that compares the present state with another at the same place and moment.
class Comparison : public QWidget {
    Q_OBJECT
  public:
    Comparison(Session& session, QWidget* parent);

    enum class Way { wipe, blink, difference, beside };
    bool is_on() const { return on_; }
    void set_on(bool on);
    Way way() const { return way_; }
    void set_way(Way way);
    /// Keeps the present state to be compared with later.
    void hold();
    /// The project that the present one is compared with; null while there is none such.
    ProjectPtr other() const;
    QString other_name() const;

    double wipe() const { return wipe_; } ///< of the width, from the left, that shows the present
    void set_wipe(double share);
    bool shows_other() const { return other_now_; } ///< of blinking
    /// |a - b| times the gain, kept for the same two pictures.
    const QImage& difference(const QImage& a, const QImage& b);

  signals:
    void other_changed(); ///< pictures have to be made anew
    void look_changed();  ///< only how they are shown

  private:
    void refresh_choices();
    Session& session_;
    QComboBox* with_;
    QButtonGroup* ways_;
    NumberField* gain_;
    QTimer blink_;
    ProjectPtr held_;
    bool on_ = false, other_now_ = false;
    Way way_ = Way::wipe;
    double wipe_ = 0.5;
    QImage difference_;
    qint64 of_a_ = 0, of_b_ = 0;
    double of_gain_ = 0;
};

} // namespace porb::app
