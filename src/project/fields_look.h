// The tables of fields of colour, grade and denoising (base/fields.h has how they work).
#pragma once

#include "base/fields.h"
#include "project/colour.h"
#include "project/grade.h"
#include "project/limits.h"

namespace porb {

template <class C, Part<GainKey> K>
void cells(C& c, K& k) {
    c.seconds(k.time, limits::kTime_s);
    for (auto& ev : k.ev) c.number(ev, limits::kEv);
}

template <class V, Part<CameraColour> P>
void fields(V& v, P& p) {
    v.rows("gains", p.gains);
    v.check([&](const auto& c) { check_order(c, "gains", p.gains, false); });
    v.numbers("falloff", p.vignetting, limits::kVignetting, true);
    v.number("exposure_ev", p.exposure_ev, limits::kEv, 0);
    v.number("warmth_ev", p.warmth_ev, limits::kEv, 0);
    v.number("tint_ev", p.tint_ev, limits::kEv, 0);
}

template <class V, Part<MatchSettings> M>
void fields(V& v, M& m) {
    v.flag("on", m.on);
    v.whole("samples", m.samples, limits::kSamples);
    v.flag("falloff", m.vignetting);
    v.flag("over_time", m.over_time);
    v.text("reference", m.reference, limits::kCameraId);
    v.number("apart_ev", m.apart_ev, Range{0, limits::kEv.high});
}

template <class V, Part<Grade> G>
void fields(V& v, G& g) {
    v.flag("on", g.on);
    v.number("exposure_ev", g.exposure_ev, limits::kEv);
    v.number("warmth_ev", g.warmth_ev, limits::kEv);
    v.number("tint_ev", g.tint_ev, limits::kEv);
    v.number("contrast", g.contrast, limits::kContrast);
    v.number("pivot", g.pivot, limits::kPivot);
    v.numbers("lift", g.lift, limits::kLift);
    v.numbers("gamma", g.gamma, limits::kGamma);
    v.numbers("gain", g.gain, limits::kGain);
    v.number("saturation", g.saturation, limits::kSaturation);
    v.path("lut", g.lut);
    v.number("lut_strength", g.lut_strength, limits::kShare);
}

template <class V, Part<Denoise> D>
void fields(V& v, D& d) {
    v.flag("on", d.on);
    v.number("over_time", d.over_time, limits::kShare);
    v.number("in_frame", d.in_frame, limits::kShare);
}

} // namespace porb
