// The tables of fields of points, lines, solves and orientation (base/fields.h has how they work).
#pragma once

#include "optics/rig_fields.h"
#include "project/calibrating.h"
#include "project/limits.h"

namespace porb {

inline constexpr Word<LineKind> kLineKindWords[] = {
    {LineKind::vertical, "vertical"}, {LineKind::horizontal, "horizontal"}, {LineKind::straight, "straight"}};
inline constexpr Word<Freedom> kFreedomWords[] = {
    {Freedom::locked, "locked"}, {Freedom::shared, "shared"}, {Freedom::free, "free"}};
inline constexpr Word<SamplePick> kSamplePickWords[] = {{SamplePick::even, "even"},
                                                        {SamplePick::best, "best"}};
inline constexpr Word<SteadySource> kSteadySourceWords[] = {{SteadySource::footage, "footage"},
                                                            {SteadySource::record, "record"}};

template <class C, Part<Vec2> P>
void cells(C& c, P& p) {
    c.number(p.x(), limits::kPlace_px);
    c.number(p.y(), limits::kPlace_px);
}
template <class C, Part<Vec3> P>
void cells(C& c, P& rotation) {
    for (int i = 0; i < 3; ++i) c.number(rotation[i], limits::kRotation);
}
template <class C, Part<Seconds> P>
void cells(C& c, P& time) {
    c.seconds(time, limits::kTime_s);
}

struct DroppedCode {
    static std::string text(const Dropped& d) { return text_of(d); }
    static Dropped parse(std::string_view text) { return dropped_from(text); }
};

template <class C, Part<ControlPoint> P>
void cells(C& c, P& p) {
    c.whole(p.id, limits::kNumber);
    c.seconds(p.time, limits::kTime_s);
    c.text(p.a, limits::kCameraId);
    cells(c, p.a_px);
    c.text(p.b, limits::kCameraId);
    cells(c, p.b_px);
    c.flag(p.by_hand);
    c.number(p.correlation, limits::kCorrelation);
    c.template coded_tail<DroppedCode>(p.dropped, limits::kReason);
}

template <class V, Part<LineMark> L>
void fields(V& v, L& l) {
    for (const char* key : {"kind", "camera", "places_px"}) v.must(key);
    v.whole("id", l.id, limits::kNumber);
    v.word("kind", l.kind, kLineKindWords);
    v.seconds("time_s", l.time, limits::kTime_s);
    v.text("camera", l.camera, limits::kCameraId);
    v.rows("places_px", l.places_px);
    v.rule([&] { return l.places_px.size() >= 2; }, "places_px", "holds fewer than two places",
           "Use at least 2");
    v.flag("found", l.found);
    v.rest(l.extra_json);
}

template <class V, Part<PointRegion> R>
void fields(V& v, R& r) {
    for (const char* key : {"avoid", "camera", "corners"}) v.must(key);
    v.flag("avoid", r.avoid);
    v.text("camera", r.camera, limits::kCameraId);
    v.rows("corners", r.corners);
    v.rule([&] { return r.corners.size() >= 3; }, "corners", "holds fewer than three places",
           "Use at least 3");
    v.rest(r.extra_json);
}

template <class V, Part<SolveSettings> S>
void fields(V& v, S& s) {
    v.whole("samples", s.samples, limits::kSamples);
    v.word("pick", s.pick, kSamplePickWords);
    v.rows("by_hand_s", s.by_hand);
    v.word("turn", s.turn, kFreedomWords);
    v.word("position", s.position, kFreedomWords);
    v.word("focal", s.focal, kFreedomWords);
    v.word("centre", s.centre, kFreedomWords);
    v.word("distortion", s.distortion, kFreedomWords);
    v.flag("straight_edges", s.straight_edges);
    v.flag("vertical_agreement", s.vertical_agreement);
    v.flag("depth_per_point", s.depth_per_point);
    v.number("turn_sigma_deg", s.turn_sigma_deg, limits::kTurnSigma_deg);
    v.number("position_sigma_mm", s.position_sigma_mm, limits::kPositionSigma_mm);
    v.number("focal_sigma_percent", s.focal_sigma_percent, limits::kSigma_percent);
    v.number("centre_sigma_percent", s.centre_sigma_percent, limits::kSigma_percent);
    v.number("distortion_sigma", s.distortion_sigma, limits::kDistortionSigma);
    v.number("limit_px", s.limit_px, limits::kResidualLimit_px);
}

template <class V, Part<ValueFigure> F>
void fields(V& v, F& f) {
    for (const char* key : {"camera", "name", "value"}) v.must(key);
    v.text("camera", f.camera, limits::kCameraId);
    v.text("name", f.name, limits::kCameraId);
    v.text("unit", f.unit, limits::kUnit);
    v.number("value", f.value, limits::kValue);
    v.number("before", f.before, limits::kValue);
    v.number("sigma", f.sigma, limits::kValueSigma);
    v.flag("determined", f.determined);
    v.rest(f.extra_json);
}

template <class V, Part<KeptSolve> K>
void fields(V& v, K& k) {
    for (const char* key : {"id", "name", "rig"}) v.must(key);
    v.named(k.name);
    v.whole("id", k.id, limits::kNumber);
    v.text("name", k.name, limits::kName);
    v.part("rig", k.rig);
    v.number("rms_px", k.rms_px, limits::kFigure);
    v.number("rms_arcmin", k.rms_arcmin, limits::kFigure);
    v.number("rms_before_px", k.rms_before_px, limits::kFigure);
    v.whole("points", k.points, limits::kNumber);
    v.whole("dropped", k.dropped, limits::kNumber);
    v.list("values", k.values);
    v.rest(k.extra_json);
}

template <class V, Part<OrientationKey> K>
void fields(V& v, K& k) {
    for (const char* key : {"time_s", "turn"}) v.must(key);
    v.seconds("time_s", k.time, limits::kTime_s);
    v.part("turn", k.turn);
    v.rest(k.extra_json);
}

template <class V, Part<Steady> S>
void fields(V& v, S& s) {
    v.must("step_s");
    v.flag("on", s.on);
    v.word("source", s.source, kSteadySourceWords);
    v.number("strength", s.strength, limits::kShare);
    v.flag("keep_horizon", s.keep_horizon);
    v.number("follow_s", s.follow_s, limits::kFollow_s);
    v.number("readout_s", s.readout_s, limits::kReadout_s);
    v.number("first_s", s.first_s, limits::kTime_s);
    v.number("step_s", s.step_s, limits::kStep_s);
    v.rows("path", s.path, limits::kSteadyPath, true);
    v.rest(s.extra_json);
}

} // namespace porb
