#include "app/main_window.h"

#include "app/align_strip.h"
#include "app/command_palette.h"
#include "app/crossing_lane.h"
#include "app/crossings_part.h"
#include "app/gather_panel.h"
#include "app/level_panel.h"
#include "app/master_panel.h"
#include "app/match_panel.h"
#include "app/points_desk.h"
#include "app/points_panel.h"
#include "app/residual_lane.h"
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
#include <QMenuBar>
#include <QMessageBox>
#include <QMimeData>
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
constexpr int kPanelWidth = 344, kMessageMs = 7000;
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
    desk_ = new PointsDesk(session_);
    views_->addWidget(desk_);
    left_column->addWidget(views_, 1);
    timeline_ = new Timeline(session_);
    align_ = new AlignStrip(session_, timeline_->ruler());
    align_->hide();
    left_column->addWidget(align_);
    left_column->addWidget(timeline_);
    lane_ = new ResidualLane(session_, timeline_->ruler());
    timeline_->add_lane(lane_);
    lane_->hide();
    crossing_lane_ = new CrossingLane(session_, timeline_->ruler());
    timeline_->add_lane(crossing_lane_);
    crossing_lane_->hide();
    middle->addWidget(left, 1);

    side_ = new QFrame;
    side_->setProperty("role", "panel");
    side_->setFixedWidth(kPanelWidth);
    auto* side_column = new QVBoxLayout(side_);
    side_column->setContentsMargins(0, 0, 0, 0);
    panels_ = new QStackedWidget;
    gather_ = new GatherPanel(session_, service_);
    rig_ = new RigPanel(session_);
    points_ = new PointsPanel(session_, *picture_);
    level_ = new LevelPanel(session_, *picture_);
    match_ = new MatchPanel(session_);
    seams_ = new SeamsPanel(session_, *picture_);
    connect(crossing_lane_, &CrossingLane::chosen, this, [this](int index) {
        seams_->show_part(SeamsPanel::Part::crossings);
        const auto& list = (*session_.shot()->crossings)->crossings;
        const Shot& shot = *session_.shot();
        session_.set_playhead(frame_time(
            frame_index(list[std::size_t(index)].path[list[std::size_t(index)].path.size() / 2].time,
                        shot.rate),
            shot.rate));
        seams_->crossings().tool().select(index);
    });
    master_ = new MasterPanel(session_, queue_);
    for (QWidget* panel :
         std::initializer_list<QWidget*>{gather_, rig_, points_, level_, match_, seams_, master_}) {
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
    connect(picture_, &PictureArea::playing_open_changed, this, [this] {
        timeline_->set_note(picture_->plays_without_parallax()
                                ? "parallax open while playing"
                                : "");
    });
    connect(gather_, &GatherPanel::align_wanted, this, [this] { show_align(!align_->isVisible()); });
    connect(align_, &AlignStrip::closed, this, [this] { show_align(false); });
    connect(&timeline_->ruler(), &TimeRuler::marker_wanted, this, &MainWindow::edit_marker);
    connect(picture_, &PictureArea::mode_changed, this, [this] {
        views_->setCurrentIndex(picture_->mode() == ViewMode::rig    ? 1
                                : picture_->mode() == ViewMode::pair ? 2
                                                                     : 0);
    });
    connect(picture_, &PictureArea::add_files_wanted, gather_, &GatherPanel::choose_files);
    connect(picture_, &PictureArea::demo_wanted, this, [this] { open_demo("dual"); });
    connect(&session_, &Session::said, this, &MainWindow::say);
    connect(&session_, &Session::file_changed, this, &MainWindow::refresh_title);
    connect(&session_, &Session::disk_changed, this, &MainWindow::tell_disk_changed);
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
        const bool pair = s && std::any_of(s->rig.cameras.begin(), s->rig.cameras.end(),
                                           [](const Camera& c) { return c.eyes != Eyes::both; });
        // An eye of a pair comes from one camera: neither means anything there, and the bar has room for the
        // eyes.
        for (const char* name : {"show_supply", "show_flicker"})
            findChild<QToolButton*>(name)->setVisible(!pair);
        eyes_->setVisible(pair);
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
    row->setSpacing(2);
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
    mode("pair", "Pair", ViewMode::pair, "Two cameras side by side, points and their misses (6)");
    modes_->button(0)->setChecked(true);
    connect(modes_, &QButtonGroup::idClicked, this, [this](int id) { picture_->set_mode(ViewMode(id)); });
    connect(picture_, &PictureArea::mode_changed, this,
            [this] { modes_->button(int(picture_->mode()))->setChecked(true); });
    row->addSpacing(1);
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
    toggle("", "Supply", "Which camera supplies what (S)", [this](bool on) { picture_->set_supply(on); });
    toggle("", "Flicker", "The selected camera and its neighbour by turns, to line up their time (K)",
           [this](bool on) { picture_->set_flicker(on); });
    toggle("", "Points", "Control points: misses on a lens, doubling on the sphere (T)",
           [this](bool on) { picture_->set_points_shown(on); });
    eyes_ = new QWidget;
    auto* eyes_row = new QHBoxLayout(eyes_);
    eyes_row->setContentsMargins(2, 0, 0, 0);
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

void MainWindow::set_station(Station station) {
    const bool arriving = panels_->currentIndex() != int(station);
    rail_->set_station(station);
    panels_->setCurrentIndex(int(station));
    if (station != Station::gather) align_->hide();
    picture_->set_drag_use(station == Station::level ? DragUse::level : DragUse::look);
    picture_->set_lines_shown(station == Station::level);
    picture_->set_line_tool(std::nullopt);
    lane_->setVisible(station == Station::points);
    crossing_lane_->setVisible(station == Station::seams);
    // Those two have a lane of their own below the sources.
    timeline_->setFixedHeight(station == Station::points || station == Station::seams ? 128 : 96);
    // Whoever is here already keeps the view that was chosen.
    if (station == Station::points && arriving)
        picture_->set_mode(ViewMode::pair);
    else if (station != Station::points && picture_->mode() == ViewMode::pair)
        picture_->set_mode(ViewMode::map);
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
    if (session_.file().empty()) return save_as();
    const auto saved = session_.save(session_.file());
    return saved == Session::Saved::changed_on_disk ? save_over_or_not() : saved == Session::Saved::yes;
}

bool MainWindow::save_as() {
    QString f = QFileDialog::getSaveFileName(this, "Save the project", "take.porb", "Projects (*.porb)");
    if (f.isEmpty()) return false;
    if (!f.endsWith(".porb")) f += ".porb";
    // Over this very project's file it is a plain save, with the same questions.
    const auto saved = session_.save(f.toStdString());
    if (saved == Session::Saved::changed_on_disk) return save_over_or_not();
    if (saved != Session::Saved::yes) return false;
    remember_recent(f);
    return true;
}

/// The file holds what another program wrote since it was opened here: the artist chooses.
bool MainWindow::save_over_or_not() {
    const QString name = QString::fromStdString(session_.file().filename().string());
    QMessageBox box(QMessageBox::NoIcon, "Changed on disk",
                    name +
                        " was changed by another program since it was opened here.\n\n"
                        "Saving over it loses what that program wrote; opening it again loses what was done "
                        "here and not saved.",
                    QMessageBox::NoButton, this);
    box.setObjectName("disk_box");
    auto* other = box.addButton("Save mine under another name…", QMessageBox::AcceptRole);
    auto* over = box.addButton("Save mine over it", QMessageBox::DestructiveRole);
    auto* theirs = box.addButton("Open it again", QMessageBox::DestructiveRole);
    auto* neither = box.addButton("Cancel", QMessageBox::RejectRole);
    box.setEscapeButton(neither);
    box.setDefaultButton(other);
    box.exec();
    if (box.clickedButton() == other) return save_as();
    if (box.clickedButton() == over) return session_.save(session_.file(), true) == Session::Saved::yes;
    if (box.clickedButton() == theirs) reload_project();
    return false;
}

void MainWindow::tell_disk_changed() {
    const QString name = QString::fromStdString(session_.file().filename().string());
    auto* box = new QMessageBox(QMessageBox::NoIcon, "Changed on disk",
                                name + " was changed by another program." +
                                    (session_.is_dirty() ? " What was done here since is not saved." : ""),
                                QMessageBox::NoButton, this);
    box->setObjectName("disk_told_box");
    box->setAttribute(Qt::WA_DeleteOnClose);
    auto* theirs =
        box->addButton(session_.is_dirty() ? "Open it again, and lose what was done here" : "Open it again",
                       QMessageBox::AcceptRole);
    auto* mine = box->addButton("Keep what is shown", QMessageBox::RejectRole);
    box->setDefaultButton(session_.is_dirty() ? mine : theirs);
    box->setEscapeButton(mine);
    connect(theirs, &QPushButton::clicked, this, &MainWindow::reload_project);
    box->setModal(false);
    box->show();
    say(name + " was changed on disk by another program. Saving will ask which to keep.", Signal::care);
}

void MainWindow::reload_project() {
    const Seconds at = session_.playhead();
    const std::string shot = session_.shot() ? session_.shot()->id : "";
    const std::filesystem::path file = session_.file();
    if (file.empty() || !open_project(file)) return;
    if (find_shot(*session_.project(), shot)) session_.choose_shot(shot);
    session_.set_playhead(at);
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
    try {
        session_.must_not_replace(f.toStdString());
    } catch (const std::exception& e) {
        return say(QString::fromStdString(words_of(e)), Signal::stop);
    }
    const ProjectPtr project = session_.project();
    say("Rendering " + QFileInfo(f).fileName() + "…", Signal::good);
    stills_.emplace_back([this, request, project, id = shot->id, f] {
        QString words = "Saved " + QFileInfo(f).fileName();
        Signal signal = Signal::good;
        try {
            write_still(render_still(service_.composer(), *project, *find_shot(*project, id), request),
                        f.toStdString(), {8, 95, SphericalTag{request.mapping, StereoLayout::mono}});
        } catch (const std::exception& e) {
            words = QString::fromStdString(words_of(e));
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
    std::vector<std::filesystem::path> unreadable;
    for (const auto& left : find_autosaves(session_.autosave_folder(), &unreadable)) {
        const QString name = left.project_file.empty()
                                 ? "a project that was never saved"
                                 : QString::fromStdString(left.project_file.filename().string());
        std::error_code gone;
        QMessageBox box(
            QMessageBox::Question, "Unsaved work",
            "Pale Orbit did not end cleanly. Unsaved work on " + name + " was kept." +
                (left.opened != 0 && fingerprint_of(left.project_file) != left.opened &&
                         std::filesystem::exists(left.project_file, gone)
                     ? "\n\nThe project on disk was changed since then, by a later save or another "
                       "program. It stays as it is until you save."
                     : ""),
            QMessageBox::NoButton, this);
        auto* back = box.addButton("Bring it back", QMessageBox::AcceptRole);
        auto* away = box.addButton("Throw it away", QMessageBox::DestructiveRole);
        box.setEscapeButton(box.addButton("Ask again next time", QMessageBox::RejectRole));
        box.setDefaultButton(back);
        box.exec();
        if (box.clickedButton() == back) {
            if (!session_.recover(left)) continue;
            break; // others are asked about next time: one window holds one project
        }
        if (box.clickedButton() == away)
            if (const auto slot = AutosaveSlot::adopt(left)) slot->remove();
    }
    if (!unreadable.empty())
        say(QString("%1 of unsaved work cannot be read; kept as %2")
                .arg(unreadable.size() == 1 ? "A file" : QString("%1 files").arg(unreadable.size()),
                     QString::fromStdString(unreadable.front().string())),
            Signal::care);
}

void MainWindow::restore_session() {
    QSettings settings;
    restoreGeometry(settings.value("window").toByteArray());
    const QString last = settings.value("last_project").toString();
    if (!last.isEmpty() && QFileInfo::exists(last) && open_project(last.toStdString())) {
        session_.set_playhead(Rational::from_double(settings.value("playhead").toDouble()));
        set_station(Station(std::clamp(settings.value("station").toInt(), 0, kStations - 1)));
        picture_->set_mode(ViewMode(std::clamp(settings.value("view").toInt(), 0, 5)));
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
