#pragma once

#include <filesystem>
#include <string>

namespace porb {

/// A demo take made larger with FFmpeg: its lenses `scale` times as large, its frames at `rate` a second,
/// four times over, with the true rig, as after a solve. Returns its project's file, in a folder of its own
/// under `folder`; one that lies there is used again. Throws Error when FFmpeg fails.
std::filesystem::path enlarged_take(const std::string& demo, int scale, int rate,
                                    const std::filesystem::path& folder);

/// Where takes are made, and whether they stay there for the next run (PORB_BENCH_TAKES names the folder).
struct TakesFolder {
    std::filesystem::path path;
    bool stays = false;
};
TakesFolder takes_folder();

} // namespace porb
