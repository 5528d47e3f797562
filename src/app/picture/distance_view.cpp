#include "app/picture/distance_view.h"

#include "app/widgets/theme.h"
#include "base/parallel.h"
#include "stitch/plan/plan_lens.h"

#include <QPainter>

#include <algorithm>
#include <array>
#include <cmath>

namespace porb::app {

namespace {

constexpr double kPictureShows = 0.3; ///< of the picture through the colours
constexpr double kStep = 1.2, kPlain = 0.6;
constexpr int kHatch = 7; ///< pixels from line to line
constexpr int kStepWidth = 720;

Vec2 place_in(const Region& r, const QImage& image, int x, int y) {
    return {r.x + (x + 0.5) * r.width / image.width(), r.y + (y + 0.5) * r.height / image.height()};
}

} // namespace

QColor distance_colour(double inverse_m) {
    static constexpr std::array<std::array<int, 3>, 6> kScale = {
        {{253, 231, 37}, {122, 209, 81}, {34, 168, 132}, {42, 120, 142}, {65, 68, 135}, {68, 1, 84}}};
    const double metres = inverse_m > 1 / kFarthestShown_m ? 1 / inverse_m : kFarthestShown_m;
    const double at =
        std::clamp(std::log(metres / kNearestShown_m) / std::log(kFarthestShown_m / kNearestShown_m), 0.0,
                   1.0) *
        double(kScale.size() - 1);
    const auto i = std::min(std::size_t(at), kScale.size() - 2);
    const double f = at - double(i);
    const auto mix = [&](std::size_t c) {
        return int(std::lround((1 - f) * kScale[i][c] + f * kScale[i + 1][c]));
    };
    return {mix(0), mix(1), mix(2)};
}

QString distance_text(double inverse_m) {
    if (inverse_m < 1e-3) return "far";
    const double metres = 1 / inverse_m;
    return QString("%1 m").arg(metres, 0, 'f', metres < 10 ? 2 : metres < 100 ? 1 : 0);
}

void tint_by_distance(QImage& picture, const View& view, const FoundDistances& found) {
    const TargetMap map(view.target);
    const Region r = whole_region(view);
    parallel_ranges(picture.height(), 8, [&](int begin, int end) {
        for (int y = begin; y < end; ++y) {
            auto* line = reinterpret_cast<QRgb*>(picture.scanLine(y));
            for (int x = 0; x < picture.width(); ++x) {
                if (qAlpha(line[x]) == 0) continue;
                const auto d = map.direction(place_in(r, picture, x, y));
                if (!d) continue;
                const double trust = found.trust_at(*d);
                if (trust < 0) { // the picture, grey and dim
                    const int grey = int(qGray(line[x]) * kPlain);
                    line[x] = qRgb(grey, grey, grey);
                    continue;
                }
                QColor tint = distance_colour(found.inverse_at(*d));
                if (trust < kTrusted && (x + y) % kHatch < 2) {
                    tint = tint.darker(190);
                }
                const double light = qGray(line[x]) * kPictureShows;
                const auto mix = [&](int c) { return std::min(255, int((1 - kPictureShows) * c + light)); };
                line[x] = qRgb(mix(tint.red()), mix(tint.green()), mix(tint.blue()));
            }
        }
    });
}

QImage distance_steps(const View& view, const FoundDistances& found) {
    const TargetMap map(view.target);
    const Region r = whole_region(view);
    const int width = std::min(kStepWidth, std::max(1, r.width));
    QImage out(width, std::max(1, width * r.height / std::max(1, r.width)),
               QImage::Format_ARGB32_Premultiplied);
    out.fill(Qt::transparent);
    std::vector<float> inverse(std::size_t(out.width()) * std::size_t(out.height()), -1.0f);
    parallel_ranges(out.height(), 8, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < out.width(); ++x)
                if (const auto d = map.direction(place_in(r, out, x, y)))
                    inverse[std::size_t(y) * std::size_t(out.width()) + std::size_t(x)] =
                        float(found.inverse_at(*d));
    });
    const float least = float(1 / kFarthestShown_m); // what is further is as good as there
    const auto at = [&](int x, int y) {
        return std::max(least, inverse[std::size_t(y) * std::size_t(out.width()) + std::size_t(x)]);
    };
    for (int y = 0; y + 1 < out.height(); ++y)
        for (int x = 0; x + 1 < out.width(); ++x) {
            const float here = at(x, y), right = at(x + 1, y), below = at(x, y + 1);
            const float most = std::max({here, right, below}), low = std::min({here, right, below});
            if (most > float(kStep) * low) out.setPixel(x, y, colour::accent.rgb());
        }
    return out;
}

void paint_distance_scale(QPainter& p, const QRectF& within) {
    static constexpr std::array<double, 7> kMarks_m = {0.5, 1, 2, 5, 10, 20, 50};
    constexpr double kWidth = 300, kHeight = 54;
    const QRectF box(within.left() + 10, within.bottom() - kHeight - 10, kWidth, kHeight);
    p.save();
    p.setPen(Qt::NoPen);
    p.setBrush(QColor(0x1d, 0x1d, 0x1d, 215));
    p.drawRoundedRect(box, 4, 4);
    const QRectF bar(box.left() + 12, box.top() + 8, box.width() - 24, 10);
    const auto place = [&](double metres) {
        return bar.left() + bar.width() * std::log(metres / kNearestShown_m) /
                                std::log(kFarthestShown_m / kNearestShown_m);
    };
    for (int x = 0; x < int(bar.width()); ++x) {
        const double metres = kNearestShown_m * std::pow(kFarthestShown_m / kNearestShown_m, x / bar.width());
        p.fillRect(QRectF(bar.left() + x, bar.top(), 1.5, bar.height()), distance_colour(1 / metres));
    }
    QFont small = p.font();
    small.setPointSizeF(small.pointSizeF() * 0.85);
    p.setFont(small);
    p.setPen(colour::text);
    for (const double m : kMarks_m) {
        const double x = place(m);
        p.drawLine(QPointF(x, bar.bottom()), QPointF(x, bar.bottom() + 3));
        const QString text = m == kMarks_m.back() ? QString("50 m") : QString::number(m);
        const double w = p.fontMetrics().horizontalAdvance(text);
        p.drawText(QPointF(std::clamp(x - w / 2, box.left() + 4, box.right() - w - 4), bar.bottom() + 14),
                   text);
    }
    p.setPen(colour::muted);
    p.drawText(QPointF(bar.left(), box.bottom() - 5), "hatched: not trusted    grey: at the agree distance");
    p.restore();
}

} // namespace porb::app
