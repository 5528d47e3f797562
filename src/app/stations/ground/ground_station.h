#pragma once

#include "app/stations/station.h"

namespace porb::app {

/// Ground: what should not be in the picture is covered by patches.
std::unique_ptr<Station> ground_station(const Workplace& place);

} // namespace porb::app
