#include "app/stations/ground/paint_part.h"

#include "app/widgets/theme.h"

#include <QButtonGroup>
#include <QCheckBox>
#include <QColorDialog>
#include <QFormLayout>
#include <QSignalBlocker>
#include <QToolButton>

namespace porb::app {

NumberField* PaintPart::brush_field(const char* name, Range range, double step, int digits,
                                    const QString& unit, const QString& tip,
                                    std::function<void(Brush&, double)> set) {
    auto* f = new NumberField(range, step, digits, unit);
    f->setObjectName(name);
    f->setToolTip(tip);
    connect(f, &NumberField::edited, this, [this, set](double v) {
        Brush b = tool_.brush();
        set(b, v);
        tool_.set_brush(b);
    });
    return f;
}

PaintPart::PaintPart(Session& session, PictureArea& picture, PatchChoice& choice, QWidget* parent)
    : GroundPart(session, choice, parent), tool_(session, picture, choice, this) {
    head("BRUSH");
    kinds_ = new QButtonGroup(this);
    auto* grid = new QGridLayout;
    grid->setSpacing(3);
    struct Kind {
        BrushKind kind;
        const char *text, *tip;
    };
    const Kind kinds[] = {
        {BrushKind::clone, "Clone", "What lies where the source is"},
        {BrushKind::heal, "Heal", "The same, in the light of where it is painted"},
        {BrushKind::paint, "Paint", "A colour; the right button picks one"},
        {BrushKind::smudge, "Smudge", "Pulls along what is under the brush"},
        {BrushKind::soften, "Soften", "Smoother"},
        {BrushKind::erase, "Erase", "Back to the plate; without one, to the footage"},
        {BrushKind::reveal, "Reveal", "Of the mask: the patch shows"},
        {BrushKind::hide, "Hide", "Of the mask: the footage shows"},
    };
    for (std::size_t i = 0; i < std::size(kinds); ++i) {
        auto* b = new QToolButton;
        b->setObjectName(QString("brush_") + QString(kinds[i].text).toLower());
        b->setText(kinds[i].text);
        b->setToolTip(kinds[i].tip);
        b->setCheckable(true);
        b->setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Fixed);
        kinds_->addButton(b, int(kinds[i].kind));
        grid->addWidget(b, int(i / 4), int(i % 4));
    }
    kinds_->button(int(BrushKind::clone))->setChecked(true);
    connect(kinds_, &QButtonGroup::idClicked, this, [this](int id) { choose(BrushKind(id)); });
    column()->addLayout(grid);
    auto* form = new QFormLayout;
    form->setVerticalSpacing(4);
    size_ =
        brush_field("brush_size", {2, 2000}, 2, 0, " px",
                    "Its diameter, in pixels of the patch (the up and down keys; or Ctrl and drag sideways)",
                    [](Brush& b, double v) { b.size_px = v; });
    softness_ = brush_field(
        "brush_softness", {0, 100}, 5, 0, " %",
        "Over how much of its radius it fades (the left and right keys; or Ctrl and drag up and down)",
        [](Brush& b, double v) { b.softness = v / 100; });
    opacity_ = brush_field("brush_opacity", {1, 100}, 5, 0, " %", "How much one stroke covers",
                           [](Brush& b, double v) { b.opacity = v / 100; });
    form->addRow("Size", size_);
    form->addRow("Softness", softness_);
    form->addRow("Opacity", opacity_);
    auto* pressure = new QCheckBox("A pen's pressure makes it smaller, not weaker");
    pressure->setObjectName("brush_pressure");
    pressure->setChecked(true);
    pressure->setToolTip("Else a lighter touch covers less");
    connect(pressure, &QCheckBox::clicked, this, [this](bool on) {
        Brush b = tool_.brush();
        b.pressure_sizes = on;
        tool_.set_brush(b);
    });
    column()->addLayout(form);
    column()->addWidget(pressure);
    auto* reveals = new QCheckBox("The mask shows what is painted");
    reveals->setObjectName("brush_reveals");
    reveals->setToolTip("Else strokes outside the mask stay unseen until it is revealed there");
    reveals->setChecked(true);
    connect(reveals, &QCheckBox::clicked, this, [this](bool on) { tool_.set_reveals(on); });
    column()->addWidget(reveals);

    head("SOURCE");
    source_ = new QPushButton;
    source_->setObjectName("brush_source");
    source_->setToolTip("The next click in the picture sets where the brush takes from; the right button "
                        "does it at any time");
    connect(source_, &QPushButton::clicked, this, [this] { tool_.pick_next(); });
    column()->addWidget(source_);
    aligned_ = new QCheckBox("Goes along from stroke to stroke");
    aligned_->setObjectName("brush_aligned");
    aligned_->setChecked(true);
    aligned_->setToolTip("Else every stroke begins at the source again");
    connect(aligned_, &QCheckBox::clicked, this, [this](bool on) { tool_.set_aligned(on); });
    column()->addWidget(aligned_);
    fresh_ = new QCheckBox("Fresh samples: it wanders by itself");
    fresh_->setObjectName("brush_fresh");
    fresh_->setToolTip(
        "Every brush's width it takes from another place near the source, so that no pattern repeats");
    connect(fresh_, &QCheckBox::clicked, this, [this](bool on) {
        Brush b = tool_.brush();
        b.fresh = on;
        tool_.set_brush(b);
    });
    column()->addWidget(fresh_);
    auto* source_form = new QFormLayout;
    source_form->setVerticalSpacing(4);
    reach_ = brush_field("brush_reach", {4, 2000}, 10, 0, " px", "How far from the source it wanders",
                         [](Brush& b, double v) { b.fresh_reach_px = v; });
    turn_ = brush_field("brush_turn", {-360, 360}, 1, 1, "°", "What is taken is turned by so much",
                        [](Brush& b, double v) { b.source_turn_deg = v; });
    scale_ = brush_field("brush_scale", {10, 1000}, 5, 0, " %", "Of what is taken: above 100 % more of it is",
                         [](Brush& b, double v) { b.source_scale = v / 100; });
    source_form->addRow("Within", reach_);
    source_form->addRow("Turned by", turn_);
    source_form->addRow("Scale", scale_);
    column()->addLayout(source_form);
    mirrored_ = new QCheckBox("Mirrored");
    mirrored_->setObjectName("brush_mirrored");
    mirrored_->setToolTip("What is taken is mirrored from left to right");
    connect(mirrored_, &QCheckBox::clicked, this, [this](bool on) {
        Brush b = tool_.brush();
        b.source_mirrored = on;
        tool_.set_brush(b);
    });
    column()->addWidget(mirrored_);
    colour_ = new QPushButton("Colour of paint…");
    colour_->setObjectName("brush_colour");
    colour_->setToolTip("What Paint lays down; the right button in the picture takes one from there");
    connect(colour_, &QPushButton::clicked, this, [this] {
        const auto& c = tool_.brush().colour;
        const QColor chosen =
            QColorDialog::getColor(QColor::fromRgbF(c[0], c[1], c[2]), this, "Colour of paint");
        if (!chosen.isValid()) return;
        Brush b = tool_.brush();
        b.colour = {float(chosen.redF()), float(chosen.greenF()), float(chosen.blueF())};
        tool_.set_brush(b);
    });
    column()->addWidget(colour_);

    head("SELECTION");
    auto* row = new QHBoxLayout;
    button(row, "Rectangle", "select_rectangle", "Drag a rectangle in the picture: strokes stay inside it",
           [this] { tool_.select_next(SelectionKind::rectangle); });
    button(row, "Outline", "select_outline", "Drag a closed line in the picture: strokes stay inside it",
           [this] { tool_.select_next(SelectionKind::outline); });
    deselect_ = button(row, "None", "select_none", "Strokes reach everywhere again",
                       [this] { tool_.clear_selection(); });
    column()->addLayout(row);
    words_ = hint({}, "paint_words");
    column()->addStretch(1);
    connect(&tool_, &PaintTool::brush_changed, this, &PaintPart::refresh);
    connect(&tool_, &PaintTool::source_changed, this, &PaintPart::refresh);
    refresh();
}

void PaintPart::choose(BrushKind kind) {
    Brush b = tool_.brush();
    b.kind = kind;
    tool_.set_brush(b);
}

void PaintPart::refresh() {
    const Brush& b = tool_.brush();
    kinds_->button(int(b.kind))->setChecked(true);
    size_->set_quietly(b.size_px);
    softness_->set_quietly(100 * b.softness);
    opacity_->set_quietly(100 * b.opacity);
    reach_->set_quietly(b.fresh_reach_px);
    turn_->set_quietly(b.source_turn_deg);
    scale_->set_quietly(100 * b.source_scale);
    const bool takes = b.kind == BrushKind::clone || b.kind == BrushKind::heal;
    for (QWidget* w : std::initializer_list<QWidget*>{aligned_, fresh_, turn_, scale_, mirrored_})
        w->setEnabled(takes);
    reach_->setEnabled(takes && b.fresh);
    colour_->setEnabled(b.kind == BrushKind::paint);
    source_->setEnabled(takes || b.kind == BrushKind::paint);
    source_->setText(!takes               ? "Pick a colour"
                     : tool_.has_source() ? "Set the source anew"
                                          : "Set the source");
    deselect_->setEnabled(tool_.has_selection());
    QPixmap swatch(14, 14);
    swatch.fill(QColor::fromRgbF(std::clamp(b.colour[0], 0.f, 1.f), std::clamp(b.colour[1], 0.f, 1.f),
                                 std::clamp(b.colour[2], 0.f, 1.f)));
    colour_->setIcon(swatch);
    const Patch* p = choice_.patch();
    words_->setText(!p ? "Make a patch to paint on first: on Patches."
                    : p->kind == PatchKind::picture || p->kind == PatchKind::soften
                        ? "Only the mask of this patch can be painted: Reveal and Hide."
                    : p->plate.empty() ? "It has no plate to take from yet: see Plate."
                                       : "");
}

} // namespace porb::app
