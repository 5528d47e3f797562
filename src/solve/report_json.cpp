#include "base/json.h"
#include "solve/calibrate.h"

#include <nlohmann/json.hpp>

namespace porb {

std::string report_json(const SolveReport& r, const Rig& rig, const ControlPoints& points) {
    Json j = {{"rms_px", r.rms.px},        {"rms_arcmin", r.rms.arcmin}, {"rms_before_px", r.before.px},
              {"noise_px", r.noise_px},    {"points", r.points},         {"dropped", r.dropped},
              {"cameras", Json::array()},  {"pairs", Json::array()},     {"undetermined", r.undetermined},
              {"remarks", r.remarks},      {"values", Json::array()},    {"samples_s", Json::array()},
              {"reasons", Json::object()}, {"point_list", Json::array()}};
    j["straight_edges"] = {
        {"used", r.edges.used}, {"left_out", r.edges.left_out}, {"rms_px", r.edges.rms_px}};
    for (const auto& c : r.cameras)
        j["cameras"].push_back(
            {{"id", c.camera}, {"points", c.points}, {"rms_px", c.rms_px}, {"rms_arcmin", c.rms_arcmin}});
    for (const auto& p : r.pairs)
        j["pairs"].push_back(
            {{"a", p.a}, {"b", p.b}, {"points", p.points}, {"dropped", p.dropped}, {"rms_px", p.rms_px}});
    for (const auto& v : r.values)
        j["values"].push_back({{"camera", v.camera},
                               {"name", v.name},
                               {"unit", v.unit},
                               {"value", v.value},
                               {"before", v.before},
                               {"sigma", v.sigma},
                               {"determined", v.determined}});
    for (const auto& t : r.samples) j["samples_s"].push_back(t.to_double());
    for (const auto& [why, n] : r.reasons) j["reasons"][why] = n;
    Shot shot;
    shot.rig = rig;
    shot.points = points;
    const auto fits = measure_points(shot);
    for (std::size_t i = 0; i < points.size(); ++i) {
        const ControlPoint& p = points[i];
        const PointFit& f = fits[i];
        Json one = {{"id", p.id},
                    {"time_s", p.time.to_double()},
                    {"a", p.a},
                    {"b", p.b},
                    {"a_px", {p.a_px.x(), p.a_px.y()}},
                    {"b_px", {p.b_px.x(), p.b_px.y()}},
                    {"direction", {f.direction.x(), f.direction.y(), f.direction.z()}},
                    {"inverse_m", f.inverse_m},
                    {"miss_a_px", {f.miss_a.x(), f.miss_a.y()}},
                    {"miss_b_px", {f.miss_b.x(), f.miss_b.y()}},
                    {"used", p.dropped.empty()}};
        if (!p.dropped.empty()) one["dropped"] = p.dropped;
        if (p.by_hand) one["by_hand"] = true;
        j["point_list"].push_back(std::move(one));
    }
    return dump_json(j);
}

} // namespace porb
