#include "app/shell/orbit_rail.h"

#include "app/widgets/theme.h"

#include <QMouseEvent>
#include <QPainter>

namespace porb::app {

namespace {
constexpr double kBody = 8.5; ///< radius of a station's disc
}

OrbitRail::OrbitRail(Session& session, const std::vector<std::unique_ptr<Station>>& stations, QWidget* parent)
    : QWidget(parent), session_(session), stations_(stations) {
    setObjectName("orbit_rail");
    setFixedHeight(74);
    setMouseTracking(true);
    setAccessibleName("Stations");
    connect(&session_, &Session::project_changed, this, &OrbitRail::refresh);
}

void OrbitRail::set_station(int index) {
    station_ = index;
    update();
}

void OrbitRail::refresh() {
    states_.clear();
    for (const auto& station : stations_) states_.push_back(station->state());
    update();
}

QPointF OrbitRail::body_at(double index) const {
    const double t = (index + 0.5) / std::max(1, count()); // along a very shallow arc, highest in the middle
    return {width() * t, 21 + 26 * (t - 0.5) * (t - 0.5) * 4 * 0.35};
}

QRectF OrbitRail::body_rect(int index) const {
    const QPointF c = body_at(index);
    const double w = double(width()) / std::max(1, count());
    return {c.x() - w / 2, 0, w, double(height())};
}

void OrbitRail::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.fillRect(rect(), colour::window);
    p.setRenderHint(QPainter::Antialiasing);
    QPolygonF arc;
    for (int i = -2; i <= 2 * count() + 2; ++i) arc << body_at(0.5 * (i - 1));
    p.setPen(QPen(colour::line, 1.5));
    p.drawPolyline(arc);
    for (int i = 0; i < int(states_.size()); ++i) {
        const StationState& s = states_[std::size_t(i)];
        const QPointF c = body_at(i);
        const bool current = i == station_;
        if (current) {
            p.setPen(QPen(colour::accent, 1.6));
            p.setBrush(colour::window);
            p.drawEllipse(c, kBody + 5, kBody + 5);
        }
        p.setPen(QPen(current ? colour::accent : i == hover_ ? colour::text : colour::faint, 1.5));
        p.setBrush(colour::window);
        p.drawEllipse(c, kBody, kBody);
        if (s.progress > 0) { // the lit part of the body waxes with the work
            p.setPen(Qt::NoPen);
            p.setBrush(s.care ? colour::care : current ? colour::accent : colour::muted);
            p.drawPie(QRectF(c.x() - kBody + 2.5, c.y() - kBody + 2.5, 2 * kBody - 5, 2 * kBody - 5), 90 * 16,
                      -int(std::min(1.0, s.progress) * 360 * 16));
        }
        QFont bold = font();
        bold.setPixelSize(13);
        bold.setWeight(QFont::DemiBold);
        p.setFont(bold);
        p.setPen(current ? colour::accent : colour::text);
        const QRectF cell = body_rect(i);
        p.drawText(QRectF(cell.left(), c.y() + 13, cell.width(), 17), Qt::AlignCenter,
                   stations_[std::size_t(i)]->name());
        p.setFont(font());
        p.setPen(s.care ? colour::care : colour::muted);
        p.drawText(QRectF(cell.left(), c.y() + 29, cell.width(), 15), Qt::AlignCenter,
                   (s.care ? "▲ " : "") + s.figure);
    }
    p.setPen(colour::surround);
    p.drawLine(0, height() - 1, width(), height() - 1);
}

void OrbitRail::mousePressEvent(QMouseEvent* event) {
    for (int i = 0; i < count(); ++i)
        if (body_rect(i).contains(event->position())) emit chosen(i);
}

void OrbitRail::mouseMoveEvent(QMouseEvent* event) {
    hover_ = -1;
    for (int i = 0; i < count(); ++i)
        if (body_rect(i).contains(event->position())) hover_ = i;
    update();
}

void OrbitRail::leaveEvent(QEvent*) {
    hover_ = -1;
    update();
}

} // namespace porb::app
