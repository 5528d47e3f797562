#include "app/stations/ground/ground_station.h"

#include "app/stations/ground/edge_lane.h"
#include "app/stations/ground/exchange_part.h"
#include "app/stations/ground/ground_panel.h"
#include "app/stations/ground/layers_part.h"
#include "app/stations/ground/paint_part.h"
#include "app/stations/ground/plate_part.h"

namespace porb::app {

namespace {

class GroundStation final : public Station {
  public:
    explicit GroundStation(const Workplace& place)
        : session_(place.session), picture_(place.picture),
          panel_(new GroundPanel(place.session, place.picture, place.service)),
          lane_(new EdgeLane(place.session, panel_->edge(), panel_->choice(), place.timeline.ruler())) {}
    QString name() const override { return "Ground"; }
    QWidget* panel() override { return panel_; }
    QWidget* lane() override { return lane_; }

    void arrive() override {
        here_ = true;
        if (session_.shot() && picture_.mode() == ViewMode::map) panel_->layers().look_at_patch();
    }

    void leave() override { here_ = false; }

    StationState state() override {
        const Shot* shot = session_.shot();
        if (!shot || shot->patches.empty()) return {0, "", false};
        const bool care = std::any_of(shot->patches.begin(), shot->patches.end(), [](const Patch& p) {
            return p.pixels.lost_tiles() > 0 || (p.on && p.kind == PatchKind::painted && p.pixels.is_clear());
        });
        const auto n = shot->patches.size();
        return {1, QString("%1 patch%2").arg(n).arg(n == 1 ? "" : "es"), care};
    }

    std::vector<Command> commands() override {
        using enum Command::Goes;
        GroundPanel* p = panel_;
        const auto brush = [p](BrushKind kind) {
            return [p, kind] {
                p->show_part(GroundPanel::Part::paint);
                p->paint().choose(kind);
            };
        };
        return {
            {"Take out the stand", QKeySequence("Shift+G"), [p] { p->layers().take_out_stand(); }, there,
             "tripod nadir patch remove rig monopod clean"},
            {"New patch to paint on", {}, [p] { p->layers().add_painted(); }, there, "nadir zenith layer"},
            {"Cover with a picture or emblem…",
             {},
             [p] { p->layers().cover_with_picture(); },
             there,
             "logo disc nadir svg"},
            {"Smooth over the surroundings",
             {},
             [p] { p->layers().add_soft(SoftenKind::blur); },
             there,
             "blur nadir"},
            {"Mirror the surroundings inwards",
             {},
             [p] { p->layers().add_soft(SoftenKind::mirror); },
             there,
             "mirror ball nadir"},
            {"Look at the patch straight on", QKeySequence("Shift+L"), [p] { p->layers().look_at_patch(); },
             there, "down view nadir flat"},
            {"Look straight up",
             {},
             [this] {
                 picture_.set_flat_look({0, 90, 0}, 90);
                 picture_.set_mode(ViewMode::down);
             },
             stays,
             "zenith ceiling up view"},
            {"Look straight down",
             {},
             [this] {
                 picture_.set_flat_look({0, -90, 0}, 90);
                 picture_.set_mode(ViewMode::down);
             },
             stays,
             "nadir floor"},
            {"With and without patches", QKeySequence("Shift+W"),
             [this] { picture_.set_patches(!picture_.shows_patches()); }, stays,
             "before after bypass compare"},
            {"Set or remove a key of the patch here",
             {},
             [p] { p->layers().toggle_key(); },
             there,
             "keyframe"},
            {"Fill the patch's mask", QKeySequence("Shift+F"), [p] { p->plate().fill(); }, there,
             "content inpaint complete texture"},
            {"Follow the light along the patch's edge",
             {},
             [p] { p->edge().follow(); },
             there,
             "exposure gain flicker match"},
            {"Measure the patch's edge", QKeySequence("Shift+K"), [p] { p->edge().measure(); }, there,
             "step seam"},
            {"Brush: clone", {}, brush(BrushKind::clone), there, "stamp copy"},
            {"Brush: heal", {}, brush(BrushKind::heal), there, "gradient seamless"},
            {"Brush: paint", {}, brush(BrushKind::paint), there, "colour"},
            {"Brush: smudge", {}, brush(BrushKind::smudge), there, "smear"},
            {"Brush: soften", {}, brush(BrushKind::soften), there, "blur"},
            {"Brush: erase", {}, brush(BrushKind::erase), there, "rubber plate"},
            {"Brush: reveal", {}, brush(BrushKind::reveal), there, "mask"},
            {"Brush: hide", {}, brush(BrushKind::hide), there, "mask"},
        };
    }

    bool take_files(const QStringList& files) override {
        // A single picture that is dropped here covers something; all else is for other stations.
        static const QStringList kPictures = {"png", "svg", "tif", "tiff", "exr", "jpg", "jpeg"};
        if (!here_ || files.size() != 1 || !session_.shot() ||
            !kPictures.contains(QFileInfo(files.front()).suffix().toLower()))
            return false;
        panel_->layers().cover_with(files.front());
        return true;
    }

  private:
    Session& session_;
    PictureArea& picture_;
    GroundPanel* panel_;
    EdgeLane* lane_;
    bool here_ = false;
};

} // namespace

std::unique_ptr<Station> ground_station(const Workplace& place) {
    return std::make_unique<GroundStation>(place);
}

} // namespace porb::app
