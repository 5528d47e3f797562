#include "app/stations/level/level_panel.h"

#include "app/session/job_bar.h"
#include "app/widgets/number_field.h"
#include "base/angle.h"
#include "project/limits.h"
#include "project/orientation.h"
#include "project/span.h"
#include "solve/level.h"
#include "steady/track.h"

#include <QFormLayout>
#include <QPushButton>
#include <QToolButton>

namespace porb::app {

LevelPanel::LevelPanel(Session& session, PictureArea& picture, QWidget* parent)
    : Panel("Level",
            "Let edges or gravity set it upright, drag the sphere, or type the angles. Double-click what "
            "should be in front.",
            parent),
      session_(session), picture_(picture), line_tool_(session, picture) {
    setObjectName("level_panel");
    lean_ = new QLabel;
    lean_->setObjectName("lean_label");
    lean_->setProperty("role", "figure");
    lean_->setStyleSheet("font-size: 15px;");
    column()->addWidget(lean_);

    group("UPRIGHT");
    const auto button = [&](QHBoxLayout* row, const QString& text, const char* name, auto action) {
        auto* b = new QPushButton(text);
        b->setObjectName(name);
        row->addWidget(b);
        connect(b, &QPushButton::clicked, this, action);
        return b;
    };
    auto* first = new QHBoxLayout;
    button(first, "Find upright edges", "find_edges", [this] { find_edges(); })->setProperty("role", "main");
    button(first, "Gravity", "by_gravity", [this] {
        level_by_gravity();
    })->setToolTip("From the motion record's acceleration");
    column()->addLayout(first);
    auto* tools = new QHBoxLayout;
    const char* names[] = {"Upright line", "Level line", "Straight line"};
    for (int i = 0; i < 3; ++i) {
        auto* t = tools_[i] = new QToolButton;
        t->setObjectName(QString("line_tool_%1").arg(i));
        t->setText(names[i]);
        t->setCheckable(true);
        t->setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Fixed);
        t->setToolTip(i == 2 ? "Trace an edge that is straight; solves use it"
                             : "Trace an edge in lens, window or map view");
        tools->addWidget(t);
        connect(t, &QToolButton::clicked, this,
                [this, i](bool on) { on ? trace(LineKind(i)) : picture_.set_tool(nullptr); });
    }
    column()->addLayout(tools);
    lines_ = new QLabel;
    lines_->setObjectName("lines_label");
    lines_->setProperty("role", "hint");
    lines_->setWordWrap(true);
    column()->addWidget(lines_);
    auto* second = new QHBoxLayout;
    by_lines_ = button(second, "Stand upright by lines", "by_lines", [this] { level_by_lines(); });
    button(second, "Clear lines", "clear_lines", [this] {
        change("Clear lines", [](Shot& s) {
            std::erase_if(s.calibration.lines, [](const LineMark& l) { return !is_solve_edge(l); });
        });
    });
    column()->addLayout(second);

    group("ORIENTATION");
    auto* form = new QFormLayout;
    form->setVerticalSpacing(3);
    const auto field = [&](const char* name, double limit, const char* object) {
        auto* f = new NumberField(Range{-limit, limit}, 0.1, 2, "°");
        f->setObjectName(object);
        f->setWrapping(limit == 180);
        form->addRow(name, f);
        connect(f, &NumberField::edited, this, [this, name] {
            set(QString("Set %1").arg(QString(name).toLower()),
                {yaw_->value(), pitch_->value(), roll_->value()}, QString("level-") + name);
        });
        connect(f, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
        return f;
    };
    yaw_ = field("Yaw (heading)", 180, "level_yaw");
    pitch_ = field("Pitch", 90, "level_pitch");
    roll_ = field("Roll", 180, "level_roll");
    column()->addLayout(form);
    auto* hold = new QCheckBox("Hold pitch and roll while dragging");
    hold->setObjectName("hold_pitch_roll");
    column()->addWidget(hold);
    connect(hold, &QCheckBox::toggled, this,
            [this](bool on) { picture_.set_level_hold(on ? LevelHold::pitch_and_roll : LevelHold::none); });
    auto* third = new QHBoxLayout;
    button(third, "Face the window", "face_window", [this] {
        if (!session_.shot()) return;
        const double yaw = picture_.look().yaw_deg;
        change("Face the window's heading", [yaw](Shot& s) { turn_all(s, rotation_of({-yaw, 0, 0})); });
        picture_.set_look({0, picture_.look().pitch_deg, 0}, picture_.field_of_view());
    });
    button(third, "Turn by 90°", "turn_90", [this] {
        change("Turn by 90°", [](Shot& s) { turn_all(s, rotation_of({90, 0, 0})); });
    });
    column()->addLayout(third);
    auto* fourth = new QHBoxLayout;
    button(fourth, "Rig hung upside down", "upside_down", [this] {
        change("Turn upside down", [](Shot& s) { turn_all(s, rotation_of({0, 0, 180})); });
    });
    button(fourth, "Reset", "as_it_stood", [this] {
        change("Reset the orientation",
               [](Shot& s) { s.levelling.orientation = {}, s.levelling.orientation_keys.clear(); });
    });
    column()->addLayout(fourth);

    group("OVER TIME");
    curves_ = new TurnCurves(session_);
    column()->addWidget(curves_);
    auto* fifth = new QHBoxLayout;
    button(fifth, "Key here", "set_key", [this] {
        set_key();
    })->setToolTip("Keep the orientation at the playhead; between keys it turns smoothly (H)");
    button(fifth, "Remove key", "remove_key", [this] { remove_key(); });
    column()->addLayout(fifth);
    keys_ = new QLabel;
    keys_->setObjectName("keys_label");
    keys_->setProperty("role", "hint");
    keys_->setWordWrap(true);
    column()->addWidget(keys_);

    group("STEADY");
    auto* sixth = new QHBoxLayout;
    button(sixth, "From the footage", "steady_footage", [this] { steady(SteadySource::footage); });
    button(sixth, "From the record", "steady_record", [this] {
        steady(SteadySource::record);
    })->setToolTip("The camera's motion record; its offset and axes are found");
    column()->addLayout(sixth);
    column()->addWidget(new JobBar(job_, session, "steady", "everything"));
    steady_words_ = new QLabel;
    steady_words_->setObjectName("steady_label");
    steady_words_->setProperty("role", "hint");
    steady_words_->setWordWrap(true);
    column()->addWidget(steady_words_);
    auto* checks = new QHBoxLayout;
    steady_on_ = new QCheckBox("Steady");
    steady_on_->setObjectName("steady_on");
    horizon_ = new QCheckBox("Keep the horizon");
    horizon_->setObjectName("keep_horizon");
    horizon_->setToolTip("Follow headings only; leaning is always taken out");
    steady_on_->setToolTip("Use the analysis, or leave the shake in");
    checks->addWidget(steady_on_);
    checks->addWidget(horizon_);
    column()->addLayout(checks);
    auto* steady_form = new QFormLayout;
    steady_form->setVerticalSpacing(3);
    strength_ = new NumberField(limits::kShare.times(100), 1, 0, "%");
    strength_->setObjectName("steady_strength");
    strength_->setToolTip("How much of the shake is taken out");
    follow_ = new NumberField(limits::kFollow_s, 0.1, 1, "s");
    follow_->setObjectName("steady_follow");
    follow_->setToolTip("Turns slower than this are followed; 0 locks the direction");
    readout_ = new NumberField(limits::kReadout_s.times(1000), 0.1, 1, "ms");
    readout_->setObjectName("steady_readout");
    readout_->setToolTip("Rolling shutter: from the first row's moment to the last's");
    steady_form->addRow("Strength", strength_);
    steady_form->addRow("Follow turns of", follow_);
    steady_form->addRow("Shutter readout", readout_);
    column()->addLayout(steady_form);
    findChild<QPushButton*>("find_edges")
        ->setToolTip("Long straight edges of all pictures at the playhead (U)");
    findChild<QPushButton*>("by_lines")
        ->setToolTip("So that the traced lines that agree stand upright or level (Shift+U)");
    findChild<QPushButton*>("clear_lines")
        ->setToolTip("Removes the lines traced and the upright edges found; what a solve used stays");
    findChild<QPushButton*>("face_window")
        ->setToolTip("Turns the heading so that what the window looks at is in front");
    findChild<QPushButton*>("turn_90")->setToolTip("A quarter to the right");
    findChild<QPushButton*>("upside_down")->setToolTip("Turns over: the rig hung from above");
    findChild<QPushButton*>("as_it_stood")->setToolTip("All angles 0, no keys");
    findChild<QPushButton*>("remove_key")->setToolTip("Takes the key at the playhead away (Shift+H)");
    findChild<QPushButton*>("steady_footage")->setToolTip("Follows the pictures from frame to frame (Y)");
    column()->addStretch(1);

    connect(steady_on_, &QCheckBox::clicked, this,
            [this](bool on) { set_steady(on ? "Steady on" : "Steady off", [on](Steady& s) { s.on = on; }); });
    connect(horizon_, &QCheckBox::clicked, this,
            [this](bool on) { set_steady("Keep the horizon", [on](Steady& s) { s.keep_horizon = on; }); });
    connect(strength_, &NumberField::edited, this, [this](double v) {
        set_steady(
            "Set the strength of steadying", [v](Steady& s) { s.strength = v / 100; }, "steady-strength");
    });
    connect(follow_, &NumberField::edited, this, [this](double v) {
        set_steady(
            "Set which turns are followed", [v](Steady& s) { s.follow_s = v; }, "steady-follow");
    });
    connect(readout_, &NumberField::edited, this, [this](double v) {
        set_steady(
            "Set the shutter's readout", [v](Steady& s) { s.readout_s = v / 1000; }, "steady-readout");
    });
    for (NumberField* f : {strength_, follow_, readout_})
        connect(f, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
    connect(&picture_, &PictureArea::tool_changed, this, [this] { show_tools(); });
    connect(&session_, &Session::project_changed, this, &LevelPanel::refresh_if_seen);
    connect(&session_, &Session::playhead_changed, this, [this] {
        if (isVisible() && session_.shot() && orientation_moves(*session_.shot())) show_angles();
    });
    refresh();
}

void LevelPanel::change(const QString& label, const std::function<void(Shot&)>& work, const QString& key) {
    session_.edit_shot(label, work, key);
}

void LevelPanel::set(const QString& label, const Turn& turn, const QString& key) {
    const Seconds t = session_.playhead();
    session_.edit_shot(
        label,
        [&](Shot& s) {
            if (orientation_moves(s))
                set_orientation(s, t, rotation_of(turn));
            else
                s.levelling.orientation = tidied(turn);
        },
        key);
}

void LevelPanel::set_steady(const QString& label, const std::function<void(Steady&)>& work,
                            const QString& key) {
    if (!session_.shot() || !session_.shot()->levelling.steady) return;
    session_.edit_shot(
        label, [&](Shot& s) { work(*s.levelling.steady); }, key);
}

void LevelPanel::trace(LineKind kind) {
    line_tool_.set_kind(kind);
    picture_.set_tool(&line_tool_);
    picture_.update();
    show_tools();
}

void LevelPanel::find_edges() {
    const Shot* shot = session_.shot();
    if (!shot || job_.is_running()) return;
    job_.start([this, project = session_.project(), id = shot->id, at = session_.playhead(),
                library = session_.library()](const BackgroundJob::Tell& tell,
                                              const Cancel& cancel) -> BackgroundJob::Finish {
        tell(0, "Finding edges");
        const Shot& of = *find_shot(*project, id);
        // The moment on show first: what is set upright is set there.
        std::vector<Seconds> times = {at};
        for (const Seconds t : upright_times(*project, of, *library))
            if (t != at) times.push_back(t);
        const FoundUpright found = find_upright(
            *project, of, times, *library, [&](double share) { tell(share, "Finding edges"); }, cancel);
        return [this, found, project, id, at] {
            if (!session_.still_holds(*find_shot(*project, id))) return;
            QString words;
            session_.edit_shot("Upright by edges found", [&](Shot& s) {
                std::erase_if(s.calibration.lines, is_upright_edge);
                words = QString("%1 upright edges; it leant by %2°. They agree to %3°.%4")
                            .arg(found.lines.size())
                            .arg(lean_deg(s, at, found.upright.up), 0, 'f', 2)
                            .arg(found.upright.error_deg, 0, 'f', 2)
                            .arg(found.turned_over ? " The rig hung from above: turned over."
                                 : found.end_told
                                     ? ""
                                     : " No sky tells which end is up: if it stands on its head, turn "
                                       "it over.");
                s.calibration.lines.insert(s.calibration.lines.end(), found.lines.begin(), found.lines.end());
                set_upright(s, at, found.upright.up);
            });
            session_.say(words);
        };
    });
}

void LevelPanel::level_by_lines() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const Seconds at = session_.playhead();
    try {
        const Upright u =
            upright_from_lines(line_senses(*shot), orientation_at(*shot, at).transpose() * Vec3(0, -1, 0));
        const double lean = lean_deg(*shot, at, u.up);
        change("Upright by lines", [&](Shot& s) { set_upright(s, at, u.up); });
        session_.say(QString("It leant by %1°. The lines agree to %2°; up is sure to %3°.")
                         .arg(lean, 0, 'f', 2)
                         .arg(u.error_deg, 0, 'f', 2)
                         .arg(u.sure_deg, 0, 'f', 2));
    } catch (const std::exception& e) {
        session_.say(e.what(), Signal::care);
    }
}

void LevelPanel::level_by_gravity() {
    const Shot* shot = session_.shot();
    if (!shot || job_.is_running()) return;
    if (!shot->calibration.motion)
        return session_.say(
            "The shot has no motion record. Read one in Rig, under calibration and rig files.", Signal::care);
    job_.start(
        [this, project = session_.project(), id = shot->id, at = session_.playhead(),
         library = session_.library()](const BackgroundJob::Tell&, const Cancel&) -> BackgroundJob::Finish {
            const Shot& s = *find_shot(*project, id);
            const Span used = used_span(*project, s, *library);
            const Upright u = upright_from_record(s, load_motion(s.calibration.motion->path),
                                                  used.in.to_double(), used.out.to_double());
            return [this, u, at, project, id] {
                if (!session_.still_holds(*find_shot(*project, id))) return;
                session_.edit_shot("Upright by gravity", [&](Shot& to) { set_upright(to, at, u.up); });
                session_.say(QString("Upright by gravity, sure to %1°.").arg(u.sure_deg, 0, 'f', 3));
            };
        });
}

void LevelPanel::set_key() {
    const Seconds t = session_.playhead();
    change("Set an orientation key", [t](Shot& s) {
        const Turn now = tidied(turn_of(keyed_orientation(s, t.to_double())));
        auto it = std::lower_bound(s.levelling.orientation_keys.begin(), s.levelling.orientation_keys.end(),
                                   t, [](const OrientationKey& k, Seconds at) { return k.time < at; });
        if (it != s.levelling.orientation_keys.end() && it->time == t) return;
        s.levelling.orientation_keys.insert(it, {t, now});
    });
}

void LevelPanel::remove_key() {
    const Seconds t = session_.playhead();
    change("Remove an orientation key", [t](Shot& s) {
        const Turn now = tidied(turn_of(keyed_orientation(s, t.to_double())));
        std::erase_if(s.levelling.orientation_keys, [t](const OrientationKey& k) { return k.time == t; });
        if (s.levelling.orientation_keys.empty()) s.levelling.orientation = now;
    });
}

void LevelPanel::steady(SteadySource source) {
    const Shot* shot = session_.shot();
    if (!shot || job_.is_running()) return;
    job_.start([this, source, project = session_.project(), id = shot->id, library = session_.library()](
                   const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        auto next = std::make_shared<Shot>(*find_shot(*project, id));
        const QString words = QString::fromStdString(steady_shot(
            *project, *next, source, source == SteadySource::record, *library,
            [&](double share) { tell(share, "Following"); }, cancel));
        return [this, next, words, project, id] {
            if (!session_.still_holds(*find_shot(*project, id))) return;
            session_.edit_shot("Steady the shot", [&](Shot& s) {
                s.levelling.steady = next->levelling.steady, s.calibration.motion = next->calibration.motion;
            });
            session_.say("Steadied: " + words + ".");
        };
    });
}

void LevelPanel::show_angles() {
    const Shot* shot = session_.shot();
    // One orientation for all is shown as it was typed; a moving one as it is now.
    const bool moves = shot && orientation_moves(*shot);
    const Turn t = !shot   ? Turn{}
                   : moves ? turn_of(orientation_at(*shot, session_.playhead()))
                           : shot->levelling.orientation;
    yaw_->set_quietly(t.yaw_deg);
    pitch_->set_quietly(t.pitch_deg);
    roll_->set_quietly(t.roll_deg);
    const Vec3 up = rotation_of(t) * Vec3(0, -1, 0);
    lean_->setText(QString("%1° from the rig's own upright")
                       .arg(degrees(std::acos(std::clamp(-up.y(), -1.0, 1.0))), 0, 'f', 1));
}

void LevelPanel::show_tools() {
    const bool traces = picture_.tool() == &line_tool_;
    for (int i = 0; i < 3; ++i) tools_[i]->setChecked(traces && line_tool_.kind() == LineKind(i));
}

void LevelPanel::refresh() {
    const Shot* shot = session_.shot();
    setEnabled(shot != nullptr);
    show_angles();
    show_tools();
    if (!shot) return;
    const auto count = [&](LineKind k) {
        return std::count_if(shot->calibration.lines.begin(), shot->calibration.lines.end(),
                             [k](const LineMark& l) { return l.kind == k && !is_solve_edge(l); });
    };
    const auto lines = count(LineKind::vertical) + count(LineKind::horizontal) + count(LineKind::straight);
    QString words = lines == 0 ? "No lines yet. Trace three or more."
                               : QString("%1 upright, %2 level, %3 straight")
                                     .arg(count(LineKind::vertical))
                                     .arg(count(LineKind::horizontal))
                                     .arg(count(LineKind::straight));
    if (count(LineKind::vertical) + count(LineKind::horizontal) >= 2) try {
            const Upright u = upright_from_lines(
                line_senses(*shot), orientation_at(*shot, session_.playhead()).transpose() * Vec3(0, -1, 0));
            words += QString("; %1 agree to %2°, lean now %3°")
                         .arg(std::count(u.agrees.begin(), u.agrees.end(), true))
                         .arg(u.error_deg, 0, 'f', 2)
                         .arg(lean_deg(*shot, session_.playhead(), u.up), 0, 'f', 2);
        } catch (const std::exception&) {
            words += "; not enough yet to tell which way is up";
        }
    lines_->setText(words);
    by_lines_->setEnabled(count(LineKind::vertical) + count(LineKind::horizontal) >= 2);
    keys_->setText(shot->levelling.orientation_keys.empty()
                       ? "No keys: one orientation for the whole shot."
                       : QString("%1 keys").arg(shot->levelling.orientation_keys.size()));
    const bool has = shot->levelling.steady.has_value();
    for (QWidget* w : std::initializer_list<QWidget*>{steady_on_, horizon_, strength_, follow_, readout_})
        w->setEnabled(has);
    const Steady s = shot->levelling.steady.value_or(Steady{});
    steady_on_->setChecked(has && s.on);
    horizon_->setChecked(s.keep_horizon);
    strength_->set_quietly(100 * s.strength);
    follow_->set_quietly(s.follow_s);
    readout_->set_quietly(1000 * s.readout_s);
    steady_words_->setText(has ? QString("Analysed from the %1, %2 s")
                                     .arg(s.source == SteadySource::record ? "record" : "footage")
                                     .arg(double(s.path->size()) * s.step_s, 0, 'f', 1)
                               : "Not analysed yet.");
}

} // namespace porb::app
