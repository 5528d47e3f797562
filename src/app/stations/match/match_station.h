#pragma once

#include "app/stations/station.h"

namespace porb::app {

std::unique_ptr<Station> match_station(const Workplace& place);

} // namespace porb::app
