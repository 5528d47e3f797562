#include "app/stations/points/residual_lane.h"

#include "app/widgets/plot_ground.h"

#include "project/span.h"
#include "solve/stitch_error.h"

#include <QHelpEvent>
#include <QPainter>
#include <QToolTip>

namespace porb::app {

namespace {
constexpr int kMoments = 41, kLanesKept = 6, kWaitMs = 1200;
}

ResidualLane::ResidualLane(Session& session, TimeRuler& ruler, QWidget* parent)
    : QWidget(parent), session_(session), ruler_(ruler),
      library_(std::make_shared<MediaLibrary>(session.library()->bound())) {
    setObjectName("residual_lane");
    setFixedHeight(30);
    wait_.setSingleShot(true);
    wait_.setInterval(kWaitMs);
    connect(&wait_, &QTimer::timeout, this, &ResidualLane::measure);
    connect(&session_, &Session::project_changed, this, &ResidualLane::changed);
    connect(&session_, &Session::playhead_changed, this, [this] { update(); });
    connect(&ruler_, &TimeRuler::view_changed, this, [this] { update(); });
    connect(&job_, &BackgroundJob::ended, this, [this] { update(); });
}

ResidualLane::Lane* ResidualLane::lane() {
    const Shot* shot = session_.shot();
    if (!shot) return nullptr;
    for (auto& l : lanes_)
        if (l.shot == shot->id && l.rig == shot->rig) return &l;
    if (lanes_.size() >= kLanesKept) lanes_.erase(lanes_.begin());
    lanes_.push_back({shot->rig, shot->id, {}});
    return &lanes_.back();
}

int ResidualLane::measured() const {
    const Shot* shot = session_.shot();
    for (const auto& l : lanes_)
        if (shot && l.shot == shot->id && l.rig == shot->rig) return int(l.at.size());
    return 0;
}

void ResidualLane::changed() {
    update();
    if (!isVisible()) return;
    job_.stop();
    wait_.start();
}

void ResidualLane::showEvent(QShowEvent* event) {
    QWidget::showEvent(event);
    changed();
}

void ResidualLane::measure() {
    const Shot* shot = session_.shot();
    if (!shot || !isVisible()) return;
    if (job_.is_running()) return wait_.start();
    const Span span = used_span(*session_.project(), *shot, *session_.library());
    if (span.empty() || shot->rig.cameras.size() < 2) return;
    // Ends first, then halves of what is still open: the whole shot is seen soon, if coarsely.
    const auto first = frame_index(span.in, shot->timing.rate),
               last = std::max(first, frame_before(span.out, shot->timing.rate));
    std::vector<Seconds> moments;
    for (int step = kMoments - 1; step >= 1; step /= 2)
        for (int i = 0; i < kMoments; i += step) {
            const Seconds t = frame_time(first + (last - first) * i / (kMoments - 1), shot->timing.rate);
            if (std::find(moments.begin(), moments.end(), t) == moments.end()) moments.push_back(t);
        }
    const Lane* known = lane();
    std::erase_if(moments, [&](Seconds t) { return known->at.contains(t); });
    if (moments.empty()) return;
    job_.start(
        [this, moments, project = session_.project(), id = shot->id, rig = shot->rig,
         library = library_](const BackgroundJob::Tell&, const Cancel& cancel) -> BackgroundJob::Finish {
            const Shot& s = *find_shot(*project, id);
            for (const Seconds t : moments) {
                cancel.check();
                std::optional<Rms> rms;
                try {
                    rms = stitch_error(*project, s, t, *library, cancel);
                } catch (const Cancelled&) {
                    throw;
                } catch (const std::exception&) {
                    rms.reset(); // what is wrong with a source is said where it is used
                }
                QMetaObject::invokeMethod(
                    this,
                    [this, t, rms, id, rig] {
                        for (auto& l : lanes_)
                            if (l.shot == id && l.rig == rig) l.at[t] = rms;
                        update();
                    },
                    Qt::QueuedConnection);
            }
            return {};
        });
}

void ResidualLane::paintEvent(QPaintEvent*) {
    QPainter p(this);
    begin_plot(p, *this);
    if (const Shot* shot =
            session_.shot()) { // where samples are, as far as that is known without reading pictures
        std::vector<double> ticks;
        for (const auto& t : shot->calibration.solving.by_hand) ticks.push_back(t.to_double());
        const Seconds end = std::min(session_.length(), shot->timing.out.value_or(session_.length()));
        if (ticks.empty() && shot->calibration.solving.pick == SamplePick::even)
            for (int i = 0; i < shot->calibration.solving.samples; ++i) {
                const double last = (end - Rational(1) / shot->timing.rate).to_double(),
                             first = std::min(shot->timing.in.to_double(), last);
                ticks.push_back(first +
                                (last - first) * (shot->calibration.solving.samples > 1
                                                      ? double(i) / (shot->calibration.solving.samples - 1)
                                                      : 0.5));
            }
        p.setPen(QPen(colour::accent, 1.4));
        for (const double t : ticks) p.drawLine(QPointF(ruler_.x_of(t), 0), QPointF(ruler_.x_of(t), 6));
    }
    const Lane* l = session_.shot() ? lane() : nullptr;
    p.setPen(colour::muted);
    if (!l || l->at.empty()) {
        p.drawText(rect().adjusted(8, 0, -8, 0), Qt::AlignVCenter | Qt::AlignLeft,
                   job_.is_running() ? "Stitch error over the shot: measuring…"
                                     : "Stitch error over the shot");
        return;
    }
    double top = 0.5;
    for (const auto& [t, rms] : l->at)
        if (rms) top = std::max(top, rms->px);
    const double usual = [&] {
        std::vector<double> all;
        for (const auto& [t, rms] : l->at)
            if (rms) all.push_back(rms->px);
        if (all.empty()) return 0.0;
        std::nth_element(all.begin(), all.begin() + std::ptrdiff_t(all.size() / 2), all.end());
        return all[all.size() / 2];
    }();
    QPolygonF line;
    for (const auto& [t, rms] : l->at) {
        if (!rms) continue;
        const QPointF at(ruler_.x_of(t.to_double()), height() - 4 - (height() - 10) * rms->px / top);
        line << at;
    }
    p.setPen(QPen(colour::good, 1.4));
    p.drawPolyline(line);
    for (const auto& [t, rms] : l->at) {
        if (!rms) continue;
        const bool odd = rms->px > 2 * usual + 0.15;
        const QPointF at(ruler_.x_of(t.to_double()), height() - 4 - (height() - 10) * rms->px / top);
        p.setPen(Qt::NoPen);
        p.setBrush(odd ? colour::care : colour::good);
        if (odd)
            p.drawPolygon(QPolygonF({at + QPointF(0, -4), at + QPointF(4, 3), at + QPointF(-4, 3)}));
        else
            p.drawEllipse(at, 1.8, 1.8);
    }
    const QString words =
        QString("stitch error  %1 px%2").arg(usual, 0, 'f', 2).arg(job_.is_running() ? "  measuring…" : "");
    const QRectF box(width() - p.fontMetrics().horizontalAdvance(words) - 12, 2,
                     p.fontMetrics().horizontalAdvance(words) + 8, 14);
    p.fillRect(box, QColor(0x24, 0x24, 0x24, 210));
    p.setPen(colour::muted);
    p.drawText(box, Qt::AlignCenter, words);
}

bool ResidualLane::event(QEvent* event) {
    if (event->type() == QEvent::ToolTip) {
        const auto* help = static_cast<QHelpEvent*>(event);
        QString words = "How well the rig closes in the overlaps, measured at moments all over the shot.";
        if (const Lane* l = session_.shot() ? lane() : nullptr)
            for (const auto& [t, rms] : l->at)
                if (rms && std::abs(ruler_.x_of(t.to_double()) - help->pos().x()) < 6)
                    words = QString("%1: %2 px, %3 arcmin")
                                .arg(time_text(t))
                                .arg(rms->px, 0, 'f', 2)
                                .arg(rms->arcmin, 0, 'f', 2);
        QToolTip::showText(help->globalPos(), words, this);
        return true;
    }
    return QWidget::event(event);
}

} // namespace porb::app
