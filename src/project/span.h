#pragma once

#include "media/library.h"
#include "project/project.h"

namespace porb {

/// Shot time at which the shortest assigned source ends; 0 without one. Stills do not count unless there is
/// nothing else, when the shot lasts one frame. Sources that cannot be read are passed over.
Seconds shot_length(const Project& project, const Shot& shot, MediaLibrary& library);
/// The part of a shot that is used: [in, out) clipped to [0, shot_length).
struct Span {
    Seconds in, out;
    bool empty() const { return out <= in; }
};
Span used_span(const Project& project, const Shot& shot, MediaLibrary& library);
/// What was odd in the pixels of a shot's sources that were read so far (MediaLibrary::remark), each once.
std::vector<std::string> source_remarks(const Project& project, const Shot& shot,
                                        const MediaLibrary& library);

/// `time`, which must be a moment at which the shot shows something. Throws Error: by file when a source
/// cannot be read, or with the shot's length; `where` says whose time it is.
Seconds moment_of(const Project& project, const Shot& shot, MediaLibrary& library, Seconds time,
                  const std::string& where);

} // namespace porb
