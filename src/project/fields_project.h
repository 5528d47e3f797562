// The tables of fields of the project, its media, shots and deliverables (base/fields.h has how they work).
#pragma once

#include "project/fields_calibrating.h"
#include "project/fields_look.h"
#include "project/fields_patches.h"
#include "project/fields_seams.h"
#include "project/fields_stereo.h"
#include "project/origins.h"
#include "project/project.h"

namespace porb {

inline constexpr Word<MediaKind> kMediaKindWords[] = {
    {MediaKind::video, "video"}, {MediaKind::still, "still"}, {MediaKind::sequence, "sequence"}};
inline constexpr Word<OriginKind> kOriginWords[] = {
    {OriginKind::assumed, "assumed"}, {OriginKind::profile, "profile"}, {OriginKind::file, "file"},
    {OriginKind::found, "found"},     {OriginKind::solve, "solve"},     {OriginKind::hand, "hand"}};
inline constexpr Word<AgreeChoice> kAgreeWords[] = {
    {AgreeChoice::open, "open"}, {AgreeChoice::solve, "solve"}, {AgreeChoice::chosen, "chosen"}};
inline constexpr Word<Container> kContainerWords[] = {{Container::mp4, "mp4"},
                                                      {Container::mov, "mov"},
                                                      {Container::png_sequence, "png-sequence"},
                                                      {Container::exr_sequence, "exr-sequence"}};
inline constexpr Word<VideoCodec> kCodecWords[] = {
    {VideoCodec::h264, "h264"}, {VideoCodec::h265, "h265"}, {VideoCodec::prores, "prores"}};
inline constexpr Word<SphereMapping> kMappingWords[] = {
    {SphereMapping::equirect, "equirectangular"}, {SphereMapping::half_equirect, "half-equirectangular"}};
inline constexpr Word<EyeLayout> kEyeLayoutWords[] = {{EyeLayout::mono, "mono"},
                                                      {EyeLayout::top_bottom, "top-bottom"},
                                                      {EyeLayout::left_right, "left-right"},
                                                      {EyeLayout::apart, "apart"},
                                                      {EyeLayout::views, "views"},
                                                      {EyeLayout::depth_below, "depth-below"}};

// Rules that look across a part's fields; thrown as refusals of the checker (project_rules.cpp).
void check_media(const FieldChecker& checker, const Media& media);
void check_shot(const FieldChecker& checker, const Shot& shot);
void check_project(const FieldChecker& checker, const Project& project);

template <class V, Part<Media> M>
void fields(V& v, M& m) {
    for (const char* key : {"id", "path", "kind"}) v.must(key);
    v.named(m.id);
    v.text("id", m.id, limits::kId);
    v.path("path", m.ref.path);
    v.word("kind", m.ref.kind, kMediaKindWords);
    v.seconds("rate", m.ref.sequence_rate, limits::kRate);
    v.text_or_path("curve", m.ref.curve, kCurveFile);
    v.check([&](const auto& c) { check_media(c, m); });
    v.rest(m.extra_json);
}

template <class V, Part<Origin> O>
void fields(V& v, O& o) {
    v.must("kind");
    v.word("kind", o.kind, kOriginWords);
    v.text("detail", o.detail, limits::kOriginDetail);
}

template <class V, Part<ShotCamera> C>
void fields(V& v, C& c) {
    for (const char* key : {"camera", "media"}) v.must(key);
    v.named(c.camera);
    v.text("camera", c.camera, limits::kCameraId);
    v.text("media", c.media, limits::kId);
    v.seconds("offset_s", c.offset, limits::kTime_s);
    v.number("drift_ppm", c.drift_ppm, limits::kDrift_ppm, 0);
    v.number("reach_deg", c.reach_deg, limits::kReach_deg);
    v.number("feather_deg", c.feather_deg, limits::kFeather_deg);
    v.flag("used", c.used);
    v.flag("lens_locked", c.lens_locked);
    v.flag("pose_locked", c.pose_locked);
    v.group("origins", [&](auto& origins) {
        for (int i = 0; i < kCameraValues; ++i)
            origins.part_unless_usual(name_of(CameraValue(i)), origin_of(c, CameraValue(i)));
    });
    v.part_unless_usual("colour", c.colour);
    v.list("shapes", c.shapes);
    v.rest(c.extra_json);
}

template <class V, Part<Marker> M>
void fields(V& v, M& m) {
    v.must("time_s");
    v.named(m.name);
    v.seconds("time_s", m.time, limits::kTime_s);
    v.text("name", m.name, limits::kName);
    v.text("note", m.note, limits::kNote);
    v.rest(m.extra_json);
}

template <class V, Part<MotionSource> M>
void fields(V& v, M& m) {
    v.must("path");
    v.path("path", m.path);
    v.rule([&] { return !m.path.empty(); }, "path", "is empty", "Name the motion record's file");
    v.seconds("offset_s", m.offset, limits::kTime_s);
    v.text("camera", m.camera, limits::kCameraId);
    v.rest(m.extra_json);
}

// The parts of a shot stand side by side with its own members in the file, without objects of their own.

template <class V, Part<ShotTiming> T>
void fields(V& v, T& t) {
    v.must("rate");
    v.seconds("rate", t.rate, limits::kRate);
    v.seconds("in_s", t.in, limits::kTime_s);
    v.seconds("out_s", t.out, limits::kTime_s);
    v.rule([&] { return !t.out || t.in < *t.out; }, "out_s", "is not after in_s",
           "Set out_s later than in_s, or remove it");
    v.text("sound", t.sound, limits::kId);
    v.list("markers", t.markers);
}

template <class V, Part<ShotCalibration> C>
void fields(V& v, C& c) {
    v.part("profile", c.profile);
    v.part("motion", c.motion);
    v.rows("points", c.points, limits::kPoints, true);
    v.list("lines", c.lines);
    v.list("regions", c.regions);
    v.part_unless_usual("solving", c.solving);
    v.list("solves", c.solves);
}

template <class V, Part<ShotLevelling> L>
void fields(V& v, L& l) {
    v.part("orientation", l.orientation);
    v.list("orientation_keys", l.orientation_keys);
    v.check([&](const auto& c) { check_order(c, "orientation_keys", l.orientation_keys, false); });
    v.part("steady", l.steady);
}

template <class V, Part<ShotSeams> S>
void fields(V& v, S& s) {
    v.number("agree_distance_m", s.agree_distance_m, limits::kDistance_m);
    v.word("agree_choice", s.agree_choice, kAgreeWords);
    v.part_unless_usual("flow", s.flow);
    v.part_unless_usual("blend", s.blend);
    v.list("shelters", s.shelters);
    v.part_unless_usual("seam_lines", s.seam_lines);
    v.part("crossings", s.crossings);
}

template <class V, Part<ShotLook> L>
void fields(V& v, L& l) {
    v.part_unless_usual("grade", l.grade);
    v.part_unless_usual("denoise", l.denoise);
}

template <class V, Part<Shot> S>
void fields(V& v, S& s) {
    for (const char* key : {"id", "rig", "cameras"}) v.must(key);
    v.named(s.name);
    v.text("id", s.id, limits::kId);
    v.text("name", s.name, limits::kName);
    v.part("rig", s.rig);
    v.list("cameras", s.cameras, std::size_t(kMostCameras), true);
    fields(v, s.timing);
    fields(v, s.levelling);
    fields(v, s.calibration);
    v.part_unless_usual("match", s.colour.match);
    fields(v, s.seams);
    v.part_unless_usual("stereo", s.stereo);
    v.list("patches", s.patches);
    fields(v, s.look);
    v.check([&](const auto& c) { check_shot(c, s); });
    v.rest(s.extra_json);
}

template <class V, Part<Deliverable> D>
void fields(V& v, D& d) {
    for (const char* key : {"id", "name", "shot", "container", "codec", "width"}) v.must(key);
    v.named(d.name);
    v.text("id", d.id, limits::kId);
    v.text("name", d.name, limits::kName);
    v.text("shot", d.shot, limits::kId);
    v.word("container", d.container, kContainerWords);
    v.word("codec", d.codec, kCodecWords);
    v.whole("depth", d.depth, limits::kDepth);
    v.rule([&] { return d.depth != 9; }, "depth", "is 9", "Use 8 or 10");
    v.whole("width", d.width, limits::kWidth_px);
    v.rule([&] { return d.width % 4 == 0; }, "width", "is no multiple of 4", "Use a multiple of 4");
    v.word("mapping", d.mapping, kMappingWords);
    v.word("stereo", d.stereo, kEyeLayoutWords);
    v.rule([&] { return d.stereo != EyeLayout::views || d.container == Container::exr_sequence; }, "stereo",
           "is views, which only OpenEXR holds", "Choose numbered OpenEXR, or another layout of the eyes");
    v.number("crf", d.crf, limits::kCrf);
    v.whole("bit_rate", d.bit_rate, limits::kBitRate);
    v.flag("sound", d.sound);
    v.flag("distances", d.distances);
    v.flag("distances_apart", d.distances_apart);
    v.path("path", d.path);
    v.rest(d.extra_json);
}

template <class V, Part<Project> P>
void fields(V& v, P& p) {
    v.header("pale-orbit/project", 1, "a project");
    for (const char* key : {"media", "shots", "deliverables"}) v.must(key);
    v.text("name", p.name, limits::kName);
    v.list("media", p.media, limits::kMedia, true);
    v.list("shots", p.shots, limits::kShots, true);
    v.list("deliverables", p.deliverables, kMostEntries, true);
    v.check([&](const auto& c) { check_project(c, p); });
    v.rest(p.extra_json);
}

} // namespace porb
