#include "app/picture/timeline.h"

#include "app/widgets/theme.h"
#include "project/span.h"

#include <QHBoxLayout>
#include <QHelpEvent>
#include <QLabel>
#include <QMouseEvent>
#include <QPainter>
#include <QToolButton>
#include <QToolTip>

namespace porb::app {

namespace {
constexpr double kMargin = 26, kRulerTop = 22, kEndGripPx = 7;
constexpr double kLeastShown = 0.2;
} // namespace

QString time_text(Seconds t) {
    const auto ms = (t * Rational(1000)).round();
    return QString("%1:%2.%3")
        .arg(ms / 60000, 2, 10, QChar('0'))
        .arg(ms / 1000 % 60, 2, 10, QChar('0'))
        .arg(ms % 1000, 3, 10, QChar('0'));
}

TimeRuler::TimeRuler(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setObjectName("time_ruler");
    setMinimumHeight(76);
    setMouseTracking(true);
    setAccessibleName("Timeline");
    connect(&session_, &Session::project_changed, this, qOverload<>(&QWidget::update));
    connect(&session_, &Session::playhead_changed, this, qOverload<>(&QWidget::update));
}

double TimeRuler::in_s() const {
    return session_.shot()
               ? std::clamp(session_.shot()->timing.in.to_double(), 0.0, session_.length().to_double())
               : 0;
}
double TimeRuler::out_s() const {
    const double end = session_.length().to_double();
    return session_.shot() && session_.shot()->timing.out
               ? std::clamp(session_.shot()->timing.out->to_double(), 0.0, end)
               : end;
}

double TimeRuler::x_of(double seconds) const {
    const double all = std::max(1e-6, shown_ > 0 ? shown_ : session_.length().to_double());
    return kMargin + (seconds - first_) / all * (width() - 2 * kMargin);
}
double TimeRuler::seconds_at(double x) const {
    const double all = std::max(1e-6, shown_ > 0 ? shown_ : session_.length().to_double());
    return first_ + (x - kMargin) / std::max(1.0, width() - 2 * kMargin) * all;
}
Seconds TimeRuler::frame_near(double x) const {
    const FrameRate rate = session_.shot() ? session_.shot()->timing.rate : FrameRate(30);
    const double s = std::clamp(seconds_at(x), 0.0, session_.length().to_double());
    return frame_time(std::int64_t(std::llround(s * rate.to_double())), rate);
}

void TimeRuler::zoom(double factor, double about_x) {
    const double length = session_.length().to_double();
    if (length <= 0) return;
    const double at = seconds_at(about_x);
    const double before = shown_ > 0 ? shown_ : length;
    const double after = std::clamp(before / factor, std::min(kLeastShown, length), length);
    shown_ = after >= length ? 0 : after;
    first_ = shown_ > 0 ? std::clamp(at - (at - first_) * after / before, 0.0, length - after) : 0;
    update();
    emit view_changed();
}

void TimeRuler::show_all() {
    shown_ = first_ = 0;
    update();
    emit view_changed();
}

void TimeRuler::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.fillRect(rect(), colour::window);
    const double length = session_.length().to_double();
    if (!session_.shot() || length <= 0) return;
    p.setRenderHint(QPainter::Antialiasing);
    p.setClipRect(QRectF(0, 0, width(), height()));
    // Ticks at the finest of these steps that keeps labels apart.
    const double per_second = (width() - 2 * kMargin) / (shown_ > 0 ? shown_ : length);
    double step = 600;
    for (const double s : {0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 30.0, 60.0, 120.0, 300.0})
        if (s * per_second > 70) {
            step = s;
            break;
        }
    for (double t = std::floor(first_ / step) * step; t <= first_ + (shown_ > 0 ? shown_ : length) + 1e-9;
         t += step) {
        const double x = x_of(t);
        p.setPen(colour::line);
        p.drawLine(QPointF(x, 14), QPointF(x, kRulerTop));
        p.setPen(colour::muted);
        p.drawText(QRectF(x - 40, 0, 80, 14), Qt::AlignCenter,
                   step < 1 ? QString::number(t, 'f', 1) + " s" : QString::number(t, 'f', 0) + " s");
    }
    // The used part is lighter; sources are thin bars under it.
    const QRectF track(x_of(0), kRulerTop, x_of(length) - x_of(0), height() - kRulerTop - 6);
    p.setPen(Qt::NoPen);
    p.setBrush(colour::field);
    p.drawRoundedRect(track, 3, 3);
    const QRectF used(x_of(in_s()), kRulerTop, x_of(out_s()) - x_of(in_s()), track.height());
    p.setBrush(QColor(0x43, 0x47, 0x48));
    p.drawRect(used);
    const Shot& shot = *session_.shot();
    const double lane =
        std::min(9.0, (track.height() - 8) / std::max<double>(1, double(shot.cameras.size())));
    for (std::size_t i = 0; i < shot.cameras.size(); ++i) {
        const ShotCamera& c = shot.cameras[i];
        if (c.media.empty()) continue;
        const double begin = std::max(0.0, shot_time(c, Seconds(0)).to_double());
        QColor bar = colour::lens(int(i));
        bar.setAlpha(c.used ? 190 : 60);
        p.setBrush(bar);
        p.drawRect(QRectF(x_of(begin), kRulerTop + 4 + lane * double(i), x_of(length) - x_of(begin),
                          std::max(1.5, lane - 2.5)));
    }
    for (const bool is_in : {true, false}) {
        const double x = x_of(is_in ? in_s() : out_s());
        const double d = is_in ? 7 : -7;
        p.setBrush(colour::text);
        p.drawPolygon(QPolygonF({{x, kRulerTop - 2}, {x + d, kRulerTop - 2}, {x, kRulerTop + 9}}));
        p.drawPolygon(
            QPolygonF({{x, track.bottom() + 2}, {x + d, track.bottom() + 2}, {x, track.bottom() - 9}}));
        p.setPen(QPen(colour::text, 1.5));
        p.drawLine(QPointF(x, kRulerTop - 2), QPointF(x, track.bottom() + 2));
        p.setPen(Qt::NoPen);
    }
    for (const auto& m : shot.timing.markers) { // a kite on the lower edge, with its name
        const double at = x_of(m.time.to_double()), foot = height() - 2.0;
        p.setPen(QPen(colour::care, 1));
        p.drawLine(QPointF(at, kRulerTop + 2), QPointF(at, foot - 12));
        p.setBrush(colour::care);
        p.drawPolygon(QPolygonF({{at, foot - 12}, {at + 5, foot - 6}, {at, foot}, {at - 5, foot - 6}}));
        p.setPen(colour::text);
        p.drawText(QRectF(at + 8, foot - 14, 120, 14), Qt::AlignVCenter, QString::fromStdString(m.name));
        p.setPen(Qt::NoPen);
    }
    const double x = x_of(session_.playhead().to_double());
    p.setPen(QPen(colour::accent, 1.6));
    p.drawLine(QPointF(x, kRulerTop - 3), QPointF(x, height()));
    p.setPen(Qt::NoPen);
    p.setBrush(colour::accent);
    p.drawEllipse(QPointF(x, kRulerTop - 3), 4.5, 4.5);
    if (hover_x_ >= 0 && grip_ == Grip::none) {
        p.setPen(QPen(QColor(255, 255, 255, 50), 1));
        p.drawLine(QPointF(hover_x_, kRulerTop), QPointF(hover_x_, track.bottom()));
    }
}

TimeRuler::Grip TimeRuler::grip_near(const QPointF& at) const {
    if (at.y() > kRulerTop - 4) {
        if (std::abs(at.x() - x_of(in_s())) < kEndGripPx) return Grip::in;
        if (std::abs(at.x() - x_of(out_s())) < kEndGripPx) return Grip::out;
    }
    return Grip::playhead;
}

void TimeRuler::mousePressEvent(QMouseEvent* event) {
    if (!session_.shot()) return;
    grip_ = event->button() == Qt::MiddleButton ? Grip::pan : grip_near(event->position());
    if (const int m = marker_near(event->position()); m >= 0 && event->button() == Qt::LeftButton) {
        grip_ = Grip::marker;
        held_ = session_.shot()->timing.markers[std::size_t(m)];
        session_.set_playhead(held_.time);
        return;
    }
    pan_x_ = event->position().x();
    mouseMoveEvent(event);
}

void TimeRuler::mouseMoveEvent(QMouseEvent* event) {
    hover_x_ = event->position().x();
    if (!session_.shot()) return;
    const Seconds t = frame_near(event->position().x());
    const Seconds frame = Rational(1) / session_.shot()->timing.rate;
    switch (grip_) {
    case Grip::none: {
        const Grip over = grip_near(event->position());
        setCursor(over == Grip::in || over == Grip::out ? Qt::SizeHorCursor : Qt::ArrowCursor);
        break;
    }
    case Grip::playhead:
        emit scrubbed();
        session_.set_playhead(t);
        break;
    case Grip::in:
        session_.edit_shot(
            "Set in",
            [&](Shot& s) {
                s.timing.in =
                    std::clamp(t, Seconds(0), (s.timing.out ? *s.timing.out : session_.length()) - frame);
            },
            "drag-in");
        break;
    case Grip::out:
        session_.edit_shot(
            "Set out",
            [&](Shot& s) {
                s.timing.out = std::max(t, s.timing.in + frame);
                if (*s.timing.out >= session_.length()) s.timing.out.reset();
            },
            "drag-out");
        break;
    case Grip::pan: {
        const double length = session_.length().to_double();
        if (shown_ > 0)
            first_ = std::clamp(first_ - (seconds_at(event->position().x()) - seconds_at(pan_x_)), 0.0,
                                length - shown_);
        pan_x_ = event->position().x();
        emit view_changed();
        break;
    }
    case Grip::marker:
        session_.edit_shot(
            "Move a marker",
            [&](Shot& s) {
                for (auto& m : s.timing.markers)
                    if (m == held_) {
                        m.time = t;
                        held_ = m;
                        break;
                    }
                std::stable_sort(s.timing.markers.begin(), s.timing.markers.end(),
                                 [](const Marker& a, const Marker& b) { return a.time < b.time; });
            },
            "drag-marker");
        break;
    }
    update();
}

void TimeRuler::mouseReleaseEvent(QMouseEvent*) {
    if (grip_ == Grip::in || grip_ == Grip::out || grip_ == Grip::marker) session_.end_drag();
    grip_ = Grip::none;
}

int TimeRuler::marker_near(const QPointF& at) const {
    const Shot* shot = session_.shot();
    if (!shot || at.y() < height() - 16) return -1;
    for (std::size_t i = 0; i < shot->timing.markers.size(); ++i)
        if (std::abs(x_of(shot->timing.markers[i].time.to_double()) - at.x()) < kEndGripPx) return int(i);
    return -1;
}

void TimeRuler::mouseDoubleClickEvent(QMouseEvent* event) {
    if (const int m = marker_near(event->position()); m >= 0) emit marker_wanted(m);
}

bool TimeRuler::event(QEvent* event) {
    if (event->type() == QEvent::ToolTip) {
        auto* help = static_cast<QHelpEvent*>(event);
        const int m = marker_near(help->pos());
        if (m < 0) {
            QToolTip::hideText();
        } else {
            const Marker& marker = session_.shot()->timing.markers[std::size_t(m)];
            QToolTip::showText(help->globalPos(),
                               QString("%1 at %2\n%3")
                                   .arg(QString::fromStdString(marker.name), time_text(marker.time),
                                        QString::fromStdString(marker.note))
                                   .trimmed());
        }
        return true;
    }
    return QWidget::event(event);
}

void TimeRuler::wheelEvent(QWheelEvent* event) {
    zoom(std::pow(1.25, event->angleDelta().y() / 120.0), event->position().x());
    event->accept();
}

void TimeRuler::leaveEvent(QEvent*) {
    hover_x_ = -1;
    update();
}

Timeline::Timeline(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setObjectName("timeline");
    setFixedHeight(96);
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(10, 4, 4, 4);
    auto* left = new QVBoxLayout;
    left->setSpacing(3);
    time_ = new QLabel("00:00.000");
    time_->setObjectName("time_label");
    time_->setProperty("role", "figure");
    frame_ = new QLabel;
    frame_->setProperty("role", "hint");
    used_ = new QLabel;
    used_->setProperty("role", "hint");
    auto* buttons = new QHBoxLayout;
    buttons->setSpacing(3);
    const auto button = [&](const char* picture, const char* name, const QString& tip) {
        auto* b = new QToolButton;
        b->setObjectName(name);
        b->setIcon(icon(picture));
        b->setToolTip(tip);
        b->setAccessibleName(tip);
        b->setIconSize({18, 18});
        buttons->addWidget(b);
        return b;
    };
    connect(button("in", "set_in", "Set in here (I)"), &QToolButton::clicked, this, &Timeline::in_wanted);
    connect(button("step-back", "step_back", "One frame back (,)"), &QToolButton::clicked, this,
            [this] { emit step_wanted(-1); });
    play_ = button("play", "play", "Play or pause (Space)");
    play_->setCheckable(true);
    connect(play_, &QToolButton::clicked, this, [this](bool on) { emit play_wanted(on); });
    connect(button("step-on", "step_on", "One frame on (.)"), &QToolButton::clicked, this,
            [this] { emit step_wanted(1); });
    connect(button("out", "set_out", "Set out here (O)"), &QToolButton::clicked, this, &Timeline::out_wanted);
    auto* figures = new QHBoxLayout;
    figures->addWidget(time_);
    figures->addWidget(frame_, 0, Qt::AlignBottom);
    figures->addStretch();
    left->addLayout(figures);
    left->addLayout(buttons);
    left->addWidget(used_);
    auto* holder = new QWidget;
    holder->setLayout(left);
    left->setContentsMargins(0, 0, 0, 0);
    holder->setFixedWidth(196);
    row->addWidget(holder);
    ruler_ = new TimeRuler(session);
    lanes_ = new QVBoxLayout;
    lanes_->setSpacing(2);
    lanes_->addWidget(ruler_, 1);
    row->addLayout(lanes_, 1);
    connect(ruler_, &TimeRuler::scrubbed, this, &Timeline::scrubbed);
    connect(&session_, &Session::project_changed, this, &Timeline::refresh);
    connect(&session_, &Session::playhead_changed, this, &Timeline::refresh);
    refresh();
}

void Timeline::set_playing(bool playing) {
    play_->setChecked(playing);
    play_->setIcon(icon(playing ? "pause" : "play"));
}

void Timeline::set_note(const QString& note, const QString& more) {
    note_ = note;
    used_->setToolTip(more);
    refresh();
}

void Timeline::refresh() {
    time_->setText(time_text(session_.playhead()));
    const Shot* shot = session_.shot();
    frame_->setText(shot ? QString("frame %1").arg(frame_index(session_.playhead(), shot->timing.rate)) : "");
    if (!note_.isEmpty()) {
        used_->setText(note_);
    } else if (shot && session_.length() > Seconds(0)) {
        const Span span = used_span(*session_.project(), *shot, *session_.library());
        used_->setText(QString("used %1 s of %2 s, %3 fps")
                           .arg((span.out - span.in).to_double(), 0, 'f', 2)
                           .arg(session_.length().to_double(), 0, 'f', 2)
                           .arg(shot->timing.rate.to_double(), 0, 'g', 5));
    } else {
        used_->setText("");
    }
}

} // namespace porb::app
