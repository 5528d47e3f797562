#include "solve/bundle/report.h"

#include "base/angle.h"
#include "base/json.h"
#include "optics/eye_pairs.h"
#include "solve/bundle/observations.h"

#include <nlohmann/json.hpp>

namespace porb {

namespace {
/// The two rays of a point part by what lies across the plane through both pupils, since along it the
/// distance is free.
std::optional<double> vertical_residual_px(const Rig& rig, std::span<const PointFit> used) {
    constexpr double kPixels_deg = 2048 / 180.0;
    if (used.empty() || !is_half_sphere_pair(rig)) return std::nullopt;
    double sum = 0;
    for (const PointFit& f : used) sum += f.residual_a_rad + f.residual_b_rad;
    return degrees(sum / double(used.size())) * kPixels_deg;
}
} // namespace

SolveReport figures_of(const Rig& rig, std::span<const ControlPoint> points, std::span<const PointFit> fits) {
    SolveReport r;
    std::vector<PointFit> used;
    std::map<std::pair<std::string, std::string>, std::pair<std::vector<PointFit>, int>> pairs;
    std::map<std::string, std::pair<Rms, int>> cameras;
    for (std::size_t i = 0; i < points.size(); ++i) {
        const ControlPoint& p = points[i];
        auto& pair = pairs[p.a < p.b ? std::pair(p.a, p.b) : std::pair(p.b, p.a)];
        if (!p.dropped.empty()) {
            ++r.dropped;
            ++pair.second;
            ++r.reasons[p.dropped.reason];
            continue;
        }
        ++r.points;
        used.push_back(fits[i]);
        pair.first.push_back(fits[i]);
        for (const bool first : {true, false}) {
            auto& c = cameras[first ? p.a : p.b];
            c.first.px += (first ? fits[i].residual_a : fits[i].residual_b).squaredNorm();
            const double rad = first ? fits[i].residual_a_rad : fits[i].residual_b_rad;
            c.first.arcmin += rad * rad;
            ++c.second;
        }
    }
    r.rms = rms_of(used);
    r.vertical_px = vertical_residual_px(rig, used);
    for (const auto& [names, list] : pairs)
        r.pairs.push_back(
            {names.first, names.second, int(list.first.size()), list.second, rms_of(list.first).px});
    for (const auto& c : rig.cameras) {
        const auto& [sum, n] = cameras[c.id];
        r.cameras.push_back(
            {c.id, n, n ? std::sqrt(sum.px / n) : 0, n ? degrees(std::sqrt(sum.arcmin / n)) * 60 : 0});
    }
    return r;
}

std::string report_json(const SolveReport& r, const Rig& rig, const ControlPoints& points) {
    Json j = {{"rms_px", r.rms.px},        {"rms_arcmin", r.rms.arcmin}, {"rms_before_px", r.before.px},
              {"noise_px", r.noise_px},    {"points", r.points},         {"dropped", r.dropped},
              {"cameras", Json::array()},  {"pairs", Json::array()},     {"undetermined", r.undetermined},
              {"remarks", r.remarks},      {"values", Json::array()},    {"samples_s", Json::array()},
              {"reasons", Json::object()}, {"point_list", Json::array()}};
    if (r.vertical_px) j["vertical_px"] = *r.vertical_px;
    if (r.agreement)
        j["vertical_agreement"] = {{"before_px", r.agreement->before_px},
                                   {"after_px", r.agreement->after_px},
                                   {"size_px", r.agreement->size_px},
                                   {"bends_px", r.agreement->bends_px},
                                   {"terms", r.agreement->terms}};
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
    for (const auto& [why, n] : r.reasons) j["reasons"][words_of(why)] = n;
    const auto fits = fit_points(rig, observations_of(rig, points));
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
                    {"miss_a_px", {f.residual_a.x(), f.residual_a.y()}},
                    {"miss_b_px", {f.residual_b.x(), f.residual_b.y()}},
                    {"used", p.dropped.empty()}};
        if (!p.dropped.empty()) one["dropped"] = text_of(p.dropped);
        if (p.by_hand) one["by_hand"] = true;
        j["point_list"].push_back(std::move(one));
    }
    return dump_json(std::move(j));
}

} // namespace porb
