#pragma once

#include "stitch/plan/view.h"

#include <QImage>
#include <QString>

#include <vector>

namespace porb::app {

/// How a picture shows the two eyes.
enum class EyesLook {
    mono,
    left,
    right,
    anaglyph,      ///< left in red, right in green and blue, in colour
    grey_anaglyph, ///< the same of brightness alone: nothing is seen by one eye only for its colour
    parallel,      ///< side by side, left at the left
    crossed,       ///< side by side, left at the right, for crossed viewing
    difference,    ///< what differs between them, made stronger
    by_turns,      ///< one after the other at the same place
};
/// Whether pictures of both eyes are needed.
inline bool shows_both(EyesLook look) {
    return look > EyesLook::right;
}
/// Of each half the middle of an eye's picture.
inline bool shows_beside(EyesLook look) {
    return look == EyesLook::parallel || look == EyesLook::crossed;
}
Eye eye_of(EyesLook look); ///< the one shown alone, or whose directions the picture has
QString name_of(EyesLook look);
const std::vector<EyesLook>& all_eyes_looks();

/// One picture of two of the same size; that of by_turns is the left one.
QImage merged(const QImage& left, const QImage& right, EyesLook look);

} // namespace porb::app
