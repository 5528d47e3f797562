#pragma once

#include "optics/vec.h"

#include <QKeyEvent>

#include <optional>

namespace porb::app {

/// The step of an arrow key, y down; nothing for other keys.
inline std::optional<Vec2> arrow_of(const QKeyEvent& event) {
    switch (event.key()) {
    case Qt::Key_Left:
        return Vec2(-1, 0);
    case Qt::Key_Right:
        return Vec2(1, 0);
    case Qt::Key_Up:
        return Vec2(0, -1);
    case Qt::Key_Down:
        return Vec2(0, 1);
    default:
        return std::nullopt;
    }
}

} // namespace porb::app
