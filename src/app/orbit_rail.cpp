#include "app/orbit_rail.h"

#include "app/theme.h"
#include "base/angle.h"

#include <QMouseEvent>
#include <QPainter>

namespace porb::app {

namespace {
constexpr double kBody = 8.5; ///< radius of a station's disc
}

QString station_name(Station station) {
    static const std::array<const char*, kStations> names = {"Gather", "Rig",   "Points", "Level",
                                                             "Match",  "Seams", "Master"};
    return names[std::size_t(station)];
}

OrbitRail::OrbitRail(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setObjectName("orbit_rail");
    setFixedHeight(74);
    setMouseTracking(true);
    setAccessibleName("Stations");
    connect(&session_, &Session::project_changed, this, &OrbitRail::refresh);
    refresh();
}

void OrbitRail::set_station(Station station) {
    station_ = station;
    update();
}

void OrbitRail::set_rendered(int done, int all) {
    rendered_ = done;
    deliverables_ = all;
    refresh();
}

double OrbitRail::covered_share() {
    const Shot& shot = *session_.shot();
    View view;
    view.target = equirect_target(3840); // as finely as a master would ask
    PlanKey key = plan_key(shot, view);
    for (auto& c : key.cameras) c.media = "media";
    if (covered_key_ == key) return covered_;
    const Coverage coverage(key);
    const bool half = std::any_of(shot.rig.cameras.begin(), shot.rig.cameras.end(),
                                  [](const Camera& c) { return c.eyes != Eyes::both; });
    const TargetMap map(half ? half_sphere_target(32) : equirect_target(64));
    double seen = 0, all = 0;
    for (int y = 0; y < map.target().height; ++y)
        for (int x = 0; x < map.target().width; ++x) {
            const double area = std::cos((0.5 - (y + 0.5) / map.target().height) * kPi);
            all += area;
            if (coverage.lenses_at(*map.direction({x + 0.5, y + 0.5})) > 0) seen += area;
        }
    covered_key_ = key;
    return covered_ = seen / all;
}

void OrbitRail::refresh() {
    states_ = {};
    const Shot* shot = session_.shot();
    if (!shot) {
        states_[0].figure = "no source yet";
        update();
        return;
    }
    const auto count = int(shot->cameras.size());
    const auto assigned = int(std::count_if(shot->cameras.begin(), shot->cameras.end(),
                                            [](const ShotCamera& c) { return !c.media.empty(); }));
    const bool missing = !session_.missing().empty();
    states_[0] = {double(assigned) / std::max(1, count),
                  missing ? "files missing" : QString("%1 of %2 sources").arg(assigned).arg(count), missing};
    double widest = 0;
    for (const auto& c : shot->rig.cameras) widest = std::max(widest, field_of_view_deg(c.lens));
    states_[1] = {assigned > 0 ? 1.0 : 0.5, QString("%1 × %2°").arg(count).arg(widest, 0, 'f', 1), false};
    const auto kept = std::find_if(shot->solves.rbegin(), shot->solves.rend(),
                                   [&](const KeptSolve& k) { return k.rig == shot->rig; });
    const bool solved = kept != shot->solves.rend();
    states_[2] = {solved                  ? 1.0
                  : shot->points->empty() ? 0.0
                                          : 0.5,
                  solved                  ? QString("%1 px").arg(kept->rms_px, 0, 'f', 2)
                  : shot->points->empty() ? QString("not solved")
                                          : QString("changed since"),
                  solved && kept->rms_px > 1.5};
    const Vec3 up = rotation_of(shot->orientation) * Vec3(0, -1, 0);
    const double lean = degrees(std::acos(std::clamp(-up.y(), -1.0, 1.0)));
    states_[3] = {assigned > 0 ? 1.0 : 0, QString("%1° lean").arg(lean, 0, 'f', 1), false};
    const bool matched = std::any_of(shot->cameras.begin(), shot->cameras.end(),
                                     [](const ShotCamera& c) { return !c.colour.gains.empty(); });
    states_[4] = {matched ? 1.0 : 0.0,
                  !matched || !shot->match.on ? QString("as shot")
                  : shot->match.apart_ev      ? QString("%1 EV apart").arg(*shot->match.apart_ev, 0, 'f', 2)
                                              : QString("matched"),
                  false};
    const double covered = covered_share();
    states_[5] = {covered,
                  covered > 0.9995 ? "no holes" : QString("%1 % open").arg(100 * (1 - covered), 0, 'f', 1),
                  covered <= 0.9995};
    if (shot->crossings && covered > 0.9995) {
        const auto& list = (*shot->crossings)->crossings;
        const auto open = std::count_if(list.begin(), list.end(), is_open);
        states_[5].figure = open == 1 ? QString("1 crossing") : QString("%1 crossings").arg(open);
        states_[5].care = open > 0;
    }
    states_[6] = {deliverables_ ? double(rendered_) / deliverables_ : 0,
                  deliverables_ ? QString("%1 of %2 done").arg(rendered_).arg(deliverables_)
                                : "nothing to render",
                  false};
    update();
}

QPointF OrbitRail::body_at(int index) const {
    const double t = (index + 0.5) / kStations; // along a very shallow arc, highest in the middle
    return {width() * t, 21 + 26 * (t - 0.5) * (t - 0.5) * 4 * 0.35};
}

QRectF OrbitRail::body_rect(Station station) const {
    const QPointF c = body_at(int(station));
    const double w = double(width()) / kStations;
    return {c.x() - w / 2, 0, w, double(height())};
}

void OrbitRail::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.fillRect(rect(), colour::window);
    p.setRenderHint(QPainter::Antialiasing);
    QPolygonF arc;
    for (int i = -2; i <= 2 * kStations + 2; ++i) {
        const double t = double(i) / (2 * kStations);
        arc << QPointF(width() * t, 21 + 26 * (t - 0.5) * (t - 0.5) * 4 * 0.35);
    }
    p.setPen(QPen(colour::line, 1.5));
    p.drawPolyline(arc);
    for (int i = 0; i < kStations; ++i) {
        const State& s = states_[std::size_t(i)];
        const QPointF c = body_at(i);
        const bool current = i == int(station_);
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
        const QRectF cell = body_rect(Station(i));
        p.drawText(QRectF(cell.left(), c.y() + 13, cell.width(), 17), Qt::AlignCenter,
                   station_name(Station(i)));
        p.setFont(font());
        p.setPen(s.care ? colour::care : colour::muted);
        p.drawText(QRectF(cell.left(), c.y() + 29, cell.width(), 15), Qt::AlignCenter,
                   (s.care ? "▲ " : "") + s.figure);
    }
    p.setPen(colour::surround);
    p.drawLine(0, height() - 1, width(), height() - 1);
}

void OrbitRail::mousePressEvent(QMouseEvent* event) {
    for (int i = 0; i < kStations; ++i)
        if (body_rect(Station(i)).contains(event->position())) emit chosen(Station(i));
}

void OrbitRail::mouseMoveEvent(QMouseEvent* event) {
    hover_ = -1;
    for (int i = 0; i < kStations; ++i)
        if (body_rect(Station(i)).contains(event->position())) hover_ = i;
    update();
}

void OrbitRail::leaveEvent(QEvent*) {
    hover_ = -1;
    update();
}

} // namespace porb::app
