#pragma once

#include "sim/tracer.h"

#include <map>
#include <string>

namespace porb::sim {

/// What stands close by, all round the rig, beside the hall's own things.
enum class Things {
    none,
    clutter, ///< crates, lamps, lecterns and pillars 0.75 to 2 m away
    thin,    ///< rods, railings, wires and plants 0.6 to 2 m away: much of it under a degree wide
    glass,   ///< framed panes that mirror a little, 0.9 to 1.6 m away
    plain,   ///< boards and posts of one colour, without anything to match by, 0.8 to 1.8 m away
};
/// The scenes as options name them: hall, hall-cluttered, hall-thin, hall-glass, hall-plain.
const std::map<std::string, Things>& things_by_scene();

/// A pane of glass: a parallelogram at `corner`. Light goes through; some is mirrored.
struct Pane {
    Vec3f corner, u, v;
};

/// The things' shapes. Sticks are handed over with those that move, because a tracer takes them together.
struct Standing {
    std::vector<Mesh> meshes;
    std::vector<Stick> sticks;
    std::vector<Pane> panes;
};
/// `seed` says where which of them stand; any number.
Standing standing_things(Things things, unsigned seed);

} // namespace porb::sim
