#include "app/stations/match/noise_view.h"

#include "app/picture/picture_service.h"
#include "app/widgets/arrow_keys.h"
#include "app/widgets/theme.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QWheelEvent>

namespace porb::app {

namespace {
constexpr int kHeight = 150, kGap = 4, kMostLarger = 4, kWait_ms = 80;
constexpr double kArrow_px = 24;
} // namespace

NoiseView::NoiseView(Session& session, QWidget* parent) : QWidget(parent), session_(session), job_(this) {
    setObjectName("noise_view");
    setAccessibleName("Pixels as shot and without noise");
    setFixedHeight(kHeight);
    setFocusPolicy(Qt::StrongFocus);
    setCursor(Qt::OpenHandCursor);
    setToolTip(
        "The selected camera's own pixels. Drag or use the arrows to look elsewhere; the wheel, + and - "
        "make them larger and smaller. The figures are the noise of what is seen: its standard deviation, of "
        "full "
        "scale");
    wait_.setSingleShot(true);
    wait_.setInterval(kWait_ms);
    connect(&wait_, &QTimer::timeout, this, &NoiseView::ask);
    connect(&session_, &Session::playhead_changed, this, &NoiseView::refresh);
    connect(&session_, &Session::selection_changed, this, [this] {
        middle_.reset();
        refresh();
    });
    connect(&job_, &BackgroundJob::ended, this, [this](const QString& error, bool) {
        trouble_ = error;
        if (!error.isEmpty()) shown_.reset();
        update();
        refresh(); // what changed in the meantime
    });
}

QRect NoiseView::half(bool right) const {
    const int width = (this->width() - kGap) / 2;
    return {right ? this->width() - width : 0, 0, width, height()};
}

std::optional<NoiseView::Asked> NoiseView::wanted() const {
    const Shot* shot = session_.shot();
    if (!shot) return std::nullopt;
    std::string id = session_.selected_camera();
    if (!find_camera(shot->rig, id) && !shot->cameras.empty()) id = shot->cameras[0].camera;
    const Camera* camera = find_camera(shot->rig, id);
    const auto use = std::find_if(shot->cameras.begin(), shot->cameras.end(),
                                  [&](const ShotCamera& c) { return c.camera == id; });
    if (!camera || use == shot->cameras.end()) return std::nullopt;
    const Media* media = find_media(*session_.project(), use->media);
    if (!media) return std::nullopt;
    const QRect place = half(false);
    const auto source_px = [&](int screen, int most) {
        return std::clamp((screen + larger_ - 1) / larger_, 8, most);
    };
    Region part{0, 0, source_px(place.width(), camera->lens.width),
                source_px(place.height(), camera->lens.height)};
    const Vec2& centre = camera->lens.circle.center_px;
    const QPointF middle = middle_.value_or(QPointF(centre.x(), centre.y()));
    part.x = std::clamp(int(middle.x() - part.width / 2.0), 0, camera->lens.width - part.width);
    part.y = std::clamp(int(middle.y() - part.height / 2.0), 0, camera->lens.height - part.height);
    return Asked{shot->id,
                 id,
                 media->ref,
                 session_.playhead(),
                 shot->look.denoise,
                 camera->lens.width,
                 camera->lens.height,
                 part};
}

void NoiseView::refresh() {
    if (!isVisible() || job_.is_running()) return;
    if (const auto now = wanted(); now != asked_)
        wait_.start();
    else if (!now)
        update();
}

void NoiseView::ask() {
    if (job_.is_running()) return;
    asked_ = wanted();
    if (!asked_) {
        shown_.reset();
        return update();
    }
    job_.start([this, what = *asked_, project = session_.project(),
                library = session_.library()](const auto&, const Cancel&) -> BackgroundJob::Finish {
        const Shot* shot = find_shot(*project, what.shot);
        auto look = look_at_noise(*library, *project, *shot, what.camera, what.time, what.part);
        const QImage as_shot = look ? image_of(look->as_shot) : QImage(),
                     cleaned = look ? image_of(look->cleaned) : QImage();
        return [this, camera = what.camera, look = std::move(look), as_shot, cleaned] {
            shown_ = look;
            camera_ = camera;
            images_[0] = as_shot, images_[1] = cleaned;
        };
    });
}

void NoiseView::paintEvent(QPaintEvent*) {
    QPainter p(this);
    for (const bool right : {false, true}) {
        const QRect place = half(right);
        p.fillRect(place, colour::field);
        if (!shown_) {
            p.setPen(colour::muted);
            const QString words = !trouble_.isEmpty() ? trouble_
                                  : job_.is_running() ? "…"
                                                      : "No source at this moment";
            p.drawText(place.adjusted(8, 8, -8, -8), Qt::AlignCenter | Qt::TextWordWrap, right ? "" : words);
            continue;
        }
        const QImage& image = images_[right];
        const QRect shown(place.topLeft(), image.size() * larger_);
        p.setClipRect(place);
        p.drawImage(shown, image);
        const double noise = right ? shown_->noise_after : shown_->noise_before;
        const QString what = right ? QString("cleaned") : QString::fromStdString(camera_) + " as shot",
                      words = QString("%1  %2 %").arg(what).arg(100 * noise, 0, 'f', 2);
        const QRect text = p.fontMetrics().boundingRect(words).adjusted(-6, -2, 6, 2);
        QRect pill(0, 0, text.width(), text.height());
        pill.moveBottomLeft(place.bottomLeft() + QPoint(4, -4));
        p.fillRect(pill, QColor(0, 0, 0, 170));
        p.setPen(colour::text);
        p.drawText(pill, Qt::AlignCenter, words);
    }
    p.setClipping(false);
    if (hasFocus()) {
        p.setPen(QPen(colour::accent, 1));
        p.setBrush(Qt::NoBrush);
        p.drawRect(rect().adjusted(0, 0, -1, -1));
    }
}

void NoiseView::move_by(QPointF screen_px) {
    const auto now = wanted();
    if (!now) return;
    const Region& part = now->part;
    const QPointF half(part.width / 2.0, part.height / 2.0);
    const QPointF to = middle_.value_or(QPointF(part.x, part.y) + half) - screen_px / larger_;
    middle_ = QPointF(std::clamp(to.x(), half.x(), now->width - half.x()),
                      std::clamp(to.y(), half.y(), now->height - half.y()));
    refresh();
}

void NoiseView::mousePressEvent(QMouseEvent* event) {
    dragged_from_ = event->position();
}

void NoiseView::mouseMoveEvent(QMouseEvent* event) {
    move_by(event->position() - dragged_from_);
    dragged_from_ = event->position();
}

void NoiseView::wheelEvent(QWheelEvent* event) {
    larger_ = std::clamp(larger_ + (event->angleDelta().y() > 0 ? 1 : -1), 1, kMostLarger);
    refresh();
    event->accept();
}

void NoiseView::keyPressEvent(QKeyEvent* event) {
    if (const auto arrow = arrow_of(*event)) return move_by(-kArrow_px * QPointF(arrow->x(), arrow->y()));
    switch (event->key()) {
    case Qt::Key_Plus:
    case Qt::Key_Minus:
        larger_ = std::clamp(larger_ + (event->key() == Qt::Key_Plus ? 1 : -1), 1, kMostLarger);
        return refresh();
    default:
        QWidget::keyPressEvent(event);
    }
}

} // namespace porb::app
