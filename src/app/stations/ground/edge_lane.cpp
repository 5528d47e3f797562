#include "app/stations/ground/edge_lane.h"

#include "app/widgets/plot_ground.h"

#include <QHelpEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QToolTip>

namespace porb::app {

namespace {
constexpr int kHeight = 32, kPad = 4;
constexpr double kSeenStep = 0.005, kUnder = 8;
} // namespace

EdgeLane::EdgeLane(Session& session, EdgePart& edge, PatchChoice& choice, TimeRuler& ruler, QWidget* parent)
    : QWidget(parent), session_(session), edge_(edge), ruler_(ruler) {
    setObjectName("edge_lane");
    setFixedHeight(kHeight);
    connect(&edge_, &EdgePart::measured, this, [this] { update(); });
    connect(&choice, &PatchChoice::changed, this, [this] { update(); });
    connect(&ruler_, &TimeRuler::view_changed, this, [this] { update(); });
}

int EdgeLane::under(const QPointF& at) const {
    int best = -1;
    double nearest = kUnder;
    const auto& steps = edge_.steps();
    for (int i = 0; i < int(steps.size()); ++i)
        if (const double d = std::abs(ruler_.x_of(steps[std::size_t(i)].time.to_double()) - at.x());
            d <= nearest)
            nearest = d, best = i;
    return best;
}

void EdgeLane::paintEvent(QPaintEvent*) {
    QPainter p(this);
    begin_plot(p, *this);
    const auto& steps = edge_.steps();
    if (steps.empty()) {
        p.setPen(colour::muted);
        p.drawText(rect().adjusted(8, 0, -8, 0), Qt::AlignVCenter | Qt::AlignLeft,
                   "Edge of the patch: not measured as it is now");
        return;
    }
    double most = 2 * kSeenStep;
    for (const EdgeStep& s : steps) most = std::max(most, s.worst);
    const auto y_of = [&](double v) { return kHeight - kPad - v / most * (kHeight - 2 * kPad); };
    p.fillRect(QRectF(0, y_of(kSeenStep), width(), y_of(0) - y_of(kSeenStep)),
               QColor(colour::good.red(), colour::good.green(), colour::good.blue(), 40));
    QPolygonF line;
    for (const EdgeStep& s : steps) line << QPointF(ruler_.x_of(s.time.to_double()), y_of(s.step));
    p.setPen(QPen(colour::good, 1.6));
    p.drawPolyline(line);
    for (int i = 0; i < line.size(); ++i)
        if (steps[std::size_t(i)].step > kSeenStep) { // pointed, so that colour alone need not tell
            p.setPen(Qt::NoPen);
            p.setBrush(colour::care);
            const QPointF at = line[i];
            p.drawPolygon(QPolygonF({at + QPointF(0, -4), at + QPointF(4, 3), at + QPointF(-4, 3)}));
        }
    p.setPen(QPen(colour::text, 1));
    const double x = ruler_.x_of(session_.playhead().to_double());
    p.drawLine(QPointF(x, 0), QPointF(x, height()));
}

void EdgeLane::mousePressEvent(QMouseEvent* event) {
    if (const int i = under(event->position()); i >= 0)
        session_.set_playhead(edge_.steps()[std::size_t(i)].time);
}

bool EdgeLane::event(QEvent* event) {
    if (event->type() != QEvent::ToolTip) return QWidget::event(event);
    const auto* help = static_cast<QHelpEvent*>(event);
    QString words =
        "How far patch and footage differ along the patch's edge; within the band nobody sees it. Click to "
        "go there.";
    if (const int i = under(help->pos()); i >= 0) {
        const EdgeStep& s = edge_.steps()[std::size_t(i)];
        words = QString("%1 s: %2 % of full scale, 95 % under %3 %")
                    .arg(s.time.to_double(), 0, 'f', 2)
                    .arg(100 * s.step, 0, 'f', 2)
                    .arg(100 * s.worst, 0, 'f', 2);
    }
    QToolTip::showText(help->globalPos(), words, this);
    return true;
}

} // namespace porb::app
