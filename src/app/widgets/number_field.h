#pragma once

#include "base/range.h"

#include <QDoubleSpinBox>

namespace porb::app {

/// A number with a unit: typed ("2.25 m", "-3.5"), stepped with the wheel or arrow keys, or dragged sideways
/// (Shift for fine steps). Emits edited() for what a person does, never for set_quietly().
class NumberField : public QDoubleSpinBox {
    Q_OBJECT
  public:
    /// `range` is the value's own (project/limits.h), in the unit that is shown.
    NumberField(const Range& range, double step, int decimals, const QString& unit,
                QWidget* parent = nullptr);
    void set_quietly(double value);

  signals:
    void edited(double value);
    void drag_ended(); ///< or typing: what comes next is another step of undo

  protected:
    bool eventFilter(QObject* object, QEvent* event) override;
    double valueFromText(const QString& text) const override;
    QValidator::State validate(QString& text, int& position) const override;
    void wheelEvent(QWheelEvent* event) override;
    void focusInEvent(QFocusEvent* event) override;

  private:
    bool quiet_ = false, pressed_ = false, dragging_ = false, letting_go_ = false;
    bool focused_by_press_ = false; ///< the press that may become a drag has just given the focus
    double drag_from_ = 0;
    int drag_x_ = 0;
};

} // namespace porb::app
