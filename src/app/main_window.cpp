#include "app/main_window.h"

#include "app/align_strip.h"
#include "app/command_palette.h"
#include "app/gather_panel.h"
#include "app/level_panel.h"
#include "app/master_panel.h"
#include "app/rig_panel.h"
#include "app/rig_view.h"
#include "app/seams_panel.h"
#include "app/theme.h"
#include "base/error.h"
#include "media/still.h"
#include "project/autosave.h"

#include <QApplication>
#include <QButtonGroup>
#include <QCloseEvent>
#include <QComboBox>
#include <QDragEnterEvent>
#include <QFileDialog>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QMenuBar>
#include <QMessageBox>
#include <QMimeData>
#include <QPlainTextEdit>
#include <QPushButton>
#include <QScrollArea>
#include <QSettings>
#include <QStackedWidget>
#include <QToolButton>

#ifndef PORB_DEMO_FOLDER
#define PORB_DEMO_FOLDER ""
#endif

namespace porb::app {

namespace {
constexpr int kPanelWidth = 344, kMessageMs = 7000, kMessageWidth = 880;
constexpr int kMostRecent = 8;
} // namespace

std::filesystem::path demo_folder() {
    const std::filesystem::path here = QCoreApplication::applicationDirPath().toStdString();
    for (const auto& p : {here / "../share/pale-orbit/demo", std::filesystem::path(PORB_DEMO_FOLDER)})
        if (std::filesystem::exists(p / "dual")) return p;
    return {};
}

MainWindow::MainWindow(const std::filesystem::path& data_folder)
    : session_(data_folder / "autosave"), service_(session_.library()), player_(session_) {
    setObjectName("main_window");
    setWindowIcon(icon("pale-orbit"));
    setAcceptDrops(true);
    resize(1280, 800);

    auto* body = new QWidget;
    auto* column = new QVBoxLayout(body);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(0);
    rail_ = new OrbitRail(session_);
    column->addWidget(rail_);
    auto* middle = new QHBoxLayout;
    middle->setSpacing(0);
    column->addLayout(middle, 1);

    auto* left = new QWidget;
    auto* left_column = new QVBoxLayout(left);
    left_column->setContentsMargins(0, 0, 0, 0);
    left_column->setSpacing(0);
    picture_ = new PictureArea(session_, service_);
    auto* view_bar = new QWidget;
    left_column->addWidget(view_bar);
    rig_view_ = new RigView(session_);
    views_ = new QStackedWidget;
    views_->addWidget(picture_);
    views_->addWidget(rig_view_);
    left_column->addWidget(views_, 1);
    timeline_ = new Timeline(session_);
    align_ = new AlignStrip(session_, timeline_->ruler());
    align_->hide();
    left_column->addWidget(align_);
    left_column->addWidget(timeline_);
    middle->addWidget(left, 1);

    side_ = new QFrame;
    side_->setProperty("role", "panel");
    side_->setFixedWidth(kPanelWidth);
    auto* side_column = new QVBoxLayout(side_);
    side_column->setContentsMargins(0, 0, 0, 0);
    panels_ = new QStackedWidget;
    gather_ = new GatherPanel(session_, service_);
    rig_ = new RigPanel(session_);
    master_ = new MasterPanel(session_, queue_);
    for (QWidget* panel : std::initializer_list<QWidget*>{gather_, rig_, new LevelPanel(session_, *picture_),
                                                          new SeamsPanel(session_), master_}) {
        auto* scroll = new QScrollArea;
        scroll->setWidgetResizable(true);
        scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
        scroll->setFrameShape(QFrame::NoFrame);
        scroll->setWidget(panel);
        panels_->addWidget(scroll);
    }
    side_column->addWidget(panels_);
    middle->addWidget(side_);
    setCentralWidget(body);
    make_view_bar(view_bar);

    connect(rail_, &OrbitRail::chosen, this, &MainWindow::set_station);
    connect(timeline_, &Timeline::play_wanted, &player_, &Player::play);
    connect(timeline_, &Timeline::step_wanted, this, &MainWindow::step);
    connect(timeline_, &Timeline::in_wanted, this, &MainWindow::set_in);
    connect(timeline_, &Timeline::out_wanted, this, &MainWindow::set_out);
    connect(&timeline_->ruler(), &TimeRuler::scrubbed, this, [this] { player_.play(false); });
    connect(&player_, &Player::playing_changed, this, [this](bool on) {
        timeline_->set_playing(on);
        picture_->set_playing(on);
    });
    connect(gather_, &GatherPanel::align_wanted, this, [this] { show_align(!align_->isVisible()); });
    connect(align_, &AlignStrip::closed, this, [this] { show_align(false); });
    connect(&timeline_->ruler(), &TimeRuler::marker_wanted, this, &MainWindow::edit_marker);
    connect(picture_, &PictureArea::mode_changed, this,
            [this] { views_->setCurrentIndex(picture_->mode() == ViewMode::rig ? 1 : 0); });
    connect(picture_, &PictureArea::add_files_wanted, gather_, &GatherPanel::choose_files);
    connect(picture_, &PictureArea::demo_wanted, this, [this] { open_demo("dual"); });
    connect(&session_, &Session::said, this, &MainWindow::say);
    connect(&session_, &Session::file_changed, this, &MainWindow::refresh_title);
    connect(&queue_, &RenderQueue::changed, this, [this] {
        rail_->set_rendered(queue_.count(RenderQueue::State::done),
                            int(session_.project()->deliverables.size()));
    });
    connect(&session_, &Session::project_changed, this, [this] {
        rail_->set_rendered(queue_.count(RenderQueue::State::done),
                            int(session_.project()->deliverables.size()));
        undo_->setEnabled(session_.history().can_undo());
        redo_->setEnabled(session_.history().can_redo());
        undo_->setText(session_.history().can_undo()
                           ? "Undo: " + QString::fromStdString(session_.history().undo_label())
                           : "Undo");
        redo_->setText(session_.history().can_redo()
                           ? "Redo: " + QString::fromStdString(session_.history().redo_label())
                           : "Redo");
        const Shot* s = session_.shot();
        eyes_->setVisible(s && std::any_of(s->rig.cameras.begin(), s->rig.cameras.end(),
                                           [](const Camera& c) { return c.eyes != Eyes::both; }));
    });
    connect(&queue_, &RenderQueue::finished, this,
            [this](const QString& words, bool good) { say(words, good ? Signal::good : Signal::stop); });
    message_timer_.setSingleShot(true);
    connect(&message_timer_, &QTimer::timeout, this, [this] {
        message_->clear();
        message_icon_->clear();
    });
    make_actions();
    refresh_title();
    set_station(Station::gather);
}

MainWindow::~MainWindow() {
    // The widgets look at the session, which is a member and would go before them.
    stills_.clear();
    hide();
    delete takeCentralWidget();
}

void MainWindow::make_view_bar(QWidget* holder) {
    holder->setFixedHeight(36);
    auto* row = new QHBoxLayout(holder);
    row->setContentsMargins(8, 4, 8, 4);
    row->setSpacing(3);
    modes_ = new QButtonGroup(this);
    const auto mode = [&](const char* picture, const char* name, ViewMode m, const QString& tip) {
        auto* b = new QToolButton;
        b->setObjectName(QString("view_") + QString(name).toLower());
        b->setText(name);
        b->setIcon(icon(picture));
        b->setToolButtonStyle(Qt::ToolButtonTextBesideIcon);
        b->setCheckable(true);
        b->setToolTip(tip);
        modes_->addButton(b, int(m));
        row->addWidget(b);
    };
    mode("map", "Map", ViewMode::map, "The whole sphere, unrolled (1)");
    mode("window", "Window", ViewMode::window, "Look round inside (2)");
    mode("lens", "Lens", ViewMode::lens, "One camera's own picture (3)");
    mode("sheet", "Sheet", ViewMode::sheet, "All cameras' pictures (4)");
    mode("rig", "Rig", ViewMode::rig, "The cameras in three dimensions (5)");
    modes_->button(0)->setChecked(true);
    connect(modes_, &QButtonGroup::idClicked, this, [this](int id) { picture_->set_mode(ViewMode(id)); });
    connect(picture_, &PictureArea::mode_changed, this,
            [this] { modes_->button(int(picture_->mode()))->setChecked(true); });
    row->addSpacing(10);
    const auto toggle = [&](const char* picture, const QString& name, const QString& tip, auto work) {
        auto* b = new QToolButton;
        b->setObjectName("show_" + name.toLower());
        b->setText(name);
        if (*picture) b->setIcon(icon(picture));
        b->setToolButtonStyle(*picture ? Qt::ToolButtonTextBesideIcon : Qt::ToolButtonTextOnly);
        b->setCheckable(true);
        b->setToolTip(tip);
        connect(b, &QToolButton::toggled, this, work);
        row->addWidget(b);
        return b;
    };
    toggle("footprint", "Footprints", "Where each lens reaches, with its centre (F)",
           [this](bool on) { picture_->set_footprints(on); });
    toggle("", "Overlaps", "Where two or more lenses see the same (V)",
           [this](bool on) { picture_->set_overlaps(on); });
    toggle("", "Coverage", "How many lenses see each part (G)",
           [this](bool on) { picture_->set_coverage(on); });
    toggle("", "Flicker", "The selected camera and its neighbour by turns, to line up their time (K)",
           [this](bool on) { picture_->set_flicker(on); });
    eyes_ = new QWidget;
    auto* eyes_row = new QHBoxLayout(eyes_);
    eyes_row->setContentsMargins(8, 0, 0, 0);
    auto* eye = new QComboBox;
    eye->setObjectName("eye_choice");
    eye->addItems({"Left eye", "Right eye"});
    connect(eye, &QComboBox::activated, this,
            [this](int i) { picture_->set_eye(i ? Eye::right : Eye::left); });
    eyes_row->addWidget(eye);
    row->addWidget(eyes_);
    eyes_->hide();
    row->addStretch(1);
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
    go->addAction(action("Load a rig file…", {}, [this] { rig_->load_rig_file(); }));
    go->addAction(action("Save the rig as a file…", {}, [this] { rig_->save_rig_file(); }));
    go->addAction(action("Render the selected deliverable", QKeySequence("Ctrl+R"),
                         [this] { master_->render_selected(); }));

    auto* view = menuBar()->addMenu("&View");
    const char* modes[] = {"Map view", "Window view", "Lens view", "Sheet view", "Rig view"};
    for (int i = 0; i < 5; ++i)
        view->addAction(action(modes[i], QKeySequence(QString::number(i + 1)),
                               [this, i] { picture_->set_mode(ViewMode(i)); }));
    view->addSeparator();
    view->addAction(action("Show footprints", QKeySequence("F"),
                           [this] { findChild<QToolButton*>("show_footprints")->toggle(); }));
    view->addAction(action("Show overlaps", QKeySequence("V"),
                           [this] { findChild<QToolButton*>("show_overlaps")->toggle(); }));
    view->addAction(action("Show coverage", QKeySequence("G"),
                           [this] { findChild<QToolButton*>("show_coverage")->toggle(); }));
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

void MainWindow::set_station(Station station) {
    rail_->set_station(station);
    panels_->setCurrentIndex(int(station));
    if (station != Station::gather) align_->hide();
    picture_->set_drag_use(station == Station::level ? DragUse::level : DragUse::look);
}

void MainWindow::say(const QString& text, Signal signal) {
    const QString first = text.section('\n', 0, 0);
    message_->setText(
        message_->fontMetrics().elidedText(first, Qt::ElideRight, std::max(60, message_->width())));
    message_->setToolTip(text);
    message_icon_->setPixmap(signal_icon(signal).pixmap(14, 14));
    message_->setStyleSheet(QString("color: %1;")
                                .arg((signal == Signal::good   ? colour::muted
                                      : signal == Signal::care ? colour::care
                                                               : colour::stop)
                                         .name()));
    // What went wrong stays until something else is said.
    if (signal == Signal::good)
        message_timer_.start(kMessageMs);
    else
        message_timer_.stop();
    if (signal == Signal::stop && message_->fontMetrics().horizontalAdvance(first) > message_->width() &&
        isVisible()) {
        auto* box = new QMessageBox(QMessageBox::NoIcon, "Pale Orbit", text, QMessageBox::Ok, this);
        box->setObjectName("error_box");
        box->setAttribute(Qt::WA_DeleteOnClose);
        box->setModal(false);
        box->show();
    }
}

void MainWindow::step(int frames) {
    player_.play(false);
    if (const Shot* s = session_.shot())
        session_.set_playhead(frame_time(frame_index(session_.playhead(), s->rate) + frames, s->rate));
}

void MainWindow::set_in() {
    const Seconds t = session_.playhead();
    session_.edit_shot("Set in", [&](Shot& s) {
        s.in = t;
        if (s.out && *s.out <= t) s.out.reset();
    });
}

void MainWindow::set_out() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const Seconds t =
        session_.playhead() + Rational(1) / shot->rate; // the frame on show is the last one used
    session_.edit_shot("Set out", [&](Shot& s) {
        s.out = t;
        if (s.in >= t) s.in = Seconds(0);
    });
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

void MainWindow::refresh_title() {
    const QString name = session_.file().empty()
                             ? "unsaved project"
                             : QString::fromStdString(session_.file().filename().string());
    setWindowTitle(name + (session_.is_dirty() ? " •" : "") + " — Pale Orbit");
}

bool MainWindow::open_project(const std::filesystem::path& file) {
    player_.play(false);
    if (!session_.open(file)) return false;
    remember_recent(QString::fromStdString(std::filesystem::absolute(file).string()));
    return true;
}

void MainWindow::open_demo(const QString& name) {
    if (!may_leave()) return;
    const auto folder = demo_folder();
    if (folder.empty()) return say("The demo takes are not installed beside the program.", Signal::care);
    open_project(folder / name.toStdString() / ("hall_" + name.toStdString() + ".porb"));
}

void MainWindow::add_files(const QStringList& files) {
    gather_->add_files(files);
}

bool MainWindow::save() {
    return session_.file().empty() ? save_as() : session_.save(session_.file());
}

bool MainWindow::save_as() {
    QString f = QFileDialog::getSaveFileName(this, "Save the project", "take.porb", "Projects (*.porb)");
    if (f.isEmpty()) return false;
    if (!f.endsWith(".porb")) f += ".porb";
    if (!session_.save(f.toStdString())) return false;
    remember_recent(f);
    return true;
}

bool MainWindow::may_leave() {
    if (!session_.is_dirty() || session_.project()->media.empty()) return true;
    const auto answer =
        QMessageBox::question(this, "Save first?", "The project has changes that are not saved.",
                              QMessageBox::Save | QMessageBox::Discard | QMessageBox::Cancel);
    if (answer == QMessageBox::Save) return save();
    return answer == QMessageBox::Discard;
}

void MainWindow::save_still() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const QString f = QFileDialog::getSaveFileName(this, "Save a still at the playhead, 3840 wide",
                                                   "still.png", "Stills (*.png *.jpg *.tif *.exr)");
    if (f.isEmpty()) return;
    StillRequest request;
    request.time = session_.playhead();
    const bool half = std::any_of(shot->rig.cameras.begin(), shot->rig.cameras.end(),
                                  [](const Camera& c) { return c.eyes != Eyes::both; });
    if (half) request.mapping = SphereMapping::half_equirect;
    const ProjectPtr project = session_.project();
    say("Rendering " + QFileInfo(f).fileName() + "…", Signal::good);
    stills_.emplace_back([this, request, project, id = shot->id, f] {
        QString words = "Saved " + QFileInfo(f).fileName();
        Signal signal = Signal::good;
        try {
            write_still(render_still(service_.composer(), *project, *find_shot(*project, id), request),
                        f.toStdString(), {8, 95, SphericalTag{request.mapping, StereoLayout::mono}});
        } catch (const std::exception& e) {
            words = QString::fromStdString(e.what());
            signal = Signal::stop;
        }
        QMetaObject::invokeMethod(
            this, [this, words, signal] { say(words, signal); }, Qt::QueuedConnection);
    });
}

void MainWindow::remember_recent(const QString& file) {
    QSettings settings;
    QStringList recent = settings.value("recent").toStringList();
    recent.removeAll(file);
    recent.prepend(file);
    settings.setValue("recent", QStringList(recent.mid(0, kMostRecent)));
    refresh_recent();
}

void MainWindow::refresh_recent() {
    recent_->clear();
    for (const QString& file : QSettings().value("recent").toStringList())
        connect(recent_->addAction(QFileInfo(file).fileName() + "   " + QFileInfo(file).path()),
                &QAction::triggered, this, [this, file] {
                    if (may_leave()) open_project(file.toStdString());
                });
    recent_->setEnabled(!recent_->isEmpty());
}

void MainWindow::show_palette() {
    auto* palette = new CommandPalette(actions_, this);
    palette->setAttribute(Qt::WA_DeleteOnClose);
    palette->move(mapToGlobal(QPoint((width() - palette->width()) / 2, 120)));
    palette->show();
}

void MainWindow::offer_recovery() {
    const std::filesystem::path folder =
        QSettings().fileName().isEmpty() ? "" : QFileInfo(QSettings().fileName()).path().toStdString();
    const auto found = find_autosaves(folder / "autosave");
    if (found.empty()) return;
    const QString name = found[0].project_file.empty()
                             ? "a project that was never saved"
                             : QString::fromStdString(found[0].project_file.filename().string());
    const auto answer =
        QMessageBox::question(this, "Bring back unsaved work?",
                              "Pale Orbit did not end cleanly. Unsaved work on " + name + " was kept.",
                              QMessageBox::Yes | QMessageBox::No);
    if (answer == QMessageBox::Yes) session_.recover(found[0].project, found[0].project_file);
    std::error_code code;
    for (const auto& a : found) std::filesystem::remove(a.file, code);
}

void MainWindow::restore_session() {
    QSettings settings;
    restoreGeometry(settings.value("window").toByteArray());
    const QString last = settings.value("last_project").toString();
    if (!last.isEmpty() && QFileInfo::exists(last) && open_project(last.toStdString())) {
        session_.set_playhead(Rational::from_double(settings.value("playhead").toDouble()));
        set_station(Station(std::clamp(settings.value("station").toInt(), 0, kStations - 1)));
        picture_->set_mode(ViewMode(std::clamp(settings.value("view").toInt(), 0, 4)));
    }
}

void MainWindow::closeEvent(QCloseEvent* event) {
    if (queue_.is_busy() &&
        QMessageBox::question(
            this, "Stop rendering?",
            "A deliverable is being rendered. Closing stops it; nothing half-made is left.") !=
            QMessageBox::Yes) {
        event->ignore();
        return;
    }
    if (!may_leave()) {
        event->ignore();
        return;
    }
    QSettings settings;
    settings.setValue("window", saveGeometry());
    settings.setValue("last_project", QString::fromStdString(session_.file().string()));
    settings.setValue("playhead", session_.playhead().to_double());
    settings.setValue("station", int(rail_->station()));
    settings.setValue("view", int(picture_->mode()));
    event->accept();
}

void MainWindow::dragEnterEvent(QDragEnterEvent* event) {
    if (event->mimeData()->hasUrls()) event->acceptProposedAction();
}

void MainWindow::dropEvent(QDropEvent* event) {
    QStringList files;
    for (const auto& url : event->mimeData()->urls())
        if (url.isLocalFile()) files << url.toLocalFile();
    if (files.size() == 1 && files[0].endsWith(".porb")) {
        if (may_leave()) open_project(files[0].toStdString());
    } else if (files.size() == 1 && files[0].endsWith(".rig.json")) {
        set_station(Station::rig);
        rig_->load_rig_file(files[0]);
    } else if (!files.isEmpty()) {
        add_files(files);
    }
    event->acceptProposedAction();
}

} // namespace porb::app
