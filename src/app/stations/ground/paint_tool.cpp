#include "app/stations/ground/paint_tool.h"

#include "app/widgets/arrow_keys.h"
#include "app/widgets/theme.h"
#include "base/angle.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QTabletEvent>

namespace porb::app {

namespace {
constexpr double kLeastSize = 2, kMostSize = 2000;
constexpr int kPutEvery_ms = 14; ///< strokes are shown as often as a screen is

const char* label_of(BrushKind kind) {
    switch (kind) {
    case BrushKind::clone:
        return "Clone";
    case BrushKind::heal:
        return "Heal";
    case BrushKind::paint:
        return "Paint";
    case BrushKind::smudge:
        return "Smudge";
    case BrushKind::soften:
        return "Soften";
    case BrushKind::erase:
        return "Erase";
    case BrushKind::reveal:
        return "Reveal";
    case BrushKind::hide:
        return "Hide";
    }
    return "Paint";
}
} // namespace

PaintTool::PaintTool(Session& session, PictureArea& picture, PatchChoice& choice, QObject* parent)
    : QObject(parent), session_(session), picture_(picture), choice_(choice) {
    connect(&choice_, &PatchChoice::changed, this, [this] {
        if (!choice_.patch()) stroke_.reset();
    });
}

void PaintTool::set_brush(const Brush& brush) {
    brush_ = brush;
    brush_.size_px = std::clamp(brush_.size_px, kLeastSize, kMostSize);
    brush_.softness = std::clamp(brush_.softness, 0.0, 1.0);
    emit brush_changed();
    picture_.update();
}

void PaintTool::pick_next() {
    picking_ = true;
    selecting_ = SelectionKind::none;
    picture_.set_tool(this);
    picture_.setFocus();
    picture_.update();
}

void PaintTool::select_next(SelectionKind kind) {
    selecting_ = kind;
    picking_ = false;
    picture_.set_tool(this);
    picture_.setFocus();
    picture_.update();
}

void PaintTool::clear_selection() {
    selection_.clear();
    selecting_ = SelectionKind::none;
    emit source_changed();
    picture_.update();
}

std::optional<Vec2> PaintTool::pixel_at_point(const QPointF& point) const {
    const auto place = choice_.placement();
    const auto direction = place ? picture_.direction_at(point) : std::nullopt;
    const auto at = direction ? square_place(*place, *direction) : std::nullopt;
    if (!at || at->cwiseAbs().maxCoeff() > 3) return std::nullopt;
    return Vec2((at->x() + 1) / 2, (at->y() + 1) / 2) * choice_.patch()->resolution;
}

std::optional<QPointF> PaintTool::point_of_pixel(const Vec2& pixel) const {
    const auto place = choice_.placement();
    if (!place) return std::nullopt;
    return picture_.point_of(direction_of(*place, 2 * pixel / choice_.patch()->resolution - Vec2(1, 1)));
}

void PaintTool::pick(const QPointF& at) {
    picking_ = false;
    const auto pixel = pixel_at_point(at);
    if (!pixel) return;
    if (takes()) {
        source_ = pixel;
        target_.reset();
    } else {
        const Patch& p = *choice_.patch();
        const int x = int(pixel->x()), y = int(pixel->y());
        const auto seen = [&](const TileImage& image, int c) {
            return image.empty() ? 0.0f : image.at(x, y, c);
        };
        const float a = seen(p.pixels, 3);
        for (int c = 0; c < 3; ++c)
            brush_.colour[std::size_t(c)] = seen(p.pixels, c) + (1 - a) * seen(p.plate, c);
        emit brush_changed();
    }
    emit source_changed();
    picture_.update();
}

bool PaintTool::press(QMouseEvent* event) {
    if (!choice_.patch() || !shows_sphere(picture_.mode())) return false;
    pointer_ = event->position();
    if (event->button() == Qt::RightButton) {
        pick(event->position());
        return true;
    }
    if (event->button() != Qt::LeftButton) return false;
    if (event->modifiers() & Qt::ControlModifier) { // sideways its size, upwards its softness
        sizing_ = true;
        sizing_from_ = event->position();
        sized_ = brush_;
        return true;
    }
    if (event->modifiers() & Qt::ShiftModifier) return false; // the view is turned
    if (picking_) {
        pick(event->position());
        return true;
    }
    if (selecting_ != SelectionKind::none) {
        if (const auto at = pixel_at_point(event->position())) {
            selection_ = {*at};
            dragging_selection_ = true;
        }
        return true;
    }
    begin(event->position(), 1);
    return true;
}

bool PaintTool::move(QMouseEvent* event) {
    pointer_ = event->position();
    picture_.update();
    if (sizing_) {
        const QPointF moved = event->position() - sizing_from_;
        Brush b = sized_;
        b.size_px = sized_.size_px * std::exp(moved.x() / 120);
        b.softness = sized_.softness - moved.y() / 200;
        set_brush(b);
        return true;
    }
    if (dragging_selection_) {
        const auto at = pixel_at_point(event->position());
        if (!at) return true;
        if (selecting_ == SelectionKind::rectangle) {
            const Vec2 a = selection_.front();
            selection_ = {a, {at->x(), a.y()}, *at, {a.x(), at->y()}};
        } else if ((*at - selection_.back()).norm() > 3) {
            selection_.push_back(*at);
        }
        return true;
    }
    if (!stroke_) return false;
    go_on(event->position(), 1);
    return true;
}

bool PaintTool::release(QMouseEvent*) {
    if (sizing_ || dragging_selection_) {
        sizing_ = false;
        if (std::exchange(dragging_selection_, false)) {
            selecting_ = SelectionKind::none;
            if (selection_.size() < 3) selection_.clear();
            emit source_changed();
        }
        picture_.update();
        return true;
    }
    if (!stroke_) return false;
    end();
    return true;
}

bool PaintTool::pen(QTabletEvent* event) {
    if (!choice_.patch() || !shows_sphere(picture_.mode()) || picking_ || selecting_ != SelectionKind::none ||
        event->modifiers() != Qt::NoModifier)
        return false;
    pointer_ = event->position();
    switch (event->type()) {
    case QEvent::TabletPress:
        if (event->button() != Qt::LeftButton) return false;
        begin(event->position(), event->pressure());
        return true;
    case QEvent::TabletMove:
        picture_.update();
        if (!stroke_) return false;
        go_on(event->position(), event->pressure());
        return true;
    case QEvent::TabletRelease:
        if (!stroke_) return false;
        end();
        return true;
    default:
        return false;
    }
}

void PaintTool::begin(const QPointF& at, double pressure) {
    const auto pixel = pixel_at_point(at);
    if (!pixel) return;
    const Patch& p = *choice_.patch();
    if (p.kind == PatchKind::picture || (p.kind == PatchKind::soften && !paints_mask(brush_.kind)))
        return session_.say("Only painted and filled patches are painted on; choose one, or make one.",
                            Signal::care);
    if (takes() && !source_)
        return session_.say("Click with the right button where the brush is to take from.", Signal::care);
    const int side = p.resolution;
    TileImage layer = paints_mask(brush_.kind) ? p.mask : p.pixels;
    if (layer.empty()) {
        layer = TileImage(side, side, paints_mask(brush_.kind) ? 1 : 4);
        // A mask begins as it was: everything shows until something is hidden.
        if (brush_.kind == BrushKind::hide) layer = whole_mask(side);
    }
    if (takes() && (!target_ || !aligned_)) target_ = pixel;
    Brush b = brush_;
    b.seed = brush_.seed + unsigned(strokes_);
    // An aligned source goes along with the brush from stroke to stroke.
    stroke_.emplace(std::move(layer), p.plate, b, source_.value_or(*pixel), target_.value_or(*pixel),
                    selection_);
    mask_ = p.mask;
    stroke_key_ = QString("stroke %1").arg(++strokes_);
    since_put_.invalidate();
    stroke_->add({*pixel, pressure});
    put();
}

void PaintTool::go_on(const QPointF& at, double pressure) {
    if (const auto pixel = pixel_at_point(at)) stroke_->add({*pixel, pressure});
    if (!since_put_.isValid() || since_put_.elapsed() >= kPutEvery_ms) put();
}

void PaintTool::end() {
    stroke_->finish();
    put();
    stroke_.reset();
    session_.end_drag();
}

void PaintTool::put() {
    since_put_.start();
    const TileImage& made = stroke_->result();
    const bool mask = paints_mask(brush_.kind);
    choice_.change(
        label_of(brush_.kind),
        [&](Patch& p) {
            (mask ? p.mask : p.pixels) = made;
            if (!mask && reveals_ && !mask_.empty() && brush_.kind != BrushKind::erase)
                p.mask = revealed(mask_, stroke_->cover());
            if (!mask && p.kind == PatchKind::fill) p.kind = PatchKind::painted;
        },
        stroke_key_);
}

bool PaintTool::key(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape) {
        if (!picking_ && selecting_ == SelectionKind::none && selection_.empty()) return false;
        picking_ = false;
        clear_selection();
        return true;
    }
    // Arrows are the brush's: up and down its size, sideways its softness; with Shift they are the view's.
    const auto arrow = event->modifiers() & Qt::ShiftModifier ? std::nullopt : arrow_of(*event);
    if (!arrow) return false;
    Brush b = brush_;
    b.size_px *= std::pow(1.15, -arrow->y());
    b.softness += 0.1 * arrow->x();
    set_brush(b);
    return true;
}

void PaintTool::paint_circle(QPainter& p, const Vec2& middle, double radius, const QPen& pen) const {
    QPolygonF circle;
    constexpr int kCorners = 48;
    for (int i = 0; i <= kCorners; ++i) {
        const double a = 2 * kPi * i / kCorners;
        if (const auto at = point_of_pixel(middle + radius * Vec2(std::cos(a), std::sin(a)))) circle << *at;
    }
    if (circle.size() < kCorners) return; // some of it is out of sight
    const QRectF box = circle.boundingRect();
    if (box.width() > picture_.width() / 2.0) return; // it lies across the map's edge
    p.setPen(QPen(QColor(0, 0, 0, 150), pen.widthF() + 1.6));
    p.drawPolyline(circle);
    p.setPen(pen);
    p.drawPolyline(circle);
}

void PaintTool::paint(QPainter& p) {
    const auto place = choice_.placement();
    if (!place || !shows_sphere(picture_.mode())) return;
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    paint_patch_outline(p, picture_, *place, choice_.patch()->disc, colour::muted);
    if (paints_mask(brush_.kind)) outlines_.paint(p, picture_, *place, choice_.patch()->mask);
    if (selection_.size() > 1) {
        QPolygonF outline;
        for (const Vec2& c : selection_)
            if (const auto at = point_of_pixel(c)) outline << *at;
        p.setPen(QPen(QColor(0, 0, 0, 160), 3));
        p.drawPolygon(outline);
        p.setPen(QPen(colour::accent, 1.4, Qt::DashLine));
        p.drawPolygon(outline);
    }
    const auto at = pixel_at_point(pointer_);
    if (at && picture_.rect().contains(pointer_.toPoint())) {
        const double r = brush_.size_px / 2;
        paint_circle(p, *at, r, QPen(colour::accent, 1.4));
        if (brush_.softness > 0.05)
            paint_circle(p, *at, r * (1 - brush_.softness), QPen(colour::accent, 0.8, Qt::DotLine));
        if (takes() && source_) {
            // The source goes along with the brush, or waits where it was set.
            const Vec2 from = stroke_               ? stroke_->source_of(*at)
                              : target_ && aligned_ ? *source_ + (*at - *target_)
                                                    : *source_;
            paint_circle(p, from, r * brush_.source_scale, QPen(colour::care, 1.2, Qt::DashLine));
            if (const auto centre = point_of_pixel(from)) {
                p.setPen(QPen(colour::care, 1.4));
                p.drawLine(*centre - QPointF(5, 0), *centre + QPointF(5, 0));
                p.drawLine(*centre - QPointF(0, 5), *centre + QPointF(0, 5));
            }
        }
    }
    p.restore();
}

QString PaintTool::words() const {
    if (!choice_.patch()) return "Make a patch to paint on first";
    if (picking_) return takes() ? "Click where the brush is to take from" : "Click on a colour";
    if (selecting_ != SelectionKind::none) return "Drag round what strokes are to be limited to (Esc ends)";
    if (takes() && !source_) return "Right button: where the brush takes from. Then paint";
    return {};
}

} // namespace porb::app
