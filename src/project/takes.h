#pragma once

#include "base/machine.h"
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
    /// A small grey picture of what each of its circles shows, mean 0 and variance 1; empty: not looked at.
    std::vector<std::vector<float>> views;
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
    bool pair = false;                ///< two lenses that look the same way, for two eyes
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

/// Whether a machine finds fine edges quickly enough for work to go on, and has the memory for them beside a
/// master of two eyes.
bool affords_fine_edges(const Machine& machine);
/// A new shot, as everything makes it: for `rig`, whose values come from `origin`, with eyes proposed where
/// nobody said whose they are, closing parallax, with fine edges where `machine` affords them; the id is for
/// whoever adds it to a project.
Shot new_shot(Rig rig, std::string name, const Origin& origin, const Machine& machine = this_machine());
/// Gives a camera its source: what the shot knows of itself follows (sound and motion record from the first
/// source that has one, the frame rate from the first video).
void give_source(Project& project, Shot& shot, std::size_t camera, const MediaInfo& source);

/// Replaces the shot's rig by `rig`, whose cameras take over the sources in order; its values come from
/// `origin`.
std::vector<std::string> start_from(Shot& shot, const Rig& rig, const Origin& origin);

} // namespace porb
