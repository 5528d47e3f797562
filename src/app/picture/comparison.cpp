#include "app/picture/comparison.h"

#include "app/widgets/number_field.h"
#include "project/limits.h"

#include <QButtonGroup>
#include <QComboBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QSignalBlocker>
#include <QToolButton>

namespace porb::app {

namespace {
constexpr int kBlinkMs = 700;

/// What can be compared with, by the data of the choice; kept solves follow with first_solve + their index.
enum Choice {
    last_step,
    as_saved,
    held_state,
    colours_as_shot,
    without_flow,
    without_seam_work,
    half_way_lines,
    without_grade,
    without_denoising,
    first_solve
};
} // namespace

Comparison::Comparison(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setObjectName("comparison");
    setAttribute(Qt::WA_StyledBackground);
    setStyleSheet("#comparison { background: rgba(29, 29, 29, 215); border-radius: 4px; }");
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(8, 4, 8, 4);
    row->setSpacing(4);
    row->addWidget(new QLabel("Now and"));
    with_ = new QComboBox;
    with_->setObjectName("compare_with");
    with_->setToolTip("The state that the present one is compared with");
    with_->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    row->addWidget(with_);
    ways_ = new QButtonGroup(this);
    const char* names[] = {"Wipe", "Blink", "Difference", "Beside"};
    const char* tips[] = {"Now at the left of the line, the other at its right; drag the line", "By turns",
                          "What differs, made stronger", "The same place of both, side by side"};
    for (int i = 0; i < 4; ++i) {
        auto* b = new QToolButton;
        b->setObjectName(QString("compare_") + QString(names[i]).toLower());
        b->setText(names[i]);
        b->setToolTip(tips[i]);
        b->setCheckable(true);
        ways_->addButton(b, i);
        row->addWidget(b);
    }
    ways_->button(0)->setChecked(true);
    gain_ = new NumberField(Range{1, 64}, 1, 0, " ×");
    gain_->setObjectName("compare_gain");
    gain_->setToolTip("How much stronger a difference is shown");
    gain_->setFixedWidth(64);
    gain_->set_quietly(8);
    gain_->hide();
    row->addWidget(gain_);
    blink_.setInterval(kBlinkMs);
    connect(&blink_, &QTimer::timeout, this, [this] {
        other_now_ = !other_now_;
        emit look_changed();
    });
    connect(ways_, &QButtonGroup::idClicked, this, [this](int id) { set_way(Way(id)); });
    connect(gain_, &NumberField::edited, this, &Comparison::look_changed);
    connect(with_, &QComboBox::activated, this, &Comparison::other_changed);
    connect(&session_, &Session::project_changed, this, [this] {
        if (on_) refresh_choices();
    });
    hide();
}

void Comparison::set_on(bool on) {
    on_ = on;
    setVisible(on);
    if (on) refresh_choices();
    if (on && way_ == Way::blink)
        blink_.start();
    else
        blink_.stop();
    emit other_changed();
}

void Comparison::set_way(Way way) {
    way_ = way;
    ways_->button(int(way))->setChecked(true);
    gain_->setVisible(way == Way::difference);
    other_now_ = false;
    if (on_ && way == Way::blink)
        blink_.start();
    else
        blink_.stop();
    adjustSize();
    emit look_changed();
}

void Comparison::hold() {
    held_ = session_.project();
    refresh_choices();
    with_->setCurrentIndex(with_->findData(held_state));
    session_.say("This state is held: it can be compared with whatever comes.");
    if (on_) emit other_changed();
}

void Comparison::refresh_choices() {
    const QSignalBlocker block(with_);
    const QVariant chosen = with_->currentData();
    with_->clear();
    if (session_.history().can_undo())
        with_->addItem("before: " + QString::fromStdString(session_.history().undo_label()), last_step);
    if (session_.saved() && session_.is_dirty()) with_->addItem("as saved", as_saved);
    if (held_) with_->addItem("the held state", held_state);
    with_->addItem("colours as shot", colours_as_shot);
    with_->addItem("parallax left open", without_flow);
    with_->addItem("no seam work", without_seam_work);
    if (const Shot* shot = session_.shot()) {
        if (shot->seams.seam_lines->on && !shot->seams.seam_lines->keys.empty())
            with_->addItem("lines half-way", half_way_lines);
        if (shot->look.grade.on && !is_neutral(shot->look.grade)) with_->addItem("ungraded", without_grade);
        if (shot->look.denoise.on) with_->addItem("without denoising", without_denoising);
    }
    if (const Shot* shot = session_.shot())
        for (std::size_t i = 0; i < shot->calibration.solves.size(); ++i)
            with_->addItem("rig of " + QString::fromStdString(shot->calibration.solves[i].name),
                           first_solve + int(i));
    const int again = with_->findData(chosen);
    with_->setCurrentIndex(std::max(0, again));
    adjustSize();
}

ProjectPtr Comparison::other() const {
    const Shot* shot = session_.shot();
    if (!on_ || !shot || with_->count() == 0) return nullptr;
    const int choice = with_->currentData().toInt();
    if (choice == last_step) return session_.history().before();
    if (choice == as_saved) return session_.saved();
    if (choice == held_state) return held_;
    Project changed = *session_.project();
    Shot& other = *find_shot(changed, shot->id);
    if (choice == colours_as_shot)
        other.colour.match.on = false;
    else if (choice == without_flow)
        other.seams.flow.on = false;
    else if (choice == without_grade)
        other.look.grade.on = false;
    else if (choice == without_denoising)
        other.look.denoise.on = false;
    else if (choice == half_way_lines)
        other.seams.seam_lines = SeamLines();
    else if (choice == without_seam_work) {
        other.seams.flow.on = false;
        other.seams.seam_lines = SeamLines();
        other.seams.blend = {};
        other.seams.shelters.clear();
        for (auto& c : other.cameras) c.shapes.clear();
    } else if (const auto i = std::size_t(choice - first_solve); i < other.calibration.solves.size()) {
        other.rig = other.calibration.solves[i].rig;
        match_cameras_to_rig(other);
    }
    return std::make_shared<const Project>(std::move(changed));
}

QString Comparison::other_name() const {
    return with_->currentText();
}

void Comparison::set_wipe(double share) {
    wipe_ = std::clamp(share, 0.0, 1.0);
    emit look_changed();
}

const QImage& Comparison::difference(const QImage& a, const QImage& b) {
    if (a.cacheKey() == of_a_ && b.cacheKey() == of_b_ && gain_->value() == of_gain_) return difference_;
    of_a_ = a.cacheKey(), of_b_ = b.cacheKey(), of_gain_ = gain_->value();
    const QImage x = a.convertToFormat(QImage::Format_RGB32), y = b.convertToFormat(QImage::Format_RGB32);
    difference_ = QImage(a.size(), QImage::Format_RGB32);
    difference_.fill(Qt::black);
    for (int row = 0; row < std::min(x.height(), y.height()); ++row) {
        const auto *p = reinterpret_cast<const QRgb*>(x.constScanLine(row)),
                   *q = reinterpret_cast<const QRgb*>(y.constScanLine(row));
        auto* to = reinterpret_cast<QRgb*>(difference_.scanLine(row));
        const auto off = [this](int u, int v) { return std::min(255, int(std::abs(u - v) * of_gain_)); };
        for (int i = 0; i < std::min(x.width(), y.width()); ++i)
            to[i] = qRgb(off(qRed(p[i]), qRed(q[i])), off(qGreen(p[i]), qGreen(q[i])),
                         off(qBlue(p[i]), qBlue(q[i])));
    }
    return difference_;
}

} // namespace porb::app
