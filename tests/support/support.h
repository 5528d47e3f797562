#pragma once

#include "project/project.h"
#include "sim/simulate.h"

#include <catch2/catch.hpp>

#include <filesystem>
#include <string>

namespace porb::test {

/// A folder of its own that goes away with the test.
class TempFolder {
  public:
    TempFolder();
    ~TempFolder();
    std::filesystem::path operator/(const std::string& name) const { return path_ / name; }
    const std::filesystem::path& path() const { return path_; }

  private:
    std::filesystem::path path_;
};

/// The root of the project's sources, and the command-line program that was built with these tests.
std::filesystem::path source_folder();
std::string porbit_program();

/// A lens like the simulator's: `fov_deg` across a circle that fills a square picture.
Lens fisheye(int size, double fov_deg, Projection projection = Projection::equidistant);

/// Two back-to-back fisheyes in one picture, circles of `size` pixels a side.
Rig tiny_rig(int size = 256);

/// A picture whose value at each pixel is a smooth function of its place: good for checking sampling.
Picture gradient(int width, int height);

/// One sharp frame of the hall through the two-fisheye rig, as a lossless still, with a project that uses it.
struct StillTake {
    sim::SimOptions options;
    sim::Truth truth;
    Project project;
};
StillTake hall_still(const TempFolder& folder, const sim::SimOptions& options);
/// The hall through the ring of six, flow on.
StillTake ring_still(const TempFolder& folder, int circle_size);

/// Four seconds of the hall through a ring of six, small; the path of its project, a copy in `folder`.
std::string ring_project(const TempFolder& folder);

/// A short movie whose frame n is grey n/frames, coded exactly enough to tell frames apart, with a tone.
struct CountingMovie {
    int width = 320, height = 160, frames = 30;
    FrameRate rate{30};
    VideoCodec codec = VideoCodec::h264;
    int depth = 8;
    bool sound = true;
};
void write_counting_movie(const std::filesystem::path& path, const CountingMovie& movie);
/// Which frame of such a movie a picture shows.
int counted_frame(const Picture& picture, const CountingMovie& movie);

/// Runs `work`, which must throw Error, and returns its message.
template <class Work>
std::string error_of(Work&& work) {
    try {
        work();
    } catch (const std::exception& e) {
        return e.what();
    }
    FAIL("no error was raised");
    return {};
}

std::string run(const std::string& command, int& status); ///< what it printed, standard error included

} // namespace porb::test
