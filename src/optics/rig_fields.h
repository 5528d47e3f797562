// The tables of fields of rigs (base/fields.h has how they work). For readers and writers of documents that
// hold rigs.
#pragma once

#include "base/fields.h"
#include "optics/limits.h"
#include "optics/rig.h"

namespace porb {

inline constexpr Word<Eyes> kEyeWords[] = {
    {Eyes::both, "both"}, {Eyes::left, "left"}, {Eyes::right, "right"}};
inline constexpr Word<Projection> kProjectionWords[] = {{Projection::equidistant, "equidistant"},
                                                        {Projection::equisolid, "equisolid"},
                                                        {Projection::stereographic, "stereographic"},
                                                        {Projection::orthographic, "orthographic"},
                                                        {Projection::rectilinear, "rectilinear"}};

template <class V, Part<Turn> T>
void fields(V& v, T& t) {
    for (const char* key : {"yaw_deg", "pitch_deg", "roll_deg"}) v.must(key);
    v.number("yaw_deg", t.yaw_deg, limits::kTurn_deg);
    v.number("pitch_deg", t.pitch_deg, limits::kTurn_deg);
    v.number("roll_deg", t.roll_deg, limits::kTurn_deg);
}

template <class V, Part<Lens> L>
void fields(V& v, L& l) {
    for (const char* key : {"projection", "width", "height", "focal_px", "center_px", "circle"}) v.must(key);
    v.word("projection", l.projection, kProjectionWords);
    v.whole("width", l.width, limits::kPictureSide_px);
    v.whole("height", l.height, limits::kPictureSide_px);
    v.number("focal_px", l.focal_px, limits::kFocal_px);
    v.numbers("center_px", l.center_px, limits::kPlace_px);
    v.numbers("radial", l.radial, limits::kRadial);
    v.number("aspect", l.non_radial.aspect, limits::kAspect, 1);
    v.number("skew", l.non_radial.skew, limits::kSkew, 0);
    v.numbers("denominator", l.non_radial.denominator, limits::kUneven, true);
    v.numbers("tangential", l.non_radial.tangential, limits::kUneven, true);
    v.numbers("prism", l.non_radial.prism, limits::kUneven, true);
    v.number("pixel_pitch_um", l.pixel_pitch_um, limits::kPitch_um, 0);
    v.group("circle", [&](auto& c) {
        for (const char* key : {"center_px", "radius_px"}) c.must(key);
        c.numbers("center_px", l.circle.center_px, limits::kPlace_px);
        c.number("radius_px", l.circle.radius_px, limits::kRadius_px);
    });
    v.check([&](const auto& c) {
        if (const auto fault = fault_in(l)) c.refuse(fault->member, fault->what, fault->mend);
    });
}

template <class V, Part<Camera> C>
void fields(V& v, C& c) {
    for (const char* key : {"id", "lens", "pose"}) v.must(key);
    v.named(c.id);
    v.text("id", c.id, limits::kCameraId);
    v.part("lens", c.lens);
    v.group("pose", [&](auto& pose) {
        fields(pose, c.pose.turn);
        pose.numbers("position_m", c.pose.position_m, limits::kPosition_m);
    });
    v.word("eye", c.eyes, kEyeWords, std::optional(Eyes::both));
    v.rest(c.extra_json);
}

template <class V, Part<Rig> R>
void fields(V& v, R& r) {
    v.header("pale-orbit/rig", 1, "a rig");
    v.text("name", r.name, limits::kName);
    v.must("cameras");
    v.list("cameras", r.cameras, std::size_t(kMostCameras), true);
    v.check([&](const auto& c) {
        if (r.cameras.empty()) c.refuse("cameras", "is empty", "A rig has at least one camera");
        check_ids(c, "cameras", r.cameras);
    });
    v.rest(r.extra_json);
}

} // namespace porb
