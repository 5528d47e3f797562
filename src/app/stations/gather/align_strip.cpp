#include "app/stations/gather/align_strip.h"

#include "app/picture/timeline.h"
#include "app/session/job_bar.h"
#include "app/widgets/theme.h"
#include "base/error.h"
#include "media/sound.h"
#include "project/origins.h"

#include <QCheckBox>
#include <QComboBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QMouseEvent>
#include <QPainter>
#include <QPushButton>
#include <QToolButton>

namespace porb::app {

namespace {
constexpr int kLane = 30, kWaveHz = 100, kReadHz = 4000;
constexpr double kMostWaveSeconds = 900;

/// Zero where a figure would show as "-0.0".
double plain_zero(double v, double least) {
    return std::abs(v) < least ? 0 : v;
}

std::vector<float> loudness(const std::filesystem::path& file, double seconds) {
    std::vector<float> out;
    SoundReader reader(file, kReadHz, 1);
    const auto count = std::int64_t(std::min(seconds, kMostWaveSeconds) * kWaveHz);
    const int step = kReadHz / kWaveHz;
    for (std::int64_t i = 0; i < count; i += kWaveHz) {
        const auto some = reader.read(i * step, std::int64_t(kWaveHz) * step);
        for (int w = 0; w < kWaveHz; ++w) {
            float top = 0;
            for (int k = 0; k < step; ++k)
                if (const auto n = std::size_t(w * step + k); n < some.size())
                    top = std::max(top, std::abs(some[n]));
            out.push_back(top);
        }
    }
    return out;
}
} // namespace

AlignLanes::AlignLanes(Session& session, TimeRuler& ruler, QWidget* parent)
    : QWidget(parent), session_(session), ruler_(ruler) {
    setObjectName("align_lanes");
    setAccessibleName("Waveforms of the sources");
    setMouseTracking(true);
    setCursor(Qt::SizeHorCursor);
    setToolTip("Drag a lane sideways to move its source; Shift for fine steps");
    connect(&ruler, &TimeRuler::view_changed, this, qOverload<>(&QWidget::update));
    connect(&session_, &Session::playhead_changed, this, qOverload<>(&QWidget::update));
}

std::vector<AlignLanes::Lane> AlignLanes::lanes() const {
    std::vector<Lane> out;
    const Shot* shot = session_.shot();
    for (std::size_t i = 0; shot && i < shot->cameras.size(); ++i) {
        const std::string& media = shot->cameras[i].media;
        if (media.empty()) continue;
        const auto same =
            std::find_if(out.begin(), out.end(), [&](const Lane& l) { return l.media == media; });
        if (same == out.end())
            out.push_back({media, {i}});
        else
            same->cameras.push_back(i);
    }
    return out;
}

void AlignLanes::set_found(const std::vector<FoundOffset>& found) {
    found_.clear();
    for (const auto& f : found) found_[f.camera] = f;
    update();
}

void AlignLanes::refresh() {
    setFixedHeight(std::clamp(int(lanes().size()), 1, 6) * kLane + 4);
    if (isVisible()) read_waves();
    update();
}

void AlignLanes::showEvent(QShowEvent*) {
    read_waves();
}

void AlignLanes::read_waves() {
    if (reading_.is_running()) return;
    std::vector<std::pair<std::string, MediaRef>> wanted;
    for (const auto& lane : lanes())
        if (const Media* m = find_media(*session_.project(), lane.media);
            m && !waves_.count(m->ref.path.string()))
            wanted.push_back({m->ref.path.string(), m->ref}); // by path: a relinked file is read anew
    if (wanted.empty()) return;
    reading_.start([this, wanted, library = session_.library()](
                       const BackgroundJob::Tell&, const Cancel& cancel) -> BackgroundJob::Finish {
        std::map<std::string, std::vector<float>> waves;
        for (const auto& [id, ref] : wanted) {
            cancel.check();
            waves[id] = {};
            try {
                const MediaInfo info = library->info(ref);
                if (info.sound) waves[id] = loudness(ref.path, info.duration.to_double());
            } catch (const std::exception&) {
                continue; // shown as a lane without sound
            }
        }
        return [this, waves] {
            for (const auto& [id, wave] : waves) waves_[id] = wave;
            update();
        };
    });
}

double AlignLanes::shift() const {
    return ruler_.mapToGlobal(QPoint(0, 0)).x() - mapToGlobal(QPoint(0, 0)).x();
}

double AlignLanes::x_of(double seconds) const {
    return ruler_.x_of(seconds) + shift();
}

void AlignLanes::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.fillRect(rect(), colour::window);
    p.setRenderHint(QPainter::Antialiasing);
    const Shot* shot = session_.shot();
    const auto all = lanes();
    const double left = x_of(ruler_.first_seconds());
    for (std::size_t l = 0; shot && l < all.size(); ++l) {
        const ShotCamera& use = shot->cameras[all[l].cameras.front()];
        const QRectF lane(0, double(l) * kLane + 2, width(), kLane - 3);
        const QColor colour = colour::lens(int(all[l].cameras.front()));
        p.fillRect(QRectF(left, lane.top(), width() - left, lane.height()), colour::field);
        const Media* medium = find_media(*session_.project(), all[l].media);
        const auto wave = medium ? waves_.find(medium->ref.path.string()) : waves_.end();
        if (wave != waves_.end() && !wave->second.empty()) {
            const float top = std::max(1e-4f, *std::max_element(wave->second.begin(), wave->second.end()));
            p.setPen(Qt::NoPen);
            p.setBrush(colour);
            const double middle = lane.center().y(), half = lane.height() / 2 - 1;
            // One bar a pixel: the loudest of what it covers.
            for (double x = std::max(left, 0.0); x < width(); x += 1) {
                const double t0 =
                    source_time(use, Rational::from_double(ruler_.seconds_at(x - shift()))).to_double();
                const double t1 =
                    source_time(use, Rational::from_double(ruler_.seconds_at(x + 1 - shift()))).to_double();
                float loud = -1;
                for (auto i = std::int64_t(std::floor(t0 * kWaveHz));
                     i <= std::int64_t(std::floor(t1 * kWaveHz)); ++i)
                    if (i >= 0 && i < std::int64_t(wave->second.size()))
                        loud = std::max(loud, wave->second[std::size_t(i)]);
                if (loud < 0) continue;
                const double h = std::max(0.6, half * std::pow(double(loud / top), 0.75));
                p.drawRect(QRectF(x, middle - h, 1, 2 * h));
            }
        } else {
            p.setPen(colour::muted);
            p.drawText(lane.adjusted(left + 8, 0, 0, 0), Qt::AlignVCenter,
                       wave == waves_.end() ? "reading its sound…" : "no sound");
        }
        QString name;
        for (const auto i : all[l].cameras)
            name += (name.isEmpty() ? "" : ", ") + QString::fromStdString(shot->cameras[i].camera);
        p.setPen(colour);
        p.drawText(QRectF(10, lane.top(), 40, lane.height()), Qt::AlignVCenter, name);
        const double offset = plain_zero(use.offset.to_double(), 0.00005);
        p.setPen(colour::text);
        p.drawText(QRectF(40, lane.top(), left - 48, lane.height()), Qt::AlignRight | Qt::AlignVCenter,
                   QString("%1 ms   %2 fr")
                       .arg(1000 * offset, 0, 'f', 1)
                       .arg(offset * shot->timing.rate.to_double(), 0, 'f', 2));
        const auto found = found_.find(use.camera);
        if (found == found_.end()) continue;
        const FoundOffset& f = found->second;
        // The peak it was found by, and how sure that is.
        const QRectF box(width() - 158, lane.top() + 1, 152, lane.height() - 2);
        p.setPen(Qt::NoPen);
        p.setBrush(QColor(0x1d, 0x1d, 0x1d, 225));
        p.drawRoundedRect(box, 3, 3);
        p.setPen(f.found ? colour::text : colour::care);
        p.drawText(box.adjusted(8, 0, -76, 0), Qt::AlignVCenter,
                   f.method == "reference" ? "reference"
                   : f.found ? QString("%1 %").arg(std::min(99.0, 100 * f.confidence), 0, 'f', 0)
                             : "▲ refused");
        if (f.peak.height.size() > 2) {
            QPolygonF line;
            for (std::size_t i = 0; i < f.peak.height.size(); ++i)
                line << QPointF(box.right() - 80 + 74.0 * double(i) / double(f.peak.height.size() - 1),
                                box.bottom() - 3 -
                                    (box.height() - 6) * double(std::clamp(f.peak.height[i], 0.0f, 1.0f)));
            p.setPen(QPen(colour::accent, 1.2));
            p.setBrush(Qt::NoBrush);
            p.drawPolyline(line);
        }
    }
    const double x = x_of(session_.playhead().to_double());
    p.setPen(QPen(colour::accent, 1.2));
    p.drawLine(QPointF(x, 0), QPointF(x, height()));
}

void AlignLanes::mousePressEvent(QMouseEvent* event) {
    const auto all = lanes();
    const int l = int(event->position().y()) / kLane;
    grip_ = event->button() == Qt::LeftButton && l < int(all.size()) ? l : -1;
    if (grip_ < 0) return;
    const std::size_t camera = all[std::size_t(l)].cameras.front();
    session_.select_camera(session_.shot()->cameras[camera].camera);
    grip_x_ = event->position().x();
    grip_offset_ = session_.shot()->cameras[camera].offset;
}

void AlignLanes::mouseMoveEvent(QMouseEvent* event) {
    if (grip_ < 0 || !session_.shot()) return;
    const auto all = lanes();
    if (grip_ >= int(all.size())) return;
    double moved = ruler_.seconds_at(event->position().x()) - ruler_.seconds_at(grip_x_);
    if (event->modifiers() & Qt::ShiftModifier) moved *= 0.1;
    // The lane follows the hand: later on the ruler is a smaller offset.
    const Seconds offset = grip_offset_ - Rational::from_double(std::round(moved * 1e5) / 1e5);
    const std::string media = all[std::size_t(grip_)].media;
    session_.edit_shot(
        "Move " + QString::fromStdString(media) + " in time",
        [&](Shot& s) {
            for (auto& c : s.cameras)
                if (c.media == media) c.offset = offset;
        },
        "drag-offset");
}

void AlignLanes::mouseReleaseEvent(QMouseEvent*) {
    if (grip_ >= 0) session_.end_drag();
    grip_ = -1;
}

AlignStrip::AlignStrip(Session& session, TimeRuler& ruler, QWidget* parent)
    : QWidget(parent), session_(session) {
    setObjectName("align_strip");
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 2, 0, 2);
    column->setSpacing(2);
    auto* row = new QHBoxLayout;
    row->setContentsMargins(10, 0, 8, 0);
    row->setSpacing(6);
    auto* title = new QLabel("ALIGN TIME");
    title->setProperty("role", "group");
    row->addWidget(title);
    method_ = new QComboBox;
    method_->setObjectName("align_method");
    method_->addItem("by sound", int(AlignMethod::sound));
    method_->addItem("by timecode", int(AlignMethod::timecode));
    method_->addItem("by motion", int(AlignMethod::motion));
    range_ = new QComboBox;
    range_->setObjectName("align_range");
    range_->addItem("over all");
    range_->addItem("from in to out");
    find_ = new QPushButton("Find offsets");
    find_->setObjectName("find_offsets");
    find_->setProperty("role", "main");
    clocks_ = new QCheckBox("correct clocks");
    clocks_->setObjectName("correct_clocks");
    clocks_->setChecked(true);
    clocks_->setToolTip("Recorders run a little fast or slow; over a long take that adds up");
    auto* bar = new JobBar(job_, session, "align", "every source");
    bar->setFixedWidth(300);
    words_ = new QLabel;
    words_->setObjectName("align_words");
    words_->setProperty("role", "hint");
    words_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    auto* close = new QToolButton;
    close->setText("×");
    close->setToolTip("Put this away (L)");
    for (QWidget* w : std::initializer_list<QWidget*>{method_, range_, find_, clocks_, bar})
        row->addWidget(w);
    row->addWidget(words_, 1);
    row->addWidget(close);
    column->addLayout(row);
    lanes_ = new AlignLanes(session, ruler);
    column->addWidget(lanes_);
    connect(find_, &QPushButton::clicked, this, &AlignStrip::find);
    connect(&job_, &BackgroundJob::running_changed, this, &AlignStrip::refresh);
    connect(close, &QToolButton::clicked, this, &AlignStrip::closed);
    connect(&session_, &Session::project_changed, this, &AlignStrip::refresh);
    connect(&session_, &Session::shot_changed, this, [this] { lanes_->set_found({}); });
    refresh();
}

void AlignStrip::find() {
    const Shot* shot = session_.shot();
    if (!shot || job_.is_running()) return;
    AlignOptions options;
    options.method = AlignMethod(method_->currentData().toInt());
    options.find_drift = clocks_->isChecked();
    if (range_->currentIndex() == 1) {
        options.from = shot->timing.in;
        options.to = shot->timing.out ? *shot->timing.out : session_.length();
    }
    words_->setText("");
    job_.start([this, options, project = session_.project(), id = shot->id, library = session_.library()](
                   const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        const auto found = find_offsets(
            *project, *find_shot(*project, id), *library, options,
            [&](double share) { tell(share, "Finding"); }, cancel);
        return [this, project, id, found] { take(project, id, found); };
    });
}

void AlignStrip::take(const ProjectPtr& for_project, const std::string& id,
                      const std::vector<FoundOffset>& found) {
    const Shot* shot = session_.shot();
    const Shot* then = find_shot(*for_project, id);
    // Found for sources that are no longer these ones: of no use.
    if (!shot || shot->id != id || !then || shot->cameras.size() != then->cameras.size() ||
        !std::equal(shot->cameras.begin(), shot->cameras.end(), then->cameras.begin(),
                    [](const ShotCamera& a, const ShotCamera& b) {
                        return a.camera == b.camera && a.media == b.media;
                    }))
        return session_.say_changed_meanwhile();
    const bool any = std::any_of(found.begin(), found.end(), [](const FoundOffset& f) { return f.found; });
    QString refused;
    QStringList drifting;
    double worst = 1;
    int moved = 0;
    const double length = session_.length().to_double();
    for (const auto& f : found) {
        if (!f.found) {
            refused += QString("%1 %2: %3. %4.")
                           .arg(refused.isEmpty() ? "" : "\n", QString::fromStdString(f.camera),
                                QString::fromStdString(f.why_not), QString::fromStdString(f.mend));
            continue;
        }
        if (f.method != "reference") worst = std::min(worst, f.confidence), ++moved;
        if (f.drift_ppm != 0)
            drifting << QString("%1 runs %2 ppm %3: %4 ms over the shot")
                            .arg(QString::fromStdString(f.camera))
                            .arg(std::abs(f.drift_ppm), 0, 'f', 1)
                            .arg(f.drift_ppm > 0 ? "fast" : "slow")
                            .arg(1000 * std::abs(drift_over(f.drift_ppm, length)), 0, 'f', 1);
    }
    if (any)
        session_.edit_shot("Align time " + method_->currentText(),
                           [&](Shot& s) { s = aligned(s, found, clocks_->isChecked()); });
    lanes_->set_found(found);
    words_->setText(drifting.isEmpty() ? (moved ? "no clock drifts" : "") : drifting.join("; "));
    words_->setToolTip(drifting.join("\n"));
    if (!refused.isEmpty())
        session_.say("Not aligned:" + refused, any ? Signal::care : Signal::stop);
    else
        session_.say(QString("%1 sources aligned, the least sure one by %2 %")
                         .arg(moved + 1)
                         .arg(std::min(99.0, 100 * worst), 0, 'f', 0));
    // Not every source may have begun where the playhead stands.
    if (session_.shot() && session_.playhead() < session_.shot()->timing.in)
        session_.set_playhead(session_.shot()->timing.in);
}

void AlignStrip::refresh() {
    for (QWidget* w : std::initializer_list<QWidget*>{method_, range_, clocks_, find_})
        w->setEnabled(!job_.is_running() && session_.shot());
    lanes_->refresh();
}

} // namespace porb::app
