// app: the window. Shows values of the core and turns gestures into edits of them; computes nothing itself.
#pragma once

#include <QColor>
#include <QIcon>
#include <QString>

class QApplication;

namespace porb::app {

/// Greys without a hue around the picture, one pale accent, three signals that differ in shape as well.
namespace colour {
inline const QColor surround(0x1d, 0x1d, 0x1d), window(0x2a, 0x2a, 0x2a), panel(0x32, 0x32, 0x32),
    field(0x24, 0x24, 0x24), line(0x48, 0x48, 0x48), text(0xdc, 0xdc, 0xdc), muted(0xa2, 0xa2, 0xa2),
    faint(0x6e, 0x6e, 0x6e), accent(0xbf, 0xdc, 0xe4), good(0x7f, 0xb8, 0xd8), care(0xe3, 0xb3, 0x4c),
    stop(0xe0, 0x6c, 0x4f);
/// Apart for colour-blind eyes; one for each lens in overlays, in order, used again after eight.
QColor lens(int index);
} // namespace colour

enum class Signal { good, care, stop };

/// Loads the shipped fonts and sets palette and style for the whole application.
void apply_theme(QApplication& application);
/// One of the shipped icons ("play"), drawn in the text colour.
QIcon icon(const QString& name);
/// A disc, a triangle or a square: the signals' shapes.
QIcon signal_icon(Signal signal);

} // namespace porb::app
