#pragma once

#include "optics/profiles.h"
#include "project/project.h"

#include <functional>

namespace porb {

/// A file that could be part of a take: what it says of itself.
struct FoundFile {
    MediaInfo info;
    int circles = 0; ///< image circles seen in it: 1, 2, or 0 when nobody has looked
    std::uintmax_t bytes = 0;
    std::uint64_t fingerprint = 0; ///< of its beginning and end, to know copies; 0: not taken
};

/// Something odd about a take, and the file it concerns (an index into the take's files, or -1).
struct TakeRemark {
    enum class Kind { missing, shorter, rate, size, duplicate, sound, alone } kind;
    int file = -1;
    std::string text;
};

/// Files that seem to be one recording by one rig.
struct Take {
    std::string name;
    std::vector<std::size_t> files;  ///< indices into what was given, in the cameras' order
    std::vector<std::string> marks;  ///< the part of each file's name that tells the camera, or empty
    std::vector<std::string> absent; ///< marks of cameras that should be there and are not
    int circles_per_picture = 1;
    std::vector<std::string> reasons; ///< why these belong together
    std::vector<TakeRemark> remarks;
};

/// Proposes takes from names, folders, start times, lengths and picture sizes. A mark that changes from
/// camera to camera is told from one that changes from take to take by what the files say: those of one take
/// began together and last alike. Every file is in exactly one take, copies of others excepted: those are
/// named in a remark.
std::vector<Take> propose_takes(const std::vector<FoundFile>& files);

/// Reasons and remarks anew after files were moved by hand.
Take described(Take take, const std::vector<FoundFile>& files);

/// The shot of a take, added to `project` with its media: the best of `profiles` scaled to its pictures, or
/// fisheyes in the usual arrangement; rate and sound from its files. Returns the shot's id.
std::string add_take(Project& project, const Take& take, const std::vector<FoundFile>& files,
                     const std::vector<Profile>& profiles);

/// Files that can be sources in a folder and those below it, sequences folded into their patterns; at most
/// `most`.
std::vector<std::filesystem::path> media_files_in(const std::filesystem::path& folder,
                                                  std::size_t most = 4000);
/// "a.0001.exr, a.0002.exr, ..." folded into their pattern; other names as they are.
std::vector<std::filesystem::path> folded_sequences(const std::vector<std::filesystem::path>& files);
/// Headers, size and fingerprint of a file. Throws Error.
FoundFile look_at(const std::filesystem::path& file);

/// Replaces the shot's rig by `rig`, whose cameras take over the sources in order; its values come from
/// `origin`.
std::vector<std::string> start_from(Shot& shot, const Rig& rig, const Origin& origin);

} // namespace porb
