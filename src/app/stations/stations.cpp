#include "app/stations/depth/depth_station.h"
#include "app/stations/gather/gather_station.h"
#include "app/stations/ground/ground_station.h"
#include "app/stations/level/level_station.h"
#include "app/stations/master/master_station.h"
#include "app/stations/match/match_station.h"
#include "app/stations/points/points_station.h"
#include "app/stations/rig/rig_station.h"
#include "app/stations/seams/seams_station.h"

namespace porb::app {

std::vector<std::unique_ptr<Station>> make_stations(const Workplace& place) {
    std::vector<std::unique_ptr<Station>> all;
    for (const auto make : {gather_station, rig_station, points_station, level_station, match_station,
                            seams_station, depth_station, ground_station, master_station})
        all.push_back(make(place));
    return all;
}

} // namespace porb::app
