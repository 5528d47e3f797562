#pragma once

#include "optics/rig.h"

namespace porb {

/// A rig to start from. Built-in ones are generic arrangements of ideal lenses; saved ones are rigs that
/// somebody solved.
struct Profile {
    Rig rig;
    int circles_per_picture = 1;
    bool built_in = true;
    std::filesystem::path file; ///< of a saved one
    std::string name() const { return rig.name; }
};

/// Two fisheyes, rings of 4, 6 and 8, a ball of eight with up and down, a dome of five, a pair for 180
/// degrees, a single 180-degree fisheye; each for several picture sizes.
std::vector<Profile> built_in_profiles();

/// `$XDG_DATA_HOME/pale-orbit/profiles` (`~/.local/share` when unset), then the same under each of
/// `$XDG_DATA_DIRS` (XDG Base Directory Specification 0.8). The first is where profiles are saved.
std::vector<std::filesystem::path> profile_folders();

/// What is kept in those folders; files that cannot be read are named in `remarks` and passed over.
std::vector<Profile> saved_profiles(const std::vector<std::filesystem::path>& folders,
                                    std::vector<std::string>* remarks = nullptr);
/// Saved ones first, then the built-in.
std::vector<Profile> all_profiles();

/// Writes `rig` under `name` into the first folder. An older one of that name is replaced. Throws Error.
Profile save_profile(Rig rig, const std::string& name, const std::filesystem::path& folder);

/// Those in whose name, arrangement or size every word of `words` occurs, in the order given.
std::vector<Profile> search(const std::vector<Profile>& profiles, std::string_view words);

/// Pictures a rig is looked for: how many cameras, their pictures' size, how many circles share one.
struct TakeShape {
    int cameras = 0, width = 0, height = 0, circles_per_picture = 1;
};
TakeShape shape_of(const Profile& profile);

/// Profiles that fit a take, best first: same number of cameras and circles, pictures of the same shape
/// within 1 %; saved before built-in, near in size before far.
std::vector<Profile> matching(const std::vector<Profile>& profiles, const TakeShape& take);

/// The rig for pictures of another size (see scaled(Lens)).
Rig scaled(const Rig& rig, int width, int height);

} // namespace porb
