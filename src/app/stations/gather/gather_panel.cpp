#include "app/stations/gather/gather_panel.h"

#include "app/widgets/number_field.h"

#include "app/widgets/theme.h"
#include "base/error.h"
#include "media/library.h"
#include "media/sequence.h"
#include "project/limits.h"
#include "project/origins.h"

#include <QFileDialog>
#include <QHeaderView>
#include <QMetaObject>
#include <QShortcut>
#include <QSignalBlocker>

namespace porb::app {

namespace {
constexpr double kLikelyFov = 190; // of a fisheye nobody has said anything about

QString facts_text(const MediaInfo& i) {
    QString text = QString("%1 × %2, %3, %4 bit")
                       .arg(i.width)
                       .arg(i.height)
                       .arg(QString::fromStdString(i.codec))
                       .arg(i.depth);
    if (i.ref.kind != MediaKind::still)
        text += QString("\n%1 s, %2 fps, %3 frames")
                    .arg(i.duration.to_double(), 0, 'f', 3)
                    .arg(i.rate.to_double(), 0, 'g', 6)
                    .arg(i.frames);
    text += i.sound ? QString("\nsound: %1, %2 Hz, %3 channels")
                          .arg(QString::fromStdString(i.sound->codec))
                          .arg(i.sound->rate_hz)
                          .arg(i.sound->channels)
                    : QString("\nno sound");
    text += QString("\ncolour: %1, %2 range")
                .arg(QString::fromStdString(i.matrix), i.full_range ? "full" : "video");
    if (i.rotation_deg) text += QString("\nturned by %1°").arg(i.rotation_deg);
    for (const auto& r : i.remarks) text += "\n▲ " + QString::fromStdString(r);
    return text;
}
} // namespace

GatherPanel::GatherPanel(Session& session, PictureService& service, QWidget* parent)
    : Panel("Gather", "Which files belong together, which camera each is, and when they began.", parent),
      session_(session) {
    setObjectName("gather_panel");
    make_proposal_page();
    usual_ = new QWidget;
    usual_column_ = new QVBoxLayout(usual_);
    usual_column_->setContentsMargins(0, 0, 0, 0);
    usual_column_->setSpacing(6);
    column()->addWidget(usual_, 1);
    shots_ = new ShotList(session, service);
    make_shots_part();
    make_cameras_part();
    make_files_part();
    connect(&session_, &Session::project_changed, this, &GatherPanel::refresh_if_seen);
    connect(&session_, &Session::selection_changed, this, &GatherPanel::refresh_if_seen);
    refresh();
}

void GatherPanel::make_proposal_page() {
    proposal_ = new QWidget;
    auto* page = new QVBoxLayout(proposal_);
    page->setContentsMargins(0, 0, 0, 0);
    page->setSpacing(6);
    auto* head = new QLabel("TAKES FOUND");
    head->setProperty("role", "group");
    page->addWidget(head);
    takes_ = new TakeTree;
    page->addWidget(takes_, 1);
    proposal_words_ = new QLabel;
    proposal_words_->setObjectName("take_words");
    proposal_words_->setProperty("role", "hint");
    proposal_words_->setWordWrap(true);
    proposal_words_->setMinimumHeight(120);
    proposal_words_->setAlignment(Qt::AlignTop);
    page->addWidget(proposal_words_);
    auto* row = new QHBoxLayout;
    make_shots_ = new QPushButton;
    make_shots_->setObjectName("make_shots");
    make_shots_->setProperty("role", "main");
    make_shots_->setToolTip("Enter does the same");
    auto* leave = new QPushButton("Leave them");
    leave->setObjectName("leave_takes");
    row->addWidget(make_shots_, 1);
    row->addWidget(leave);
    page->addLayout(row);
    column()->addWidget(proposal_, 1);
    proposal_->hide();
    connect(takes_, &TakeTree::changed, this, [this] {
        const auto n = takes_->wanted().size();
        proposal_words_->setText(takes_->words());
        make_shots_->setText(n == 1 ? "Make 1 shot" : QString("Make %1 shots").arg(n));
        make_shots_->setEnabled(n > 0);
    });
    connect(make_shots_, &QPushButton::clicked, this, &GatherPanel::make_shots);
    for (const int key : {Qt::Key_Return, Qt::Key_Enter}) {
        auto* enter = new QShortcut(QKeySequence(key), takes_);
        enter->setContext(Qt::WidgetShortcut);
        connect(enter, &QShortcut::activated, this, &GatherPanel::make_shots);
    }
    connect(leave, &QPushButton::clicked, this, [this] {
        proposal_->hide();
        usual_->show();
        session_.say("The files were left where they are.");
    });
}

void GatherPanel::make_shots_part() {
    group_in(usual_column_, "SHOTS");
    shots_->setMinimumHeight(112);
    shots_->setMaximumHeight(164);
    usual_column_->addWidget(shots_);
    auto* row = new QHBoxLayout;
    auto* add = new QPushButton("Add files…");
    add->setObjectName("add_files");
    auto* folder = new QPushButton("Add a folder…");
    folder->setObjectName("add_folder");
    auto* remove = new QPushButton("Remove shot");
    remove->setObjectName("remove_shot");
    for (auto* b : {add, folder, remove}) row->addWidget(b);
    usual_column_->addLayout(row);
    connect(add, &QPushButton::clicked, this, &GatherPanel::choose_files);
    connect(folder, &QPushButton::clicked, this, &GatherPanel::choose_folder);
    connect(remove, &QPushButton::clicked, shots_, &ShotList::remove_current);
    auto* gone = new QShortcut(QKeySequence::Delete, shots_);
    gone->setContext(Qt::WidgetShortcut);
    connect(gone, &QShortcut::activated, shots_, &ShotList::remove_current);
}

void GatherPanel::make_files_part() {
    group_in(usual_column_, "FILES");
    files_ = new QListWidget;
    files_->setObjectName("file_list");
    files_->setMinimumHeight(62);
    files_->setMaximumHeight(110);
    usual_column_->addWidget(files_);
    facts_ = new QLabel;
    facts_->setProperty("role", "hint");
    facts_->setWordWrap(true);
    facts_->setMinimumHeight(64);
    facts_->setAlignment(Qt::AlignTop);
    usual_column_->addWidget(facts_);
    auto* row = new QHBoxLayout;
    relink_ = new QPushButton("Relink…");
    remove_ = new QPushButton("Remove file");
    for (auto* b : {relink_, remove_}) row->addWidget(b);
    usual_column_->addLayout(row);
    connect(relink_, &QPushButton::clicked, this, &GatherPanel::relink);
    connect(remove_, &QPushButton::clicked, this, &GatherPanel::remove_media);
    connect(files_, &QListWidget::currentRowChanged, this, &GatherPanel::show_facts);
}

void GatherPanel::make_cameras_part() {
    group_in(usual_column_, "CAMERAS");
    cameras_ = new QTableWidget(0, 3);
    cameras_->setObjectName("camera_sources");
    cameras_->setHorizontalHeaderLabels({"Camera", "Source", "Offset"});
    cameras_->verticalHeader()->hide();
    cameras_->verticalHeader()->setDefaultSectionSize(25);
    cameras_->horizontalHeader()->setSectionResizeMode(1, QHeaderView::Stretch);
    cameras_->horizontalHeader()->resizeSection(0, 70);
    cameras_->horizontalHeader()->resizeSection(2, 82);
    cameras_->setSelectionBehavior(QAbstractItemView::SelectRows);
    cameras_->setSelectionMode(QAbstractItemView::SingleSelection);
    cameras_->setMinimumHeight(104);
    usual_column_->addWidget(cameras_, 1);
    auto* layout = new QHBoxLayout;
    align_ = new QPushButton("Align time…");
    align_->setObjectName("align_time");
    align_->setProperty("role", "main");
    align_->setToolTip("Waveforms, offsets and clocks of all sources, under the picture (L)");
    one_circle_ = new QPushButton("Circle in each");
    one_circle_->setToolTip("Sets up one camera for each file of this shot, in a ring");
    two_circles_ = new QPushButton("Two circles");
    two_circles_->setToolTip("Sets up two cameras, back to back, that share the selected camera's file");
    two_circles_->setObjectName("two_circles");
    for (auto* b : {align_, one_circle_, two_circles_}) layout->addWidget(b);
    usual_column_->addLayout(layout);
    auto* last = new QHBoxLayout;
    sound_ = new QComboBox;
    sound_->setObjectName("sound_choice");
    sound_->setToolTip("Whose sound is kept");
    last->addWidget(sound_, 1);
    rate_ = new NumberField(limits::kRate, 1, 3, "fps");
    rate_->setObjectName("frame_rate");
    rate_->setMaximumWidth(100);
    rate_->setToolTip(
        "Frames a second of the shot and of its numbered pictures; 29.97 is taken as 30000/1001");
    last->addWidget(rate_);
    usual_column_->addLayout(last);
    connect(align_, &QPushButton::clicked, this, &GatherPanel::align_wanted);
    connect(one_circle_, &QPushButton::clicked, this, [this] { make_rig(1); });
    connect(two_circles_, &QPushButton::clicked, this, [this] { make_rig(2); });
    connect(cameras_, &QTableWidget::currentCellChanged, this, [this](int r, int, int, int) {
        if (const Shot* s = session_.shot(); s && r >= 0 && r < int(s->cameras.size()))
            session_.select_camera(s->cameras[std::size_t(r)].camera);
    });
    connect(cameras_, &QTableWidget::cellChanged, this, [this](int r, int c) {
        const Shot* shot = session_.shot();
        if (c != 2 || !shot || r >= int(shot->cameras.size())) return;
        const QString text = cameras_->item(r, 2)->text().remove('s').simplified();
        try {
            const Seconds offset = Rational::parse(text.toStdString(), "offset");
            const std::string id = shot->cameras[std::size_t(r)].camera;
            session_.edit_shot("Set time offset of " + QString::fromStdString(id),
                               [&](Shot& s) { s.cameras[std::size_t(r)].offset = offset; });
        } catch (const Error& e) {
            session_.say(QString::fromStdString(e.message()), Signal::care);
            refresh();
        }
    });
    connect(rate_, &NumberField::edited, this, [this](double v) {
        const FrameRate rate = frame_rate_meant(v);
        session_.edit(
            "Set the frame rate",
            [&](Project& p) {
                for (auto& m : p.media)
                    if (m.ref.kind == MediaKind::sequence) m.ref.sequence_rate = rate;
                if (session_.shot()) find_shot(p, session_.shot()->id)->timing.rate = rate;
            },
            "frame-rate");
    });
    connect(rate_, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
    connect(sound_, &QComboBox::activated, this, [this](int i) {
        const std::string id = sound_->itemData(i).toString().toStdString();
        session_.edit_shot("Choose the sound", [&](Shot& s) { s.timing.sound = id; });
    });
}

GatherPanel::~GatherPanel() = default;

void GatherPanel::choose_files() {
    const QStringList files =
        QFileDialog::getOpenFileNames(this, "Add the files of a take", {},
                                      "Pictures and video (*.mp4 *.mov *.mkv *.webm *.mxf *.avi *.ts *.png "
                                      "*.jpg *.jpeg *.tif *.tiff *.exr);;All files (*)");
    if (!files.isEmpty()) add_files(files);
}

void GatherPanel::choose_folder() {
    const QString folder = QFileDialog::getExistingDirectory(this, "Add the takes of a folder");
    if (!folder.isEmpty()) add_files({folder});
}

void GatherPanel::add_files(const QStringList& files) {
    session_.say(
        QString("Reading %1…")
            .arg(files.size() == 1 ? QFileInfo(files[0]).fileName() : QString("%1 files").arg(files.size())));
    probes_.add([this, files](const BackgroundJob::Tell&, const Cancel& cancel) -> BackgroundJob::Finish {
        std::vector<std::filesystem::path> paths;
        QString errors;
        for (const auto& f : files) {
            const std::filesystem::path path = f.toStdString();
            std::error_code code;
            try {
                if (!std::filesystem::is_directory(path, code)) {
                    paths.push_back(path);
                    continue;
                }
                const auto inside = media_files_in(path);
                if (inside.empty()) errors += f + " holds no pictures or video\n";
                paths.insert(paths.end(), inside.begin(), inside.end());
            } catch (const std::exception& e) {
                errors += QString::fromStdString(words_of(e)) + "\n";
            }
        }
        std::vector<FoundFile> found;
        for (const auto& path : folded_sequences(paths)) {
            cancel.check();
            try {
                found.push_back(look_at(path));
            } catch (const std::exception& e) {
                errors += QString::fromStdString(words_of(e)) + "\n";
            }
        }
        return [this, found, errors] { propose(found, errors.trimmed()); };
    });
}

void GatherPanel::propose(std::vector<FoundFile> files, const QString& errors) {
    if (files.empty()) {
        session_.say(errors.isEmpty() ? "Nothing to read was found there." : errors, Signal::stop);
        return;
    }
    auto takes = propose_takes(files);
    const Shot* shot = session_.shot();
    // Cameras of the shot at work that wait for a source of this size are served first.
    if (shot && takes.size() == 1 && takes[0].circles_per_picture == 1) {
        const auto open = std::count_if(shot->cameras.begin(), shot->cameras.end(), [&](const ShotCamera& c) {
            const Lens& lens = find_camera(shot->rig, c.camera)->lens;
            return c.media.empty() && lens.width == files[0].info.width &&
                   lens.height == files[0].info.height;
        });
        if (open > 0 && std::size_t(open) >= files.size()) {
            session_.edit(files.size() == 1 ? "Add a source" : QString("Add %1 sources").arg(files.size()),
                          [&](Project& p) {
                              Shot& s = *find_shot(p, shot->id);
                              std::size_t next = 0;
                              for (auto& c : s.cameras)
                                  if (c.media.empty() && next < takes[0].files.size()) {
                                      const FoundFile& f = files[takes[0].files[next++]];
                                      c.media = add_media(p, f.info.ref);
                                      if (s.timing.sound.empty() && f.info.sound) s.timing.sound = c.media;
                                  }
                          });
            return;
        }
    }
    if (takes.size() == 1 && takes[0].remarks.empty() && errors.isEmpty()) {
        make_shots_of(takes, files);
        return;
    }
    takes_->set_takes(std::move(takes), std::move(files));
    usual_->hide();
    proposal_->show();
    emit takes_->changed();
    takes_->setFocus();
    if (errors.isEmpty())
        session_.say("Look through the takes, then make shots of them.");
    else
        session_.say(errors, Signal::care);
}

void GatherPanel::make_shots() {
    const auto takes = takes_->wanted();
    if (!proposal_->isVisible() || takes.empty()) return;
    make_shots_of(takes, takes_->files());
    proposal_->hide();
    usual_->show();
    shots_->setFocus();
}

void GatherPanel::make_shots_of(const std::vector<Take>& takes, const std::vector<FoundFile>& files) {
    const auto profiles = all_profiles();
    std::string first;
    session_.edit(takes.size() == 1 ? "Make shot " + QString::fromStdString(takes[0].name)
                                    : QString("Make %1 shots").arg(takes.size()),
                  [&](Project& p) {
                      for (const auto& t : takes) {
                          const std::string id = add_take(p, t, files, profiles);
                          if (first.empty()) first = id;
                      }
                  });
    session_.choose_shot(first);
    const Shot* shot = session_.shot();
    if (!shot) return;
    const Origin& from = origin_of(shot->cameras.front(), CameraValue::focal);
    session_.say(QString("%1 made; rig from %2")
                     .arg(takes.size() == 1 ? "Shot " + QString::fromStdString(shot->name)
                                            : QString("%1 shots").arg(takes.size()),
                          from.kind == OriginKind::profile
                              ? "profile “" + QString::fromStdString(from.detail) + "”"
                              : "nothing but " + QString::fromStdString(from.detail)));
}

void GatherPanel::make_rig(int circles) {
    const Shot* shot = session_.shot();
    if (!shot) return;
    std::vector<std::string> ids;
    for (const auto& c : shot->cameras)
        if (!c.media.empty() && std::find(ids.begin(), ids.end(), c.media) == ids.end())
            ids.push_back(c.media);
    if (ids.empty()) return session_.say("Give a camera its source first.", Signal::care);
    if (circles == 2) {
        const ShotCamera* chosen = find_camera(*shot, session_.selected_camera());
        const std::string one = chosen && !chosen->media.empty() ? chosen->media : ids.front();
        ids = {one, one};
    }
    MediaInfo first;
    try {
        first = session_.library()->info(find_media(*session_.project(), ids.front())->ref);
    } catch (const Error& e) {
        return session_.say(QString::fromStdString(e.message()), Signal::stop);
    }
    const int count = std::min<int>(kMostCameras, int(ids.size()));
    const auto fitting = matching(all_profiles(), {count, first.width, first.height, circles});
    session_.edit_shot(
        circles == 2 ? "Set up two circles in one file" : "Set up one circle in each file", [&](Shot& s) {
            s.cameras.clear();
            s.rig.cameras.clear();
            if (fitting.empty())
                start_from(s, nominal_rig(count, first.width, first.height, circles, kLikelyFov),
                           {OriginKind::assumed, "fisheyes of 190 degrees"});
            else
                start_from(s, scaled(fitting.front().rig, first.width, first.height),
                           {OriginKind::profile, fitting.front().name()});
            for (std::size_t k = 0; k < s.cameras.size(); ++k) s.cameras[k].media = ids[k];
        });
}

void GatherPanel::relink() {
    const int row = files_->currentRow();
    if (row < 0) return;
    const Media media = session_.project()->media[std::size_t(row)];
    const QString file = QFileDialog::getOpenFileName(
        this, "Where is " + QString::fromStdString(media.ref.path.filename().string()) + " now?");
    if (file.isEmpty()) return;
    session_.library()->forget(media.ref);
    std::filesystem::path path = file.toStdString();
    if (media.ref.kind == MediaKind::sequence)
        if (const auto pattern = pattern_of(path)) path = *pattern;
    session_.edit("Relink " + QString::fromStdString(media.id),
                  [&](Project& p) { p = relinked(p, media.id, path); });
}

void GatherPanel::remove_media() {
    const int row = files_->currentRow();
    if (row < 0) return;
    const std::string id = session_.project()->media[std::size_t(row)].id;
    session_.edit("Remove " + QString::fromStdString(id), [&](Project& p) {
        std::erase_if(p.media, [&](const Media& m) { return m.id == id; });
        for (auto& s : p.shots) {
            if (s.timing.sound == id) s.timing.sound.clear();
            for (auto& c : s.cameras)
                if (c.media == id) c.media.clear();
        }
    });
}

void GatherPanel::show_facts() {
    const Project& p = *session_.project();
    const int row = files_->currentRow();
    relink_->setEnabled(row >= 0);
    remove_->setEnabled(row >= 0);
    if (row < 0 || row >= int(p.media.size())) {
        facts_->setText(p.media.empty() ? "Nothing gathered yet. Add files, or drop them on the window."
                                        : "");
        return;
    }
    try {
        facts_->setText(facts_text(session_.library()->info(p.media[std::size_t(row)].ref)));
    } catch (const Error& e) {
        facts_->setText("■ " + QString::fromStdString(e.message()));
    }
}

void GatherPanel::refresh() {
    const Project& p = *session_.project();
    shots_->refresh();
    const QSignalBlocker block_files(files_), block_cameras(cameras_), block_sound(sound_);
    const auto& missing = session_.missing();
    const int row = files_->currentRow();
    files_->clear();
    for (const auto& m : p.media) {
        const bool gone = std::find(missing.begin(), missing.end(), m.id) != missing.end();
        auto* item = new QListWidgetItem(
            QString::fromStdString(m.ref.path.filename().string()) + (gone ? "  — missing" : ""), files_);
        item->setIcon(signal_icon(gone ? Signal::stop : Signal::good));
        item->setToolTip(QString::fromStdString(m.ref.path.string()));
    }
    if (!p.media.empty()) files_->setCurrentRow(std::clamp(row, 0, int(p.media.size()) - 1));
    const Shot* shot = session_.shot();
    cameras_->setRowCount(shot ? int(shot->cameras.size()) : 0);
    for (int r = 0; shot && r < int(shot->cameras.size()); ++r) {
        const ShotCamera& c = shot->cameras[std::size_t(r)];
        auto* id = new QTableWidgetItem(QString::fromStdString(c.camera));
        id->setFlags(id->flags() & ~Qt::ItemIsEditable);
        id->setForeground(colour::lens(r));
        cameras_->setItem(r, 0, id);
        auto* choice = new QComboBox;
        choice->addItem("no source", "");
        for (const auto& m : p.media)
            choice->addItem(QString::fromStdString(m.id), QString::fromStdString(m.id));
        choice->setCurrentIndex(std::max(0, choice->findData(QString::fromStdString(c.media))));
        choice->setAccessibleName("Source of camera " + QString::fromStdString(c.camera));
        const std::string camera = c.camera;
        connect(choice, &QComboBox::activated, this, [this, choice, camera, r](int i) {
            const std::string media = choice->itemData(i).toString().toStdString();
            session_.edit_shot("Choose the source of " + QString::fromStdString(camera),
                               [&](Shot& s) { s.cameras[std::size_t(r)].media = media; });
        });
        cameras_->setCellWidget(r, 1, choice);
        auto* offset = new QTableWidgetItem(
            QString::number(std::abs(c.offset.to_double()) < 5e-5 ? 0.0 : c.offset.to_double(), 'f', 4) +
            " s");
        offset->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
        offset->setToolTip(QString("Source time minus shot time. Type seconds.\nFrom: %1 %2")
                               .arg(name_of(origin_of(c, CameraValue::offset).kind),
                                    QString::fromStdString(origin_of(c, CameraValue::offset).detail)));
        cameras_->setItem(r, 2, offset);
    }
    sound_->clear();
    sound_->addItem("no sound", "");
    for (const auto& m : p.media)
        sound_->addItem("Sound of " + QString::fromStdString(m.id), QString::fromStdString(m.id));
    if (shot)
        sound_->setCurrentIndex(std::max(0, sound_->findData(QString::fromStdString(shot->timing.sound))));
    rate_->setEnabled(shot != nullptr);
    rate_->set_quietly(shot ? shot->timing.rate.to_double() : FrameRate(30).to_double());
    for (auto* b : {one_circle_, two_circles_, align_}) b->setEnabled(shot != nullptr);
    for (int r = 0; shot && r < int(shot->cameras.size()); ++r)
        if (shot->cameras[std::size_t(r)].camera == session_.selected_camera()) cameras_->selectRow(r);
    show_facts();
}

} // namespace porb::app
