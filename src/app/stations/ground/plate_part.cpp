#include "app/stations/ground/plate_part.h"

#include "media/still.h"
#include "patch/outline.h"
#include "patch/propose.h"
#include "project/limits.h"
#include "project/span.h"

#include <QCheckBox>
#include <QComboBox>
#include <QFileDialog>
#include <QFormLayout>
#include <QSignalBlocker>
#include <QSpinBox>

namespace porb::app {

namespace {
enum class PlateSource { now, median, neighbours, other_shot, file };
}

PlatePart::PlatePart(Session& session, PatchChoice& choice, GroundJobs& jobs, QWidget* parent)
    : GroundPart(session, choice, parent), jobs_(jobs) {
    head("CLEAN PLATE");
    hint("A clean picture of the place, to paint from and to erase to. What neighbouring cameras see behind "
         "a stand "
         "is the truth: try that first.");
    auto* form = new QFormLayout;
    from_ = new QComboBox;
    from_->setObjectName("plate_from");
    from_->addItems({"the footage at the playhead", "the median of moments", "what neighbours see behind",
                     "another shot of this place", "a picture…"});
    from_->setCurrentIndex(int(PlateSource::neighbours));
    from_->setToolTip("Where the plate comes from; who passes by vanishes in the median");
    form->addRow("Taken from", from_);
    moments_ = new QSpinBox;
    moments_->setObjectName("plate_moments");
    moments_->setRange(1, int(kMostPlateTimes));
    moments_->setValue(5);
    moments_->setToolTip("Over how many moments of the shot the median is taken");
    form->addRow("Moments", moments_);
    other_ = new QComboBox;
    other_->setObjectName("plate_shot");
    other_->setToolTip("Registered on the ground by its own features: the stand may be elsewhere there");
    form->addRow("Shot", other_);
    column()->addLayout(form);
    auto* row = new QHBoxLayout;
    take_ = button(row, "Take the plate", "plate_take", "The chosen source becomes this patch's plate",
                   [this] { take(); });
    take_->setProperty("role", "main");
    show_ = button(row, "Show it as the patch", "plate_show",
                   "The whole plate becomes the patch's pixels; the mask says how much of it is seen",
                   [this] { show_plate(); });
    row->setStretch(0, 1);
    column()->addLayout(row);
    words_ = hint({}, "plate_words");

    head("MADE FROM THE SURROUNDINGS");
    hint("Inside the mask: what neighbours see behind it, and where nobody does, pieces of the floor about "
         "it.");
    auto* fill_form = new QFormLayout;
    variant_ = new QSpinBox;
    variant_->setObjectName("fill_variant");
    variant_->setRange(1, 999);
    variant_->setToolTip("Each number makes another one; undo goes back to the one before");
    fill_form->addRow("Variant", variant_);
    column()->addLayout(fill_form);
    within_ = new QCheckBox("Only from the selection");
    within_->setObjectName("fill_within");
    within_->setToolTip("Pieces come from what is outlined with Rectangle or Outline on Paint alone");
    column()->addWidget(within_);
    auto* fill_row = new QHBoxLayout;
    fill_ = button(fill_row, "Fill the mask", "patch_fill",
                   "Makes what the mask shows from the floor about it, by the variant's number",
                   [this] { fill(); });
    button(fill_row, "Another variant", "fill_next", "Fills by the next number", [this] {
        if (jobs_.job().is_running()) return;
        variant_->setValue(variant_->value() + 1);
        fill();
    });
    fill_row->setStretch(0, 1);
    column()->addLayout(fill_row);
    mend_ = button(column(), "Mend scratches and cables", "patch_mend",
                   "For a mask a few pixels wide: carries edges on across it", [this] { mend_scratches(); });
    column()->addStretch(1);
    connect(from_, &QComboBox::activated, this, &PlatePart::refresh);
}

void PlatePart::take() {
    const auto source = PlateSource(from_->currentIndex());
    const auto count = std::size_t(moments_->value());
    const auto plate_of = [](Picture picture, const QString& words) {
        return GroundJobs::Outcome{[tiles = tiles_of(picture)](Patch& p) { p.plate = tiles; }, words};
    };
    if (source == PlateSource::file) return take_file();
    if (source == PlateSource::now)
        return jobs_.start(
            "Plate from the footage", "Taking the footage", [plate_of](const GroundJobs::Site& s) {
                return plate_of(moment_plate(s.composer, s.project, s.shot, s.patch, s.time, s.cancel), {});
            });
    if (source == PlateSource::median)
        return jobs_.start("Plate from moments", "Looking through the shot", [=](const GroundJobs::Site& s) {
            const auto times = plate_times(s.in, s.out, s.shot.timing.rate, count);
            return plate_of(median_plate(s.composer, s.project, s.shot, s.patch, times, s.tell, s.cancel),
                            {});
        });
    if (source == PlateSource::neighbours)
        return jobs_.start(
            "Plate from neighbours", "Looking behind what stands there", [=](const GroundJobs::Site& s) {
                const auto times = plate_times(s.in, s.out, s.shot.timing.rate, count);
                const NeighbourPlate made =
                    neighbour_plate(s.composer, s.project, s.shot, s.patch, times, s.tell, s.cancel);
                double known = 0;
                const double all = double(made.plate.width()) * made.plate.height();
                for (int y = 0; y < made.plate.height(); ++y)
                    for (int x = 0; x < made.plate.width(); ++x) known += pixel_at(made.plate, x, y).a > 0.5f;
                return plate_of(
                    made.plate,
                    QString("%1 % of the square is seen by some camera").arg(100 * known / all, 0, 'f', 1));
            });
    const std::string other = other_->currentData().toString().toStdString();
    if (other.empty()) return session_.say("The project has no other shot.", Signal::care);
    jobs_.start("Plate from another shot", "Registering on the ground", [=](const GroundJobs::Site& s) {
        const Shot& there = *find_shot(s.project, other);
        const Span span = used_span(s.project, there, s.composer.library());
        const RegisteredPlate made =
            shot_plate(s.composer, s.project, s.shot, s.patch, s.time, there,
                       plate_times(span.in, span.out, there.timing.rate, count), s.tell, s.cancel);
        return plate_of(made.plate, QString("%1 features of the ground lie on each other, %2 px RMS")
                                        .arg(made.matches)
                                        .arg(made.residual_px, 0, 'f', 2));
    });
}

void PlatePart::take_file() {
    const QString name = QFileDialog::getOpenFileName(this, "A clean plate, square as the patch is", {},
                                                      "Pictures (*.png *.tif *.tiff *.exr *.jpg *.jpeg)");
    if (name.isEmpty()) return;
    jobs_.start("Plate from a picture", "Reading it", [name](const GroundJobs::Site& site) {
        const Picture picture = read_still(name.toStdString());
        if (picture.width() != picture.height() || picture.width() > limits::kPatchSide_px.high)
            throw Error(QString("is %1 x %2 pixels").arg(picture.width()).arg(picture.height()).toStdString(),
                        name.toStdString(), "A plate is a square, as the patch is");
        const int side = site.patch.resolution;
        return GroundJobs::Outcome{
            [plate = resized(tiles_of(picture), side, side)](Patch& p) { p.plate = plate; }, {}};
    });
}

void PlatePart::show_plate() {
    choice_.change("Show the plate", [](Patch& p) {
        p.pixels = p.plate;
        p.kind = PatchKind::painted;
    });
}

void PlatePart::fill() {
    const int variant = variant_->value();
    std::vector<Vec2> outline;
    if (within_->isChecked() && selection_) outline = selection_();
    if (within_->isChecked() && outline.size() < 3)
        return session_.say("Draw a selection first: Rectangle or Outline on Paint.", Signal::care);
    jobs_.start("Fill a patch", "Filling", [variant, outline](const GroundJobs::Site& s) {
        std::vector<float> hole;
        const auto times = plate_times(s.in, s.out, s.shot.timing.rate, 5);
        const Picture plate = filling_plate(s.composer, s.project, s.shot, s.patch, times, hole, s.cancel);
        FillSettings settings;
        settings.seed = unsigned(variant);
        const Picture made =
            completed(plate, hole, outline_mask(outline, {0, 0, plate.width(), plate.height()}), settings,
                      s.tell, s.cancel);
        return GroundJobs::Outcome{[plate = tiles_of(plate), pixels = tiles_of(made)](Patch& p) {
                                       p.plate = plate;
                                       p.pixels = pixels;
                                       p.kind = PatchKind::fill;
                                   },
                                   QString("Variant %1 is filled in").arg(variant)};
    });
}

void PlatePart::mend_scratches() {
    jobs_.start("Mend scratches", "Mending", [](const GroundJobs::Site& s) {
        const auto times = plate_times(s.in, s.out, s.shot.timing.rate, 3);
        const Picture plate = median_plate(s.composer, s.project, s.shot, s.patch, times, s.tell, s.cancel);
        std::vector<float> hole;
        for (int y = 0; y < plate.height(); ++y)
            for (int x = 0; x < plate.width(); ++x) hole.push_back(s.patch.mask.at(x, y, 0));
        if (s.patch.mask.is_clear())
            throw Error("is empty", "the mask", "Paint on what is to be mended with Reveal first");
        const Picture made = inpainted(plate, hole);
        return GroundJobs::Outcome{[pixels = tiles_of(made)](Patch& p) {
                                       p.pixels = pixels;
                                       p.kind = PatchKind::fill;
                                   },
                                   {}};
    });
}

void PlatePart::refresh() {
    const Patch* p = choice_.patch();
    const Shot* shot = session_.shot();
    setEnabled(shot != nullptr);
    const auto source = PlateSource(from_->currentIndex());
    moments_->setEnabled(source == PlateSource::median || source == PlateSource::neighbours ||
                         source == PlateSource::other_shot);
    other_->setEnabled(source == PlateSource::other_shot);
    const QSignalBlocker block(other_);
    const QString was = other_->currentData().toString();
    other_->clear();
    for (const Shot& s : session_.project()->shots)
        if (shot && s.id != shot->id)
            other_->addItem(QString::fromStdString(s.name), QString::fromStdString(s.id));
    other_->setCurrentIndex(std::max(0, other_->findData(was)));
    if (other_->count() == 0) other_->addItem("none in this project", QString());
    const bool painted = p && (p->kind == PatchKind::painted || p->kind == PatchKind::fill);
    for (QWidget* w : std::initializer_list<QWidget*>{take_, fill_, mend_}) w->setEnabled(painted);
    show_->setEnabled(painted && !p->plate.empty());
    words_->setText(!p                 ? "Make a patch first: on Patches."
                    : !painted         ? "This patch shows what it is of: it needs no plate."
                    : p->plate.empty() ? "It has no plate yet."
                                       : QString("It has a plate of %1 x %1 pixels.").arg(p->resolution));
}

} // namespace porb::app
