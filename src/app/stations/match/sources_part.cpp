#include "app/stations/match/sources_part.h"

#include "app/stations/match/noise_view.h"
#include "app/widgets/number_field.h"
#include "app/widgets/theme.h"
#include "base/error.h"
#include "media/curves.h"
#include "media/library.h"
#include "project/limits.h"

#include <QComboBox>
#include <QFileDialog>
#include <QFormLayout>
#include <QHeaderView>
#include <QLabel>
#include <QSignalBlocker>
#include <QTableWidget>

namespace porb::app {

SourcesPart::SourcesPart(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(6);
    auto* hint = new QLabel(
        "By which curve light lies in the pixels of each source. Files say it themselves as a rule; "
        "flat, grey pictures are often logarithmic without a tag.");
    hint->setProperty("role", "hint");
    hint->setWordWrap(true);
    column->addWidget(hint);
    table_ = new QTableWidget(0, 3);
    table_->setObjectName("curves_table");
    table_->setHorizontalHeaderLabels({"Camera", "Curve", "Tagged"});
    table_->verticalHeader()->hide();
    table_->verticalHeader()->setDefaultSectionSize(23);
    table_->horizontalHeader()->setSectionResizeMode(QHeaderView::Stretch);
    table_->horizontalHeader()->setSectionResizeMode(0, QHeaderView::Fixed);
    table_->setColumnWidth(0, 70);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::ExtendedSelection);
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    column->addWidget(table_, 1);
    for_ = new QLabel;
    for_->setProperty("role", "group");
    column->addWidget(for_);
    auto* form = new QFormLayout;
    curve_ = new QComboBox;
    curve_->setObjectName("curve");
    form->addRow("Curve", curve_);
    column->addLayout(form);
    auto* head = new QLabel("NOISE");
    head->setProperty("role", "group");
    column->addWidget(head);
    denoise_ = new QCheckBox("Take noise off the sources");
    denoise_->setObjectName("denoise_on");
    denoise_->setToolTip(
        "Before they are stitched. It costs seconds a frame; compare with Q, “without denoising”");
    column->addWidget(denoise_);
    auto* noise = new QFormLayout;
    const auto field = [&](const QString& label, const char* name, const QString& tip,
                           double Denoise::*value) {
        auto* f = new NumberField(limits::kShare.times(100), 1, 0, " %");
        f->setObjectName(name);
        f->setToolTip(tip);
        noise->addRow(label, f);
        connect(f, &NumberField::edited, this, [this, label, value](double v) {
            session_.edit_shot(
                "Denoising " + label.toLower(), [value, v](Shot& s) { s.look.denoise.*value = v / 100; },
                label);
        });
        connect(f, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
        return f;
    };
    over_time_ = field("Over time", "denoise_time",
                       "How far pixels come towards their like in the frames before", &Denoise::over_time);
    in_frame_ = field("In the frame", "denoise_frame", "How far pixels come towards their like nearby",
                      &Denoise::in_frame);
    column->addLayout(noise);
    noise_view_ = new NoiseView(session_);
    column->addWidget(noise_view_);

    connect(denoise_, &QCheckBox::clicked, this, [this](bool on) {
        session_.edit_shot(on ? "Take noise off" : "Leave noise", [on](Shot& s) { s.look.denoise.on = on; });
    });
    connect(table_, &QTableWidget::itemSelectionChanged, this, [this] {
        const Shot* s = session_.shot();
        if (s && table_->currentRow() >= 0 && table_->currentRow() < int(s->cameras.size()))
            session_.select_camera(s->cameras[std::size_t(table_->currentRow())].camera);
        refresh();
    });
    connect(curve_, &QComboBox::activated, this, [this](int i) {
        const QVariant id = curve_->itemData(i);
        if (id.toString() == "choose")
            choose_curve_file();
        else
            choose_curve(id.toString().toStdString());
    });
}

std::vector<std::size_t> SourcesPart::chosen() const {
    std::vector<std::size_t> rows;
    for (const auto& i : table_->selectionModel()->selectedRows()) rows.push_back(std::size_t(i.row()));
    const Shot* shot = session_.shot();
    std::erase_if(rows, [&](std::size_t r) { return !shot || r >= shot->cameras.size(); });
    if (rows.empty() && shot)
        for (std::size_t i = 0; i < shot->cameras.size(); ++i) rows.push_back(i);
    return rows;
}

void SourcesPart::choose_curve(const std::string& curve) {
    const Shot* shot = session_.shot();
    if (!shot) return;
    std::vector<std::string> media;
    for (const auto r : chosen()) media.push_back(shot->cameras[r].media);
    session_.edit("Curve of sources", [&](Project& p) {
        for (auto& m : p.media)
            if (std::find(media.begin(), media.end(), m.id) != media.end()) m.ref.curve = curve;
    });
}

void SourcesPart::choose_curve_file() {
    const QString file = QFileDialog::getOpenFileName(this, "Choose a curve", {},
                                                      "Curves (*.clf *.ctf *.cube *.spi1d);;All files (*)");
    if (!file.isEmpty()) {
        const std::string curve = kCurveFile + file.toStdString();
        try {
            (void)light_of_curve(curve);
            return choose_curve(curve);
        } catch (const Error& e) {
            session_.say(QString::fromStdString(e.message()), Signal::stop);
        }
    }
    refresh();
}

void SourcesPart::refresh() {
    const Shot* shot = session_.shot();
    setEnabled(shot != nullptr);
    const QSignalBlocker block(table_), block_curve(curve_);
    table_->setRowCount(shot ? int(shot->cameras.size()) : 0);
    if (!shot) return;
    const auto curve_of = [&](std::size_t r) {
        const Media* m = find_media(*session_.project(), shot->cameras[r].media);
        return m ? m->ref.curve : std::string();
    };
    for (int r = 0; r < table_->rowCount(); ++r) {
        const ShotCamera& c = shot->cameras[std::size_t(r)];
        const Media* m = find_media(*session_.project(), c.media);
        QString tags = "no source";
        if (m) try {
                tags = QString::fromStdString(session_.library()->info(m->ref).transfer);
            } catch (const std::exception&) {
                tags = "cannot be read";
            }
        const QString cells[] = {QString::fromStdString(c.camera),
                                 QString::fromStdString(curve_text(curve_of(std::size_t(r)))), tags};
        for (int i = 0; i < 3; ++i) {
            QTableWidgetItem* item = table_->item(r, i);
            if (!item) table_->setItem(r, i, item = new QTableWidgetItem);
            item->setText(cells[i]);
            item->setTextAlignment(Qt::AlignCenter);
        }
        table_->item(r, 0)->setForeground(colour::lens(r));
    }
    const auto rows = chosen();
    if (rows.empty()) return;
    for_->setText(rows.size() == shot->cameras.size() ? "ALL CAMERAS"
                  : rows.size() == 1 ? "CAMERA " + QString::fromStdString(shot->cameras[rows[0]].camera)
                                     : QString("%1 CAMERAS").arg(rows.size()));
    const std::string now = curve_of(rows[0]);
    curve_->clear();
    curve_->addItem("As tagged", "");
    for (const auto& n : curve_names())
        curve_->addItem(QString::fromStdString(n.text), QString::fromStdString(n.id));
    if (now.starts_with(kCurveFile))
        curve_->addItem(QString::fromStdString(curve_text(now)), QString::fromStdString(now));
    curve_->addItem("From a file…", "choose");
    curve_->setCurrentIndex(std::max(0, curve_->findData(QString::fromStdString(now))));
    denoise_->setChecked(shot->look.denoise.on);
    over_time_->set_quietly(100 * shot->look.denoise.over_time);
    in_frame_->set_quietly(100 * shot->look.denoise.in_frame);
    over_time_->setEnabled(shot->look.denoise.on);
    in_frame_->setEnabled(shot->look.denoise.on);
    noise_view_->setVisible(shot->look.denoise.on);
    noise_view_->refresh();
}

} // namespace porb::app
