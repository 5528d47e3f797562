#include "app/stations/points/residual_plot.h"

#include "app/widgets/plot_ground.h"
#include "base/angle.h"
#include "solve/bundle/report.h"
#include "solve/pictures/grey.h"

#include <QPainter>

#include <map>

namespace porb::app {

void ResidualPlot::show(const Shot* shot, const std::vector<PointFit>& fits) {
    residuals_.clear();
    by_angle_.clear();
    pairs_.clear();
    cameras_.clear();
    if (shot) {
        pairs_ = figures_of(shot->rig, *shot->calibration.points, fits).pairs;
        for (const auto& c : shot->rig.cameras) cameras_.push_back(c.id);
        std::map<std::string, std::size_t> number;
        for (std::size_t c = 0; c < cameras_.size(); ++c) number[cameras_[c]] = c;
        std::vector<Eyepiece> eyes;
        for (std::size_t c = 0; c < shot->rig.cameras.size(); ++c) eyes.emplace_back(shot->rig, c, nullptr);
        const std::size_t every = std::max<std::size_t>(1, fits.size() / 3000);
        for (std::size_t i = 0; i < fits.size(); ++i) {
            const ControlPoint& p = (*shot->calibration.points)[i];
            if (!p.dropped.empty()) continue;
            residuals_.push_back(fits[i].residual_px());
            if (i % every) continue;
            const Eyepiece& eye = eyes[number.at(p.a)];
            const Vec2 out = p.a_px - eye.lens.center_px;
            if (const auto d = eye.map.unproject(p.a_px))
                by_angle_.emplace_back(degrees(std::acos(std::clamp(d->z(), -1.0, 1.0))),
                                       fits[i].residual_a.dot(out) / std::max(1e-9, out.norm()));
        }
        std::sort(residuals_.begin(), residuals_.end());
    }
    update();
}

void ResidualPlot::paintEvent(QPaintEvent*) {
    QPainter p(this);
    begin_plot(p, *this);
    if (residuals_.empty()) {
        p.setPen(colour::muted);
        p.drawText(rect(), Qt::AlignCenter, "No points yet");
        return;
    }
    const double third = height() * 0.29;
    // How many points miss by how much.
    const double most = std::max(0.05, residuals_[std::size_t(0.99 * double(residuals_.size() - 1))]);
    constexpr int kBars = 30;
    std::vector<int> bars(kBars, 0);
    for (const double m : residuals_) ++bars[std::size_t(std::min(kBars - 1, int(m / most * kBars)))];
    const int top = *std::max_element(bars.begin(), bars.end());
    const QRectF hist(8, 18, width() - 16, third - 34);
    p.setPen(colour::muted);
    p.drawText(QPointF(8, 13), "points by residual, px");
    for (int i = 0; i < kBars; ++i) {
        const double h = hist.height() * bars[std::size_t(i)] / top;
        p.fillRect(
            QRectF(hist.left() + hist.width() * i / kBars, hist.bottom() - h, hist.width() / kBars - 1, h),
            colour::accent);
    }
    p.drawText(QRectF(hist.left(), hist.bottom() + 1, hist.width(), 13), Qt::AlignLeft, "0");
    p.drawText(QRectF(hist.left(), hist.bottom() + 1, hist.width(), 13), Qt::AlignRight,
               QString::number(most, 'f', 2));
    // Outward or inward against the angle from the axis.
    const QRectF plot(8, third + 18, width() - 16, third - 34);
    p.drawText(QPointF(8, third + 13), "outward residual by angle from the axis");
    double widest = 1, tall = 0.05;
    std::vector<double> sizes;
    for (const auto& [a, m] : by_angle_) widest = std::max(widest, a), sizes.push_back(std::abs(m));
    std::sort(sizes.begin(), sizes.end());
    if (!sizes.empty()) tall = std::max(tall, sizes[std::size_t(0.98 * double(sizes.size() - 1))]);
    p.setPen(colour::line);
    p.drawLine(QPointF(plot.left(), plot.center().y()), QPointF(plot.right(), plot.center().y()));
    p.setPen(Qt::NoPen);
    p.setBrush(colour::good);
    for (const auto& [a, m] : by_angle_)
        if (std::abs(m) <= tall)
            p.drawEllipse(QPointF(plot.left() + a / widest * plot.width(),
                                  plot.center().y() - m / tall * plot.height() / 2),
                          1.1, 1.1);
    p.setPen(colour::muted);
    p.drawText(QRectF(plot.left(), plot.bottom() + 1, plot.width(), 13), Qt::AlignRight,
               QString("%1°").arg(widest, 0, 'f', 0));
    p.drawText(QRectF(plot.left(), plot.bottom() + 1, plot.width(), 13), Qt::AlignLeft,
               QString("±%1 px").arg(tall, 0, 'f', 2));
    // Pair by pair.
    const double n = double(cameras_.size());
    const QRectF grid(26, 2 * third + 30, width() - 34, height() - 2 * third - 36);
    p.drawText(QPointF(8, 2 * third + 13), "RMS of each pair, px");
    const double w = grid.width() / n, h = grid.height() / n;
    for (std::size_t i = 0; i < cameras_.size(); ++i) {
        p.setPen(colour::muted);
        p.drawText(QRectF(grid.left() + double(i) * w, grid.top() - 13, w, 12), Qt::AlignCenter,
                   QString::fromStdString(cameras_[i]));
        p.drawText(QRectF(2, grid.top() + double(i) * h, 22, h), Qt::AlignCenter,
                   QString::fromStdString(cameras_[i]));
    }
    double worst = 1e-9;
    for (const auto& pair : pairs_) worst = std::max(worst, pair.rms_px);
    for (const auto& pair : pairs_)
        for (std::size_t i = 0; i < cameras_.size(); ++i)
            for (std::size_t k = 0; k < cameras_.size(); ++k)
                if ((pair.a == cameras_[i] && pair.b == cameras_[k]) ||
                    (pair.b == cameras_[i] && pair.a == cameras_[k])) {
                    const QRectF cell(grid.left() + double(k) * w, grid.top() + double(i) * h, w - 1, h - 1);
                    QColor c = colour::accent;
                    c.setAlphaF(float(0.15 + 0.5 * pair.rms_px / worst));
                    p.fillRect(cell, c);
                    p.setPen(colour::text);
                    if (w > 24 && h > 10)
                        p.drawText(cell, Qt::AlignCenter, QString::number(pair.rms_px, 'f', 2));
                }
}

} // namespace porb::app
