#include "app/stations/depth/comfort_lane.h"

#include "app/widgets/plot_ground.h"

#include <QHelpEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QToolTip>

namespace porb::app {

namespace {
constexpr int kHeight = 32, kPad = 3;
constexpr double kLeastWidth = 5, kUnder = 8;
} // namespace

ComfortLane::ComfortLane(Session& session, EyeMeasures& measures, TimeRuler& ruler, QWidget* parent)
    : QWidget(parent), session_(session), measures_(measures), ruler_(ruler) {
    setObjectName("comfort_lane");
    setFixedHeight(kHeight);
    connect(&measures_, &EyeMeasures::changed, this, [this] { update(); });
    connect(&session_, &Session::playhead_changed, this, [this] { update(); });
    connect(&ruler_, &TimeRuler::view_changed, this, [this] { update(); });
}

int ComfortLane::under(const QPointF& at) {
    int best = -1;
    double nearest = kUnder;
    const auto& moments = measures_.moments();
    for (int i = 0; i < int(moments.size()); ++i)
        if (const double d = std::abs(ruler_.x_of(moments[std::size_t(i)].time.to_double()) - at.x());
            d <= nearest)
            nearest = d, best = i;
    return best;
}

void ComfortLane::paintEvent(QPaintEvent*) {
    QPainter p(this);
    begin_plot(p, *this);
    const Shot* shot = session_.shot();
    const auto& moments = measures_.moments();
    if (!shot || moments.empty()) {
        p.setPen(colour::muted);
        p.drawText(rect().adjusted(8, 0, -8, 0), Qt::AlignVCenter | Qt::AlignLeft,
                   measures_.is_out_of_date() ? "Comfort: changed since both eyes were measured"
                                              : "Comfort: both eyes not measured yet");
        return;
    }
    const ComfortBudget& budget = shot->stereo.comfort;
    double most = budget.near_deg, least = -budget.far_deg;
    const std::vector<EyeSummary>& all = measures_.summaries();
    for (const EyeSummary& m : all)
        most = std::max(most, m.nearest_deg), least = std::min(least, m.farthest_deg);
    const auto y_of = [&](double deg) {
        return kPad + (most - deg) / std::max(0.1, most - least) * (kHeight - 2 * kPad);
    };
    p.fillRect(QRectF(0, y_of(budget.near_deg), width(), y_of(-budget.far_deg) - y_of(budget.near_deg)),
               QColor(colour::good.red(), colour::good.green(), colour::good.blue(), 40));
    p.setPen(QPen(colour::line, 1));
    p.drawLine(QPointF(0, y_of(0)), QPointF(width(), y_of(0)));
    for (const EyeSummary& s : all) {
        const double x = ruler_.x_of(s.time.to_double());
        const bool bad = wants_care(s);
        p.setPen(Qt::NoPen);
        p.setBrush(bad ? colour::care : colour::good);
        const QRectF bar(x - kLeastWidth / 2, y_of(s.nearest_deg), kLeastWidth,
                         std::max(2.0, y_of(s.farthest_deg) - y_of(s.nearest_deg)));
        if (bad) // pointed, so that colour alone need not tell
            p.drawPolygon(QPolygonF({{bar.center().x(), bar.top() - 3},
                                     bar.topRight(),
                                     bar.bottomRight(),
                                     {bar.center().x(), bar.bottom() + 3},
                                     bar.bottomLeft(),
                                     bar.topLeft()}));
        else
            p.drawRoundedRect(bar, 2, 2);
    }
    p.setPen(QPen(colour::text, 1));
    const double x = ruler_.x_of(session_.playhead().to_double());
    p.drawLine(QPointF(x, 0), QPointF(x, height()));
}

void ComfortLane::mousePressEvent(QMouseEvent* event) {
    if (const int i = under(event->position()); i >= 0)
        session_.set_playhead(measures_.moments()[std::size_t(i)].time);
}

bool ComfortLane::event(QEvent* event) {
    if (event->type() != QEvent::ToolTip) return QWidget::event(event);
    const auto* help = static_cast<QHelpEvent*>(event);
    QString words =
        "How far disparity reaches at each measured moment; the band is the comfort budget, the line "
        "where both eyes converge. Click to go there.";
    if (const int i = under(help->pos()); i >= 0 && session_.shot()) {
        const EyeSummary& s = measures_.summaries()[std::size_t(i)];
        words = QString("%1 s: %2° to %3°, %4 % outside; vertical %5 px")
                    .arg(s.time.to_double(), 0, 'f', 2)
                    .arg(s.farthest_deg, 0, 'f', 2)
                    .arg(s.nearest_deg, 0, 'f', 2)
                    .arg(100 * s.outside, 0, 'f', 1)
                    .arg(s.vertical_px, 0, 'f', 2);
    }
    QToolTip::showText(help->globalPos(), words, this);
    return true;
}

} // namespace porb::app
