#include "app/stations/seams/crossing_lane.h"

#include "app/widgets/plot_ground.h"

#include "project/project.h"

#include <QHelpEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QToolTip>

namespace porb::app {

namespace {
constexpr int kRows = 3, kRowHeight = 8, kTop = 4;
constexpr double kLeastWidth = 8;
} // namespace

CrossingLane::CrossingLane(Session& session, TimeRuler& ruler, QWidget* parent)
    : QWidget(parent), session_(session), ruler_(ruler) {
    setObjectName("crossing_lane");
    setFixedHeight(2 * kTop + kRows * kRowHeight);
    connect(&session_, &Session::project_changed, this, [this] { update(); });
    connect(&session_, &Session::playhead_changed, this, [this] { update(); });
    connect(&ruler_, &TimeRuler::view_changed, this, [this] { update(); });
}

std::vector<CrossingLane::Mark> CrossingLane::marks() const {
    std::vector<Mark> out;
    const Shot* shot = session_.shot();
    if (!shot || !shot->seams.crossings) return out;
    double free_from[kRows] = {};
    for (double& f : free_from) f = -1e9;
    const auto& list = (*shot->seams.crossings)->crossings;
    for (int i = 0; i < int(list.size()); ++i) {
        const double left = ruler_.x_of(list[std::size_t(i)].from.to_double()),
                     right = std::max(left + kLeastWidth, ruler_.x_of(list[std::size_t(i)].to.to_double()));
        int row = 0; // the first that is free; the last one holds what finds none
        while (row + 1 < kRows && free_from[row] > left) ++row;
        free_from[row] = right + 2;
        out.push_back({i, QRectF(left, kTop + row * kRowHeight + 1, right - left, kRowHeight - 2)});
    }
    return out;
}

int CrossingLane::under(const QPointF& at) const {
    int best = -1;
    for (const Mark& m : marks())
        if (m.bar.adjusted(-3, -2, 3, 2).contains(at)) best = m.index;
    return best;
}

void CrossingLane::paintEvent(QPaintEvent*) {
    QPainter p(this);
    begin_plot(p, *this);
    const Shot* shot = session_.shot();
    if (!shot || !shot->seams.crossings) {
        p.setPen(colour::muted);
        p.drawText(rect().adjusted(8, 0, -8, 0), Qt::AlignVCenter | Qt::AlignLeft,
                   "Crossings: not looked for yet");
        return;
    }
    const auto& list = (*shot->seams.crossings)->crossings;
    for (const Mark& m : marks()) {
        const Crossing& c = list[std::size_t(m.index)];
        const bool open = is_open(c);
        p.setPen(Qt::NoPen);
        p.setBrush(c.dismissed ? colour::faint : open ? colour::care : colour::good);
        if (open) { // pointed at both ends
            const double h = m.bar.height() / 2;
            p.drawPolygon(QPolygonF({{m.bar.left() - h, m.bar.center().y()},
                                     m.bar.topLeft(),
                                     m.bar.topRight(),
                                     {m.bar.right() + h, m.bar.center().y()},
                                     m.bar.bottomRight(),
                                     m.bar.bottomLeft()}));
        } else
            p.drawRoundedRect(m.bar.adjusted(0, 1, 0, -1), 2, 2);
    }
    p.setPen(QPen(colour::text, 1));
    const double x = ruler_.x_of(session_.playhead().to_double());
    p.drawLine(QPointF(x, 0), QPointF(x, height()));
}

void CrossingLane::mousePressEvent(QMouseEvent* event) {
    if (const int i = under(event->position()); i >= 0) emit chosen(i);
}

bool CrossingLane::event(QEvent* event) {
    if (event->type() != QEvent::ToolTip) return QWidget::event(event);
    const auto* help = static_cast<QHelpEvent*>(event);
    QString words = "Subjects that pass a seam. Pointed: open; round: closed. Click to go there.";
    const Shot* shot = session_.shot();
    if (const int i = under(help->pos()); i >= 0 && shot && shot->seams.crossings) {
        const Crossing& c = (*shot->seams.crossings)->crossings[std::size_t(i)];
        words = QString("%1 – %2, %3 to %4 s: %5 px show, %6 px torn")
                    .arg(QString::fromStdString(c.a), QString::fromStdString(c.b))
                    .arg(c.from.to_double(), 0, 'f', 2)
                    .arg(c.to.to_double(), 0, 'f', 2)
                    .arg(c.visible_parallax_px, 0, 'f', 0)
                    .arg(c.torn_px, 0, 'f', 0);
    }
    QToolTip::showText(help->globalPos(), words, this);
    return true;
}

} // namespace porb::app
