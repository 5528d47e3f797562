#include "app/stations/points/points_panel.h"

#include "app/session/job_bar.h"
#include "app/widgets/number_field.h"
#include "optics/eye_pairs.h"
#include "project/limits.h"
#include "solve/bundle/point_fit.h"
#include "solve/bundle/report.h"
#include "solve/calibrate.h"
#include "solve/keep_solve.h"
#include "solve/points.h"

#include <QCheckBox>
#include <QComboBox>
#include <QFormLayout>
#include <QListWidget>
#include <QPushButton>
#include <QSpinBox>
#include <QToolButton>

namespace porb::app {

namespace {
/// The five freedoms, in the order in which they are shown.
Freedom& freedom_of(SolveSettings& s, int i) {
    Freedom* all[] = {&s.turn, &s.position, &s.focal, &s.centre, &s.distortion};
    return *all[i];
}
} // namespace

PointsPanel::PointsPanel(Session& session, PictureArea& picture, QWidget* parent)
    : Panel("Points",
            "What several lenses see alike tells how the rig really stands. Find points, solve, then look at "
            "those with large residuals.",
            parent),
      session_(session), picture_(picture), region_tool_(session, picture) {
    setObjectName("points_panel");
    rms_ = new QLabel;
    rms_->setObjectName("rms_label");
    rms_->setProperty("role", "figure");
    column()->addWidget(rms_);
    facts_ = new QLabel;
    facts_->setObjectName("points_facts");
    facts_->setProperty("role", "hint");
    facts_->setWordWrap(true);
    column()->addWidget(facts_);
    find_ = new QPushButton("Find points and solve");
    find_->setObjectName("find_and_solve");
    find_->setProperty("role", "main");
    find_->setToolTip("Looks for points at every sample, then solves (Ctrl+P)");
    column()->addWidget(find_);
    again_ = new QPushButton("Solve again");
    again_->setObjectName("solve_again");
    again_->setToolTip("From the points there are (Ctrl+Shift+P)");
    column()->addWidget(again_);
    column()->addWidget(new JobBar(job_, session, "solve", "the rig"));
    from_far_ = new QCheckBox("Cameras may be turned any way");
    from_far_->setObjectName("from_far");
    from_far_->setToolTip(
        "Take directions from the pictures when only the lenses and the rough layout are known");
    column()->addWidget(from_far_);

    group("SAMPLES");
    auto* sample_row = new QHBoxLayout;
    samples_ = new QSpinBox;
    samples_->setObjectName("samples");
    samples_->setRange(int(limits::kSamples.low), int(limits::kSamples.high));
    samples_->setToolTip("How many moments points are looked for at");
    pick_ = new QComboBox;
    pick_->setObjectName("sample_pick");
    pick_->setToolTip("Between the first and the last frame: evenly, or where pictures are sharp and still");
    pick_->addItems({"spread evenly", "best moments"});
    auto* here = new QPushButton("Add here");
    here->setToolTip("A sample at the playhead (Shift+M); samples by hand replace those that are spread");
    sample_row->addWidget(samples_);
    sample_row->addWidget(pick_, 1);
    sample_row->addWidget(here);
    column()->addLayout(sample_row);
    samples_text_ = new QLabel;
    samples_text_->setObjectName("samples_text");
    samples_text_->setProperty("role", "hint");
    samples_text_->setWordWrap(true);
    column()->addWidget(samples_text_);

    group("WHERE TO LOOK");
    auto* region_row = new QHBoxLayout;
    const auto tool = [&](const char* name, const QString& text, const QString& tip, bool avoid) {
        auto* t = new QToolButton;
        t->setObjectName(name);
        t->setText(text);
        t->setToolTip(tip);
        t->setCheckable(true);
        t->setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Fixed);
        region_row->addWidget(t);
        connect(t, &QToolButton::clicked, this,
                [this, avoid](bool on) { on ? trace_region(avoid) : picture_.set_tool(nullptr); });
        return t;
    };
    avoid_ = tool("avoid_region", "Avoid…",
                  "Trace an outline on a lens or the map in which no points are looked for (X)", true);
    only_ =
        tool("only_region", "Only in…",
             "Trace an outline on a lens or the map; points are looked for only in such (Shift+X)", false);
    auto* clear = new QPushButton("Clear");
    clear->setObjectName("clear_regions");
    clear->setToolTip("Removes all outlines: points are looked for everywhere");
    region_row->addWidget(clear);
    column()->addLayout(region_row);
    regions_ = new QLabel;
    regions_->setObjectName("regions_text");
    regions_->setProperty("role", "hint");
    column()->addWidget(regions_);
    connect(clear, &QPushButton::clicked, this,
            [this] { set("Clear regions", [](Shot& s) { s.calibration.regions.clear(); }); });
    connect(&picture_, &PictureArea::tool_changed, this, [this] { show_tools(); });

    group("A SOLVE MAY CHANGE");
    auto* form = new QFormLayout;
    form->setVerticalSpacing(3);
    const char* names[] = {"Direction", "Position", "Focal length", "Lens centre", "Distortion"};
    for (int i = 0; i < 5; ++i) {
        auto* c = freedoms_[i] = new QComboBox;
        c->setObjectName(QString("freedom_%1").arg(i));
        c->setToolTip("What a solve may do with it; cameras that are locked in Rig stay as they are");
        c->addItems({"locked", i < 2 ? "locked" : "the same for alike lenses", "each camera's own"});
        if (i < 2) c->removeItem(1);
        form->addRow(names[i], c);
        connect(c, &QComboBox::activated, this, [this, i, name = QString(names[i])](int index) {
            const Freedom f = i < 2 && index == 1 ? Freedom::free : Freedom(index);
            set("What may change: " + name.toLower(),
                [i, f](Shot& s) { freedom_of(s.calibration.solving, i) = f; });
        });
    }
    column()->addLayout(form);
    own_distance_ = new QCheckBox("Each point at its own distance");
    own_distance_->setObjectName("own_distance");
    own_distance_->setToolTip(
        "Near things then help instead of hurting; otherwise all points lie at the agree distance");
    column()->addWidget(own_distance_);
    straight_edges_ = new QCheckBox("Straight edges come out straight");
    straight_edges_->setObjectName("straight_edges");
    straight_edges_->setToolTip(
        "Long edges are looked for in each picture; they tell of a lens what lies far from any "
        "overlap. Leave it off where everything is round");
    column()->addWidget(straight_edges_);
    agreement_ = new QCheckBox("Eyes agree in height");
    agreement_->setObjectName("vertical_agreement");
    agreement_->setToolTip(
        "Where turning a pair's cameras leaves vertical disparity, both lenses are bent gently, by half "
        "each; the solve says by how much");
    column()->addWidget(agreement_);

    group("LEAVE OUT");
    auto* limit_row = new QHBoxLayout;
    limit_ = new NumberField(limits::kResidualLimit_px, 0.05, 2, "px");
    limit_->setObjectName("drop_limit");
    limit_->setToolTip("A point's residual, in source pixels; solves leave out what lies above it, too");
    connect(limit_, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
    auto* drop = new QPushButton("Leave out");
    drop->setObjectName("drop_above");
    drop->setToolTip("Leaves out every point whose residual is above this; they stay in the table");
    would_drop_ = new QLabel;
    would_drop_->setObjectName("would_drop");
    would_drop_->setProperty("role", "hint");
    limit_row->addWidget(new QLabel("above"));
    limit_row->addWidget(limit_);
    limit_row->addWidget(drop);
    column()->addLayout(limit_row);
    column()->addWidget(would_drop_);

    group("KEPT SOLVES");
    kept_ = new QListWidget;
    kept_->setObjectName("kept_solves");
    kept_->setFixedHeight(84);
    column()->addWidget(kept_);
    undetermined_ = new QLabel;
    undetermined_->setObjectName("undetermined");
    undetermined_->setProperty("role", "hint");
    undetermined_->setWordWrap(true);
    column()->addWidget(undetermined_);
    column()->addStretch(1);

    connect(find_, &QPushButton::clicked, this, [this] { run(true); });
    connect(again_, &QPushButton::clicked, this, [this] { run(false); });
    connect(here, &QPushButton::clicked, this, &PointsPanel::add_sample);
    connect(samples_, &QSpinBox::editingFinished, this, [this] {
        if (session_.shot() && samples_->value() != session_.shot()->calibration.solving.samples)
            set("Set the number of samples", [n = samples_->value()](Shot& s) {
                s.calibration.solving.samples = n, s.calibration.solving.by_hand.clear();
            });
    });
    connect(pick_, &QComboBox::activated, this, [this](int i) {
        set("Choose how samples are picked", [i](Shot& s) {
            s.calibration.solving.pick = SamplePick(i), s.calibration.solving.by_hand.clear();
        });
    });
    connect(straight_edges_, &QCheckBox::clicked, this, [this](bool on) {
        set("Straight edges", [on](Shot& s) { s.calibration.solving.straight_edges = on; });
    });
    connect(agreement_, &QCheckBox::clicked, this, [this](bool on) {
        set("Vertical agreement", [on](Shot& s) { s.calibration.solving.vertical_agreement = on; });
    });
    connect(own_distance_, &QCheckBox::clicked, this, [this](bool on) {
        set("Distances of points", [on](Shot& s) { s.calibration.solving.depth_per_point = on; });
    });
    connect(limit_, &NumberField::edited, this, [this](double v) {
        set(
            "Set the limit of residuals", [v](Shot& s) { s.calibration.solving.limit_px = v; }, "drop-limit");
    });
    connect(drop, &QPushButton::clicked, this, [this] {
        if (!session_.shot()) return;
        const auto fits = session_.point_fits();
        int n = 0;
        set("Leave out points above the limit", [&](Shot& s) {
            s.calibration.points.edit(
                [&](ControlPoints& p) { n = drop_above(p, fits, s.calibration.solving.limit_px); });
        });
        session_.say(QString("%1 points left out. Solve again to use the rest.").arg(n));
    });
    connect(kept_, &QListWidget::itemActivated, this, [this](QListWidgetItem* item) {
        const int id = item->data(Qt::UserRole).toInt();
        session_.edit_shot("Return to " + item->text().section(':', 0, 0),
                           [id](Shot& s) { return_to_solve(s, id); }, {}, {OriginKind::solve, ""});
    });
    connect(&job_, &BackgroundJob::running_changed, this, &PointsPanel::show_busy);
    connect(&session_, &Session::project_changed, this, &PointsPanel::refresh_if_seen);
    refresh();
}

void PointsPanel::set(const QString& label, const std::function<void(Shot&)>& change, const QString& key) {
    session_.edit_shot(label, change, key);
}

void PointsPanel::trace_region(bool avoid) {
    if (picture_.mode() != ViewMode::lens && picture_.mode() != ViewMode::map)
        picture_.set_mode(ViewMode::lens);
    region_tool_.set_avoids(avoid);
    picture_.set_tool(&region_tool_);
    picture_.update();
    show_tools();
}

void PointsPanel::show_tools() {
    const bool traces = picture_.tool() == &region_tool_;
    picture_.set_regions_shown(traces);
    avoid_->setChecked(traces && region_tool_.avoids());
    only_->setChecked(traces && !region_tool_.avoids());
}

void PointsPanel::add_sample() {
    const Seconds t = session_.playhead();
    set("Add a sample", [t](Shot& s) {
        auto& list = s.calibration.solving.by_hand;
        if (std::find(list.begin(), list.end(), t) != list.end()) return;
        list.insert(std::lower_bound(list.begin(), list.end(), t), t);
    });
}

void PointsPanel::run(bool find) {
    const Shot* shot = session_.shot();
    if (!shot || job_.is_running()) return;
    SolveOptions options;
    options.find = find;
    options.from_far = from_far_->isChecked();
    options.one_moment = !shot->calibration.solving.by_hand.empty();
    job_.start([this, options, project = session_.project(), id = shot->id, library = session_.library()](
                   const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        auto solved = std::make_shared<Solved>(solve_shot(
            *project, *find_shot(*project, id), *library, options,
            [&](const SolveProgress& p) { tell(p.share, QString::fromStdString(p.doing)); }, cancel));
        return [this, solved, project, id] {
            if (!session_.still_holds(*find_shot(*project, id))) return;
            const SolveReport& r = solved->report;
            std::optional<double> agree;
            const bool taken = session_.edit_shot(
                "Solve the rig",
                [&](Shot& s) { agree = take_solve(s, solved->rig, solved->points, solved->lines, r); }, {},
                {OriginKind::solve, ""});
            if (!taken) return; // why was said
            QString words = QString("Solved: %1 px, before %2 px; %3 points used, %4 left out.")
                                .arg(r.rms.px, 0, 'f', 2)
                                .arg(r.before.px, 0, 'f', 2)
                                .arg(r.points)
                                .arg(r.dropped);
            if (agree)
                words += *agree > 0
                             ? QString(" All agree at %1 m, the middle of the depths.").arg(*agree, 0, 'f', 2)
                             : QString(" All agree far away.");
            session_.say(words);
            agreed_.reset();
            if (const Shot* now = session_.shot(); now && r.agreement) agreed_ = {now->rig, *r.agreement};
            refresh();
        };
    });
}

void PointsPanel::show_busy() {
    const Shot* shot = session_.shot();
    const bool busy = job_.is_running();
    find_->setEnabled(!busy);
    again_->setEnabled(!busy && shot && !shot->calibration.points->empty());
}

void PointsPanel::refresh() {
    const Shot* shot = session_.shot();
    setEnabled(shot != nullptr);
    show_busy();
    if (!shot) return;
    const auto& fits = session_.point_fits();
    const SolveReport r = figures_of(shot->rig, *shot->calibration.points, fits);
    rms_->setText(shot->calibration.points->empty() ? "not solved yet"
                                                    : QString("%1 px").arg(r.rms.px, 0, 'f', 2));
    facts_->setText(shot->calibration.points->empty()
                        ? "Points are looked for where two lenses see the same."
                        : QString("RMS under the rig as it stands, %1 arcmin\n%2 points used, %3 left out")
                              .arg(r.rms.arcmin, 0, 'f', 2)
                              .arg(r.points)
                              .arg(r.dropped));
    if (agreed_ && agreed_->rig == shot->rig)
        facts_->setText(
            facts_->text() +
            QString("\nSo that eyes agree in height, each lens is bent by half: pictures move by up to "
                    "%1 px, straight lines bend by up to %2 px (half sphere 2048 a side)")
                .arg(agreed_->how.size_px, 0, 'f', 1)
                .arg(agreed_->how.bends_px, 0, 'f', 1));
    const SolveSettings& s = shot->calibration.solving;
    samples_->setValue(s.samples);
    pick_->setCurrentIndex(int(s.pick));
    QStringList times;
    for (const auto& t : s.by_hand) times << QString("%1 s").arg(t.to_double(), 0, 'f', 2);
    samples_text_->setText(times.isEmpty()
                               ? "First and last frame always; ticks in the lane under the ruler show where."
                               : "By hand: " + times.join(", "));
    SolveSettings copy = s;
    for (int i = 0; i < 5; ++i) {
        const Freedom f = freedom_of(copy, i);
        freedoms_[i]->setCurrentIndex(i < 2 ? (f == Freedom::locked ? 0 : 1) : int(f));
    }
    const auto avoided = std::count_if(shot->calibration.regions.begin(), shot->calibration.regions.end(),
                                       [](const PointRegion& region) { return region.avoid; });
    regions_->setText(shot->calibration.regions.empty()
                          ? "Everywhere that two lenses see."
                          : QString("%1 to avoid, %2 to look in")
                                .arg(avoided)
                                .arg(shot->calibration.regions.size() - std::size_t(avoided)));
    own_distance_->setChecked(s.depth_per_point);
    straight_edges_->setChecked(s.straight_edges);
    agreement_->setChecked(s.vertical_agreement);
    agreement_->setVisible(is_half_sphere_pair(shot->rig));
    limit_->set_quietly(s.limit_px);
    const auto over = std::count_if(fits.begin(), fits.end(), [&](const PointFit& f) {
        return f.residual_px() > s.limit_px &&
               (*shot->calibration.points)[std::size_t(&f - fits.data())].dropped.empty();
    });
    would_drop_->setText(fits.empty()
                             ? "There are no points yet."
                             : QString("would leave out %1 more of %2 points").arg(over).arg(fits.size()));
    kept_->clear();
    QStringList words;
    for (std::size_t i = shot->calibration.solves.size(); i-- > 0;) {
        const KeptSolve& k = shot->calibration.solves[i];
        const bool now = k.rig == shot->rig;
        auto* item = new QListWidgetItem(QString("%1: %2 px, %3 points%4")
                                             .arg(QString::fromStdString(k.name))
                                             .arg(k.rms_px, 0, 'f', 2)
                                             .arg(k.points)
                                             .arg(now ? "  (in use)" : ""));
        item->setData(Qt::UserRole, k.id);
        QStringList sure;
        for (const auto& v : k.values)
            sure << QString("%1 %2: %3 %4 %5")
                        .arg(QString::fromStdString(v.camera), QString::fromStdString(v.name))
                        .arg(v.value, 0, 'f', 4)
                        .arg(v.determined ? QString("± %1").arg(v.sigma, 0, 'g', 2) : "not told",
                             QString::fromStdString(v.unit));
        item->setToolTip("Double-click to return to it.\n" + sure.join("\n"));
        kept_->addItem(item);
        if (now && words.isEmpty()) {
            QStringList who;
            for (const auto& v : k.values)
                if (!v.determined) who << QString::fromStdString(v.camera + " " + v.name);
            if (!who.isEmpty())
                words << "The points do not tell: " + who.mid(0, 8).join(", ") + (who.size() > 8 ? "…" : "") +
                             ". Kept as before.";
        }
    }
    undetermined_->setText(words.join("\n"));
}

} // namespace porb::app
