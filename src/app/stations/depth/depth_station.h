#pragma once

#include "app/stations/station.h"

namespace porb::app {

std::unique_ptr<Station> depth_station(const Workplace& place);

} // namespace porb::app
