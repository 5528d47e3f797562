#include "app/shell/main_window.h"

#include "app/picture/rig_view.h"
#include "app/session/job_bar.h"
#include "app/shell/command_palette.h"
#include "app/widgets/theme.h"
#include "base/error.h"
#include "master/render.h"
#include "media/still.h"
#include "optics/eye_pairs.h"
#include "project/autosave.h"
#include "stitch/depth_map.h"

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
#include <QScreen>
#include <QScrollArea>
#include <QSettings>
#include <QSplitter>
#include <QStackedWidget>
#include <QToolButton>

#ifndef PORB_DEMO_FOLDER
#define PORB_DEMO_FOLDER ""
#endif

namespace porb::app {

namespace {
constexpr int kPanelWidth = 344, kMessageMs = 7000;
constexpr int kTimelineHeight = 96, kLaneHeight = 32;
constexpr int kMostRecent = 8;
} // namespace

std::filesystem::path demo_folder() {
    const std::filesystem::path here = QCoreApplication::applicationDirPath().toStdString();
    for (const auto& p : {here / "../share/pale-orbit/demo", std::filesystem::path(PORB_DEMO_FOLDER)})
        if (std::filesystem::exists(p / "dual")) return p;
    return {};
}

MainWindow::MainWindow(const std::filesystem::path& data_folder, std::shared_ptr<CacheBound> memory)
    : session_(data_folder / "autosave", memory), service_(session_.library()), queue_(memory),
      player_(session_), proxies_(session_, service_) {
    setObjectName("main_window");
    setWindowIcon(icon("pale-orbit"));
    setAcceptDrops(true);
    // With a title bar and a panel of the desktop on the smallest screens that people work at.
    constexpr int kWidth = 1280, kHeight = 800, kTitleBar = 40;
    const QSize room = QGuiApplication::primaryScreen()->availableSize();
    resize(kWidth, room.width() >= kWidth ? std::min(kHeight, room.height() - kTitleBar) : kHeight);

    auto* body = new QWidget;
    auto* column = new QVBoxLayout(body);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(0);
    rail_ = new OrbitRail(session_, stations_);
    column->addWidget(rail_);
    middle_ = new QSplitter(Qt::Horizontal);
    middle_->setObjectName("picture_and_panel");
    middle_->setChildrenCollapsible(false);
    column->addWidget(middle_, 1);

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
    pages_[ViewMode::rig] = views_->addWidget(rig_view_);
    left_column->addWidget(views_, 1);
    timeline_ = new Timeline(session_);
    middle_->addWidget(left);

    side_ = new QFrame;
    side_->setProperty("role", "panel");
    side_->setMinimumWidth(kPanelWidth);
    auto* side_column = new QVBoxLayout(side_);
    side_column->setContentsMargins(0, 0, 0, 0);
    panels_ = new QStackedWidget;
    stations_ = make_stations({session_, service_, *picture_, *timeline_, queue_});
    for (const auto& station : stations_) {
        auto* scroll = new QScrollArea;
        scroll->setWidgetResizable(true);
        scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
        scroll->setFrameShape(QFrame::NoFrame);
        scroll->setWidget(station->panel());
        panels_->addWidget(scroll);
        if (QWidget* strip = station->strip()) left_column->addWidget(strip);
        if (const auto page = station->page()) pages_[page->mode] = views_->addWidget(page->widget);
        if (QWidget* lane = station->lane()) {
            timeline_->add_lane(lane);
            lane->hide();
        }
    }
    left_column->addWidget(new JobBar(stills_, session_, "still", "the file"));
    left_column->addWidget(proxies_.bar());
    left_column->addWidget(timeline_);
    side_column->addWidget(panels_);
    middle_->addWidget(side_);
    middle_->setStretchFactor(0, 1);
    middle_->setStretchFactor(1, 0);
    setCentralWidget(body);
    make_view_bar(view_bar);

    connect(rail_, &OrbitRail::chosen, this,
            [this](int index) { set_station(stations_[std::size_t(index)]->id()); });
    connect(timeline_, &Timeline::play_wanted, &player_, &Player::play);
    connect(timeline_, &Timeline::step_wanted, this, &MainWindow::step);
    connect(timeline_, &Timeline::in_wanted, this, &MainWindow::set_in);
    connect(timeline_, &Timeline::out_wanted, this, &MainWindow::set_out);
    connect(&timeline_->ruler(), &TimeRuler::scrubbed, this, [this] { player_.play(false); });
    connect(&player_, &Player::playing_changed, this, [this](bool on) {
        timeline_->set_playing(on);
        picture_->set_playing(on, player_.plays_every_frame());
        timeline_->set_note({}, {});
        shown_before_ = picture_->painted();
        on ? rate_timer_.start(1000) : rate_timer_.stop();
        slow_seconds_ = 0;
        if (!on) proxies_.rests();
    });
    connect(picture_, &PictureArea::picture_shown, this, [this] {
        if (picture_->shown_time() == session_.playhead()) player_.picture_shown();
    });
    connect(&rate_timer_, &QTimer::timeout, this, &MainWindow::tell_playing);
    connect(&timeline_->ruler(), &TimeRuler::marker_wanted, this, &MainWindow::edit_marker);
    connect(picture_, &PictureArea::mode_changed, this, [this] {
        const auto page = pages_.find(picture_->mode());
        views_->setCurrentIndex(page == pages_.end() ? 0 : page->second);
    });
    connect(picture_, &PictureArea::demo_wanted, this, [this] { open_demo("dual"); });
    connect(&session_, &Session::said, this, &MainWindow::say);
    connect(&session_, &Session::file_changed, this, &MainWindow::refresh_title);
    connect(&session_, &Session::disk_changed, this, &MainWindow::tell_disk_changed);
    connect(&queue_, &RenderQueue::changed, rail_, &OrbitRail::refresh);
    connect(&queue_, &RenderQueue::finished, this,
            [this](const QString& words, bool good) { say(words, good ? Signal::good : Signal::stop); });
    connect(&session_, &Session::project_changed, this, &MainWindow::follow_project);
    message_timer_.setSingleShot(true);
    connect(&message_timer_, &QTimer::timeout, this, [this] {
        message_->clear();
        message_icon_->clear();
    });
    make_actions();
    refresh_title();
    rail_->refresh();
    rail_->set_station(0);
    stations_.front()->arrive();
    connect(middle_, &QSplitter::splitterMoved, this, [this] { panel_chosen_ = true; });
    middle_->setSizes({width() - kPanelWidth, kPanelWidth});
}

void MainWindow::tell_playing() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const int shown = picture_->painted() - shown_before_,
              all = int(std::lround(shot->timing.rate.to_double()));
    shown_before_ = picture_->painted();
    if (player_.plays_every_frame())
        return timeline_->set_note(QString("%1 fps, every frame").arg(shown),
                                   "Frames shown in the last second; each is shown, however long that takes");
    constexpr double kSlow = 0.8;   // of all frames
    constexpr int kSlowSeconds = 2; // one after the other: the first one makes what others use
    const bool slow = shown > 0 && shown < kSlow * all && picture_->shown_proxy_level() == 0;
    slow_seconds_ = slow ? slow_seconds_ + 1 : 0;
    if (slow_seconds_ >= kSlowSeconds && !slow_told_) {
        slow_told_ = true;
        say(proxies_.plays_late()
                ? "Not every frame can be shown in time here: proxies are made as soon as it rests."
                : "Not every frame can be shown in time here. Play > Make proxies lets it play smoothly.",
            Signal::care);
    }
    // Beside the time there is room for few words.
    const QString dropped = shown < all - 1 ? QString(", %1 dropped").arg(all - shown) : QString();
    timeline_->set_note(QString("%1 of %2 fps").arg(std::min(shown, all)).arg(all) +
                            (picture_->plays_without_parallax() ? ", parallax open" : dropped),
                        "Frames shown in the last second" + dropped +
                            (picture_->plays_without_parallax()
                                 ? ". Closing parallax takes too long here to show eight frames a second; at "
                                   "rest it is closed"
                                 : ""));
}

void MainWindow::follow_project() {
    const History& history = session_.history();
    undo_->setEnabled(history.can_undo());
    redo_->setEnabled(history.can_redo());
    undo_->setText(history.can_undo() ? "Undo: " + QString::fromStdString(history.undo_label()) : "Undo");
    redo_->setText(history.can_redo() ? "Redo: " + QString::fromStdString(history.redo_label()) : "Redo");
    const Shot* s = session_.shot();
    const bool pair = s && is_half_sphere_pair(s->rig);
    // An eye of a pair comes from one camera: neither means anything there.
    for (QAction* overlay : {supply_, flicker_}) overlay->setVisible(!pair);
    const bool stereo = s && (eye_separation_m(s->rig) > 0 || s->stereo.from == EyesFrom::distances);
    eyes_->setVisible(stereo);
    if (!stereo) picture_->set_eyes(EyesLook::mono);
}

MainWindow::~MainWindow() {
    // The widgets look at the session, which is a member and would go before them.
    stills_.stop();
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
    mode("pair", "Pair", ViewMode::pair, "Two cameras side by side, points and their residuals (6)");
    mode("down", "Down", ViewMode::down, "The ground straight on, without distortion (7)");
    modes_->button(0)->setChecked(true);
    connect(modes_, &QButtonGroup::idClicked, this, [this](int id) { picture_->set_mode(ViewMode(id)); });
    connect(picture_, &PictureArea::mode_changed, this,
            [this] { modes_->button(int(picture_->mode()))->setChecked(true); });
    row->addSpacing(10);
    auto* overlays = new QToolButton;
    overlays->setObjectName("overlays");
    overlays->setText("Overlays");
    overlays->setIcon(icon("footprint"));
    overlays->setToolButtonStyle(Qt::ToolButtonTextBesideIcon);
    overlays->setPopupMode(QToolButton::InstantPopup);
    overlays->setToolTip("What is drawn over the picture; those that are on stand beside this");
    overlays_ = new QMenu(overlays);
    overlays->setMenu(overlays_);
    row->addWidget(overlays);
    shown_overlays_ = new QHBoxLayout;
    shown_overlays_->setSpacing(2);
    row->addLayout(shown_overlays_);
    eyes_ = new QWidget;
    auto* eyes_row = new QHBoxLayout(eyes_);
    eyes_row->setContentsMargins(2, 0, 0, 0);
    auto* eye = new QComboBox;
    eye->setObjectName("eye_choice");
    eye->setToolTip("What is shown of the two eyes; the next one by Shift+V");
    for (const EyesLook look : all_eyes_looks()) eye->addItem(name_of(look));
    connect(eye, &QComboBox::activated, this,
            [this](int i) { picture_->set_eyes(all_eyes_looks()[std::size_t(i)]); });
    connect(picture_, &PictureArea::eyes_changed, eye,
            [this, eye] { eye->setCurrentText(name_of(picture_->eyes())); });
    eyes_row->addWidget(eye);
    row->addWidget(eyes_);
    eyes_->hide();
    row->addStretch(1);
}

bool MainWindow::set_station(const QString& id) {
    const auto to =
        std::find_if(stations_.begin(), stations_.end(), [&](const auto& s) { return s->id() == id; });
    if (to == stations_.end()) return false;
    const auto index = std::size_t(to - stations_.begin());
    if (index == at_) return true; // whoever is here already keeps the view that was chosen
    Station &before = *stations_[at_], &now = **to;
    before.leave();
    picture_->set_tool(nullptr); // what is drawn over the picture belongs to the station that is left
    if (before.lane()) before.lane()->hide();
    if (const auto page = before.page(); page && picture_->mode() == page->mode)
        picture_->set_mode(ViewMode::map);
    at_ = index;
    rail_->set_station(int(index));
    panels_->setCurrentIndex(int(index));
    if (now.lane()) now.lane()->show();
    timeline_->setFixedHeight(kTimelineHeight + (now.lane() ? kLaneHeight : 0));
    now.arrive();
    if (const auto page = now.page()) picture_->set_mode(page->mode);
    return true;
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
        session_.set_playhead(
            frame_time(frame_index(session_.playhead(), s->timing.rate) + frames, s->timing.rate));
}

void MainWindow::set_in() {
    const Seconds t = session_.playhead();
    session_.edit_shot("Set in", [&](Shot& s) {
        s.timing.in = t;
        if (s.timing.out && *s.timing.out <= t) s.timing.out.reset();
    });
}

void MainWindow::set_out() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const Seconds t =
        session_.playhead() + Rational(1) / shot->timing.rate; // the frame on show is the last one used
    session_.edit_shot("Set out", [&](Shot& s) {
        s.timing.out = t;
        if (s.timing.in >= t) s.timing.in = Seconds(0);
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
    // The later ones know what is theirs; what nobody else wants is footage.
    for (auto station = stations_.rbegin(); station != stations_.rend(); ++station)
        if ((*station)->take_files(files)) {
            set_station((*station)->id()); // where one sees what became of them
            return;
        }
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

namespace {
/// As the picture shows the eyes: one of them, or both in one picture.
StillRequest still_of(const Shot& shot, Seconds time, EyesLook eyes) {
    StillRequest out;
    out.time = time;
    out.eye = eye_of(eyes);
    if (is_half_sphere_pair(shot.rig)) out.mapping = SphereMapping::half_equirect;
    if (shows_both(eyes))
        out.stereo =
            out.mapping == SphereMapping::equirect ? StereoLayout::top_bottom : StereoLayout::left_right;
    return out;
}
} // namespace

void MainWindow::save_still() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const QString f = QFileDialog::getSaveFileName(this, "Save a still at the playhead, 3840 wide",
                                                   "still.png", "Stills (*.png *.jpg *.tif *.exr)");
    if (f.isEmpty()) return;
    const StillRequest request = still_of(*shot, session_.playhead(), picture_->eyes());
    try {
        session_.must_not_replace(f.toStdString());
    } catch (const std::exception& e) {
        return say(QString::fromStdString(words_of(e)), Signal::stop);
    }
    const ProjectPtr project = session_.project();
    say("Rendering " + QFileInfo(f).fileName() + "…", Signal::good);
    stills_.add([this, request, project, id = shot->id, f](const BackgroundJob::Tell&,
                                                           const Cancel& cancel) -> BackgroundJob::Finish {
        const Picture still =
            render_still(service_.composer(), *project, *find_shot(*project, id), request, cancel);
        cancel.check();
        write_still(still, f.toStdString(), {8, 95, SphericalTag{request.mapping, request.stereo}});
        return [this, f] { say("Saved " + QFileInfo(f).fileName(), Signal::good); };
    });
}

void MainWindow::save_distances() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    if (!shot->seams.flow.on)
        return say("There are no distances: switch on Parallax in Seams first.", Signal::care);
    const QString f = QFileDialog::getSaveFileName(
        this, "Save the distances at the playhead, 3840 wide: metres (EXR) or their inverse (16-bit PNG)",
        "distances.exr", "Distances (*.exr *.png)");
    if (f.isEmpty()) return;
    const std::filesystem::path path = f.toStdString();
    if (!is_depth_name(path))
        return say("Distances are saved as .exr or .png: give the name one of these endings.", Signal::stop);
    try {
        session_.must_not_replace(path);
    } catch (const std::exception& e) {
        return say(QString::fromStdString(words_of(e)), Signal::stop);
    }
    const ProjectPtr project = session_.project();
    say("Looking for the distances of " + QFileInfo(f).fileName() + "…", Signal::good);
    stills_.add([this, project, id = shot->id,
                 request = still_of(*shot, session_.playhead(), picture_->eyes()),
                 f](const BackgroundJob::Tell&, const Cancel& cancel) -> BackgroundJob::Finish {
        View view;
        view.target = sphere_target(request.mapping, request.width);
        view.eye = request.eye;
        const DepthMap depth =
            depth_map(service_.composer(), *project, *find_shot(*project, id), request.time, view, cancel);
        cancel.check();
        write_depth(depth, f.toStdString());
        return [this, f] { say("Saved " + QFileInfo(f).fileName(), Signal::good); };
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
            QMessageBox::NoIcon, "Unsaved work",
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
    if (const int panel = settings.value("panel_width").toInt(); panel >= kPanelWidth)
        panel_chosen_ = true, middle_->setSizes({width() - panel, panel});
    const QString last = settings.value("last_project").toString();
    if (!last.isEmpty() && QFileInfo::exists(last) && open_project(last.toStdString())) {
        session_.set_playhead(Rational::from_double(settings.value("playhead").toDouble()));
        set_station(settings.value("station").toString());
        picture_->set_mode(ViewMode(std::clamp(settings.value("view").toInt(), 0, 5)));
    }
}

void MainWindow::closeEvent(QCloseEvent* event) {
    const bool renders = queue_.is_busy();
    if ((renders || stills_.is_running()) &&
        QMessageBox::question(
            this, "Stop rendering?",
            QString(renders ? "A deliverable is being rendered." : "A still is being saved.") +
                " Closing stops it; nothing half-made is left.") != QMessageBox::Yes) {
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
    settings.setValue("station", stations_[at_]->id());
    if (panel_chosen_) settings.setValue("panel_width", side_->width());
    settings.setValue("view", int(picture_->mode()));
    session_.forget_autosave();
    event->accept();
}

void MainWindow::resizeEvent(QResizeEvent* event) {
    QMainWindow::resizeEvent(event);
    if (panel_chosen_) return;
    // Tables of many cameras use a third of the room that a wide screen has beyond the usual.
    constexpr int kUsualWidth = 1440;
    const int panel = kPanelWidth + std::max(0, width() - kUsualWidth) / 3;
    middle_->setSizes({width() - panel, panel});
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
    } else if (!files.isEmpty()) {
        add_files(files);
    }
    event->acceptProposedAction();
}

} // namespace porb::app
