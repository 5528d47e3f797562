#include "app/stations/depth/disparity_plot.h"

#include "app/widgets/plot_ground.h"

#include <QPainter>

#include <algorithm>

namespace porb::app {

namespace {
constexpr int kPlotHeight = 92, kWords = 16, kBins = 48;
}

DisparityPlot::DisparityPlot(QWidget* parent) : QWidget(parent) {
    setObjectName("disparity_plot");
    setFixedHeight(kPlotHeight);
    setToolTip(
        "Horizontal disparity at the measured moment nearest to the playhead: near at the right. The band is "
        "the comfort budget, the line where both eyes converge");
}

void DisparityPlot::show_moment(const EyeMoment* moment, const ComfortBudget& budget) {
    degrees_.clear();
    if (moment)
        for (const EyePlace& p : moment->places) degrees_.push_back(p.horizontal_deg);
    budget_ = budget;
    update();
}

void DisparityPlot::paintEvent(QPaintEvent*) {
    QPainter p(this);
    begin_plot(p, *this);
    if (degrees_.empty()) {
        p.setPen(colour::muted);
        p.drawText(rect(), Qt::AlignCenter, "not measured");
        return;
    }
    std::vector<float> sorted = degrees_;
    std::sort(sorted.begin(), sorted.end());
    const auto at_share = [&](double share) {
        return double(sorted[std::size_t(share * double(sorted.size() - 1))]);
    };
    const double low = std::min(-budget_.far_deg, at_share(0.005)) - 0.3,
                 high = std::max(budget_.near_deg, at_share(0.995)) + 0.3;
    const auto x_of = [&](double deg) { return (deg - low) / (high - low) * width(); };
    const int floor = height() - kWords;
    p.fillRect(QRectF(x_of(-budget_.far_deg), 0, x_of(budget_.near_deg) - x_of(-budget_.far_deg), floor),
               QColor(colour::good.red(), colour::good.green(), colour::good.blue(), 40));
    int counts[kBins] = {};
    for (const float d : degrees_)
        ++counts[std::clamp(int((double(d) - low) / (high - low) * kBins), 0, kBins - 1)];
    const int most = *std::max_element(counts, counts + kBins);
    const double w = double(width()) / kBins;
    p.setPen(Qt::NoPen);
    for (int i = 0; i < kBins; ++i) {
        if (counts[i] == 0) continue;
        const double middle = low + (i + 0.5) / kBins * (high - low);
        const bool outside = middle > budget_.near_deg || middle < -budget_.far_deg;
        p.setBrush(outside ? colour::care : colour::good);
        const double h = std::max(2.0, std::sqrt(double(counts[i]) / most) * (floor - 6));
        p.drawRect(QRectF(i * w + 0.5, floor - h, w - 1, h));
    }
    p.setPen(QPen(colour::text, 1));
    p.drawLine(QPointF(x_of(0), 0), QPointF(x_of(0), floor));
    p.setPen(colour::muted);
    const QRectF words(4, floor, width() - 8, kWords);
    p.drawText(words, Qt::AlignVCenter | Qt::AlignLeft, QString("far %1°").arg(at_share(0.01), 0, 'f', 2));
    p.drawText(words, Qt::AlignVCenter | Qt::AlignRight, QString("near %1°").arg(at_share(0.99), 0, 'f', 2));
}

} // namespace porb::app
