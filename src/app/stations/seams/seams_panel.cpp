#include "app/stations/seams/seams_panel.h"

#include "app/picture/measure_tool.h"
#include "app/stations/seams/crossings_part.h"
#include "app/stations/seams/parallax_part.h"
#include "app/stations/seams/shapes_part.h"
#include "app/stations/seams/shelters_part.h"
#include "app/widgets/number_field.h"
#include "app/widgets/parts_row.h"
#include "app/widgets/theme.h"
#include "project/limits.h"

#include <QButtonGroup>
#include <QComboBox>
#include <QFormLayout>
#include <QHeaderView>
#include <QPushButton>
#include <QSignalBlocker>
#include <QStackedWidget>

namespace porb::app {

SeamsPanel::SeamsPanel(Session& session, PictureArea& picture, QWidget* parent)
    : Panel("Seams", "Who supplies what, and how neighbours pass into each other.", parent),
      session_(session), picture_(picture), measure_(new MeasureTool(session, picture, this)) {
    setObjectName("seams_panel");
    parts_ = add_parts(column(), "seams_",
                       {{"Blend", "Reach, feather, blending"},
                        {"Parallax", "Where neighbours meet, and how parallax is closed there"},
                        {"Shapes", "Cut-outs, restores and distances drawn on lenses"},
                        {"Shelters", "What must come whole from one camera"},
                        {"Crossings", "What passes a seam, and what shows of it"}});
    pages_ = new QStackedWidget;
    column()->addWidget(pages_, 1);
    auto* blend = new QWidget;
    auto* blend_column = new QVBoxLayout(blend);
    blend_column->setContentsMargins(0, 0, 0, 0);
    blend_column->setSpacing(6);
    make_blend(blend_column);
    pages_->addWidget(blend);
    parallax_ = new ParallaxPart(session, picture);
    pages_->addWidget(parallax_);
    shapes_ = new ShapesPart(session, picture, *measure_);
    pages_->addWidget(shapes_);
    shelters_ = new SheltersPart(session, picture, *measure_);
    pages_->addWidget(shelters_);
    crossings_ = new CrossingsPart(session, picture);
    pages_->addWidget(crossings_);
    show_page(pages_, 0);
    connect(parts_, &QButtonGroup::idClicked, this, [this](int id) { show_part(Part(id)); });
    connect(&session_, &Session::project_changed, this, &SeamsPanel::refresh_if_seen);
    refresh();
}

void SeamsPanel::show_part(Part part) {
    parts_->button(int(part))->setChecked(true);
    show_page(pages_, int(part));
    if (isVisible()) take_tool();
    refresh();
}

void SeamsPanel::take_tool() {
    const auto part = Part(pages_->currentIndex());
    picture_.set_tool(part == Part::shapes      ? static_cast<PictureTool*>(&shapes_->tool())
                      : part == Part::shelters  ? static_cast<PictureTool*>(&shelters_->tool())
                      : part == Part::crossings ? static_cast<PictureTool*>(&crossings_->tool())
                                                : nullptr);
}

void SeamsPanel::showEvent(QShowEvent* event) {
    take_tool();
    Panel::showEvent(event);
}

void SeamsPanel::hideEvent(QHideEvent* event) {
    picture_.set_tool(nullptr);
    Panel::hideEvent(event);
}

void SeamsPanel::make_blend(QVBoxLayout* page) {
    auto* words =
        new QLabel("Neighbours meet where both are equally far inside their reach. Select cameras to set "
                   "them together.");
    words->setProperty("role", "hint");
    words->setWordWrap(true);
    page->addWidget(words);
    group_in(page, "CAMERAS");
    table_ = new QTableWidget(0, 4);
    table_->setObjectName("seams_table");
    table_->setHorizontalHeaderLabels({"Used", "Camera", "Reach", "Feather"});
    table_->verticalHeader()->hide();
    table_->verticalHeader()->setDefaultSectionSize(25);
    table_->horizontalHeader()->setSectionResizeMode(QHeaderView::Stretch);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::ExtendedSelection);
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    page->addWidget(table_, 1);
    for_ = new QLabel;
    for_->setProperty("role", "group");
    page->addWidget(for_);
    auto* form = new QFormLayout;
    reach_ = new NumberField(limits::kReach_deg, 0.1, 1, "°");
    reach_->setObjectName("reach");
    reach_->setToolTip("How far from its optical axis the lens is used");
    feather_ = new NumberField(limits::kFeather_deg, 0.1, 1, "°");
    feather_->setObjectName("feather");
    feather_->setToolTip("Width of the transition to a neighbour");
    form->addRow("Reach", reach_);
    form->addRow("Feather", feather_);
    page->addLayout(form);
    auto* whole = new QPushButton("Use all that the lens sees");
    page->addWidget(whole);
    auto* blend_form = new QFormLayout;
    blending_ = new QComboBox;
    blending_->setObjectName("blending");
    blending_->addItems({"Hard line", "Feathered", "Multiband"});
    blending_->setToolTip(
        "Hard: at the line. Feathered: over the feather. Multiband: detail over 1.5° at most, brightness "
        "and colour over ever wider bands");
    widest_ = new NumberField(limits::kWidestBand_deg, 0.5, 1, "°");
    widest_->setObjectName("widest_band");
    widest_->setToolTip("How far multiband's widest band reaches from a seam");
    blend_form->addRow("Blending", blending_);
    blend_form->addRow("Widest band", widest_);
    page->addLayout(blend_form);
    connect(blending_, &QComboBox::activated, this, [this](int i) {
        session_.edit_shot("Blending", [i](Shot& s) { s.seams.blend.kind = Blending(i); });
    });
    connect(widest_, &NumberField::edited, this, [this](double v) {
        session_.edit_shot(
            "Widest band", [v](Shot& s) { s.seams.blend.widest_deg = v; }, "widest-band");
    });
    connect(widest_, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
    connect(reach_, &NumberField::edited, this,
            [this](double v) { change("reach", "reach", [v](ShotCamera& c) { c.reach_deg = v; }); });
    connect(feather_, &NumberField::edited, this,
            [this](double v) { change("feather", "feather", [v](ShotCamera& c) { c.feather_deg = v; }); });
    for (auto* f : {reach_, feather_})
        connect(f, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
    connect(whole, &QPushButton::clicked, this, [this] {
        const Shot* shot = session_.shot();
        if (!shot) return;
        const Rig rig = shot->rig;
        change("reach", {},
               [rig](ShotCamera& c) { c.reach_deg = default_reach_deg(find_camera(rig, c.camera)->lens); });
    });
    connect(table_, &QTableWidget::itemSelectionChanged, this, [this] {
        const auto rows = chosen();
        if (const Shot* s = session_.shot();
            s && table_->currentRow() >= 0 && table_->currentRow() < int(s->cameras.size()))
            session_.select_camera(s->cameras[std::size_t(table_->currentRow())].camera);
        refresh();
    });
    connect(table_, &QTableWidget::cellChanged, this, [this](int r, int c) {
        if (c != 0) return;
        const bool on = table_->item(r, 0)->checkState() == Qt::Checked;
        session_.edit_shot(on ? "Use a camera" : "Leave a camera out",
                           [&](Shot& s) { s.cameras[std::size_t(r)].used = on; });
    });
}

std::vector<std::size_t> SeamsPanel::chosen() const {
    std::vector<std::size_t> rows;
    for (const auto& i : table_->selectionModel()->selectedRows()) rows.push_back(std::size_t(i.row()));
    const Shot* shot = session_.shot();
    if (rows.empty() && shot)
        for (std::size_t i = 0; i < shot->cameras.size(); ++i) rows.push_back(i);
    std::erase_if(rows, [&](std::size_t r) { return !shot || r >= shot->cameras.size(); });
    return rows;
}

void SeamsPanel::change(const QString& what, const QString& key,
                        const std::function<void(ShotCamera&)>& set) {
    const auto rows = chosen();
    if (rows.empty()) return;
    const QString who = rows.size() == 1 ? QString::fromStdString(session_.shot()->cameras[rows[0]].camera)
                                         : QString("%1 cameras").arg(rows.size());
    QString merge = key; // the same of other cameras is another step
    for (const auto r : rows) merge += QString(key.isEmpty() ? "" : " %1").arg(r);
    session_.edit_shot(
        QString("Set %1 of %2").arg(what, who),
        [&](Shot& s) {
            for (const auto r : rows) set(s.cameras[r]);
        },
        merge);
}

void SeamsPanel::refresh() {
    const Shot* shot = session_.shot();
    setEnabled(shot != nullptr);
    switch (Part(pages_->currentIndex())) {
    case Part::shapes:
        return shapes_->refresh();
    case Part::shelters:
        return shelters_->refresh();
    case Part::parallax:
        return parallax_->refresh();
    case Part::crossings:
        return crossings_->refresh();
    case Part::blend:
        if (shot) return refresh_blend(*shot);
        const QSignalBlocker block(table_);
        table_->setRowCount(0);
    }
}

void SeamsPanel::refresh_blend(const Shot& now) {
    const Shot* shot = &now;
    const QSignalBlocker block(table_);
    table_->setRowCount(int(shot->cameras.size()));
    blending_->setCurrentIndex(int(shot->seams.blend.kind));
    widest_->set_quietly(shot->seams.blend.widest_deg);
    widest_->setEnabled(shot->seams.blend.kind == Blending::multiband);
    for (int r = 0; r < int(shot->cameras.size()); ++r) {
        const ShotCamera& c = shot->cameras[std::size_t(r)];
        const auto cell = [&](int column, const QString& text) {
            QTableWidgetItem* item = table_->item(r, column);
            if (!item) table_->setItem(r, column, item = new QTableWidgetItem);
            item->setText(text);
            item->setTextAlignment(column < 2 ? Qt::Alignment(Qt::AlignCenter)
                                              : Qt::AlignRight | Qt::AlignVCenter);
            return item;
        };
        auto* used = cell(0, "");
        used->setFlags(Qt::ItemIsEnabled | Qt::ItemIsUserCheckable | Qt::ItemIsSelectable);
        used->setCheckState(c.used ? Qt::Checked : Qt::Unchecked);
        cell(1, QString::fromStdString(c.camera))->setForeground(colour::lens(r));
        cell(2, QString::number(c.reach_deg, 'f', 1) + "°");
        cell(3, QString::number(c.feather_deg, 'f', 1) + "°");
    }
    const auto rows = chosen();
    if (rows.empty()) return;
    for_->setText(rows.size() == shot->cameras.size() ? "ALL CAMERAS"
                  : rows.size() == 1 ? "CAMERA " + QString::fromStdString(shot->cameras[rows[0]].camera)
                                     : QString("%1 CAMERAS").arg(rows.size()));
    reach_->set_quietly(shot->cameras[rows[0]].reach_deg);
    feather_->set_quietly(shot->cameras[rows[0]].feather_deg);
}

} // namespace porb::app
