#pragma once

#include "picture/tiles.h"
#include "project/project.h"

#include <set>

namespace porb {

/// Where a document's painted pixels lie: a folder beside it, "NAME.porb.d". Each square of an image is a
/// file there, named after its content (the first half of its SHA-256, as 32 hex digits, and ".tile"):
/// what is unchanged is never written again, and any number of undo steps and documents share it.
std::filesystem::path tile_folder(const std::filesystem::path& document);

/// Lets the tiles of a project that was read find their files in the document's folder. They are read when
/// they are needed, and until then hold a shared lock on the folder. What is not there is told in `remarks`,
/// if it is given: the project loads without it, and goes on naming it. While nobody else has the document
/// open, what it names no more and is a day old is removed.
void find_tiles(Project& project, const std::filesystem::path& document,
                std::vector<std::string>* remarks = nullptr);

/// Writes every tile of the project that the document's folder has not, whole and flushed, so that a document
/// written afterwards names nothing that is not there. Tiles that cannot be read are passed over. Throws
/// Error. Thread safe; about 3 ms a new tile.
void write_tiles(const Project& project, const std::filesystem::path& document);

/// Reads all tiles, so that the project needs its folder no more.
void read_all_tiles(const Project& project);

/// The name of a tile's content.
std::string tile_name(const Tile& tile);

/// Names of all tiles of a project.
std::set<std::string> tile_names(const Project& project);

} // namespace porb
