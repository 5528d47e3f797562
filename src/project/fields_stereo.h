// The table of fields of stereo (base/fields.h has how they work).
#pragma once

#include "base/fields.h"
#include "project/limits.h"
#include "project/stereo.h"

namespace porb {

inline constexpr Word<EyesFrom> kEyesFromWords[] = {
    {EyesFrom::one, "one"}, {EyesFrom::cameras, "cameras"}, {EyesFrom::distances, "distances"}};
inline constexpr Word<MonoEye> kMonoEyeWords[] = {{MonoEye::left, "left"}, {MonoEye::right, "right"}};

template <class V, Part<ConvergeKey> K>
void fields(V& v, K& k) {
    v.must("time_s");
    v.seconds("time_s", k.time, limits::kTime_s);
    v.number("converge_m", k.converge_m, limits::kConverge_m);
    v.rest(k.extra_json);
}

template <class V, Part<ComfortBudget> C>
void fields(V& v, C& c) {
    v.number("near_deg", c.near_deg, limits::kComfort_deg);
    v.number("far_deg", c.far_deg, limits::kComfort_deg);
}

template <class V, Part<StereoSettings> S>
void fields(V& v, S& s) {
    v.word("from", s.from, kEyesFromWords);
    v.number("ipd_m", s.ipd_m, limits::kIpd_m);
    v.number("converge_m", s.converge_m, limits::kConverge_m);
    v.list("keys", s.keys);
    v.check([&](const auto& c) { check_order(c, "keys", s.keys, false); });
    v.number("merge_from_deg", s.merge_from_deg, limits::kMerge_deg);
    v.number("merge_to_deg", s.merge_to_deg, limits::kMerge_deg);
    v.rule([&] { return s.merge_from_deg < s.merge_to_deg; }, "merge_to_deg", "is not above merge_from_deg",
           "Let the eyes come together towards the poles: the second latitude above the first");
    v.flag("swap", s.swap);
    v.word("mono", s.mono, kMonoEyeWords);
    v.number("border_deg", s.border_deg, limits::kBorder_deg);
    v.part_unless_usual("comfort", s.comfort);
}

} // namespace porb
