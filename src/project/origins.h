#pragma once

#include "project/project.h"

namespace porb {

const char* name_of(OriginKind kind);
const char* name_of(CameraValue value);
std::optional<OriginKind> origin_named(std::string_view name);

/// The origin of one value of a camera.
inline Origin& origin_of(ShotCamera& camera, CameraValue value) {
    return camera.origins[std::size_t(value)];
}
inline const Origin& origin_of(const ShotCamera& camera, CameraValue value) {
    return camera.origins[std::size_t(value)];
}

/// Which of a camera's values differ between two shots; cameras that only `after` has differ in all.
std::vector<CameraValue> changed_values(const Shot& before, const Shot& after, const std::string& camera);

/// Writes `origin` beside every value of `after` that is not as in `before`.
void note_origins(const Shot& before, Shot& after, const Origin& origin);

/// The first locked thing that `after` changed ("the lens of camera B"), if any.
std::optional<std::string> broken_lock(const Shot& before, const Shot& after);

/// Gives every camera of `shot` the lens and pose of its namesake in `rig`, or of the camera at its place in
/// the list, and marks them with `origin`; locked parts stay. Keeps sources, offsets and reach.
void take_rig(Shot& shot, const Rig& rig, const Origin& origin);

} // namespace porb
