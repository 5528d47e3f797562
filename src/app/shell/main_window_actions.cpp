// The window's menus and shortcuts, and the small work behind them: markers, nudges, going from shot to shot.
#include "app/picture/comparison.h"
#include "app/picture/rig_view.h"
#include "app/shell/command_palette.h"
#include "app/shell/main_window.h"
#include "app/shell/memory_dialog.h"
#include "app/shell/shortcut_sheet.h"
#include "app/widgets/theme.h"

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

QAction* MainWindow::action(const QString& group, const Command& command) {
    auto* a = new QAction(command.text, this);
    if (!command.key.isEmpty()) a->setShortcut(command.key);
    a->setProperty("group", group);
    a->setProperty("also", command.also);
    if (command.work) connect(a, &QAction::triggered, this, command.work);
    actions_ << a;
    return a;
}

bool MainWindow::run(const QString& command) {
    for (QAction* a : actions_)
        if (a->text().remove('&') == command) {
            a->trigger();
            return true;
        }
    return false;
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

void MainWindow::make_station_menus(QMenu* stations, QMenu* file) {
    for (std::size_t i = 0; i < stations_.size(); ++i) {
        Station& station = *stations_[i];
        const QString id = station.id();
        stations->addAction(
            action("Stations", {"Go to " + station.name(), QKeySequence(QString("Alt+%1").arg(i + 1)),
                                [this, id] { set_station(id); }}));
    }
    stations->addSeparator();
    for (const auto& station : stations_) {
        const QString id = station->id();
        QMenu* own = stations->addMenu(station->name());
        for (Command command : station->commands()) {
            if (command.goes == Command::Goes::there)
                command.work = [this, id, work = command.work] {
                    set_station(id);
                    work();
                };
            (command.menu == "File" ? file : own)->addAction(action(station->name(), command));
        }
    }
}

void MainWindow::make_overlay_actions(QMenu* view) {
    const auto overlay = [&](const char* name, const QString& label, const Command& command,
                             const std::function<void(bool)>& show) {
        QAction* a = action("View", command);
        a->setCheckable(true);
        a->setIconText(label);
        a->setToolTip(command.text + " (" + command.key.toString(QKeySequence::NativeText) + ")");
        connect(a, &QAction::toggled, this, show);
        view->addAction(a);
        overlays_->addAction(a);
        // What is on stands beside the menu, and a click there takes it away.
        auto* chip = new QToolButton;
        chip->setObjectName(name);
        chip->setDefaultAction(a);
        chip->setToolButtonStyle(Qt::ToolButtonTextOnly);
        chip->hide();
        connect(chip, &QToolButton::toggled, a, &QAction::setChecked);
        connect(a, &QAction::toggled, chip, &QWidget::setVisible);
        shown_overlays_->addWidget(chip);
        return a;
    };
    overlay("show_footprints", "Footprints",
            {"Show footprints", QKeySequence("F"), [] {}, {}, "lens outline reach fov"},
            [this](bool on) { picture_->set_footprints(on); });
    overlay("show_overlaps", "Overlaps", {"Show overlaps", QKeySequence("V"), [] {}, {}, "two lenses"},
            [this](bool on) { picture_->set_overlaps(on); });
    overlay("show_coverage", "Coverage",
            {"Show coverage", QKeySequence("G"), [] {}, {}, "how many lenses hole"},
            [this](bool on) { picture_->set_coverage(on); });
    supply_ = overlay("show_supply", "Supply",
                      {"Show who supplies what", QKeySequence("S"), [] {}, {}, "seams masks cameras"},
                      [this](bool on) { picture_->set_supply(on); });
    flicker_ = overlay("show_flicker", "Flicker",
                       {"Flicker between neighbours", QKeySequence("K"), [] {}, {}, "ab toggle sync"},
                       [this](bool on) { picture_->set_flicker(on); });
    overlay("show_points", "Points",
            {"Show control points", QKeySequence("T"), [] {}, {}, "residuals features doubling ghost"},
            [this](bool on) { picture_->set_points_shown(on); });
    QAction* distances = overlay(
        "show_distances", "Distances",
        {"Show how far away things are", QKeySequence("F8"), [] {}, {}, "depth disparity metres map heat"},
        [this](bool on) { picture_->set_distances(on); });
    connect(picture_, &PictureArea::distances_changed, distances,
            [this, distances] { distances->setChecked(picture_->shows_distances()); });
    overlay(
        "show_distance_steps", "Edges",
        {"Show where distances step", QKeySequence("Shift+F8"), [] {}, {}, "depth edges outlines silhouette"},
        [this](bool on) { picture_->set_distance_steps(on); });
    QAction* trust = overlay(
        "trust_shown", "Trust",
        {"Show where parallax is trusted", QKeySequence("Shift+S"), [] {}, {}, "confidence flow depth"},
        [this](bool on) { picture_->set_trust(on); });
    connect(picture_, &PictureArea::trust_changed, trust,
            [this, trust] { trust->setChecked(picture_->shows_trust()); });
}

void MainWindow::make_actions() {
    make_message_line();
    auto* file = menuBar()->addMenu("&File");
    auto* edit = menuBar()->addMenu("&Edit");
    auto* stations = menuBar()->addMenu("&Stations");
    auto* view = menuBar()->addMenu("&View");
    auto* play = menuBar()->addMenu("&Play");
    auto* help = menuBar()->addMenu("&Help");
    const auto add = [this](QMenu* menu, const QString& text, const QKeySequence& key,
                            const std::function<void()>& work, const QString& also = {}) {
        QAction* a = action(menu->title().remove('&'), {text, key, work, Command::Goes::stays, also});
        menu->addAction(a);
        return a;
    };

    add(file, "New project", QKeySequence::New, [this] {
        if (may_leave()) session_.start_new();
    });
    add(file, "Open project…", QKeySequence::Open, [this] {
        if (!may_leave()) return;
        const QString f = QFileDialog::getOpenFileName(this, "Open a project", {}, "Projects (*.porb)");
        if (!f.isEmpty()) open_project(f.toStdString());
    });
    recent_ = file->addMenu("Open recent");
    auto* demos = file->addMenu("Open a demo take");
    demos->addAction(action("File", {"Demo: two fisheyes in one file", {}, [this] { open_demo("dual"); }}));
    demos->addAction(
        action("File", {"Demo: two eyes drawn from a ring of six", {}, [this] { open_demo("stereo"); }}));
    demos->addAction(action("File", {"Demo: pair for 180 degrees", {}, [this] { open_demo("pair"); }}));
    demos->addAction(action("File", {"Demo: ring of six", {}, [this] { open_demo("ring"); }}));
    file->addSeparator();
    add(file, "Save project", QKeySequence::Save, [this] { save(); });
    add(file, "Save project as…", QKeySequence("Ctrl+Shift+S"), [this] { save_as(); });
    add(
        file, "Open the project again from disk", {},
        [this] {
            if (may_leave()) reload_project();
        },
        "reload revert");
    file->addSeparator();
    make_station_menus(stations, file);
    add(
        file, "Save a still…", QKeySequence("Ctrl+Shift+I"), [this] { save_still(); },
        "export frame snapshot");
    add(
        file, "Save the distances of the playhead…", {}, [this] { save_distances(); },
        "export depth map exr inverse metres");
    file->addSeparator();
    add(
        file, "Quit", QKeySequence::Quit, [this] { close(); }, "exit");

    undo_ = add(edit, "Undo", QKeySequence::Undo, [this] { session_.undo(); });
    redo_ = add(edit, "Redo", QKeySequence("Ctrl+Shift+Z"), [this] { session_.redo(); });
    undo_->setEnabled(false);
    redo_->setEnabled(false);
    edit->addSeparator();
    add(
        edit, "Find a command…", QKeySequence("Ctrl+Space"), [this] { show_palette(); }, "search palette");
    add(
        edit, "Memory for pictures…", {}, [this] { ask_for_memory(*session_.library()->bound(), this); },
        "cache ram preferences settings");

    const char* modes[] = {"Map view", "Window view", "Lens view", "Sheet view",
                           "Rig view", "Pair view",   "Down view"};
    const char* modes_also[] = {"equirectangular latlong 360",
                                "perspective headset look",
                                "fisheye source camera",
                                "all cameras contact",
                                "3d cameras",
                                "points two cameras",
                                "flat ground nadir floor rectilinear straight"};
    for (int i = 0; i < 7; ++i)
        add(
            view, modes[i], QKeySequence(QString::number(i + 1)),
            [this, i] { picture_->set_mode(ViewMode(i)); }, modes_also[i]);
    view->addSeparator();
    make_overlay_actions(view);
    view->addSeparator();
    add(
        view, "Compare with another state", QKeySequence("Q"),
        [this] { picture_->comparison().set_on(!picture_->comparison().is_on()); }, "before after wipe ab");
    add(
        view, "Hold this state to compare with", QKeySequence("Shift+Q"),
        [this] { picture_->comparison().hold(); }, "before after still store");
    const char* ways[] = {"Compare by a wipe", "Compare by blinking", "Compare by difference",
                          "Compare side by side"};
    for (int i = 0; i < 4; ++i)
        add(
            view, ways[i], {},
            [this, i] {
                picture_->comparison().set_way(Comparison::Way(i));
                if (!picture_->comparison().is_on()) picture_->comparison().set_on(true);
            },
            "before after");
    view->addSeparator();
    add(
        view, "Look ahead, fit the picture", QKeySequence("Home"),
        [this] {
            picture_->reset_look();
            rig_view_->reset_look();
        },
        "reset zoom centre recentre");
    add(
        view, "Next camera", QKeySequence("N"),
        [this] {
            const Shot* s = session_.shot();
            if (!s) return;
            for (std::size_t i = 0; i < s->rig.cameras.size(); ++i)
                if (s->rig.cameras[i].id == session_.selected_camera())
                    return session_.select_camera(s->rig.cameras[(i + 1) % s->rig.cameras.size()].id);
        },
        "lens");
    view->addSeparator();
    add(
        view, "Picture alone", QKeySequence("Tab"),
        [this] {
            const bool alone = side_->isVisible();
            side_->setVisible(!alone);
            rail_->setVisible(!alone);
        },
        "hide panel");
    add(view, "Full screen", QKeySequence("F11"),
        [this] { isFullScreen() ? showNormal() : showFullScreen(); });

    add(
        play, "Play or pause", QKeySequence("Space"), [this] { player_.play(!player_.is_playing()); },
        "stop");
    add(
        play, "Loop the second round the playhead", QKeySequence("Shift+Space"),
        [this] { picture_->toggle_loop(); }, "repeat");
    make_play_actions(play);
    add(
        play, "One frame back", QKeySequence(","), [this] { step(-1); }, "previous");
    add(
        play, "One frame on", QKeySequence("."), [this] { step(1); }, "next");
    add(
        play, "To in", QKeySequence("Shift+I"),
        [this] {
            if (session_.shot()) session_.set_playhead(session_.shot()->timing.in);
        },
        "start");
    add(
        play, "To out", QKeySequence("Shift+O"),
        [this] {
            if (session_.shot())
                session_.set_playhead(session_.shot()->timing.out
                                          ? *session_.shot()->timing.out -
                                                Rational(1) / session_.shot()->timing.rate
                                          : session_.length());
        },
        "end");
    add(
        play, "Set in here", QKeySequence("I"), [this] { set_in(); }, "trim mark");
    add(
        play, "Set out here", QKeySequence("O"), [this] { set_out(); }, "trim mark");
    add(
        play, "Set a marker here…", QKeySequence("M"), [this] { add_marker(); }, "note comment");
    add(play, "To the next marker", QKeySequence("Ctrl+."), [this] { go_to_marker(1); });
    add(play, "To the previous marker", QKeySequence("Ctrl+,"), [this] { go_to_marker(-1); });
    add(
        play, "In and out from the markers round the playhead", QKeySequence("Ctrl+M"),
        [this] { set_used_from_markers(); }, "trim");
    const auto playhead_x = [this] { return timeline_->ruler().x_of(session_.playhead().to_double()); };
    add(
        play, "Timeline: closer", QKeySequence("Ctrl+="),
        [this, playhead_x] { timeline_->ruler().zoom(1.5, playhead_x()); }, "zoom in");
    add(
        play, "Timeline: wider", QKeySequence("Ctrl+-"),
        [this, playhead_x] { timeline_->ruler().zoom(1 / 1.5, playhead_x()); }, "zoom out");
    add(
        play, "Timeline: whole shot", QKeySequence("Ctrl+0"), [this] { timeline_->ruler().show_all(); },
        "zoom fit");

    add(
        help, "Keyboard shortcuts", QKeySequence("F1"),
        [this] {
            auto* sheet = new ShortcutSheet(actions_, this);
            sheet->setAttribute(Qt::WA_DeleteOnClose);
            sheet->show();
        },
        "keys help");
    add(
        help, "About Pale Orbit", {},
        [this] {
            QMessageBox::about(
                this, "About Pale Orbit",
                "Pale Orbit 0.1.0\n\nFrom the pictures of a rig to a sphere someone stands "
                "in.\nFree software under the GNU General Public License, version 3 or later.");
        },
        "version licence");
    refresh_recent();
}

void MainWindow::add_marker() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const Marker marker{session_.playhead(), "", ""};
    for (std::size_t i = 0; i < shot->timing.markers.size(); ++i)
        if (shot->timing.markers[i].time == marker.time) return edit_marker(int(i));
    session_.edit_shot("Set a marker", [&](Shot& s) {
        s.timing.markers.push_back(marker);
        std::stable_sort(s.timing.markers.begin(), s.timing.markers.end(),
                         [](const Marker& a, const Marker& b) { return a.time < b.time; });
    });
    for (std::size_t i = 0; i < session_.shot()->timing.markers.size(); ++i)
        if (session_.shot()->timing.markers[i].time == marker.time) return edit_marker(int(i));
}

void MainWindow::edit_marker(int index) {
    const Shot* shot = session_.shot();
    if (!shot || index < 0 || index >= int(shot->timing.markers.size())) return;
    const Marker marker = shot->timing.markers[std::size_t(index)];
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
            const auto it = std::find(s.timing.markers.begin(), s.timing.markers.end(), marker);
            if (it != s.timing.markers.end()) work(s, it);
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
            [=] { change([](Shot& s, auto it) { s.timing.markers.erase(it); }, "Remove a marker"); });
    box->show();
    name->setFocus();
}

void MainWindow::go_to_marker(int step) {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const Seconds now = session_.playhead();
    if (step > 0) {
        for (const auto& m : shot->timing.markers)
            if (now < m.time) return session_.set_playhead(m.time);
    } else {
        for (auto it = shot->timing.markers.rbegin(); it != shot->timing.markers.rend(); ++it)
            if (it->time < now) return session_.set_playhead(it->time);
    }
    session_.say(step > 0 ? "No marker after this." : "No marker before this.");
}

void MainWindow::set_used_from_markers() {
    const Shot* shot = session_.shot();
    if (!shot || shot->timing.markers.empty()) return session_.say("Set markers first (M).", Signal::care);
    Seconds in(0);
    std::optional<Seconds> out;
    for (const auto& m : shot->timing.markers) {
        if (m.time <= session_.playhead()) in = m.time;
        if (session_.playhead() < m.time && !out) out = m.time;
    }
    session_.edit_shot("In and out from markers", [&](Shot& s) { s.timing.in = in, s.timing.out = out; });
}

} // namespace porb::app
