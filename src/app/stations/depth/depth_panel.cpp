#include "app/stations/depth/depth_panel.h"

#include "app/session/job_bar.h"
#include "app/widgets/keyed_list.h"
#include "app/widgets/number_field.h"
#include "app/widgets/parts_row.h"
#include "base/angle.h"
#include "project/limits.h"
#include "stereo/comfort.h"

#include <QComboBox>
#include <QFormLayout>
#include <QStackedWidget>

namespace porb::app {

namespace {
constexpr double kFirst_m = 3; ///< where parallel eyes converge when they are first stepped nearer
} // namespace

DepthPanel::DepthPanel(Session& session, PictureArea& picture, PictureService& service, QWidget* parent)
    : Panel("Depth",
            "Say where two eyes come from, let them converge on the subject, and measure what a viewer gets.",
            parent),
      session_(session), picture_(picture), service_(service), measures_(session), meeting_(this),
      tool_(session, picture, service) {
    setObjectName("depth_panel");
    parts_ = add_parts(column(), "depth_",
                       {{"Eyes", "Where two eyes come from, and where they converge"},
                        {"Comfort", "What a viewer gets: measured, by place and moment"}});
    pages_ = new QStackedWidget;
    column()->addWidget(pages_, 1);
    auto* eyes = new QWidget;
    auto* eyes_column = new QVBoxLayout(eyes);
    eyes_column->setContentsMargins(0, 0, 0, 0);
    eyes_column->setSpacing(6);
    pages_->addWidget(eyes);
    group_in(eyes_column, "EYES");
    auto* form = new QFormLayout;
    form->setVerticalSpacing(4);
    from_ = new QComboBox;
    from_->setObjectName("eyes_from");
    from_->addItems({"One picture for both", "Cameras of their own", "Drawn from distances"});
    from_->setToolTip(
        "Cameras of their own: the rig's left and right ones. Drawn: from all cameras, by how far away "
        "things are");
    form->addRow("Come from", from_);
    connect(from_, &QComboBox::activated, this, [this](int i) { set_from(EyesFrom(i)); });
    const auto field = [&](const QString& name, const char* object, Range range, double step, int digits,
                           const QString& unit, const QString& tip, auto set) {
        auto* f = new NumberField(range, step, digits, unit);
        f->setObjectName(object);
        f->setToolTip(tip);
        if (!name.isEmpty()) form->addRow(name, f);
        connect(f, &NumberField::edited, this, [this, name, object, set](double v) {
            change(
                "Set " + (name.isEmpty() ? QString("eyes") : name.toLower()),
                [&](StereoSettings& s) { set(s, v); }, object);
        });
        connect(f, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
        return f;
    };
    ipd_ = field("Apart", "eyes_apart", limits::kIpd_m.times(1000), 0.5, 1, " mm",
                 "Interpupillary distance of drawn eyes; people's are 54 to 74 mm",
                 [](StereoSettings& s, double v) { s.ipd_m = v / 1000; });
    auto* merge = new QHBoxLayout;
    merge_from_ = field("", "eyes_merge_from", limits::kMerge_deg, 1, 0, "°",
                        "From this latitude on, up and down, drawn eyes come together",
                        [](StereoSettings& s, double v) {
                            s.merge_from_deg = v;
                            s.merge_to_deg = std::max(s.merge_to_deg, std::min(90.0, v + 1));
                            s.merge_from_deg = std::min(v, 89.0);
                        });
    merge_to_ = field("", "eyes_merge_to", limits::kMerge_deg, 1, 0, "°",
                      "Beyond this latitude both eyes see the same", [](StereoSettings& s, double v) {
                          s.merge_to_deg = std::max(v, 1.0);
                          s.merge_from_deg = std::min(s.merge_from_deg, s.merge_to_deg - 1);
                      });
    merge->addWidget(merge_from_, 1);
    merge->addWidget(new QLabel("to"));
    merge->addWidget(merge_to_, 1);
    form->addRow("Together from", merge);
    mono_ = new QComboBox;
    mono_->setObjectName("eyes_mono");
    mono_->addItems({"the left eye", "the right eye"});
    mono_->setToolTip("Which of a pair's cameras a mono picture shows");
    connect(mono_, &QComboBox::activated, this, [this](int i) {
        change("Choose the eye of mono", [i](StereoSettings& s) { s.mono = MonoEye(i); });
    });
    form->addRow("Mono shows", mono_);
    border_ = field("Rim of 180°", "eyes_border", limits::kBorder_deg, 0.5, 1, "°",
                    "Over which half spheres fade at their rim, in both eyes alike; 0: a hard edge",
                    [](StereoSettings& st, double v) { st.border_deg = v; });
    swap_ = new QCheckBox("Swap left and right");
    swap_->setObjectName("eyes_swap");
    swap_->setToolTip("For a rig that was mounted or named the wrong way round");
    connect(swap_, &QCheckBox::clicked, this, &DepthPanel::swap);
    form->addRow("", swap_);
    eyes_column->addLayout(form);
    rig_words_ = new QLabel;
    rig_words_->setObjectName("eyes_rig");
    rig_words_->setProperty("role", "hint");
    rig_words_->setWordWrap(true);
    eyes_column->addWidget(rig_words_);

    finding_ = new QLabel;
    finding_->setObjectName("eyes_finding");
    finding_->setWordWrap(true);
    eyes_column->addWidget(finding_);

    group_in(eyes_column, "CONVERGENCE");
    auto* row = new QHBoxLayout;
    converge_ = new NumberField(limits::kConverge_m, 0.05, 2, " m");
    converge_->setObjectName("eyes_converge");
    converge_->setToolTip(
        "Where both eyes' pictures lie on each other; 0: infinitely far. Ctrl+[ and Ctrl+] step it");
    converge_->setSpecialValueText("infinitely far");
    connect(converge_, &NumberField::edited, this, [this](double v) {
        change(
            "Set convergence", [&](StereoSettings& s) { set_converge(s, session_.playhead(), v); },
            "eyes_converge");
    });
    connect(converge_, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
    row->addWidget(converge_, 1);
    pick_ = new QToolButton;
    pick_->setObjectName("converge_pick");
    pick_->setText("Click on it");
    pick_->setCheckable(true);
    pick_->setToolTip("Click in the picture on what both eyes should converge on (Shift+C)");
    connect(pick_, &QToolButton::clicked, this, &DepthPanel::pick_convergence);
    connect(&picture_, &PictureArea::tool_changed, this,
            [this] { pick_->setChecked(picture_.tool() == &tool_); });
    row->addWidget(pick_);
    eyes_column->addLayout(row);
    keys_ = new KeysRow(
        "eyes", "Sets a key of convergence at the playhead, or takes the one there away; it passes smoothly "
                "from key to key");
    connect(keys_, &KeysRow::toggle_wanted, this, &DepthPanel::toggle_key);
    eyes_column->addWidget(keys_);
    meet_ = new QPushButton("Meet the shot before");
    meet_->setObjectName("eyes_meet");
    meet_->setToolTip(
        "What the window looks at begins with the disparity that it has at the end of the shot before "
        "in the list: no jump of depth at the cut");
    connect(meet_, &QPushButton::clicked, this, &DepthPanel::meet_before);
    keys_->layout()->addWidget(meet_);
    eyes_column->addWidget(new JobBar(meeting_, session_, "meet", "where both eyes converge"));
    eyes_column->addWidget(new JobBar(tool_.job(), session_, "converge", "where both eyes converge"));

    comfort_ = new ComfortPart(session, picture, measures_);
    pages_->addWidget(comfort_);
    eyes_column->addStretch(1);
    show_page(pages_, 0);
    connect(parts_, &QButtonGroup::idClicked, this, [this](int id) { show_part(Part(id)); });

    connect(&session_, &Session::project_changed, this, &DepthPanel::refresh_if_seen);
    connect(&session_, &Session::playhead_changed, this, [this] {
        measures_.disturb();
        if (isVisible()) show_playhead();
    });
    connect(&measures_, &EyeMeasures::changed, this, &DepthPanel::refresh_if_seen);
}

void DepthPanel::change(const QString& label, const std::function<void(StereoSettings&)>& work,
                        const QString& key) {
    if (session_.shot())
        session_.edit_shot(
            label, [&](Shot& s) { work(s.stereo); }, key);
}

void DepthPanel::set_from(EyesFrom from) {
    bool switched = false;
    session_.edit_shot("Choose where eyes come from", [&](Shot& s) {
        s.stereo.from = from;
        if (from == EyesFrom::distances) switched = find_distances_everywhere(s);
    });
    if (switched)
        session_.say("Distances are found wherever two cameras see now (Seams, Parallax).", Signal::good);
    if (from == EyesFrom::distances && picture_.eyes() == EyesLook::mono)
        picture_.set_eyes(EyesLook::anaglyph);
}

void DepthPanel::swap() {
    change("Swap left and right", [](StereoSettings& s) { s.swap = !s.swap; });
}

void DepthPanel::toggle_key() {
    change("Key of convergence", [this](StereoSettings& s) { toggle_converge_key(s, session_.playhead()); });
}

void DepthPanel::converge_by(double factor) {
    change(
        "Set convergence",
        [&](StereoSettings& s) {
            const double now = converge_at(s, session_.playhead());
            set_converge(s, session_.playhead(), now > 0 ? now * factor : factor < 1 ? kFirst_m : 0);
        },
        "eyes_converge");
}

void DepthPanel::next_eyes_look() {
    const auto& all = all_eyes_looks();
    const auto at = std::find(all.begin(), all.end(), picture_.eyes()) - all.begin();
    const Shot* shot = session_.shot();
    if (!shot || (shot->stereo.from != EyesFrom::distances && eye_separation_m(shot->rig) == 0))
        return session_.say("This shot has one picture for both eyes: draw them from distances in Depth.",
                            Signal::care);
    picture_.set_eyes(all[std::size_t(at + 1) % all.size()]);
}

void DepthPanel::meet_before() {
    const Shot* shot = session_.shot();
    if (!shot || meeting_.is_running()) return;
    const auto& shots = session_.project()->shots;
    std::size_t at = 0;
    while (at < shots.size() && shots[at].id != shot->id) ++at;
    if (at == 0 || at >= shots.size())
        return session_.say("This is the first shot of the list: choose a later one.", Signal::care);
    if (picture_.mode() != ViewMode::window)
        return session_.say("Look at the subject in window view first (2).", Signal::care);
    const Vec3 subject = forward_of(picture_.look());
    meeting_.start([this, project = session_.project(), id = shot->id, before = shots[at - 1].id,
                    subject](const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        tell(0, "Comparing the eyes of both shots");
        const Met met = meeting(service_.composer(), *project, *find_shot(*project, before), subject,
                                *find_shot(*project, id), subject, cancel);
        return [this, met] {
            change("Meet the shot before",
                   [&](StereoSettings& s) { set_converge(s, met.time, met.converge_m); });
            session_.say(QString("It leaves the shot before at %1° and begins so now, instead of at %2°")
                             .arg(met.before_deg, 0, 'f', 2)
                             .arg(met.was_deg, 0, 'f', 2),
                         Signal::good);
        };
    });
}

void DepthPanel::measure() {
    show_part(Part::comfort);
    measures_.measure();
}

void DepthPanel::fit() {
    show_part(Part::comfort);
    comfort_->fit();
}

void DepthPanel::show_playhead() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    converge_->set_quietly(converge_at(shot->stereo, session_.playhead()));
    keys_->show_keys(shot->stereo.keys, session_.playhead());
    if (comfort_->isVisible()) comfort_->show_figures();
}

void DepthPanel::show_part(Part part) {
    parts_->button(int(part))->setChecked(true);
    show_page(pages_, int(part));
    refresh();
}

void DepthPanel::showEvent(QShowEvent* event) {
    Panel::showEvent(event);
    measures_.set_looked_at(true);
}

void DepthPanel::hideEvent(QHideEvent* event) {
    Panel::hideEvent(event);
    measures_.set_looked_at(false);
}

void DepthPanel::refresh() {
    const Shot* shot = session_.shot();
    setEnabled(shot != nullptr);
    if (!shot) return;
    const StereoSettings& s = shot->stereo;
    const bool drawn = s.from == EyesFrom::distances, pair = eye_separation_m(shot->rig) > 0;
    from_->setCurrentIndex(int(s.from));
    ipd_->set_quietly(1000 * s.ipd_m);
    merge_from_->set_quietly(s.merge_from_deg);
    merge_to_->set_quietly(s.merge_to_deg);
    for (QWidget* w : std::initializer_list<QWidget*>{ipd_, merge_from_, merge_to_}) w->setEnabled(drawn);
    mono_->setCurrentIndex(int(s.mono));
    mono_->setEnabled(pair && !drawn);
    swap_->setChecked(s.swap);
    border_->set_quietly(s.border_deg);
    const bool stereo = drawn || (s.from == EyesFrom::cameras && pair);
    for (QWidget* w : std::initializer_list<QWidget*>{converge_, pick_, keys_, meet_}) w->setEnabled(stereo);
    rig_words_->setText(
        drawn ? QString("The rig's lenses stand up to %1 mm apart: eyes may, too.")
                    .arg(1000 * widest_ipd_m(shot->rig), 0, 'f', 0)
        : pair
            ? QString("The rig's eyes stand %1 mm apart.").arg(1000 * eye_separation_m(shot->rig), 0, 'f', 1)
            : "No camera of the rig is of one eye alone; Rig says which is.");
    const auto& findings = measures_.findings_of_settings();
    finding_->setVisible(!findings.empty());
    if (!findings.empty())
        finding_->setText("▲ " + QString::fromStdString(findings[0].what + ". " + findings[0].mend + "."));
    show_playhead();
    if (comfort_->isVisible()) comfort_->refresh();
}

} // namespace porb::app
