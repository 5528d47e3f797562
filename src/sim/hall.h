#pragma once

#include "sim/things.h"
#include "sim/tracer.h"

#include <optional>

namespace porb::sim {

/// The Orrery Hall: a round, domed room of 7 m radius with columns and tall windows, a brass orrery hung over
/// the rig whose planets sweep round at 1 to 4 m, a keeper who walks past, a patterned stone floor 1.6 m
/// below the rig, a stand under it, and things near and far. The rig's centre is the origin; metres; x right,
/// y down, z forward. A made-up place.
class Hall {
  public:
    /// `things` stand close by all round; `seed` says where which of them stand.
    explicit Hall(Things things = Things::none, unsigned seed = 1);
    /// Where the stand stands, metres right and forward of the hall's middle; nothing: there is none, and no
    /// shadow of it. From the next set_time() on.
    void place_stand(const std::optional<Vec3f>& at) { stand_ = at; }
    /// Moves planets, arms and keeper to where they are at `seconds`. Not while rays are being cast.
    void set_time(double seconds);
    /// Linear light, Rec. 709 primaries, seen from `origin` in unit direction `direction`.
    Vec3f light(const Vec3f& origin, const Vec3f& direction) const;
    /// Metres to the first surface, through glass; 0 where there is none.
    float depth(const Vec3f& origin, const Vec3f& direction) const;

  private:
    Vec3f shade(const Hit& hit, const Vec3f& direction) const;
    Vec3f light_through(const Vec3f& origin, const Vec3f& direction, int panes) const;
    Tracer tracer_;
    Standing standing_; ///< sticks and panes; meshes are the tracer's
    std::optional<Vec3f> stand_ = Vec3f(0, 0, 0);
    double seconds_ = 0;
};

} // namespace porb::sim
