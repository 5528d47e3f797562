#include "app/stations/ground/ground_panel.h"

#include "app/session/job_bar.h"
#include "app/stations/ground/edge_part.h"
#include "app/stations/ground/exchange_part.h"
#include "app/stations/ground/layers_part.h"
#include "app/stations/ground/paint_part.h"
#include "app/stations/ground/plate_part.h"
#include "app/widgets/parts_row.h"

namespace porb::app {

GroundPanel::GroundPanel(Session& session, PictureArea& picture, PictureService& service, QWidget* parent)
    : Panel("Ground", "Cover what should not be in the picture: the stand below, its shadow, a light above.",
            parent),
      picture_(picture), choice_(session), jobs_(session, service, choice_),
      place_(session, picture, choice_) {
    setObjectName("ground_panel");
    parts_ = add_parts(column(), "ground_",
                       {{"Patches", "The layers of the shot: made, listed, placed"},
                        {"Plate", "Clean pictures of the place, and pixels made from its surroundings"},
                        {"Paint", "The brush"},
                        {"Edge", "Where a patch ends, and how it follows the light"},
                        {"Out", "To a paint program and back, and to other shots"}});
    pages_ = new QStackedWidget;
    column()->addWidget(pages_, 1);
    pages_->addWidget(layers_ = new LayersPart(session, picture, choice_, jobs_));
    pages_->addWidget(plate_ = new PlatePart(session, choice_, jobs_));
    pages_->addWidget(paint_ = new PaintPart(session, picture, choice_));
    pages_->addWidget(edge_ = new EdgePart(session, choice_, jobs_));
    pages_->addWidget(exchange_ = new ExchangePart(session, choice_, jobs_));
    plate_->set_selection([this] { return paint_->tool().selection(); });
    show_page(pages_, 0);
    column()->addWidget(new JobBar(jobs_.job(), session, "ground", "the patch"));
    connect(parts_, &QButtonGroup::idClicked, this, [this](int id) { show_part(Part(id)); });
    connect(&session, &Session::project_changed, this, &GroundPanel::refresh_if_seen);
}

void GroundPanel::show_part(Part part) {
    parts_->button(int(part))->setChecked(true);
    show_page(pages_, int(part));
    if (isVisible()) take_tool();
    refresh();
}

void GroundPanel::take_tool() {
    const auto part = Part(pages_->currentIndex());
    place_.set_moves(part == Part::layers);
    picture_.set_tool(part == Part::paint ? static_cast<PictureTool*>(&paint_->tool()) : &place_);
}

void GroundPanel::showEvent(QShowEvent* event) {
    take_tool();
    Panel::showEvent(event);
}

void GroundPanel::hideEvent(QHideEvent* event) {
    picture_.set_tool(nullptr);
    picture_.set_patches(true);
    Panel::hideEvent(event);
}

void GroundPanel::refresh() {
    switch (Part(pages_->currentIndex())) {
    case Part::layers:
        return layers_->refresh();
    case Part::plate:
        return plate_->refresh();
    case Part::paint:
        return paint_->refresh();
    case Part::edge:
        return edge_->refresh();
    case Part::exchange:
        return exchange_->refresh();
    }
}

} // namespace porb::app
