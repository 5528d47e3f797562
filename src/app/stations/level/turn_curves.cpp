#include "app/stations/level/level_panel.h"
#include "project/orientation.h"

#include <QMouseEvent>
#include <QPainter>

namespace porb::app {

namespace {
constexpr double kGripPx = 8;
double angle(const Turn& t, int axis) {
    return axis == 0 ? t.yaw_deg : axis == 1 ? t.pitch_deg : t.roll_deg;
}
} // namespace

TurnCurves::TurnCurves(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setObjectName("turn_curves");
    setFixedHeight(96);
    setToolTip("Orientation over the shot: yaw, pitch, roll. Drag a key's kite up or down; the playhead is "
               "the thin line.");
    connect(&session_, &Session::project_changed, this, [this] { update(); });
    connect(&session_, &Session::playhead_changed, this, [this] { update(); });
}

QRectF TurnCurves::plot() const {
    return QRectF(4, 14, width() - 8, height() - 20);
}

double TurnCurves::x_of(double seconds) const {
    const double length = std::max(1e-3, session_.length().to_double());
    return plot().left() + plot().width() * seconds / length;
}

const std::vector<Turn>& TurnCurves::turns(int steps) {
    const Shot& shot = *session_.shot();
    Key key{shot.levelling.orientation, shot.levelling.orientation_keys, shot.levelling.steady,
            session_.length().to_double(), steps};
    if (!(key == key_) || turns_.empty()) {
        turns_.clear();
        for (int i = 0; i <= steps; ++i)
            turns_.push_back(
                turn_of(orientation_at(shot, Rational::from_double(key.length_s * i / std::max(1, steps)))));
        key_ = std::move(key);
    }
    return turns_;
}

void TurnCurves::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.fillRect(rect(), colour::field);
    const Shot* shot = session_.shot();
    if (!shot) return;
    p.setRenderHint(QPainter::Antialiasing);
    QFont small = font();
    small.setPixelSize(10);
    p.setFont(small);
    const QColor colours[] = {colour::accent, colour::care, colour::good};
    const char* names[] = {"yaw", "pitch", "roll"};
    double x = 6;
    for (int a = 0; a < 3; ++a) {
        p.setPen(colours[a]);
        p.drawText(QPointF(x, 11), names[a]);
        x += p.fontMetrics().horizontalAdvance(names[a]) + 10;
    }
    const int steps = int(plot().width());
    const auto& along = turns(steps);
    for (int a = 0; a < 3; ++a) { // each about its own middle, no range less than two degrees
        double low = 1e9, high = -1e9, before = angle(along[0], a), add = 0;
        std::vector<double> v;
        for (const auto& t : along) {
            const double now = angle(t, a);
            if (now - before > 180) add -= 360;
            if (now - before < -180) add += 360;
            before = now;
            v.push_back(now + add);
            low = std::min(low, v.back()), high = std::max(high, v.back());
        }
        const double range = std::max(2.0, high - low), middle = (low + high) / 2;
        QPolygonF line;
        for (int i = 0; i <= steps; ++i)
            line << QPointF(plot().left() + i, plot().center().y() - (v[std::size_t(i)] - middle) / range *
                                                                         plot().height() * 0.9);
        p.setPen(QPen(colours[a], 1.2));
        p.drawPolyline(line);
        for (const auto& k : shot->levelling.orientation_keys) {
            const int i = std::clamp(int(x_of(k.time.to_double()) - plot().left()), 0, steps);
            p.setBrush(colours[a]);
            p.setPen(Qt::NoPen);
            const QPointF c = line[i];
            p.drawPolygon(
                QPolygonF({c + QPointF(0, -4), c + QPointF(4, 0), c + QPointF(0, 4), c + QPointF(-4, 0)}));
        }
    }
    p.setPen(colour::text);
    p.drawLine(QPointF(x_of(session_.playhead().to_double()), 0),
               QPointF(x_of(session_.playhead().to_double()), height()));
}

void TurnCurves::mousePressEvent(QMouseEvent* event) {
    held_ = -1;
    const Shot* shot = session_.shot();
    if (!shot) return;
    for (std::size_t i = 0; i < shot->levelling.orientation_keys.size(); ++i)
        if (std::abs(x_of(shot->levelling.orientation_keys[i].time.to_double()) - event->position().x()) <
            kGripPx)
            held_ = int(i);
    if (held_ < 0) {
        const double t =
            (event->position().x() - plot().left()) / plot().width() * session_.length().to_double();
        session_.set_playhead(frame_time(
            frame_index(Rational::from_double(std::max(0.0, t)), shot->timing.rate), shot->timing.rate));
        return;
    }
    // Left drags pitch, with Shift yaw, with Ctrl roll.
    axis_ = event->modifiers() & Qt::ShiftModifier ? 0 : event->modifiers() & Qt::ControlModifier ? 2 : 1;
    grip_y_ = event->position().y();
    grip_turn_ = shot->levelling.orientation_keys[std::size_t(held_)].turn;
    session_.set_playhead(shot->levelling.orientation_keys[std::size_t(held_)].time);
}

void TurnCurves::mouseMoveEvent(QMouseEvent* event) {
    if (held_ < 0) return;
    const double by = 0.1 * (grip_y_ - event->position().y());
    session_.edit_shot(
        "Move an orientation key",
        [&](Shot& s) {
            if (std::size_t(held_) >= s.levelling.orientation_keys.size()) return;
            Turn t = grip_turn_;
            (axis_ == 0 ? t.yaw_deg : axis_ == 1 ? t.pitch_deg : t.roll_deg) += by;
            s.levelling.orientation_keys[std::size_t(held_)].turn = tidied(t);
        },
        "drag-key");
}

void TurnCurves::mouseReleaseEvent(QMouseEvent*) {
    if (held_ >= 0) session_.end_drag();
    held_ = -1;
}

} // namespace porb::app
