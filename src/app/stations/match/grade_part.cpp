#include "app/stations/match/grade_part.h"

#include "app/widgets/number_field.h"
#include "app/widgets/parts_row.h"
#include "base/error.h"
#include "grade/exchange.h"
#include "grade/grader.h"
#include "project/limits.h"

#include <QFileDialog>
#include <QFormLayout>
#include <QGridLayout>
#include <QLabel>
#include <QPushButton>

namespace porb::app {

namespace {
const char* const kChannels[] = {"red", "green", "blue"};
}

GradePart::GradePart(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(6);
    auto* hint =
        new QLabel("How the finished picture is to look: after blending, the same for every camera.");
    hint->setProperty("role", "hint");
    hint->setWordWrap(true);
    column->addWidget(hint);
    on_ = new QCheckBox("Show graded");
    on_->setObjectName("grade_on");
    on_->setToolTip("Otherwise the grade is passed by and kept (Shift+B)");
    column->addWidget(on_);
    const auto heading = [&](const QString& text) {
        auto* label = new QLabel(text);
        label->setProperty("role", "group");
        column->addWidget(label);
    };
    const auto field = [&](const char* name, Range range, double step, int digits, const QString& unit,
                           const QString& tip, const QString& label, auto value) {
        auto* f = new NumberField(range, step, digits, unit);
        f->setObjectName(name);
        f->setToolTip(tip);
        connect(f, &NumberField::edited, this, [this, label, value](double v) {
            set(
                "Grade: " + label, [&](Grade& g) { value(g) = v; }, label);
        });
        connect(f, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
        return f;
    };
    heading("LIGHT");
    auto* form = new QFormLayout;
    exposure_ = field("grade_exposure", limits::kEv, 0.02, 2, " EV", "Brighter above 0", "exposure",
                      [](Grade& g) -> double& { return g.exposure_ev; });
    warmth_ = field("grade_warmth", limits::kEv, 0.02, 2, " EV", "Red up and blue down by half of it each",
                    "warmth", [](Grade& g) -> double& { return g.warmth_ev; });
    tint_ = field("grade_tint", limits::kEv, 0.02, 2, " EV", "Green up, or towards magenta below 0", "tint",
                  [](Grade& g) -> double& { return g.tint_ev; });
    contrast_ = field("grade_contrast", limits::kContrast, 0.01, 2, "", "1: as it is", "contrast",
                      [](Grade& g) -> double& { return g.contrast; });
    pivot_ = field("grade_pivot", limits::kPivot, 0.005, 3, "", "The light that contrast leaves alone",
                   "pivot", [](Grade& g) -> double& { return g.pivot; });
    form->addRow("Exposure", exposure_);
    form->addRow("Warmth", warmth_);
    form->addRow("Tint", tint_);
    form->addRow("Contrast", contrast_);
    form->addRow("Pivot", pivot_);
    column->addLayout(form);
    heading("RANGE");
    auto* grid = new QGridLayout;
    grid->setHorizontalSpacing(4);
    grid->setVerticalSpacing(4);
    for (int c = 0; c < 3; ++c) {
        auto* label = new QLabel(QString(kChannels[c]));
        label->setProperty("role", "hint");
        label->setAlignment(Qt::AlignCenter);
        grid->addWidget(label, 0, c + 1);
    }
    const auto three = [&](int row, const QString& label, const char* name, Range range, const QString& tip,
                           std::array<double, 3> Grade::*what, NumberField*(&into)[3]) {
        grid->addWidget(new QLabel(label), row, 0);
        for (std::size_t c = 0; c < 3; ++c) {
            into[c] =
                field("", range, 0.005, 3, "", tip, QString("%1 of %2").arg(label.toLower(), kChannels[c]),
                      [what, c](Grade& g) -> double& { return (g.*what)[c]; });
            into[c]->setObjectName(QString("grade_%1_%2").arg(name, kChannels[c]));
            into[c]->setMinimumWidth(58);
            grid->addWidget(into[c], row, int(c) + 1);
        }
    };
    three(1, "Lift", "lift", limits::kLift, "What black becomes", &Grade::lift, lift_);
    three(2, "Gamma", "gamma", limits::kGamma, "Above 1: lighter in the middle", &Grade::gamma, gamma_);
    three(3, "Gain", "gain", limits::kGain, "What white becomes", &Grade::gain, gain_);
    column->addLayout(grid);
    auto* saturation_form = new QFormLayout;
    saturation_ = field("grade_saturation", limits::kSaturation, 0.01, 2, "", "1: as it is, 0: grey",
                        "saturation", [](Grade& g) -> double& { return g.saturation; });
    saturation_form->addRow("Saturation", saturation_);
    column->addLayout(saturation_form);
    heading("LUT");
    lut_ = new QLabel;
    lut_->setObjectName("grade_lut");
    lut_->setWordWrap(true);
    column->addWidget(lut_);
    auto* lut_row = new QHBoxLayout;
    take_lut_ = add_button(lut_row, "Choose…", "grade_choose_lut", "A .cube or CLF table, applied last");
    drop_lut_ = add_button(lut_row, "Without", "grade_drop_lut", "Takes it off");
    column->addLayout(lut_row);
    auto* strength_form = new QFormLayout;
    lut_strength_ = field("grade_lut_strength", limits::kShare, 0.02, 2, "", "0: without it, 1: all of it",
                          "LUT strength", [](Grade& g) -> double& { return g.lut_strength; });
    strength_form->addRow("Strength", lut_strength_);
    column->addLayout(strength_form);
    column->addStretch(1);
    auto* file_row = new QHBoxLayout;
    auto* read =
        add_button(file_row, "Read…", "grade_read", "Lift, gamma, gain and saturation from an ASC CDL file");
    auto* write =
        add_button(file_row, "Write…", "grade_write", "As ASC CDL (.cc), or all of it as a .cube table");
    column->addLayout(file_row);
    auto* last_row = new QHBoxLayout;
    copy_ = add_button(last_row, "To all shots", "grade_copy", "Gives every shot of the project this grade");
    reset_ = add_button(last_row, "Begin anew", "grade_reset", "Everything as it was without a grade");
    column->addLayout(last_row);

    connect(on_, &QCheckBox::clicked, this, &GradePart::toggle_bypass);
    connect(take_lut_, &QPushButton::clicked, this, &GradePart::choose_lut);
    connect(drop_lut_, &QPushButton::clicked, this,
            [this] { set("Grade: without LUT", [](Grade& g) { g.lut.clear(); }); });
    connect(read, &QPushButton::clicked, this, &GradePart::read_file);
    connect(write, &QPushButton::clicked, this, &GradePart::write_file);
    connect(reset_, &QPushButton::clicked, this,
            [this] { set("Grade: begin anew", [](Grade& g) { g = Grade(); }); });
    connect(copy_, &QPushButton::clicked, this, [this] {
        if (!session_.shot()) return;
        const Grade grade = session_.shot()->look.grade;
        session_.edit("Grade of all shots", [&](Project& p) {
            for (auto& s : p.shots) s.look.grade = grade;
        });
        session_.say(QString("All %1 shots have this grade.").arg(session_.project()->shots.size()));
    });
}

void GradePart::set(const QString& label, const std::function<void(Grade&)>& work, const QString& key) {
    session_.edit_shot(
        label, [&](Shot& s) { work(s.look.grade); }, key);
}

void GradePart::toggle_bypass() {
    if (!session_.shot()) return;
    const bool on = !session_.shot()->look.grade.on;
    set(on ? "Show graded" : "Bypass the grade", [on](Grade& g) { g.on = on; });
}

void GradePart::choose_lut() {
    const QString file = QFileDialog::getOpenFileName(
        this, "Choose a LUT", {}, "Tables (*.cube *.clf *.ctf *.3dl *.spi3d *.spi1d);;All files (*)");
    if (file.isEmpty() || !session_.shot()) return;
    Grade with = session_.shot()->look.grade;
    with.lut = file.toStdString();
    with.lut_strength = with.lut_strength > 0 ? with.lut_strength : 1;
    try {
        const Grader checked(with);
    } catch (const Error& e) {
        return session_.say(QString::fromStdString(e.message()), Signal::stop);
    }
    set("Grade: LUT", [&](Grade& g) { g = with; });
}

void GradePart::read_file() {
    const QString file =
        QFileDialog::getOpenFileName(this, "Read a colour correction", {}, "ASC CDL (*.cc *.ccc *.cdl)");
    if (file.isEmpty() || !session_.shot()) return;
    try {
        const Grade with = with_cdl(session_.shot()->look.grade, file.toStdString());
        set("Grade from a file", [&](Grade& g) { g = with; });
    } catch (const Error& e) {
        session_.say(QString::fromStdString(e.message()), Signal::stop);
    }
}

void GradePart::write_file() {
    QString kind;
    QString file = QFileDialog::getSaveFileName(this, "Write the grade", {},
                                                "Table of the whole grade (*.cube);;ASC CDL (*.cc)", &kind);
    const Shot* shot = session_.shot();
    if (file.isEmpty() || !shot) return;
    const bool cdl = file.endsWith(".cc") || (!file.endsWith(".cube") && kind.contains("*.cc"));
    if (!file.endsWith(".cc") && !file.endsWith(".cube")) file += cdl ? ".cc" : ".cube";
    try {
        session_.must_not_replace(file.toStdString());
        if (cdl)
            write_cdl(shot->look.grade, file.toStdString(), shot->name);
        else
            write_cube(shot->look.grade, file.toStdString());
        session_.say("Wrote " + file);
    } catch (const Error& e) {
        session_.say(QString::fromStdString(e.message()), Signal::stop);
    }
}

void GradePart::refresh() {
    const Shot* shot = session_.shot();
    setEnabled(shot != nullptr);
    if (!shot) return;
    const Grade& g = shot->look.grade;
    on_->setChecked(g.on);
    exposure_->set_quietly(g.exposure_ev);
    warmth_->set_quietly(g.warmth_ev);
    tint_->set_quietly(g.tint_ev);
    contrast_->set_quietly(g.contrast);
    pivot_->set_quietly(g.pivot);
    saturation_->set_quietly(g.saturation);
    for (std::size_t c = 0; c < 3; ++c) {
        lift_[c]->set_quietly(g.lift[c]);
        gamma_[c]->set_quietly(g.gamma[c]);
        gain_[c]->set_quietly(g.gain[c]);
    }
    lut_->setText(g.lut.empty() ? "none" : QString::fromStdString(g.lut.filename().string()));
    lut_->setToolTip(QString::fromStdString(g.lut.string()));
    drop_lut_->setEnabled(!g.lut.empty());
    lut_strength_->setEnabled(!g.lut.empty());
    lut_strength_->set_quietly(g.lut_strength);
    reset_->setEnabled(!is_neutral(g));
    copy_->setEnabled(session_.project()->shots.size() > 1);
}

} // namespace porb::app
