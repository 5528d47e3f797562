// The window's menus and shortcuts, and the small work behind them: markers, nudges, going from shot to shot.
#include "app/align_strip.h"
#include "app/command_palette.h"
#include "app/comparison.h"
#include "app/crossings_part.h"
#include "app/gather_panel.h"
#include "app/grade_part.h"
#include "app/level_panel.h"
#include "app/main_window.h"
#include "app/master_panel.h"
#include "app/match_panel.h"
#include "app/parallax_part.h"
#include "app/points_desk.h"
#include "app/points_panel.h"
#include "app/rig_panel.h"
#include "app/rig_view.h"
#include "app/seams_panel.h"
#include "app/shapes_part.h"
#include "app/shelters_part.h"

#include "project/orientation.h"
#include "solve/calibrate.h"

#include <QFileDialog>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QMenuBar>
#include <QMessageBox>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QToolButton>

namespace porb::app {

namespace {
constexpr int kMessageWidth = 880;
}

QAction* MainWindow::action(const QString& text, const QKeySequence& key, const std::function<void()>& work) {
    auto* a = new QAction(text, this);
    if (!key.isEmpty()) a->setShortcut(key);
    connect(a, &QAction::triggered, this, work);
    actions_ << a;
    return a;
}

void MainWindow::make_message_line() {
    // Beside the menus, where nothing else is: long sentences fit.
    auto* line = new QWidget;
    auto* row = new QHBoxLayout(line);
    row->setContentsMargins(0, 6, 10, 0);
    row->setSpacing(6);
    message_ = new QLabel;
    message_->setObjectName("message");
    message_->setAlignment(Qt::AlignRight | Qt::AlignVCenter);
    message_->setMinimumWidth(kMessageWidth);
    message_icon_ = new QLabel;
    row->addWidget(message_, 1);
    row->addWidget(message_icon_);
    menuBar()->setCornerWidget(line);
}

void MainWindow::make_actions() {
    make_message_line();
    auto* file = menuBar()->addMenu("&File");
    file->addAction(action("New project", QKeySequence::New, [this] {
        if (may_leave()) session_.start_new();
    }));
    file->addAction(action("Open project…", QKeySequence::Open, [this] {
        if (!may_leave()) return;
        const QString f = QFileDialog::getOpenFileName(this, "Open a project", {}, "Projects (*.porb)");
        if (!f.isEmpty()) open_project(f.toStdString());
    }));
    recent_ = file->addMenu("Open recent");
    auto* demos = file->addMenu("Open a demo take");
    demos->addAction(action("Demo: two fisheyes in one file", {}, [this] { open_demo("dual"); }));
    demos->addAction(action("Demo: pair for 180 degrees", {}, [this] { open_demo("pair"); }));
    demos->addAction(action("Demo: ring of six", {}, [this] { open_demo("ring"); }));
    file->addSeparator();
    file->addAction(action("Save project", QKeySequence::Save, [this] { save(); }));
    file->addAction(action("Save project as…", QKeySequence("Ctrl+Shift+S"), [this] { save_as(); }));
    file->addAction(action("Open the project again from disk", {}, [this] {
        if (may_leave()) reload_project();
    }));
    file->addSeparator();
    file->addAction(action("Add files…", QKeySequence("Ctrl+I"), [this] { gather_->choose_files(); }));
    file->addAction(
        action("Add a folder…", QKeySequence("Ctrl+Shift+A"), [this] { gather_->choose_folder(); }));
    file->addAction(action("Save a still…", QKeySequence("Ctrl+Shift+I"), [this] { save_still(); }));
    file->addSeparator();
    file->addAction(action("Quit", QKeySequence::Quit, [this] { close(); }));

    auto* edit = menuBar()->addMenu("&Edit");
    edit->addAction(undo_ = action("Undo", QKeySequence::Undo, [this] { session_.undo(); }));
    edit->addAction(redo_ = action("Redo", QKeySequence("Ctrl+Shift+Z"), [this] { session_.redo(); }));
    undo_->setEnabled(false);
    redo_->setEnabled(false);
    edit->addSeparator();
    edit->addAction(action("Find a command…", QKeySequence("Ctrl+Space"), [this] { show_palette(); }));

    auto* go = menuBar()->addMenu("&Stations");
    for (int i = 0; i < kStations; ++i)
        go->addAction(action("Go to " + station_name(Station(i)), QKeySequence(QString("Alt+%1").arg(i + 1)),
                             [this, i] { set_station(Station(i)); }));
    go->addSeparator();
    go->addAction(action("Turn the selected camera to the back", QKeySequence("Ctrl+B"),
                         [this] { rig_->turn_selected_back(); }));
    const auto rig_work = [&](const QString& text, const QKeySequence& key,
                              const std::function<void()>& work) {
        go->addAction(action(text, key, [this, work] {
            set_station(Station::rig);
            work();
        }));
    };
    rig_work("Find the image circles", QKeySequence("C"), [this] { rig_->find_circles_now(); });
    rig_work("Choose a profile…", QKeySequence("P"), [this] { rig_->choose_profile(); });
    rig_work("Save the rig as a profile…", {}, [this] { rig_->save_as_profile(); });
    rig_work("Compare with the profile…", {}, [this] { rig_->compare_with_profile(); });
    rig_work("Read a lens calibration…", {}, [this] { rig_->read_calibration(); });
    rig_work("Write a lens calibration…", {}, [this] { rig_->write_calibration(); });
    rig_work("Use the video's own rig…", {}, [this] { rig_->use_embedded_rig(); });
    rig_work("Read a motion record…", {}, [this] { rig_->read_motion(); });
    using Part = RigPanel::Part;
    rig_work("Copy the lens", QKeySequence("Ctrl+Shift+C"), [this] { rig_->copy(Part::lens); });
    rig_work("Paste the lens", QKeySequence("Ctrl+Shift+V"), [this] { rig_->paste(Part::lens); });
    rig_work("Copy the pose", {}, [this] { rig_->copy(Part::pose); });
    rig_work("Paste the pose", {}, [this] { rig_->paste(Part::pose); });
    rig_work("Copy the circle to alike cameras", {}, [this] { rig_->circle_to_alike(); });
    rig_work("Lock or unlock the lens", {}, [this] { rig_->lock(Part::lens); });
    rig_work("Lock or unlock the pose", {}, [this] { rig_->lock(Part::pose); });
    rig_work("Reset the lens to the profile", {}, [this] { rig_->reset(Part::lens); });
    rig_work("Reset the pose to the profile", {}, [this] { rig_->reset(Part::pose); });
    go->addSeparator();
    go->addAction(action("Align time", QKeySequence("L"), [this] { show_align(!align_->isVisible()); }));
    go->addAction(action("Find the time offsets", QKeySequence("Ctrl+L"), [this] {
        show_align(true);
        align_->find();
    }));
    go->addAction(
        action("Earlier source: nudge by a frame", QKeySequence("Ctrl+Left"), [this] { nudge(-1); }));
    go->addAction(action("Later source: nudge by a frame", QKeySequence("Ctrl+Right"), [this] { nudge(1); }));
    go->addAction(
        action("Earlier source: nudge by a tenth", QKeySequence("Ctrl+Shift+Left"), [this] { nudge(-0.1); }));
    go->addAction(
        action("Later source: nudge by a tenth", QKeySequence("Ctrl+Shift+Right"), [this] { nudge(0.1); }));
    go->addAction(action("Make shots of the proposed takes", QKeySequence("Ctrl+Return"),
                         [this] { gather_->make_shots(); }));
    go->addAction(action("Next shot", QKeySequence("Ctrl+PgDown"), [this] { next_shot(1); }));
    go->addAction(action("Previous shot", QKeySequence("Ctrl+PgUp"), [this] { next_shot(-1); }));
    go->addSeparator();
    const auto points_work = [&](const QString& text, const QKeySequence& key,
                                 const std::function<void()>& work) {
        go->addAction(action(text, key, [this, work] {
            set_station(Station::points);
            work();
        }));
    };
    points_work("Find points and solve", QKeySequence("Ctrl+P"), [this] { points_->find_and_solve(); });
    points_work("Solve again from the points there are", QKeySequence("Ctrl+Shift+P"),
                [this] { points_->solve_again(); });
    points_work("Stop finding and solving", {}, [this] { points_->job().stop(); });
    points_work("Trace a region to avoid", QKeySequence("X"),
                [this] { points_->trace_region(PictureArea::RegionTool::avoid); });
    points_work("Trace a region to look in", QKeySequence("Shift+X"),
                [this] { points_->trace_region(PictureArea::RegionTool::only); });
    go->addAction(action("Add a sample here", QKeySequence("Shift+M"), [this] { points_->add_sample(); }));
    go->addAction(
        action("Make what the window looks at single", QKeySequence("J"), [this] { make_single(); }));
    const auto level_work = [&](const QString& text, const QKeySequence& key,
                                const std::function<void()>& work) {
        go->addAction(action(text, key, [this, work] {
            set_station(Station::level);
            work();
        }));
    };
    level_work("Stand upright by edges found", QKeySequence("U"), [this] { level_->find_edges(); });
    level_work("Stand upright by drawn lines", QKeySequence("Shift+U"), [this] { level_->level_by_lines(); });
    level_work("Stand upright by gravity", {}, [this] { level_->level_by_gravity(); });
    level_work("Trace an upright line", QKeySequence("D"),
               [this] { level_->set_line_tool(LineKind::vertical); });
    level_work("Trace a level line", QKeySequence("Shift+D"),
               [this] { level_->set_line_tool(LineKind::horizontal); });
    level_work("Trace a straight line", {}, [this] { level_->set_line_tool(LineKind::straight); });
    level_work("Set an orientation key here", QKeySequence("H"), [this] { level_->set_key(); });
    level_work("Remove the orientation key here", QKeySequence("Shift+H"), [this] { level_->remove_key(); });
    level_work("Steady from the footage", QKeySequence("Y"),
               [this] { level_->steady(SteadySource::footage); });
    level_work("Steady from the motion record", QKeySequence("Shift+Y"),
               [this] { level_->steady(SteadySource::record); });
    go->addAction(action("Match the cameras' colours", QKeySequence("E"), [this] {
        set_station(Station::match);
        match_->match_now();
    }));
    go->addAction(action("Close parallax where lenses meet", QKeySequence("W"),
                         [this] { seams_->parallax().toggle_flow(); }));
    const auto seams_work = [&](const QString& text, const QKeySequence& key,
                                const std::function<void()>& work) {
        go->addAction(action(text, key, [this, work] {
            set_station(Station::seams);
            work();
        }));
    };
    seams_work("Draw a cut-out", QKeySequence("Z"), [this] {
        seams_->show_part(SeamsPanel::Part::shapes);
        seams_->shapes().tool().begin(false);
    });
    seams_work("Draw a restore", QKeySequence("Shift+Z"), [this] {
        seams_->show_part(SeamsPanel::Part::shapes);
        seams_->shapes().tool().begin(true);
    });
    seams_work("Draw a shelter", QKeySequence("A"), [this] {
        seams_->show_part(SeamsPanel::Part::shelters);
        seams_->shelters().tool().begin();
    });
    seams_work("Grow a shelter from a click", QKeySequence("Shift+A"), [this] {
        seams_->show_part(SeamsPanel::Part::shelters);
        seams_->shelters().tool().begin_growing();
    });
    seams_work("Find lines where neighbours differ least", QKeySequence("F6"), [this] {
        seams_->show_part(SeamsPanel::Part::parallax);
        seams_->parallax().find_lines_now();
    });
    const auto crossing_work = [&](const QString& text, const QKeySequence& key,
                                   const std::function<void()>& work) {
        seams_work(text, key, [this, work] {
            seams_->show_part(SeamsPanel::Part::crossings);
            work();
        });
    };
    crossing_work("Look for crossings", QKeySequence("R"), [this] { seams_->crossings().scan(); });
    crossing_work("Close open crossings", QKeySequence("Shift+R"),
                  [this] { seams_->crossings().close_open(false); });
    crossing_work("Measure crossings again", {}, [this] { seams_->crossings().measure(); });
    crossing_work("To the next open crossing", QKeySequence("F7"),
                  [this] { seams_->crossings().go_to_open(1); });
    crossing_work("To the previous open crossing", QKeySequence("Shift+F7"),
                  [this] { seams_->crossings().go_to_open(-1); });
    go->addAction(action("Grade the shot", QKeySequence("Ctrl+G"), [this] {
        set_station(Station::match);
        match_->show_part(MatchPanel::Part::grade);
    }));
    go->addAction(action("Pass the grade by, or show it", QKeySequence("Shift+B"),
                         [this] { match_->grade().toggle_bypass(); }));
    go->addAction(action("Show matched or as shot", QKeySequence("B"), [this] { match_->toggle_as_shot(); }));
    go->addSeparator();
    go->addAction(action("Load a rig file…", {}, [this] { rig_->load_rig_file(); }));
    go->addAction(action("Save the rig as a file…", {}, [this] { rig_->save_rig_file(); }));
    go->addAction(action("Render the selected deliverable", QKeySequence("Ctrl+R"),
                         [this] { master_->render_selected(); }));

    auto* view = menuBar()->addMenu("&View");
    const char* modes[] = {"Map view", "Window view", "Lens view", "Sheet view", "Rig view", "Pair view"};
    for (int i = 0; i < 6; ++i)
        view->addAction(action(modes[i], QKeySequence(QString::number(i + 1)),
                               [this, i] { picture_->set_mode(ViewMode(i)); }));
    view->addSeparator();
    view->addAction(action("Show footprints", QKeySequence("F"),
                           [this] { findChild<QToolButton*>("show_footprints")->toggle(); }));
    view->addAction(action("Show overlaps", QKeySequence("V"),
                           [this] { findChild<QToolButton*>("show_overlaps")->toggle(); }));
    view->addAction(action("Show coverage", QKeySequence("G"),
                           [this] { findChild<QToolButton*>("show_coverage")->toggle(); }));
    view->addAction(action("Show who supplies what", QKeySequence("S"),
                           [this] { findChild<QToolButton*>("show_supply")->toggle(); }));
    view->addAction(action("Show where parallax is trusted", QKeySequence("Shift+S"),
                           [this] { picture_->set_trust(!picture_->shows_trust()); }));
    view->addAction(action("Show control points", QKeySequence("T"),
                           [this] { findChild<QToolButton*>("show_points")->toggle(); }));
    view->addAction(action("Compare with another state", QKeySequence("Q"),
                           [this] { picture_->comparison().set_on(!picture_->comparison().is_on()); }));
    view->addAction(action("Hold this state to compare with", QKeySequence("Shift+Q"),
                           [this] { picture_->comparison().hold(); }));
    const char* ways[] = {"Compare by a wipe", "Compare by blinking", "Compare by difference",
                          "Compare side by side"};
    for (int i = 0; i < 4; ++i)
        view->addAction(action(ways[i], {}, [this, i] {
            picture_->comparison().set_way(Comparison::Way(i));
            if (!picture_->comparison().is_on()) picture_->comparison().set_on(true);
        }));
    view->addAction(action("Flicker between neighbours", QKeySequence("K"),
                           [this] { findChild<QToolButton*>("show_flicker")->toggle(); }));
    view->addAction(action("Look ahead, fit the picture", QKeySequence("Home"), [this] {
        picture_->reset_look();
        rig_view_->reset_look();
    }));
    view->addAction(action("Next camera", QKeySequence("N"), [this] {
        const Shot* s = session_.shot();
        if (!s) return;
        for (std::size_t i = 0; i < s->rig.cameras.size(); ++i)
            if (s->rig.cameras[i].id == session_.selected_camera())
                return session_.select_camera(s->rig.cameras[(i + 1) % s->rig.cameras.size()].id);
    }));
    view->addSeparator();
    view->addAction(action("Picture alone", QKeySequence("Tab"), [this] {
        const bool alone = side_->isVisible();
        side_->setVisible(!alone);
        rail_->setVisible(!alone);
    }));
    view->addAction(action("Full screen", QKeySequence("F11"),
                           [this] { isFullScreen() ? showNormal() : showFullScreen(); }));

    auto* play = menuBar()->addMenu("&Play");
    play->addAction(
        action("Play or pause", QKeySequence("Space"), [this] { player_.play(!player_.is_playing()); }));
    play->addAction(action("Loop the second round the playhead", QKeySequence("Shift+Space"),
                           [this] { picture_->toggle_loop(); }));
    play->addAction(action("One frame back", QKeySequence(","), [this] { step(-1); }));
    play->addAction(action("One frame on", QKeySequence("."), [this] { step(1); }));
    play->addAction(action("To in", QKeySequence("Shift+I"), [this] {
        if (session_.shot()) session_.set_playhead(session_.shot()->in);
    }));
    play->addAction(action("To out", QKeySequence("Shift+O"), [this] {
        if (session_.shot())
            session_.set_playhead(session_.shot()->out
                                      ? *session_.shot()->out - Rational(1) / session_.shot()->rate
                                      : session_.length());
    }));
    play->addAction(action("Set in here", QKeySequence("I"), [this] { set_in(); }));
    play->addAction(action("Set out here", QKeySequence("O"), [this] { set_out(); }));
    play->addAction(action("Set a marker here…", QKeySequence("M"), [this] { add_marker(); }));
    play->addAction(action("To the next marker", QKeySequence("Ctrl+."), [this] { go_to_marker(1); }));
    play->addAction(action("To the previous marker", QKeySequence("Ctrl+,"), [this] { go_to_marker(-1); }));
    play->addAction(action("In and out from the markers round the playhead", QKeySequence("Ctrl+M"),
                           [this] { set_used_from_markers(); }));
    play->addAction(action("Timeline: closer", QKeySequence("Ctrl+="), [this] {
        timeline_->ruler().zoom(1.5, timeline_->ruler().x_of(session_.playhead().to_double()));
    }));
    play->addAction(action("Timeline: wider", QKeySequence("Ctrl+-"), [this] {
        timeline_->ruler().zoom(1 / 1.5, timeline_->ruler().x_of(session_.playhead().to_double()));
    }));
    play->addAction(
        action("Timeline: whole shot", QKeySequence("Ctrl+0"), [this] { timeline_->ruler().show_all(); }));

    auto* help = menuBar()->addMenu("&Help");
    help->addAction(action("Keyboard shortcuts", QKeySequence("F1"), [this] {
        QMessageBox box(this);
        box.setWindowTitle("Keyboard shortcuts");
        box.setTextFormat(Qt::RichText);
        box.setText(shortcuts_text(actions_));
        box.exec();
    }));
    help->addAction(action("About Pale Orbit", {}, [this] {
        QMessageBox::about(this, "About Pale Orbit",
                           "Pale Orbit 0.1.0\n\nFrom the pictures of a rig to a sphere someone stands "
                           "in.\nFree software under the GNU General Public License, version 3 or later.");
    }));
    refresh_recent();
}

void MainWindow::show_align(bool on) {
    if (on) set_station(Station::gather);
    align_->setVisible(on);
}

void MainWindow::nudge(double frames) {
    const Shot* shot = session_.shot();
    const ShotCamera* chosen = shot ? find_camera(*shot, session_.selected_camera()) : nullptr;
    if (!chosen || chosen->media.empty()) return;
    const std::string media = chosen->media;
    const Seconds by = Rational(std::int64_t(std::llround(frames * 10)), 10) / shot->rate;
    session_.edit_shot(
        "Nudge " + QString::fromStdString(media),
        [&](Shot& s) {
            for (auto& c : s.cameras)
                if (c.media == media) c.offset = c.offset + by;
        },
        "nudge-" + QString::fromStdString(media));
    session_.say(
        QString("Camera %1: offset %2 frames")
            .arg(QString::fromStdString(session_.selected_camera()))
            .arg((find_camera(*session_.shot(), session_.selected_camera())->offset * session_.shot()->rate)
                     .to_double(),
                 0, 'f', 2));
}

void MainWindow::make_single() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const Vec3 ahead = rotation_of(picture_->look()) * Vec3(0, 0, 1);
    const Vec3 direction = orientation_at(*shot, session_.playhead()).transpose() * ahead;
    const double radius = std::clamp(picture_->field_of_view() / 5, 4.0, 20.0);
    const auto s = suggest_agree_distance(*shot, direction, radius);
    if (!s)
        return session_.say("There are too few solved points where the window looks. Find points first, or "
                            "look at an overlap.",
                            Signal::care);
    session_.edit_shot("Agree where the window looks", [&](Shot& to) {
        to.agree_distance_m = s->distance_m;
        to.agree_choice = AgreeChoice::chosen;
    });
    session_.say(s->distance_m > 0
                     ? QString("All cameras agree at %1 m, from %2 points there.")
                           .arg(s->distance_m, 0, 'f', 2)
                           .arg(s->points)
                     : QString("All cameras agree far away, from %1 points there.").arg(s->points));
}

void MainWindow::next_shot(int step) {
    const auto& shots = session_.project()->shots;
    for (std::size_t i = 0; i < shots.size(); ++i)
        if (session_.shot() && shots[i].id == session_.shot()->id)
            return session_.choose_shot(
                shots[(i + shots.size() + std::size_t(step + int(shots.size()))) % shots.size()].id);
}

void MainWindow::add_marker() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const Marker marker{session_.playhead(), "", ""};
    for (std::size_t i = 0; i < shot->markers.size(); ++i)
        if (shot->markers[i].time == marker.time) return edit_marker(int(i));
    session_.edit_shot("Set a marker", [&](Shot& s) {
        s.markers.push_back(marker);
        std::stable_sort(s.markers.begin(), s.markers.end(),
                         [](const Marker& a, const Marker& b) { return a.time < b.time; });
    });
    for (std::size_t i = 0; i < session_.shot()->markers.size(); ++i)
        if (session_.shot()->markers[i].time == marker.time) return edit_marker(int(i));
}

void MainWindow::edit_marker(int index) {
    const Shot* shot = session_.shot();
    if (!shot || index < 0 || index >= int(shot->markers.size())) return;
    const Marker marker = shot->markers[std::size_t(index)];
    auto* box = new QDialog(this);
    box->setObjectName("marker_box");
    box->setAttribute(Qt::WA_DeleteOnClose);
    box->setWindowTitle("Marker at " + time_text(marker.time));
    auto* column = new QVBoxLayout(box);
    auto* name = new QLineEdit(QString::fromStdString(marker.name));
    name->setObjectName("marker_name");
    name->setPlaceholderText("Name");
    auto* note = new QPlainTextEdit(QString::fromStdString(marker.note));
    note->setObjectName("marker_note");
    note->setPlaceholderText("Note");
    note->setTabChangesFocus(true);
    note->setFixedHeight(80);
    column->addWidget(name);
    column->addWidget(note);
    auto* row = new QHBoxLayout;
    auto* remove = new QPushButton("Remove");
    auto* keep = new QPushButton("Keep");
    keep->setProperty("role", "main");
    keep->setDefault(true);
    row->addWidget(remove);
    row->addStretch();
    row->addWidget(keep);
    column->addLayout(row);
    const auto change = [this, marker,
                         box](const std::function<void(Shot&, std::vector<Marker>::iterator)>& work,
                              const QString& label) {
        session_.edit_shot(label, [&](Shot& s) {
            const auto it = std::find(s.markers.begin(), s.markers.end(), marker);
            if (it != s.markers.end()) work(s, it);
        });
        box->close();
    };
    connect(keep, &QPushButton::clicked, box, [=] {
        change(
            [&](Shot&, auto it) {
                it->name = name->text().toStdString(), it->note = note->toPlainText().toStdString();
            },
            "Name a marker");
    });
    connect(remove, &QPushButton::clicked, box,
            [=] { change([](Shot& s, auto it) { s.markers.erase(it); }, "Remove a marker"); });
    box->show();
    name->setFocus();
}

void MainWindow::go_to_marker(int step) {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const Seconds now = session_.playhead();
    if (step > 0) {
        for (const auto& m : shot->markers)
            if (now < m.time) return session_.set_playhead(m.time);
    } else {
        for (auto it = shot->markers.rbegin(); it != shot->markers.rend(); ++it)
            if (it->time < now) return session_.set_playhead(it->time);
    }
    session_.say(step > 0 ? "No marker after this." : "No marker before this.");
}

void MainWindow::set_used_from_markers() {
    const Shot* shot = session_.shot();
    if (!shot || shot->markers.empty()) return session_.say("Set markers first (M).", Signal::care);
    Seconds in(0);
    std::optional<Seconds> out;
    for (const auto& m : shot->markers) {
        if (m.time <= session_.playhead()) in = m.time;
        if (session_.playhead() < m.time && !out) out = m.time;
    }
    session_.edit_shot("In and out from markers", [&](Shot& s) { s.in = in, s.out = out; });
}

} // namespace porb::app
