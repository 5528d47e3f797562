#include "app/stations/depth/region_map.h"

#include "app/widgets/plot_ground.h"

#include <QHelpEvent>
#include <QMouseEvent>
#include <QToolTip>

namespace porb::app {

namespace {

constexpr double kGap = 2, kPolar = 22; ///< pixels between parts, and of those above and below
/// From the left to the right of a map whose middle is ahead.
constexpr std::array kRow{EyeRegion::left, EyeRegion::ahead, EyeRegion::right, EyeRegion::behind};

bool is_bad(const EyeSummary& s) {
    return wants_care(s) || s.torn_px > 0;
}

} // namespace

RegionMap::RegionMap(QWidget* parent) : QWidget(parent) {
    setObjectName("region_map");
    setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Fixed);
    setCursor(Qt::PointingHandCursor);
}

void RegionMap::show_regions(const std::array<EyeSummary, 6>& regions) {
    regions_ = regions;
    update();
}

QRectF RegionMap::part(EyeRegion region) const {
    const double w = width(), h = height();
    if (region == EyeRegion::above) return {0, 0, w, kPolar};
    if (region == EyeRegion::below) return {0, h - kPolar, w, kPolar};
    const auto at = std::find(kRow.begin(), kRow.end(), region) - kRow.begin();
    const double one = (w - 3 * kGap) / 4;
    return {double(at) * (one + kGap), kPolar + kGap, one, h - 2 * (kPolar + kGap)};
}

std::optional<EyeRegion> RegionMap::under(const QPointF& at) const {
    for (int i = 0; i < 6; ++i)
        if (part(EyeRegion(i)).contains(at)) return EyeRegion(i);
    return std::nullopt;
}

void RegionMap::paintEvent(QPaintEvent*) {
    QPainter p(this);
    begin_plot(p, *this);
    for (int i = 0; i < 6; ++i) {
        const EyeSummary& s = regions_[std::size_t(i)];
        const QRectF r = part(EyeRegion(i));
        const bool bad = is_bad(s), wide = r.width() > 3 * r.height();
        QColor ground = s.places == 0 ? colour::line : bad ? colour::care : colour::good;
        ground.setAlpha(s.places == 0 ? 40 : 50);
        p.setPen(Qt::NoPen);
        p.setBrush(ground);
        p.drawRoundedRect(r, 2, 2);
        const QString name = (bad ? "▲ " : "") + QString(kEyeRegionWords[std::size_t(i)]);
        const QString vertical = s.places ? QString("%1 px").arg(s.vertical_px, 0, 'f', 2) : QString("–"),
                      outside =
                          s.places ? QString("%1 % outside").arg(100 * s.outside, 0, 'f', 0) : QString();
        p.setPen(s.places ? colour::text : colour::muted);
        if (wide)
            p.drawText(r, Qt::AlignCenter, name + "   " + vertical + "   " + outside);
        else
            p.drawText(r, Qt::AlignCenter,
                       name + "\n" + vertical + (outside.isEmpty() ? "" : "\n" + outside));
    }
}

void RegionMap::mousePressEvent(QMouseEvent* event) {
    if (const auto region = under(event->position())) emit chosen(*region);
}

bool RegionMap::event(QEvent* event) {
    if (event->type() != QEvent::ToolTip) return QWidget::event(event);
    const auto* help = static_cast<QHelpEvent*>(event);
    QString words =
        "Vertical disparity (pixels of a picture 3840 wide) and what lies outside the comfort budget, by "
        "parts of the sphere. Click to look there.";
    if (const auto region = under(help->pos()); region && regions_[std::size_t(*region)].places > 0) {
        const EyeSummary& s = regions_[std::size_t(*region)];
        words =
            QString(
                "%1: vertical %2 px, 95 % under %3 px; disparity %4° to %5°, %6 % outside; right eye %7 EV; "
                "%8 px torn in one eye alone; %9 % seen alike")
                .arg(kEyeRegionWords[std::size_t(*region)])
                .arg(s.vertical_px, 0, 'f', 2)
                .arg(s.vertical_95_px, 0, 'f', 2)
                .arg(s.farthest_deg, 0, 'f', 2)
                .arg(s.nearest_deg, 0, 'f', 2)
                .arg(100 * s.outside, 0, 'f', 1)
                .arg(QString::asprintf("%+.2f", s.ev[1]))
                .arg(s.torn_px, 0, 'f', 0)
                .arg(100 * s.told, 0, 'f', 0);
    }
    QToolTip::showText(help->globalPos(), words, this);
    return true;
}

} // namespace porb::app
