#include "app/stations/match/match_panel.h"

#include "app/session/job_bar.h"
#include "app/stations/match/grade_part.h"
#include "app/stations/match/sources_part.h"
#include "app/widgets/number_field.h"
#include "app/widgets/parts_row.h"
#include "app/widgets/theme.h"
#include "project/limits.h"

#include <QButtonGroup>
#include <QComboBox>
#include <QFormLayout>
#include <QHeaderView>
#include <QPainter>
#include <QPushButton>
#include <QSignalBlocker>
#include <QSpinBox>
#include <QStackedWidget>
#include <QTableWidget>

namespace porb::app {

namespace {
constexpr int kRowHeight = 17, kPlotHead = 20, kMostRows = 6;

QString signed_ev(double ev) {
    return QString("%1%2").arg(ev < -0.0005 ? "−" : "+").arg(std::abs(ev), 0, 'f', 2);
}
} // namespace

AgreementPlot::AgreementPlot(QWidget* parent) : QWidget(parent) {
    setObjectName("agreement_plot");
    setToolTip("The pairs that differ most: open marks as shot, filled ones as it is now");
}

void AgreementPlot::show(const std::vector<PairAgreement>& pairs) {
    pairs_ = pairs;
    std::sort(pairs_.begin(), pairs_.end(),
              [](const PairAgreement& a, const PairAgreement& b) { return a.after_ev > b.after_ev; });
    if (pairs_.size() > kMostRows) pairs_.resize(kMostRows);
    updateGeometry();
    update();
}

QSize AgreementPlot::sizeHint() const {
    return {200, pairs_.empty() ? 46 : kPlotHead + kRowHeight * int(pairs_.size()) + 4};
}

void AgreementPlot::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.fillRect(rect(), colour::field);
    p.setRenderHint(QPainter::Antialiasing);
    QFont small = font();
    small.setPixelSize(11);
    p.setFont(small);
    p.setPen(colour::muted);
    if (pairs_.empty()) {
        p.drawText(rect().adjusted(8, 0, -8, 0), Qt::AlignCenter | Qt::TextWordWrap,
                   "Match to see how far apart neighbours are");
        return;
    }
    double most = 0.1;
    for (const auto& pair : pairs_) most = std::max({most, pair.before_ev, pair.after_ev});
    const double left = 62, right = width() - 46.0;
    const auto x_of = [&](double ev) { return left + (right - left) * ev / most; };
    p.drawText(QRectF(left, 2, 60, 15), Qt::AlignLeft, "0 EV");
    p.drawText(QRectF(right - 60, 2, 60, 15), Qt::AlignRight, QString::number(most, 'f', 2));
    for (std::size_t i = 0; i < pairs_.size(); ++i) {
        const PairAgreement& pair = pairs_[i];
        const double y = kPlotHead + kRowHeight * (double(i) + 0.5);
        p.setPen(colour::text);
        p.drawText(QRectF(8, y - 8, left - 14, 16), Qt::AlignVCenter | Qt::AlignLeft,
                   QString::fromStdString(pair.a + " – " + pair.b));
        p.setPen(QPen(colour::line, 1));
        p.drawLine(QPointF(left, y), QPointF(right, y));
        p.setPen(QPen(colour::muted, 1.4));
        p.setBrush(Qt::NoBrush);
        p.drawEllipse(QPointF(x_of(pair.before_ev), y), 3.6, 3.6);
        p.setPen(Qt::NoPen);
        p.setBrush(colour::accent);
        p.drawEllipse(QPointF(x_of(pair.after_ev), y), 3.6, 3.6);
        p.setPen(colour::text);
        p.drawText(QRectF(right + 4, y - 8, 36, 16), Qt::AlignVCenter | Qt::AlignRight,
                   QString::number(pair.after_ev, 'f', 3));
    }
}

MatchPanel::MatchPanel(Session& session, QWidget* parent)
    : Panel("Match", "Cameras brought together, the look, and how sources are read.", parent),
      session_(session) {
    setObjectName("match_panel");
    parts_ = add_parts(column(), "match_",
                       {{"Cameras", "Exposure, white balance and vignetting of each, brought together"},
                        {"Grade", "How the finished picture is to look"},
                        {"Sources", "By which curve they are read; noise"}});
    pages_ = new QStackedWidget;
    column()->addWidget(pages_, 1);
    auto* cameras = new QWidget;
    auto* page = new QVBoxLayout(cameras);
    page->setContentsMargins(0, 0, 0, 0);
    page->setSpacing(6);
    make_cameras(page);
    pages_->addWidget(cameras);
    grade_ = new GradePart(session);
    pages_->addWidget(grade_);
    sources_ = new SourcesPart(session);
    pages_->addWidget(sources_);
    show_page(pages_, 0);
    connect(parts_, &QButtonGroup::idClicked, this, [this](int id) { show_part(Part(id)); });
    connect(&session_, &Session::project_changed, this, &MatchPanel::refresh_if_seen);
    connect(&job_, &BackgroundJob::running_changed, match_, &QWidget::setDisabled);
    refresh();
}

void MatchPanel::show_part(Part part) {
    parts_->button(int(part))->setChecked(true);
    show_page(pages_, int(part));
    refresh();
}

void MatchPanel::make_cameras(QVBoxLayout* page) {
    figure_ = new QLabel;
    figure_->setObjectName("match_figure");
    figure_->setProperty("role", "figure");
    as_shot_ = new QLabel;
    as_shot_->setProperty("role", "hint");
    page->addWidget(figure_);
    page->addWidget(as_shot_);
    auto* row = new QHBoxLayout;
    match_ = new QPushButton("Match the cameras");
    match_->setObjectName("match_now");
    match_->setProperty("role", "main");
    match_->setToolTip(
        "Compares what neighbours see alike at the samples and solves gains and vignetting (E)");
    row->addWidget(match_, 1);
    page->addLayout(row);
    page->addWidget(new JobBar(job_, session_, "match", "everything"));
    plot_ = new AgreementPlot;
    page->addWidget(plot_);

    auto* form = new QFormLayout;
    reference_ = new QComboBox;
    reference_->setObjectName("match_reference");
    reference_->setToolTip("The camera that stays as it is; without one, the mean of all does");
    form->addRow("Stays as it is", reference_);
    samples_ = new QSpinBox;
    samples_->setObjectName("match_samples");
    samples_->setRange(int(limits::kSamples.low), int(limits::kSamples.high));
    samples_->setButtonSymbols(QAbstractSpinBox::NoButtons);
    samples_->setToolTip("Moments at which overlaps are compared");
    form->addRow("Samples", samples_);
    page->addLayout(form);
    const auto box = [&](const QString& text, const char* name, const QString& tip) {
        auto* b = new QCheckBox(text);
        b->setObjectName(name);
        b->setToolTip(tip);
        page->addWidget(b);
        return b;
    };
    vignetting_ =
        box("Vignetting too", "match_vignetting", "Alike lenses share it; it is undone before pictures meet");
    over_time_ = box("Gains may change over time", "match_over_time",
                     "For cameras that choose their exposure themselves");
    on_ = box("Show matched", "match_on", "Otherwise pictures are shown as shot, everything kept (B)");

    group_in(page, "CAMERAS");
    table_ = new QTableWidget(0, 5);
    table_->setObjectName("match_table");
    table_->setHorizontalHeaderLabels({"Camera", "Gain", "Red", "Blue", "Rim"});
    table_->horizontalHeaderItem(1)->setToolTip("What light is multiplied by, EV");
    table_->horizontalHeaderItem(2)->setToolTip("Red against green, EV");
    table_->horizontalHeaderItem(3)->setToolTip("Blue against green, EV");
    table_->horizontalHeaderItem(4)->setToolTip("Share of the light that the lens keeps at its rim");
    table_->verticalHeader()->hide();
    table_->verticalHeader()->setDefaultSectionSize(22);
    table_->horizontalHeader()->setSectionResizeMode(QHeaderView::Stretch);
    table_->horizontalHeader()->setSectionResizeMode(0, QHeaderView::Fixed);
    table_->setColumnWidth(0, 70);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::ExtendedSelection);
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    table_->setMinimumHeight(3 * 22 + 26);
    page->addWidget(table_, 1);
    for_ = new QLabel;
    for_->setProperty("role", "group");
    page->addWidget(for_);
    auto* trims = new QFormLayout;
    const auto field = [&](const QString& label, const char* name, const QString& tip,
                           double CameraColour::*value, const QString& what) {
        auto* f = new NumberField(limits::kEv, 0.02, 2, " EV");
        f->setObjectName(name);
        f->setToolTip(tip);
        trims->addRow(label, f);
        connect(f, &NumberField::edited, this, [this, what, value](double ev) { trim(what, value, ev); });
        connect(f, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
        return f;
    };
    exposure_ = field("Exposure", "trim_exposure", "Brighter or darker, on top of what is matched",
                      &CameraColour::exposure_ev, "exposure");
    warmth_ = field("Warmth", "trim_warmth", "Red up and blue down by half of it each",
                    &CameraColour::warmth_ev, "warmth");
    tint_ =
        field("Tint", "trim_tint", "Green up, or towards magenta below 0", &CameraColour::tint_ev, "tint");
    page->addLayout(trims);
    auto* clear = new QPushButton("Forget gains and trims");
    clear->setObjectName("match_clear");
    clear->setToolTip("Of the cameras chosen in the table, or of all");
    page->addWidget(clear);

    connect(match_, &QPushButton::clicked, this, &MatchPanel::match_now);
    connect(clear, &QPushButton::clicked, this, [this] {
        const auto rows = chosen();
        session_.edit_shot("Forget gains and trims", [&](Shot& s) {
            for (const auto r : rows) s.cameras[r].colour = {};
        });
    });
    connect(vignetting_, &QCheckBox::clicked, this,
            [this](bool on) { set("Solve the vignetting", [on](MatchSettings& m) { m.vignetting = on; }); });
    connect(over_time_, &QCheckBox::clicked, this,
            [this](bool on) { set("Gains over time", [on](MatchSettings& m) { m.over_time = on; }); });
    connect(on_, &QCheckBox::clicked, this, &MatchPanel::toggle_as_shot);
    connect(samples_, &QSpinBox::editingFinished, this, [this] { // not at every digit
        if (session_.shot() && samples_->value() != session_.shot()->colour.match.samples)
            set("Samples of Match", [n = samples_->value()](MatchSettings& m) { m.samples = n; });
    });
    connect(&session_, &Session::playhead_changed, this, [this] { // gains may differ from moment to moment
        if (const Shot* s = session_.shot(); s && isVisible() && s->colour.match.over_time) show_cameras(*s);
    });
    connect(reference_, &QComboBox::activated, this, [this](int i) {
        const std::string id = i > 0 ? reference_->itemData(i).toString().toStdString() : std::string();
        set("Reference camera", [id](MatchSettings& m) { m.reference = id; });
    });
    connect(table_, &QTableWidget::itemSelectionChanged, this, [this] {
        const Shot* s = session_.shot();
        if (s && table_->currentRow() >= 0 && table_->currentRow() < int(s->cameras.size()))
            session_.select_camera(s->cameras[std::size_t(table_->currentRow())].camera);
        refresh();
    });
}

void MatchPanel::match_now() {
    const Shot* shot = session_.shot();
    if (!shot || job_.is_running()) return;
    job_.start([this, project = session_.project(), id = shot->id, library = session_.library()](
                   const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        auto matched = std::make_shared<Matched>(match_shot(
            *project, *find_shot(*project, id), *library,
            [&](const MatchProgress& p) { tell(p.share, QString::fromStdString(p.doing)); }, cancel));
        return [this, matched, id, project, rig = find_shot(*project, id)->rig] {
            if (!session_.still_holds(*find_shot(*project, id))) return;
            moments_ = matched->moments;
            compared_ = id;
            compared_rig_ = rig;
            session_.edit_shot("Match the cameras", [&](Shot& s) { s = with_match(s, *matched); });
            QString words = QString("Neighbours differ by %1 EV, as shot by %2 EV.")
                                .arg(matched->report.after_ev, 0, 'f', 3)
                                .arg(matched->report.before_ev, 0, 'f', 3);
            for (const auto& r : matched->report.remarks) words += " " + QString::fromStdString(r);
            session_.say(words, matched->report.remarks.empty() ? Signal::good : Signal::care);
        };
    });
}

void MatchPanel::toggle_as_shot() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const bool on = !shot->colour.match.on;
    set(on ? "Show matched" : "Show as shot", [on](MatchSettings& m) { m.on = on; });
}

std::vector<std::size_t> MatchPanel::chosen() const {
    std::vector<std::size_t> rows;
    for (const auto& i : table_->selectionModel()->selectedRows()) rows.push_back(std::size_t(i.row()));
    const Shot* shot = session_.shot();
    std::erase_if(rows, [&](std::size_t r) { return !shot || r >= shot->cameras.size(); });
    if (rows.empty() && shot)
        for (std::size_t i = 0; i < shot->cameras.size(); ++i) rows.push_back(i);
    return rows;
}

void MatchPanel::set(const QString& label, const std::function<void(MatchSettings&)>& work) {
    session_.edit_shot(label, [&](Shot& s) { work(s.colour.match); });
}

void MatchPanel::trim(const QString& what, double CameraColour::*value, double ev) {
    const auto rows = chosen();
    const Shot* shot = session_.shot();
    if (!shot || rows.empty()) return;
    const QString who = rows.size() == 1 ? "camera " + QString::fromStdString(shot->cameras[rows[0]].camera)
                                         : QString("%1 cameras").arg(rows.size());
    QString merge; // the same of other cameras is another step
    for (const auto r : rows) merge += QString(" %1").arg(r);
    session_.edit_shot(
        QString("Trim %1 of %2").arg(what, who),
        [&](Shot& s) {
            for (const auto r : rows) s.cameras[r].colour.*value = ev;
        },
        "trim " + what + merge);
}

void MatchPanel::show_agreement(const Shot& shot) {
    const bool known = compared_ == shot.id && compared_rig_ == shot.rig && !moments_.empty();
    const bool matched = std::any_of(shot.cameras.begin(), shot.cameras.end(),
                                     [](const ShotCamera& c) { return !c.colour.gains.empty(); });
    if (!known) {
        plot_->show({});
        figure_->setText(matched ? "matched" : "as shot");
        as_shot_->setText("Match again to see how far apart neighbours are");
        as_shot_->setVisible(matched);
        return;
    }
    const MatchReport now = agreement(shot, moments_);
    as_shot_->show();
    plot_->show(now.pairs);
    figure_->setText(QString("%1 EV").arg(now.after_ev, 0, 'f', 3));
    as_shot_->setText(QString("apart in overlaps; as shot %1 EV").arg(now.before_ev, 0, 'f', 3));
}

void MatchPanel::show_cameras(const Shot& shot) {
    const QSignalBlocker block(table_);
    table_->setRowCount(int(shot.cameras.size()));
    for (int r = 0; r < table_->rowCount(); ++r) {
        const ShotCamera& c = shot.cameras[std::size_t(r)];
        const auto ev = gains_at(c.colour, session_.playhead());
        const QString cells[] = {
            QString::fromStdString(c.camera), signed_ev(ev[1]), signed_ev(ev[0] - ev[1]),
            signed_ev(ev[2] - ev[1]),
            QString("%1 %").arg(100 * (1 + c.colour.vignetting[0] + c.colour.vignetting[1]), 0, 'f', 0)};
        for (int i = 0; i < 5; ++i) {
            QTableWidgetItem* item = table_->item(r, i);
            if (!item) table_->setItem(r, i, item = new QTableWidgetItem);
            item->setText(cells[i]);
            item->setTextAlignment(i == 0 ? Qt::Alignment(Qt::AlignCenter)
                                          : Qt::AlignRight | Qt::AlignVCenter);
        }
        table_->item(r, 0)->setForeground(colour::lens(r));
    }
    const auto rows = chosen();
    if (rows.empty()) return;
    for_->setText(rows.size() == shot.cameras.size() ? "TRIM ALL CAMERAS"
                  : rows.size() == 1 ? "TRIM CAMERA " + QString::fromStdString(shot.cameras[rows[0]].camera)
                                     : QString("TRIM %1 CAMERAS").arg(rows.size()));
    const CameraColour& first = shot.cameras[rows[0]].colour;
    exposure_->set_quietly(first.exposure_ev);
    warmth_->set_quietly(first.warmth_ev);
    tint_->set_quietly(first.tint_ev);
}

void MatchPanel::refresh() {
    const Shot* shot = session_.shot();
    setEnabled(shot != nullptr);
    if (Part(pages_->currentIndex()) == Part::grade) return grade_->refresh();
    if (Part(pages_->currentIndex()) == Part::sources) return sources_->refresh();
    if (!shot) {
        plot_->show({});
        figure_->clear();
        as_shot_->clear();
        table_->setRowCount(0);
        return;
    }
    const MatchSettings& m = shot->colour.match;
    vignetting_->setChecked(m.vignetting);
    over_time_->setChecked(m.over_time);
    on_->setChecked(m.on);
    const QSignalBlocker block_samples(samples_), block_reference(reference_);
    samples_->setValue(m.samples);
    reference_->clear();
    reference_->addItem("the mean of all");
    for (const auto& c : shot->cameras) {
        const QString id = QString::fromStdString(c.camera);
        reference_->addItem("camera " + id, id);
        if (c.camera == m.reference) reference_->setCurrentIndex(reference_->count() - 1);
    }
    show_agreement(*shot);
    show_cameras(*shot);
}

} // namespace porb::app
