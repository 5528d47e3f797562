// How the picture area draws what it was given, its overlays and its words.
#include "app/picture/picture_area.h"

#include "app/picture/comparison.h"
#include "app/picture/rig_view.h"
#include "app/widgets/theme.h"
#include "base/angle.h"
#include "stereo/measure.h"

#include <QPainter>

namespace porb::app {

void PictureArea::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.fillRect(rect(), colour::surround);
    p.setRenderHint(QPainter::SmoothPixmapTransform);
    if (!session_.shot()) return;
    if (!answer_.images.empty() && answer_.time != painted_time_) {
        ++painted_;
        painted_time_ = answer_.time;
        QMetaObject::invokeMethod(this, &PictureArea::picture_shown, Qt::QueuedConnection);
    }
    if (mode() == ViewMode::sheet)
        paint_sheet(p);
    else if (mode() == ViewMode::lens)
        paint_lens(p);
    else
        paint_composed(p);
    words_.clear();
    paint_marks(p);
    if (tool_ && loop_.pictures() == 0) tool_->paint(p); // a loop shows other moments
    paint_words(p);
}

void PictureArea::paint_composed(QPainter& p) {
    if (!answer_.images.empty() && answer_.view && !answer_.images[0].isNull()) {
        const QRectF to = answer_rect();
        // Where no lens sees, a quiet hatching tells a hole from black.
        p.fillRect(to, QBrush(colour::line, Qt::BDiagPattern));
        if (compares())
            paint_comparison(p, to);
        else
            p.drawImage(to, shown_image(0));
        if (shows_beside(eyes_)) {
            p.setPen(QPen(colour::surround, 3));
            p.drawLine(QPointF(to.center().x(), to.top()), QPointF(to.center().x(), to.bottom()));
        }
    }
    if (answer_.view) {
        p.setRenderHint(QPainter::SmoothPixmapTransform);
        if (trust_ && !answer_.trust.isNull()) p.drawImage(answer_rect(), answer_.trust);
        if (distance_steps_ && !answer_.distance_steps.isNull())
            p.drawImage(answer_rect(), answer_.distance_steps);
    }
    paint_overlays(p);
    if (distances_ || distance_steps_) paint_distances(p);
}

const QImage& PictureArea::shown_image(std::size_t which) const {
    return right_now_ && which < answer_.turned.size() ? answer_.turned[which] : answer_.images[which];
}

QRectF PictureArea::answer_rect() const {
    if (mode() == ViewMode::window || !shows_sphere(mode()) || !answer_.view) return QRectF(rect());
    const View& v = *answer_.view;
    const QRectF r = view().map_rect();
    const double k = r.width() / v.target.width;
    return QRectF(r.left() + v.region.x * k, r.top() + v.region.y * k, v.region.width * k,
                  v.region.height * k);
}

/// Of what lies there, of drawn eyes: "  +0.45°", nearer than where both converge.
QString PictureArea::disparity_text(double inverse_m, const Vec3& direction) const {
    const Shot& shot = *session_.shot();
    if (!eye_rays_of(shot, Eye::right, session_.playhead()).moves()) return {};
    const double deg = drawn_disparity_deg(shot, session_.playhead(), direction, inverse_m);
    return QString("  %1%2°").arg(deg < 0 ? "" : "+").arg(deg, 0, 'f', 2);
}

void PictureArea::paint_distances(QPainter& p) {
    if (distances_) paint_distance_scale(p, rect());
    const FoundDistancesPtr found = found_distances();
    const auto d = found && rect().contains(pointer_.toPoint()) ? direction_at(pointer_) : std::nullopt;
    if (!d) return;
    const double trust = found->trust_at(*d);
    const QString text = distance_text(found->inverse_at(*d)) + disparity_text(found->inverse_at(*d), *d) +
                         (trust < 0          ? "  agree distance"
                          : trust < kTrusted ? "  not trusted"
                                             : "");
    QRectF box(pointer_.x() + 16, pointer_.y() + 14, p.fontMetrics().horizontalAdvance(text) + 14, 22);
    if (box.right() > width() - 4) box.moveRight(pointer_.x() - 10);
    if (box.bottom() > height() - 4) box.moveBottom(pointer_.y() - 10);
    p.setPen(Qt::NoPen);
    p.setBrush(QColor(0x1d, 0x1d, 0x1d, 215));
    p.drawRoundedRect(box, 3, 3);
    p.setPen(trust >= kTrusted ? colour::text : colour::care);
    p.drawText(box, Qt::AlignCenter, text);
}

bool PictureArea::compares() const {
    return compare_->is_on() && answer_.view && answer_.images.size() == 2 && !answer_.images[1].isNull();
}

void PictureArea::paint_comparison(QPainter& p, const QRectF& to) {
    const QImage &now = shown_image(0), &other = shown_image(1);
    const auto label = [&](const QString& text, double left, double right) {
        const double w = std::min(right - left - 12, p.fontMetrics().horizontalAdvance(text) + 20.0);
        if (w < 40) return;
        const QRectF box((left + right - w) / 2, 54, w, 24);
        p.setPen(Qt::NoPen);
        p.setBrush(QColor(0x1d, 0x1d, 0x1d, 205));
        p.drawRoundedRect(box, 4, 4);
        p.setPen(colour::text);
        p.drawText(box, Qt::AlignCenter, p.fontMetrics().elidedText(text, Qt::ElideRight, int(w) - 12));
    };
    const double middle = width() / 2.0;
    switch (compare_->way()) {
    case Comparison::Way::wipe: {
        const double x = compare_->wipe() * width();
        p.drawImage(to, now);
        p.save();
        p.setClipRect(QRectF(x, 0, width() - x, height()));
        p.fillRect(to, QBrush(colour::line, Qt::BDiagPattern));
        p.drawImage(to, other);
        p.restore();
        p.setPen(QPen(QColor(0, 0, 0, 150), 3));
        p.drawLine(QPointF(x, 0), QPointF(x, height()));
        p.setPen(QPen(colour::accent, 1.4));
        p.drawLine(QPointF(x, 0), QPointF(x, height()));
        label("now", 0, x);
        label(compare_->other_name(), x, width());
        return;
    }
    case Comparison::Way::blink:
        p.drawImage(to, compare_->shows_other() ? other : now);
        return label(compare_->shows_other() ? compare_->other_name() : "now", 0, width());
    case Comparison::Way::difference:
        p.drawImage(to, compare_->difference(now, other));
        return label("what differs", 0, width());
    case Comparison::Way::beside: // the middle of both, each in a half
        for (const bool right : {false, true}) {
            p.save();
            p.setClipRect(QRectF(right ? middle : 0, 0, middle, height()));
            p.translate(right ? middle / 2 : -middle / 2, 0);
            p.drawImage(to, right ? other : now);
            p.restore();
        }
        p.setPen(QPen(colour::accent, 1.4));
        p.drawLine(QPointF(middle, 0), QPointF(middle, height()));
        label("now", 0, middle);
        label(compare_->other_name(), middle, width());
        return;
    }
}

void PictureArea::paint_overlays(QPainter& p) {
    if (!footprints_ && !overlaps_ && !coverage_ && !supply_) return;
    View view;
    view.eye = view_.eye;
    view.target = this->view().target();
    const PlanKey key = plan_key(*session_.shot(), view, session_.playhead(), Sources::all);
    if (overlay_key_ != key) {
        overlay_key_ = key;
        overlay_ = make_overlays(key);
    }
    p.save();
    p.setRenderHint(QPainter::Antialiasing);
    const QRectF r = mode() == ViewMode::window ? QRectF(rect()) : this->view().map_rect();
    const double k = r.width() / view.target.width;
    if (coverage_) p.drawImage(r, overlay_.coverage);
    if (supply_ && !coverage_) p.drawImage(r, overlay_.supply);
    if (overlaps_ && !coverage_ && !supply_) p.drawImage(r, overlay_.overlaps);
    if (coverage_) { // what the tints mean
        static const char* const kNames[] = {"no lens", "one", "two", "three or more"};
        double x = 12;
        for (int i = 0; i < 4; ++i) {
            const double w = 26 + p.fontMetrics().horizontalAdvance(kNames[i]);
            p.setPen(Qt::NoPen);
            p.setBrush(QColor(0x1d, 0x1d, 0x1d, 215));
            p.drawRect(QRectF(x - 4, height() - 32, w + 4, 22));
            p.setBrush(coverage_colour(i));
            p.drawRect(QRectF(x + 2, height() - 26, 10, 10));
            p.setPen(colour::text);
            p.drawText(QRectF(x + 18, height() - 32, w, 22), Qt::AlignVCenter, kNames[i]);
            x += w + 4;
        }
    }
    if (footprints_)
        for (const auto& lens : overlay_.lenses) {
            const auto& id = session_.shot()->cameras[lens.camera].camera;
            const bool chosen = selected() && id == selected()->id;
            const QColor c = colour::lens(int(lens.camera));
            p.setBrush(Qt::NoBrush);
            for (const auto& line : lens.outline) {
                QPolygonF at;
                for (const auto& q : line) at << QPointF(r.left() + q.x() * k, r.top() + q.y() * k);
                p.setPen(QPen(QColor(0, 0, 0, 120), chosen ? 4.5 : 3));
                p.drawPolyline(at);
                p.setPen(QPen(c, chosen ? 2.5 : 1.4));
                p.drawPolyline(at);
            }
            if (lens.centre) {
                const QPointF q(r.left() + lens.centre->x() * k, r.top() + lens.centre->y() * k);
                p.setPen(QPen(c, 1.8));
                p.drawLine(q - QPointF(7, 0), q + QPointF(7, 0));
                p.drawLine(q - QPointF(0, 7), q + QPointF(0, 7));
                const QRectF tag(q.x() + 6, q.y() + 5, 14 + 7.0 * double(id.size()), 17);
                p.setPen(Qt::NoPen);
                p.setBrush(QColor(0, 0, 0, 150));
                p.drawRoundedRect(tag, 3, 3);
                p.setPen(c);
                p.drawText(tag, Qt::AlignCenter, QString::fromStdString(id));
            }
        }
    p.restore();
}

void PictureArea::paint_lens(QPainter& p) {
    const Camera* c = selected();
    if (!c) return;
    const QRectF r = this->view().lens_rect();
    p.fillRect(r, Qt::black);
    if (!answer_.images.empty() && !answer_.images[0].isNull()) p.drawImage(r, answer_.images[0]);
    p.setRenderHint(QPainter::Antialiasing);
    const double scale = r.width() / c->lens.width;
    const auto ring = [&](const Vec2& centre, double radius, const QPen& pen) {
        const QPointF at = lens_point(centre);
        p.setBrush(Qt::NoBrush);
        p.setPen(QPen(QColor(0, 0, 0, 140), pen.widthF() + 2));
        p.drawEllipse(at, radius * scale, radius * scale);
        p.setPen(pen);
        p.drawEllipse(at, radius * scale, radius * scale);
    };
    const Shot& shot = *session_.shot();
    int index = 0;
    for (std::size_t i = 0; i < shot.rig.cameras.size(); ++i)
        if (shot.rig.cameras[i].id == c->id) index = int(i);
    const QColor colour = colour::lens(index);
    ring(c->lens.circle.center_px, c->lens.circle.radius_px, QPen(colour, 2));
    const LensMap map(c->lens);
    if (const ShotCamera* use = find_camera(shot, c->id); use && radians(use->reach_deg) < map.theta_max()) {
        QPolygonF reach;
        for (int a = 0; a <= 180; ++a)
            reach << lens_point(
                map.place(radians(use->reach_deg), std::cos(radians(2 * a)), std::sin(radians(2 * a))));
        p.setBrush(Qt::NoBrush);
        p.setPen(QPen(QColor(0, 0, 0, 140), 3.2));
        p.drawPolyline(reach);
        p.setPen(QPen(colour, 1.2, Qt::DashLine));
        p.drawPolyline(reach);
    }
    // Handles: a square on the rim at lower right, a cross at the lens's own centre.
    const QPointF rim =
        lens_point(c->lens.circle.center_px + c->lens.circle.radius_px * Vec2(0.7071, 0.7071));
    p.setPen(QPen(QColor(0, 0, 0, 160), 1));
    p.setBrush(colour);
    p.drawRect(QRectF(rim.x() - 5, rim.y() - 5, 10, 10));
    const QPointF centre = lens_point(c->lens.center_px);
    p.setPen(QPen(colour, 1.8));
    p.drawLine(centre - QPointF(10, 0), centre + QPointF(10, 0));
    p.drawLine(centre - QPointF(0, 10), centre + QPointF(0, 10));
    if (magnifies()) paint_magnifier(p, r);
    if (answer_.images.empty() || answer_.images[0].isNull()) {
        p.setPen(colour::muted);
        p.drawText(r, Qt::AlignCenter,
                   answer_.error.isEmpty() && !answer_.number
                       ? ""
                       : "No picture for camera " + QString::fromStdString(c->id) + " at this time");
    }
}

bool PictureArea::magnifies() const {
    return mode() == ViewMode::lens && (grip_ == Grip::circle_rim || grip_ == Grip::circle_move ||
                                        (grip_ == Grip::none && lens_grip(hover_) == Grip::circle_rim));
}

void PictureArea::paint_magnifier(QPainter& p, const QRectF& picture) {
    const Camera* c = selected();
    if (!c || answer_.images.empty() || answer_.images[0].isNull()) return;
    const QImage& image = answer_.images[0];
    // The place on the rim nearest the pointer, so that a drag of the circle shows its edge too.
    const QPointF centre = lens_point(c->lens.circle.center_px);
    const QPointF from = hover_ - centre;
    const double far = std::max(1.0, std::hypot(from.x(), from.y())), shown = picture.width() / c->lens.width;
    const QPointF rim = centre + from * (c->lens.circle.radius_px * shown / far);
    constexpr double kSize = 190, kPower = 6;
    QRectF box(rim.x() + 24, rim.y() + 24, kSize, kSize);
    if (box.right() > width() - 6) box.moveRight(rim.x() - 24);
    if (box.bottom() > height() - 6) box.moveBottom(rim.y() - 24);
    const double k = image.width() / picture.width(), part = kSize / kPower * k;
    const QPointF at((rim.x() - picture.left()) * k, (rim.y() - picture.top()) * k);
    p.save();
    p.setRenderHint(QPainter::SmoothPixmapTransform, false);
    p.setClipRect(box);
    p.fillRect(box, Qt::black);
    p.drawImage(box, image, QRectF(at.x() - part / 2, at.y() - part / 2, part, part));
    p.setBrush(Qt::NoBrush);
    p.setPen(QPen(colour::accent, 1.2));
    const QPointF middle = box.center() + (centre - rim) * kPower;
    const double radius = c->lens.circle.radius_px * shown * kPower;
    p.drawEllipse(middle, radius, radius);
    p.setClipping(false);
    p.setPen(QPen(colour::text, 1));
    p.drawRect(box);
    p.restore();
}

std::vector<QRectF> PictureArea::sheet_cells(std::size_t count) const {
    std::vector<QRectF> cells;
    const Shot* shot = session_.shot();
    if (!shot || count == 0) return cells;
    int best = 1;
    double best_area = 0;
    const double aspect = double(shot->rig.cameras[0].lens.width) / shot->rig.cameras[0].lens.height;
    for (int columns = 1; columns <= int(count); ++columns) { // the grid whose pictures are largest
        const int rows = (int(count) + columns - 1) / columns;
        const double w = double(width()) / columns, h = double(height()) / rows - 22;
        const double used = std::min(w, h * aspect);
        if (used > best_area) {
            best_area = used;
            best = columns;
        }
    }
    const int rows = (int(count) + best - 1) / best;
    const double w = double(width()) / best, h = double(height()) / rows;
    for (int i = 0; i < int(count); ++i)
        cells.emplace_back((i % best) * w + 4, (i / best) * h + 4, w - 8, h - 8);
    return cells;
}

void PictureArea::paint_sheet(QPainter& p) {
    const Shot& shot = *session_.shot();
    const auto cells = sheet_cells(shot.rig.cameras.size());
    p.setRenderHint(QPainter::Antialiasing);
    for (std::size_t i = 0; i < cells.size(); ++i) {
        const Camera& c = shot.rig.cameras[i];
        const ShotCamera* use = find_camera(shot, c.id);
        const Media* media = use ? find_media(*session_.project(), use->media) : nullptr;
        const bool chosen = selected() && c.id == selected()->id;
        const QRectF cell = cells[i];
        const QRectF room = cell.adjusted(0, 0, 0, -22);
        const double aspect = double(c.lens.width) / c.lens.height;
        const double w = std::min(room.width(), room.height() * aspect);
        const QRectF r(room.center().x() - w / 2, room.center().y() - w / aspect / 2, w, w / aspect);
        p.fillRect(r, Qt::black);
        if (i < answer_.images.size() && !answer_.images[i].isNull()) {
            p.drawImage(r, answer_.images[i]);
        } else {
            p.setPen(colour::muted);
            p.drawText(r, Qt::AlignCenter,
                       media ? (answer_.images.empty() ? "" : "no picture at this time")
                             : "no source yet: assign one in Gather");
        }
        const double k = w / c.lens.width;
        p.setClipRect(r);
        p.setBrush(Qt::NoBrush);
        p.setPen(QPen(colour::lens(int(i)), chosen ? 2.5 : 1.4));
        p.drawEllipse(
            QPointF(r.left() + c.lens.circle.center_px.x() * k, r.top() + c.lens.circle.center_px.y() * k),
            c.lens.circle.radius_px * k, c.lens.circle.radius_px * k);
        p.setClipping(false);
        p.setPen(chosen ? colour::accent : colour::text);
        const QString name = media ? QString::fromStdString(media->ref.path.filename().string()) : "—";
        p.drawText(QRectF(cell.left(), r.bottom() + 3, cell.width(), 20), Qt::AlignCenter,
                   QString::fromStdString(c.id) + "   " + name);
        if (chosen) {
            p.setPen(QPen(colour::accent, 1));
            p.drawRect(r);
        }
    }
}

void PictureArea::paint_words(QPainter& p) {
    const auto badge = [&](const QString& text, Qt::Alignment where, const QColor& c) {
        QRectF box = p.fontMetrics().boundingRect(QRect(0, 0, std::max(80, width() - 80), height()),
                                                  Qt::TextWordWrap, text);
        box.adjust(-10, -5, 10, 5);
        box.moveLeft(where & Qt::AlignLeft    ? 10
                     : where & Qt::AlignRight ? width() - box.width() - 10
                                              : (width() - box.width()) / 2);
        box.moveTop(where & Qt::AlignTop      ? 10
                    : where & Qt::AlignBottom ? height() - box.height() - 10
                                              : (height() - box.height()) / 2);
        p.setPen(Qt::NoPen);
        p.setBrush(QColor(0x1d, 0x1d, 0x1d, 205));
        p.drawRoundedRect(box, 4, 4);
        p.setPen(c);
        p.drawText(box, Qt::AlignCenter | Qt::TextWordWrap, text);
    };
    if (!words_.isEmpty()) badge(words_.join("\n"), Qt::AlignBottom | Qt::AlignLeft, colour::text);
    if (const int level = shown_proxy_level(); level > 0)
        badge(QString("proxies, %1 of the size")
                  .arg(level == 1   ? "half"
                       : level == 2 ? "a quarter"
                                    : "an eighth"),
              Qt::AlignTop | Qt::AlignHCenter, colour::care); // comparing has the corner
    if (loop_.is_on())
        badge(loop_.pictures() == 0
                  ? QString("Loop: %1 % of its pictures made (Esc ends)").arg(int(100 * loop_.share_made()))
                  : QString("Loop  %1 s (Esc ends)").arg(answer_.time.to_double(), 0, 'f', 2),
              Qt::AlignBottom | Qt::AlignLeft, colour::accent);
    if (tool_ && !tool_->words().isEmpty())
        badge(tool_->words(), Qt::AlignTop | Qt::AlignRight, colour::accent);
    if (flicker_.isActive() && selected() && neighbour() && shows_sphere(mode()))
        badge(QString("flicker: camera %1")
                  .arg(QString::fromStdString(second_side_ ? neighbour()->id : selected()->id)),
              Qt::AlignTop | Qt::AlignRight, colour::accent);
    if (!answer_.error.isEmpty()) badge(answer_.error, Qt::AlignCenter, colour::stop);
    const Shot& shot = *session_.shot();
    const bool assigned = std::any_of(shot.cameras.begin(), shot.cameras.end(),
                                      [](const ShotCamera& c) { return !c.media.empty(); });
    if (!assigned && mode() != ViewMode::sheet)
        badge("No camera has a source yet. Assign files to cameras in Gather.", Qt::AlignCenter,
              colour::care);
    if (mode() == ViewMode::window)
        badge(QString("yaw %1°   pitch %2°   field of view %3°")
                  .arg(view_.look.yaw_deg, 0, 'f', 1)
                  .arg(view_.look.pitch_deg, 0, 'f', 1)
                  .arg(view_.fov_deg, 0, 'f', 0),
              Qt::AlignBottom | Qt::AlignRight, colour::muted);
    else if (view_.zoom > 1.001)
        badge(QString("%1 ×").arg(view_.zoom, 0, 'f', 1), Qt::AlignBottom | Qt::AlignRight, colour::muted);
}

} // namespace porb::app
