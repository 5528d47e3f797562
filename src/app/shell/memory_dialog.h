#pragma once

#include "base/cache.h"

#include <QWidget>

namespace porb::app {

/// The bound of all caches as it was chosen last, or a third of the machine's memory.
std::shared_ptr<CacheBound> chosen_memory();

/// Asks for it: what caches hold now, what the machine has. Takes effect at once, and for the next start.
void ask_for_memory(CacheBound& memory, QWidget* parent);

} // namespace porb::app
