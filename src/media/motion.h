#pragma once

#include "base/rational.h"

#include <array>
#include <filesystem>
#include <string>
#include <string_view>
#include <vector>

namespace porb {

/// One measured vector. Axes are the camera's: x right, y down, z forward.
struct MotionSample {
    double time_s = 0;
    std::array<double, 3> value{};
    bool operator==(const MotionSample&) const = default;
};

/// What a camera recorded of its own motion, each list in order of time (seconds of its source).
struct MotionRecord {
    std::vector<MotionSample> orientation;  ///< axis times angle in radians: camera to world
    std::vector<MotionSample> gyro;         ///< radians a second
    std::vector<MotionSample> acceleration; ///< metres a second squared, gravity included
    std::vector<MotionSample> position;     ///< metres
    std::vector<MotionSample> magnetic;     ///< microtesla
    std::vector<MotionSample> place;        ///< latitude and longitude in degrees, altitude in metres
    int unknown_packets = 0;                ///< of kinds this version does not know
    bool operator==(const MotionRecord&) const = default;
    std::size_t size() const {
        return orientation.size() + gyro.size() + acceleration.size() + position.size() + magnetic.size() +
               place.size();
    }
};

/// Reads a CSV table, or the motion track of an MP4 or MOV file ("Camera Motion Metadata", CAMM). Throws
/// Error when there is none or it is damaged.
MotionRecord load_motion(const std::filesystem::path& path);
/// Whether a file has a CAMM track; never throws.
bool has_motion_track(const std::filesystem::path& path);

/// A table whose first line names its columns: time_s, then any of orientation_x, _y, _z, gyro_x, ...,
/// acceleration_, position_, magnetic_ and place_ (latitude, longitude, altitude). Cells may be empty, three
/// at a time.
MotionRecord parse_motion_csv(std::string_view text, const std::string& where);
std::string motion_csv(const MotionRecord& record);

/// Adds one packet of a CAMM track. Throws Error when it is cut short or not finite.
void add_camm_packet(MotionRecord& record, std::string_view packet, double time_s, const std::string& where);
/// Adds a CAMM track to an MP4 or MOV file that has none; pictures and sound are not touched. Throws Error.
void write_camm_track(const std::filesystem::path& movie, const MotionRecord& record);

} // namespace porb
