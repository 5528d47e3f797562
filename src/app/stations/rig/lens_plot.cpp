#include "app/stations/rig/lens_plot.h"

#include "app/widgets/theme.h"
#include "base/angle.h"

#include <QPainter>

namespace porb::app {

LensPlot::LensPlot(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setObjectName("lens_plot");
    setAccessibleName("Radius against angle");
    setFixedHeight(116);
    setToolTip("Radius against angle from the axis: this lens, and the ideal of its kind (dashed).\nBelow: "
               "the departure from it in pixels.");
    connect(&session_, &Session::project_changed, this, qOverload<>(&QWidget::update));
    connect(&session_, &Session::selection_changed, this, qOverload<>(&QWidget::update));
}

void LensPlot::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.fillRect(rect(), colour::field);
    p.setRenderHint(QPainter::Antialiasing);
    const Shot* shot = session_.shot();
    const Camera* c = shot ? find_camera(shot->rig, session_.selected_camera()) : nullptr;
    if (!c || fault_in(c->lens)) return;
    const LensMap map(c->lens);
    Lens ideal = c->lens;
    ideal.radial = {};
    ideal.non_radial = {};
    const bool has_ideal = !fault_in(ideal);
    const LensMap ideal_map(has_ideal ? ideal : c->lens);
    const double end = map.theta_max(),
                 most = std::max(map.radius(end), has_ideal ? ideal_map.radius(end) : 0.0);
    constexpr int kSteps = 120;
    double worst = 0, worst_at = 0;
    for (int i = 0; i <= kSteps; ++i) {
        const double t = end * i / kSteps, d = map.radius(t) - ideal_map.radius(t);
        if (std::abs(d) > std::abs(worst)) worst = d, worst_at = t;
    }
    const QRectF upper(34, 6, width() - 44, 62), lower(34, 74, width() - 44, 24);
    p.setPen(QPen(colour::line, 1));
    p.drawRect(upper);
    p.drawLine(lower.left(), lower.center().y(), lower.right(), lower.center().y());
    QPolygonF line, straight, apart;
    for (int i = 0; i <= kSteps; ++i) {
        const double t = end * i / kSteps, x = upper.left() + upper.width() * i / kSteps;
        line << QPointF(x, upper.bottom() - upper.height() * map.radius(t) / most);
        straight << QPointF(x, upper.bottom() - upper.height() * ideal_map.radius(t) / most);
        const double d = std::abs(worst) > 0 ? (map.radius(t) - ideal_map.radius(t)) / std::abs(worst) : 0;
        apart << QPointF(x, lower.center().y() - 0.5 * lower.height() * d);
    }
    p.setPen(QPen(colour::muted, 1, Qt::DashLine));
    p.drawPolyline(straight);
    int index = 0;
    for (std::size_t i = 0; i < shot->rig.cameras.size(); ++i)
        if (shot->rig.cameras[i].id == c->id) index = int(i);
    p.setPen(QPen(colour::lens(index), 1.8));
    p.drawPolyline(line);
    p.setPen(QPen(colour::accent, 1.4));
    p.drawPolyline(apart);
    QFont small = p.font();
    small.setPixelSize(11);
    p.setFont(small);
    p.setPen(colour::muted);
    p.drawText(QRectF(0, upper.top() - 4, 31, 14), Qt::AlignRight | Qt::AlignVCenter,
               QString::number(most, 'f', 0));
    p.drawText(QRectF(0, upper.bottom() - 12, 31, 14), Qt::AlignRight | Qt::AlignVCenter, "px");
    p.drawText(QRectF(0, 98, width() - 8, 13), Qt::AlignRight, QString("%1°").arg(degrees(end), 0, 'f', 1));
    p.drawText(
        QRectF(34, 98, width() - 80, 13), Qt::AlignLeft,
        std::abs(worst) < 0.005
            ? QString("ideal %1").arg(name_of(c->lens.projection))
            : QString("departs by %1 px at %2°").arg(worst, 0, 'f', 2).arg(degrees(worst_at), 0, 'f', 0));
}

} // namespace porb::app
