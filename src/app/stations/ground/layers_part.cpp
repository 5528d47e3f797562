#include "app/stations/ground/layers_part.h"

#include "app/widgets/keyed_list.h"
#include "app/widgets/number_field.h"
#include "base/angle.h"
#include "patch/fill.h"
#include "patch/propose.h"
#include "project/limits.h"

#include <QCheckBox>
#include <QComboBox>
#include <QFileDialog>
#include <QFormLayout>
#include <QMenu>
#include <QPushButton>
#include <QSignalBlocker>
#include <QToolButton>

namespace porb::app {

namespace {
constexpr int kMasterWidth = 3840; ///< that resolutions are told against
constexpr double kLogo_deg = 30;
constexpr int kRests_ms = 300; ///< that a resolution stays as it is before pixels are made anew for it
QString kind_word(const Patch& p) {
    switch (p.kind) {
    case PatchKind::painted:
        return "painted";
    case PatchKind::picture:
        return "picture";
    case PatchKind::fill:
        return "filled";
    case PatchKind::soften:
        return p.soften == SoftenKind::mirror ? "mirrored" : "smoothed";
    }
    return {};
}
} // namespace

LayersPart::LayersPart(Session& session, PictureArea& picture, PatchChoice& choice, GroundJobs& jobs,
                       QWidget* parent)
    : GroundPart(session, choice, parent), picture_(picture), jobs_(jobs) {
    auto* buttons = new QHBoxLayout;
    auto* stand =
        button(buttons, "Take out the stand", "patch_propose",
               "Finds what stands under the rig, covers it with what neighbouring cameras see behind "
               "it, and makes the rest from the floor about it (Shift+G)",
               [this] { take_out_stand(); });
    stand->setProperty("role", "main");
    buttons->setStretch(0, 1);
    auto* make = new QToolButton;
    make->setObjectName("patch_make");
    make->setText("New patch");
    make->setPopupMode(QToolButton::InstantPopup);
    make->setToolTip("To paint on, of a picture or emblem, or of the place's own surroundings");
    auto* menu = new QMenu(make);
    menu->addAction("To paint on", this, &LayersPart::add_painted);
    menu->addAction("From a picture or emblem…", this, &LayersPart::cover_with_picture);
    menu->addAction("Surroundings, smoothed", this, [this] { add_soft(SoftenKind::blur); });
    menu->addAction("Surroundings, mirrored inwards", this, [this] { add_soft(SoftenKind::mirror); });
    make->setMenu(menu);
    buttons->addWidget(make);
    column()->addLayout(buttons);

    list_ = new NamedList("Patch", "Shows");
    list_->setObjectName("patches_table");
    list_->setMinimumHeight(70);
    column()->addWidget(list_, 1);
    auto* row = new QHBoxLayout;
    up_ = button(row, "Raise", "patch_up", "Over the next one", [this] { choice_.move(1); });
    down_ = button(row, "Lower", "patch_down", "Under the one below", [this] { choice_.move(-1); });
    look_ = button(row, "Look at it", "patch_look", "The down view shows it straight on",
                   [this] { look_at_patch(); });
    remove_ = button(row, "Remove", "patch_remove", "Removes the chosen patch (Delete in the picture)",
                     [this] { choice_.remove(); });
    column()->addLayout(row);

    values_ = new QWidget;
    auto* form = new QFormLayout(values_);
    form->setContentsMargins(0, 0, 0, 0);
    form->setVerticalSpacing(4);
    const auto place = [this](double PatchKey::*member) {
        return [this, member](Patch& p, double v) {
            PatchKey k = place_at(p, session_.playhead());
            k.*member = v;
            set_place(p, session_.playhead(), k);
        };
    };
    const auto pair = [&](const QString& label, QWidget* a, QWidget* b) {
        auto* both = new QHBoxLayout;
        both->addWidget(a, 1);
        both->addWidget(b, 1);
        form->addRow(label, both);
    };
    yaw_ =
        field("Yaw", "patch_yaw", limits::kYaw_deg, 0.5, 1, "°", "To the right", place(&PatchKey::yaw_deg));
    pitch_ = field("Pitch", "patch_pitch", limits::kPitch_deg, 0.5, 1, "°", "Upwards; -90 is straight down",
                   place(&PatchKey::pitch_deg));
    pair("Yaw, pitch", yaw_, pitch_);
    width_ = field("Width", "patch_width", limits::kPatchWidth_deg, 0.5, 1, "°",
                   "From side to side of its square", place(&PatchKey::width_deg));
    roll_ = field("Roll", "patch_roll", limits::kYaw_deg, 0.5, 1, "°", "Turned about its direction",
                  place(&PatchKey::roll_deg));
    pair("Width, roll", width_, roll_);
    opacity_ = field("Opacity", "patch_opacity", {0, 100}, 1, 0, " %", "How much of it shows",
                     [this](Patch& p, double v) {
                         PatchKey k = place_at(p, session_.playhead());
                         k.opacity = v / 100;
                         set_place(p, session_.playhead(), k);
                     });
    feather_ = field("Feather", "patch_feather", limits::kFeather_deg, 0.1, 2, "°",
                     "How softly its mask and its rim end", [](Patch& p, double v) { p.feather_deg = v; });
    pair("Opacity, feather", opacity_, feather_);
    keys_ = new KeysRow("patch",
                        "Sets a key of its place and opacity at the playhead, or takes the one there away");
    connect(keys_, &KeysRow::toggle_wanted, this, &LayersPart::toggle_key);
    form->addRow("Moves", keys_);
    hold_ = new QComboBox;
    hold_->setObjectName("patch_hold");
    hold_->addItems({"the levelled world", "the rig"});
    hold_->setToolTip("What it stays with when the picture is levelled or steadied");
    connect(hold_, &QComboBox::activated, this,
            [this](int i) { choice_.change("Hold of a patch", [i](Patch& p) { p.hold = PatchHold(i); }); });
    disc_ = new QCheckBox("Round");
    disc_->setObjectName("patch_disc");
    disc_->setToolTip("It ends at the circle inside its square");
    connect(disc_, &QCheckBox::clicked, this,
            [this](bool on) { choice_.change("Shape of a patch", [on](Patch& p) { p.disc = on; }); });
    auto* hold_row = new QHBoxLayout;
    hold_row->addWidget(hold_, 1);
    hold_row->addWidget(disc_);
    form->addRow("Stays with", hold_row);
    surface_ = new QComboBox;
    surface_->setObjectName("patch_surface");
    surface_->addItems({"infinitely far", "on the floor", "across its view", "at one distance"});
    surface_->setToolTip(
        "Where it lies for each of two eyes: on a level floor below (a ceiling above), on a plane "
        "across its direction, or all of it at one distance");
    connect(surface_, &QComboBox::activated, this, [this](int i) {
        choice_.change("Surface of a patch", [i](Patch& p) { p.surface = PatchSurface(i); });
    });
    form->addRow("Lies", surface_);
    distance_ = field("Distance", "patch_distance", limits::kPatchDistance_m, 0.01, 3, " m",
                      "Of that surface from the rig's centre: how high the rig stands",
                      [](Patch& p, double v) { p.distance_m = v; });
    floor_ = new QPushButton("Find");
    floor_->setObjectName("patch_find_floor");
    floor_->setToolTip("Finds how far below the floor lies: where neighbouring cameras see the same on it");
    connect(floor_, &QPushButton::clicked, this, &LayersPart::find_floor);
    auto* distance_row = new QHBoxLayout;
    distance_row->addWidget(distance_, 1);
    distance_row->addWidget(floor_);
    form->addRow("Away", distance_row);
    resolution_ = new NumberField(limits::kPatchSide_px, 64, 0, " px");
    resolution_->setObjectName("patch_resolution");
    resolution_->setToolTip("Pixels a side of what is painted");
    connect(resolution_, &NumberField::edited, this, [this] {
        resampled_ = choice_.patch() ? choice_.patch()->name : std::string();
        resample_.start();
    });
    resample_.setSingleShot(true);
    resample_.setInterval(kRests_ms);
    connect(&resample_, &QTimer::timeout, this, &LayersPart::resample);
    fineness_ = new QLabel;
    fineness_->setObjectName("patch_fineness");
    fineness_->setProperty("role", "hint");
    auto* resolution_row = new QHBoxLayout;
    resolution_row->addWidget(resolution_, 1);
    resolution_row->addWidget(fineness_);
    form->addRow("Resolution", resolution_row);
    from_ = new QPushButton;
    from_->setObjectName("patch_from");
    from_->setToolTip("Lets it begin at the playhead; once more: with the shot");
    to_ = new QPushButton;
    to_->setObjectName("patch_to");
    to_->setToolTip("Lets it end at the playhead; once more: with the shot");
    ease_ = field("Ease", "patch_ease", limits::kEase_s, 0.05, 2, " s", "In which it comes and goes",
                  [](Patch& p, double v) { p.ease_s = v; });
    auto* span = new QHBoxLayout;
    span->addWidget(from_);
    span->addWidget(to_);
    span->addWidget(ease_);
    form->addRow("Lasts", span);
    connect(from_, &QPushButton::clicked, this, [this] { set_moment(&Patch::from); });
    connect(to_, &QPushButton::clicked, this, [this] { set_moment(&Patch::to); });
    column()->addWidget(values_);

    connect(list_, &NamedList::selected, this, [this](int line) {
        const Shot* shot = session_.shot(); // the uppermost stands first
        if (shot && line >= 0) choice_.choose(int(shot->patches.size()) - 1 - line);
    });
    connect(list_, &NamedList::switched, this, [this](int line, bool on) {
        const Shot* shot = session_.shot();
        if (!shot) return;
        choice_.choose(int(shot->patches.size()) - 1 - line);
        choice_.change(on ? "Show a patch" : "Leave a patch out", [on](Patch& p) { p.on = on; });
    });
    connect(list_, &NamedList::renamed, this, [this](int, const QString& name) {
        choice_.change("Name a patch", [&](Patch& p) { p.name = name.toStdString(); });
    });
}

void LayersPart::set_moment(std::optional<Seconds> Patch::*member) {
    const Patch* patch = choice_.patch();
    if (!patch) return;
    const Seconds now = session_.playhead();
    const bool here = patch->*member && *(patch->*member) == now;
    choice_.change("Span of a patch", [&](Patch& p) {
        p.*member = here ? std::nullopt : std::optional<Seconds>(now);
        if (p.from && p.to && *p.to < *p.from) (member == &Patch::from ? p.to : p.from) = std::nullopt;
    });
}

void LayersPart::toggle_key() {
    choice_.change("Key of a patch", [this](Patch& p) { toggle_place_key(p, session_.playhead()); });
}

void LayersPart::take_out_stand() {
    const std::string name = choice_.free_name("ground").toStdString();
    jobs_.make(
        "Take out the stand", "Looking for what stands below", [this, name](const GroundJobs::Site& site) {
            Patch p = ground_patch(
                site.composer, site.project, site.shot, site.time, kMasterWidth,
                [&](double s) { site.tell(0.4 * s); }, site.cancel);
            p.name = name;
            const auto times = plate_times(site.in, site.out, site.shot.timing.rate, 5);
            const Proposal found = proposed(
                site.composer, site.project, site.shot, p, times, [&](double s) { site.tell(0.4 + 0.4 * s); },
                site.cancel);
            p.mask = found.mask;
            p.plate = tiles_of(found.plate);
            QString words;
            if (found.moves) words = kFloorPasses;
            if (const char* elsewhere = drawn_elsewhere(site.shot, p)) words = elsewhere;
            if (!words.isEmpty()) {
                words[0] = words[0].toUpper();
                QMetaObject::invokeMethod(this, [this, words] { session_.say(words + ".", Signal::care); });
            }
            p.pixels = tiles_of(completed(
                found.plate, found.hole, {}, {}, [&](double s) { site.tell(0.8 + 0.2 * s); }, site.cancel));
            return p;
        });
    look_at_patch();
}

void LayersPart::add_painted() {
    const std::string name = choice_.free_name("patch").toStdString();
    // Where one looks, if that is not the floor; with the moment's picture as its plate, to paint from at
    // once.
    const bool flat = picture_.mode() == ViewMode::down;
    const Turn look = picture_.mode() == ViewMode::window ? picture_.look()
                      : flat                              ? picture_.flat_look()
                                                          : Turn{0, -90, 0};
    const double width = picture_.mode() == ViewMode::window ? std::min(picture_.field_of_view() * 0.6, 90.0)
                         : flat                              ? picture_.flat_width() * 0.85
                                                             : 70;
    jobs_.make("New patch", "Taking the footage as its plate", [=](const GroundJobs::Site& site) {
        Patch p;
        p.name = name;
        p.keys = {{Seconds(0), look.yaw_deg, look.pitch_deg, look.roll_deg, width, 1, {}}};
        if (std::abs(look.pitch_deg) < 30) p.surface = PatchSurface::facing;
        p.resolution = std::max(512, matching_resolution(width, kMasterWidth));
        p.feather_deg = 0.3;
        p.plate = tiles_of(moment_plate(site.composer, site.project, site.shot, p, site.time, site.cancel));
        return p;
    });
    if (!flat) look_at_patch();
}

void LayersPart::cover_with_picture() {
    const QString file = QFileDialog::getOpenFileName(
        this, "A picture or emblem", {},
        "Pictures and videos (*.png *.tif *.tiff *.exr *.svg *.jpg *.jpeg *.mp4 *.mov *.mkv);;All files (*)");
    if (!file.isEmpty()) cover_with(file);
}

void LayersPart::cover_with(const QString& file) {
    const Shot* shot = session_.shot();
    if (!shot) return;
    try {
        const MediaRef ref = media_ref_for(std::filesystem::absolute(file.toStdString()));
        (void)session_.library()->info(ref); // it can be read
        Patch p;
        p.kind = PatchKind::picture;
        p.name = choice_.free_name(QFileInfo(file).completeBaseName()).toStdString();
        p.keys = {{Seconds(0), 0, -90, 0, kLogo_deg, 1, {}}};
        p.feather_deg = 0.2;
        const std::string id = shot->id;
        const int at = int(shot->patches.size());
        if (session_.edit("Cover with a picture", [&](Project& project) {
                p.media = add_media(project, ref);
                find_shot(project, id)->patches.push_back(p);
            }))
            choice_.choose(at);
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(words_of(e)), Signal::stop);
    }
}

void LayersPart::add_soft(SoftenKind kind) {
    if (!session_.shot()) return;
    Patch p;
    p.kind = PatchKind::soften;
    p.soften = kind;
    p.name = choice_.free_name(kind == SoftenKind::mirror ? "mirrored" : "smoothed").toStdString();
    p.keys = {{Seconds(0), 0, -90, 0, kLogo_deg, 1, {}}};
    p.disc = true;
    p.feather_deg = 3;
    choice_.add("New patch of the surroundings", std::move(p));
}

void LayersPart::look_at_patch() {
    Turn look{0, -90, 0};
    double width = 80;
    if (const auto place = choice_.placement()) {
        look = turn_of(place->to_patch.transpose());
        width = degrees(2 * std::atan(place->half_width * 1.15));
    }
    picture_.set_flat_look(look, width);
    picture_.set_mode(ViewMode::down);
    picture_.show_whole();
}

void LayersPart::resample() {
    const Patch* patch = choice_.patch();
    const int side = int(resolution_->value());
    if (!patch || patch->name != resampled_ || patch->resolution == side) return refresh();
    if (jobs_.job().is_running()) return resample_.start(); // after that
    jobs_.start("Resolution of a patch", "Resampling", [side](const GroundJobs::Site& site) {
        Patch made = site.patch;
        set_resolution(made, side);
        return GroundJobs::Outcome{[of = site.patch, made, side](Patch& p) {
                                       if (p == of)
                                           p = made;
                                       else
                                           set_resolution(p, side); // it was changed meanwhile
                                   },
                                   {}};
    });
}

void LayersPart::find_floor() {
    jobs_.start("Find the floor", "Looking where cameras agree on the floor",
                [](const GroundJobs::Site& site) {
                    const auto height = found_height_m(site.composer, site.project, site.shot, site.patch,
                                                       site.time, site.tell, site.cancel);
                    if (!height)
                        return GroundJobs::Outcome{
                            {},
                            "No height is clearly better than others: the patch must look down or up at "
                            "something that cameras see from two sides."};
                    return GroundJobs::Outcome{[h = *height](Patch& p) {
                                                   p.surface = PatchSurface::level;
                                                   p.distance_m = h;
                                               },
                                               QString("The floor lies %1 m away").arg(*height, 0, 'f', 3)};
                });
}

void LayersPart::refresh() {
    const Shot* shot = session_.shot();
    setEnabled(shot != nullptr);
    std::vector<NamedList::Row> rows;
    const int count = shot ? int(shot->patches.size()) : 0;
    for (int i = count; i-- > 0;) {
        const Patch& p = shot->patches[std::size_t(i)];
        const bool lost = p.pixels.lost_tiles() + p.mask.lost_tiles() > 0;
        const bool empty = p.kind == PatchKind::painted && p.pixels.is_clear();
        rows.push_back({QString::fromStdString(p.name), p.on,
                        lost    ? QString("pixels missing")
                        : empty ? QString("nothing yet")
                                : kind_word(p),
                        lost    ? colour::stop
                        : empty ? colour::care
                                : colour::text});
    }
    list_->show_rows(rows, choice_.index() >= 0 ? count - 1 - choice_.index() : -1);
    const Patch* p = choice_.patch();
    values_->setEnabled(p != nullptr);
    for (QPushButton* b : {remove_, look_}) b->setEnabled(p != nullptr);
    up_->setEnabled(p && choice_.index() + 1 < count);
    down_->setEnabled(p && choice_.index() > 0);
    from_->setText("from start");
    to_->setText("to end");
    fineness_->clear();
    if (!p) return keys_->show_none(count == 0 ? "no patch yet" : "choose a patch");
    const PatchKey k = place_at(*p, session_.playhead());
    yaw_->set_quietly(k.yaw_deg);
    pitch_->set_quietly(k.pitch_deg);
    roll_->set_quietly(k.roll_deg);
    width_->set_quietly(k.width_deg);
    opacity_->set_quietly(100 * k.opacity);
    feather_->set_quietly(p->feather_deg);
    distance_->set_quietly(p->distance_m);
    if (!resample_.isActive() || p->name != resampled_) resolution_->set_quietly(p->resolution);
    ease_->set_quietly(p->ease_s);
    const QSignalBlocker b1(hold_), b2(surface_), b3(disc_);
    hold_->setCurrentIndex(int(p->hold));
    surface_->setCurrentIndex(int(p->surface));
    disc_->setChecked(p->disc);
    const bool pixels = p->kind == PatchKind::painted || p->kind == PatchKind::fill;
    resolution_->setEnabled(pixels || !p->mask.empty());
    const double fine =
        double(p->resolution) / (2 * std::tan(radians(k.width_deg) / 2) * kMasterWidth / (2 * kPi));
    fineness_->setText(pixels ? QString("%1 × %2 master").arg(fine, 0, 'f', 1).arg(kMasterWidth) : QString());
    distance_->setEnabled(p->surface != PatchSurface::far);
    if (p->from) from_->setText(QString("from %1 s").arg(p->from->to_double(), 0, 'f', 2));
    if (p->to) to_->setText(QString("to %1 s").arg(p->to->to_double(), 0, 'f', 2));
    keys_->show_keys(p->keys, session_.playhead());
}

} // namespace porb::app
