#include "app/stations/seams/seams_station.h"

#include "app/picture/measure_tool.h"
#include "app/stations/seams/crossing_lane.h"
#include "app/stations/seams/crossings_part.h"
#include "app/stations/seams/parallax_part.h"
#include "app/stations/seams/seams_panel.h"
#include "app/stations/seams/shapes_part.h"
#include "app/stations/seams/shelters_part.h"
#include "base/angle.h"
#include "optics/eye_pairs.h"
#include "stitch/plan/coverage.h"
#include "stitch/plan/coverage_report.h"

namespace porb::app {

namespace {

constexpr double kWhole = 0.9995; ///< of the sphere: what is open beyond that is no hole of the rig

class SeamsStation final : public Station {
  public:
    explicit SeamsStation(const Workplace& place)
        : session_(place.session), panel_(new SeamsPanel(place.session, place.picture)),
          lane_(new CrossingLane(place.session, place.timeline.ruler())) {
        QObject::connect(lane_, &CrossingLane::chosen, panel_, [this](int index) {
            panel_->show_part(Part::crossings);
            const Crossing& chosen = (*session_.shot()->seams.crossings)->crossings[std::size_t(index)];
            const FrameRate rate = session_.shot()->timing.rate;
            session_.set_playhead(
                frame_time(frame_index(chosen.path[chosen.path.size() / 2].time, rate), rate));
            panel_->crossings().tool().select(index);
        });
    }
    QString name() const override { return "Seams"; }
    QWidget* panel() override { return panel_; }
    QWidget* lane() override { return lane_; }

    StationState state() override {
        const Shot* shot = session_.shot();
        if (!shot) return {};
        look_at_coverage(*shot);
        if (covered_ <= kWhole)
            return {covered_, QString("%1 % open").arg(100 * (1 - covered_), 0, 'f', 1), true};
        if (hairline_) return {covered_, "a hairline open", true};
        if (!shot->seams.crossings) return {covered_, "no holes", false};
        const auto& list = (*shot->seams.crossings)->crossings;
        const auto open = std::count_if(list.begin(), list.end(), is_open);
        return {covered_, open == 1 ? QString("1 crossing") : QString("%1 crossings").arg(open), open > 0};
    }

    std::vector<Command> commands() override {
        using enum Command::Goes;
        SeamsPanel* p = panel_;
        const auto in = [p](Part part, const std::function<void()>& work) {
            return [p, part, work] {
                p->show_part(part);
                work();
            };
        };
        return {
            {"Close parallax where lenses meet", QKeySequence("W"), [p] { p->parallax().toggle_flow(); },
             stays, "optical flow ghost double"},
            {"Close parallax near seams, or wherever two cameras see",
             {},
             [p] { p->parallax().toggle_everywhere(); },
             stays,
             "optical flow zone depth overlap"},
            {"Fine edges of near things, or plain ones",
             {},
             [p] { p->parallax().toggle_fine_edges(); },
             stays,
             "optical flow silhouette outline occlusion halo ghost"},
            {"Find lines where neighbours differ least", QKeySequence("F6"),
             in(Part::parallax, [p] { p->parallax().find_lines_now(); }), there, "seam optimal cut"},
            {"Draw a cut-out", QKeySequence("Z"),
             in(Part::shapes, [p] { p->shapes().tool().begin(ShapeKind::cut_out); }), there,
             "mask remove hide roto"},
            {"Draw a restore", QKeySequence("Shift+Z"),
             in(Part::shapes, [p] { p->shapes().tool().begin(ShapeKind::restore); }), there,
             "mask keep bring back roto"},
            {"Draw a distance", QKeySequence("Ctrl+Shift+D"),
             in(Part::shapes, [p] { p->shapes().tool().begin(ShapeKind::distance); }), there,
             "depth glass mirror water plane mask override"},
            {"Measure between two places", QKeySequence("F9"), [p] { p->measure().measure(); }, there,
             "metres ruler depth"},
            {"Draw a shelter", QKeySequence("A"), in(Part::shelters, [p] { p->shelters().tool().begin(); }),
             there, "mask keep whole one camera ghost"},
            {"Grow a shelter from a click", QKeySequence("Shift+A"),
             in(Part::shelters, [p] { p->shelters().tool().begin_growing(); }), there,
             "mask keep whole segment"},
            {"Look for crossings", QKeySequence("R"), in(Part::crossings, [p] { p->crossings().scan(); }),
             there, "ghost moving subject parallax scan"},
            {"Close open crossings", QKeySequence("Shift+R"),
             in(Part::crossings, [p] { p->crossings().close_open(false); }), there, "fix ghost"},
            {"Measure crossings again", {}, in(Part::crossings, [p] { p->crossings().measure(); })},
            {"To the next open crossing", QKeySequence("F7"),
             in(Part::crossings, [p] { p->crossings().go_to_open(1); })},
            {"To the previous open crossing", QKeySequence("Shift+F7"),
             in(Part::crossings, [p] { p->crossings().go_to_open(-1); })},
        };
    }

  private:
    using Part = SeamsPanel::Part;

    void look_at_coverage(const Shot& shot) {
        View view;
        view.target = equirect_target(3840); // as finely as a master would ask
        PlanKey key = plan_key(shot, view, shot.timing.in, Sources::all);
        const bool half = is_half_sphere_pair(shot.rig);
        // Who of those that see a place supplies it, and how a whole sphere is turned, is of no account:
        // nothing is looked at anew while one levels or closes parallax.
        if (!half) key = in_rig_axes(std::move(key));
        key.shelters.clear();
        key.lines = {};
        key.line_state = {};
        key.flow = {};
        if (looked_at_ == key) return;
        looked_at_ = key;
        const Coverage coverage(key);
        const TargetMap map(half ? half_sphere_target(32) : equirect_target(64));
        double seen = 0, all = 0;
        for (int y = 0; y < map.target().height; ++y)
            for (int x = 0; x < map.target().width; ++x) {
                const double area = std::cos((0.5 - (y + 0.5) / map.target().height) * kPi);
                all += area;
                if (coverage.lenses_at(*map.direction({x + 0.5, y + 0.5})) > 0) seen += area;
            }
        covered_ = seen / all;
        hairline_ = covered_ > kWhole && hairline(shot).has_value();
    }

    Session& session_;
    SeamsPanel* panel_;
    CrossingLane* lane_;
    std::optional<PlanKey> looked_at_; ///< of what is known of coverage
    double covered_ = 0;
    bool hairline_ = false; ///< two lenses only just meet
};

} // namespace

std::unique_ptr<Station> seams_station(const Workplace& place) {
    return std::make_unique<SeamsStation>(place);
}

} // namespace porb::app
