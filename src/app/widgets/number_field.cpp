#include "app/widgets/number_field.h"

#include <QLineEdit>
#include <QLocale>
#include <QMouseEvent>
#include <QRegularExpression>

#include <cmath>
#include <optional>

namespace porb::app {

namespace {
constexpr int kDragStart = 4;

/// The number at the start of what was typed, whatever unit follows it.
std::optional<double> typed_number(const QString& text) {
    static const QRegularExpression form(R"(^\s*([-+]?\d*[.,]?\d+)\s*(\D*)$)");
    const auto match = form.match(text);
    if (!match.hasMatch()) return std::nullopt;
    bool ok = false;
    const double v = QString(match.captured(1)).replace(',', '.').toDouble(&ok);
    return ok ? std::optional(v) : std::nullopt;
}
} // namespace

NumberField::NumberField(const Range& range, double step, int decimals, const QString& unit, QWidget* parent)
    : QDoubleSpinBox(parent) {
    setLocale(QLocale::c());
    setRange(range.low, range.high);
    setSingleStep(step);
    setDecimals(decimals);
    if (!unit.isEmpty()) setSuffix((unit == "°" ? "" : " ") + unit);
    setButtonSymbols(QAbstractSpinBox::NoButtons);
    setAlignment(Qt::AlignRight);
    setKeyboardTracking(false);
    setFocusPolicy(Qt::StrongFocus);
    lineEdit()->installEventFilter(this);
    lineEdit()->setCursor(Qt::SizeHorCursor);
    connect(this, &QDoubleSpinBox::editingFinished, this, [this] {
        if (!letting_go_) emit drag_ended();
    });
    connect(this, &QDoubleSpinBox::valueChanged, this, [this](double v) {
        if (!quiet_) emit edited(v);
    });
}

void NumberField::set_quietly(double value) {
    if (dragging_) return;
    quiet_ = true;
    setValue(value);
    quiet_ = false;
}

double NumberField::valueFromText(const QString& text) const {
    return typed_number(text).value_or(value());
}

QValidator::State NumberField::validate(QString& text, int&) const {
    return typed_number(text) ? QValidator::Acceptable : QValidator::Intermediate;
}

void NumberField::wheelEvent(QWheelEvent* event) {
    if (hasFocus())
        QDoubleSpinBox::wheelEvent(event);
    else
        event->ignore(); // scrolling past must not change a value
}

void NumberField::focusInEvent(QFocusEvent* event) {
    focused_by_press_ = event->reason() == Qt::MouseFocusReason;
    QDoubleSpinBox::focusInEvent(event);
}

bool NumberField::eventFilter(QObject* object, QEvent* event) {
    // Not a static cast: what is filtered here is mostly no mouse event.
    const auto* mouse = dynamic_cast<QMouseEvent*>(event);
    if (!mouse) return QDoubleSpinBox::eventFilter(object, event);
    if (event->type() == QEvent::MouseButtonPress && mouse->button() == Qt::LeftButton &&
        (!hasFocus() || focused_by_press_)) {
        pressed_ = true;
        drag_x_ = mouse->globalPosition().toPoint().x();
        drag_from_ = value();
        return true;
    }
    if (event->type() == QEvent::MouseMove && pressed_) {
        const int moved = mouse->globalPosition().toPoint().x() - drag_x_;
        if (!dragging_ && std::abs(moved) >= kDragStart) dragging_ = true;
        if (dragging_)
            setValue(drag_from_ + moved * singleStep() * (mouse->modifiers() & Qt::ShiftModifier ? 0.1 : 1));
        return true;
    }
    if (event->type() == QEvent::MouseButtonRelease && pressed_) {
        const bool dragged = dragging_;
        pressed_ = dragging_ = focused_by_press_ = false;
        if (dragged) {
            letting_go_ = true; // losing the focus counts as the end of typing
            clearFocus();       // the next press drags again; a click without a drag is what starts typing
            letting_go_ = false;
            emit drag_ended();
        } else {
            setFocus(Qt::OtherFocusReason);
            selectAll();
        }
        return true;
    }
    return QDoubleSpinBox::eventFilter(object, event);
}

} // namespace porb::app
