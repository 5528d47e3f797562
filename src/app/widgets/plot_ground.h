#pragma once

#include "app/widgets/theme.h"

#include <QPainter>
#include <QWidget>

namespace porb::app {

/// What lanes and plots are drawn on: a field's grey, smooth lines, small print.
inline void begin_plot(QPainter& p, const QWidget& on) {
    p.fillRect(on.rect(), colour::field);
    p.setRenderHint(QPainter::Antialiasing);
    QFont small = on.font();
    small.setPixelSize(10);
    p.setFont(small);
}

} // namespace porb::app
