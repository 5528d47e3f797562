#pragma once

#include "app/stations/station.h"

namespace porb::app {

std::unique_ptr<Station> level_station(const Workplace& place);

} // namespace porb::app
