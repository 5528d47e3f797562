#include "app/gather_panel.h"

#include "app/number_field.h"

#include "app/theme.h"
#include "base/error.h"
#include "media/library.h"
#include "media/sequence.h"
#include "media/still.h"

#include <QFileDialog>
#include <QHeaderView>
#include <QMetaObject>
#include <QSignalBlocker>

#include <map>
#include <set>

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

std::vector<std::filesystem::path> folded_sequences(const QStringList& files) {
    std::map<std::filesystem::path, int> patterns;
    for (const auto& f : files)
        if (const auto p = pattern_of(f.toStdString()); p && is_still_name(*p)) ++patterns[*p];
    std::vector<std::filesystem::path> out;
    std::set<std::filesystem::path> used;
    for (const auto& f : files) {
        const std::filesystem::path path = f.toStdString();
        const auto p = pattern_of(path);
        if (p && patterns[*p] > 1) {
            if (used.insert(*p).second) out.push_back(*p);
        } else {
            out.push_back(path);
        }
    }
    return out;
}

GatherPanel::GatherPanel(Session& session, QWidget* parent)
    : Panel("Gather", "The files of one take: give every camera its source, and choose the sound.", parent),
      session_(session) {
    setObjectName("gather_panel");
    group("FILES");
    files_ = new QListWidget;
    files_->setObjectName("file_list");
    files_->setMinimumHeight(84);
    files_->setMaximumHeight(150);
    column()->addWidget(files_);
    facts_ = new QLabel;
    facts_->setProperty("role", "hint");
    facts_->setWordWrap(true);
    facts_->setMinimumHeight(76);
    facts_->setAlignment(Qt::AlignTop);
    column()->addWidget(facts_);
    auto* row = new QHBoxLayout;
    auto* add = new QPushButton("Add files…");
    add->setObjectName("add_files");
    relink_ = new QPushButton("Relink…");
    remove_ = new QPushButton("Remove");
    for (auto* b : {add, relink_, remove_}) row->addWidget(b);
    column()->addLayout(row);

    group("CAMERAS");
    cameras_ = new QTableWidget(0, 3);
    cameras_->setObjectName("camera_sources");
    cameras_->setHorizontalHeaderLabels({"Camera", "Source", "Offset"});
    cameras_->verticalHeader()->hide();
    cameras_->verticalHeader()->setDefaultSectionSize(27);
    cameras_->horizontalHeader()->setSectionResizeMode(1, QHeaderView::Stretch);
    cameras_->horizontalHeader()->resizeSection(0, 58);
    cameras_->horizontalHeader()->resizeSection(2, 78);
    cameras_->setSelectionBehavior(QAbstractItemView::SelectRows);
    cameras_->setSelectionMode(QAbstractItemView::SingleSelection);
    column()->addWidget(cameras_, 1);
    auto* layout = new QHBoxLayout;
    one_circle_ = new QPushButton("One circle in each");
    one_circle_->setToolTip("Sets up one camera for each file, in a ring");
    two_circles_ = new QPushButton("Two circles in one");
    two_circles_->setToolTip("Sets up two cameras, back to back, that share the selected file");
    two_circles_->setObjectName("two_circles");
    layout->addWidget(one_circle_);
    layout->addWidget(two_circles_);
    column()->addLayout(layout);

    group("SOUND AND FRAME RATE");
    auto* last = new QHBoxLayout;
    sound_ = new QComboBox;
    sound_->setObjectName("sound_choice");
    last->addWidget(sound_, 1);
    rate_ = new NumberField(0.1, 1000, 1, 3, "fps");
    rate_->setObjectName("frame_rate");
    rate_->setMaximumWidth(100);
    rate_->setToolTip(
        "Frames a second of the shot and of its numbered pictures; 29.97 is taken as 30000/1001");
    last->addWidget(rate_);
    column()->addLayout(last);

    connect(add, &QPushButton::clicked, this, &GatherPanel::choose_files);
    connect(relink_, &QPushButton::clicked, this, &GatherPanel::relink);
    connect(remove_, &QPushButton::clicked, this, &GatherPanel::remove_media);
    connect(one_circle_, &QPushButton::clicked, this, [this] { make_rig(1); });
    connect(two_circles_, &QPushButton::clicked, this, [this] { make_rig(2); });
    connect(files_, &QListWidget::currentRowChanged, this, &GatherPanel::show_facts);
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
                for (auto& s : p.shots) s.rate = rate;
            },
            "frame-rate");
    });
    connect(rate_, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
    connect(sound_, &QComboBox::activated, this, [this](int i) {
        const std::string id = sound_->itemData(i).toString().toStdString();
        session_.edit_shot("Choose the sound", [&](Shot& s) { s.sound = id; });
    });
    connect(&session_, &Session::project_changed, this, &GatherPanel::refresh_if_seen);
    refresh();
}

GatherPanel::~GatherPanel() = default;

void GatherPanel::choose_files() {
    const QStringList files =
        QFileDialog::getOpenFileNames(this, "Add the files of a take", {},
                                      "Pictures and video (*.mp4 *.mov *.mkv *.webm *.mxf *.avi *.ts *.png "
                                      "*.jpg *.jpeg *.tif *.tiff *.exr);;All files (*)");
    if (!files.isEmpty()) add_files(files);
}

void GatherPanel::add_files(const QStringList& files) {
    session_.say(
        QString("Reading %1…")
            .arg(files.size() == 1 ? QFileInfo(files[0]).fileName() : QString("%1 files").arg(files.size())));
    const auto paths = folded_sequences(files);
    probes_.emplace_back([this, paths] {
        std::vector<Probed> probed;
        for (const auto& path : paths) {
            Probed p;
            try {
                p.ref = media_ref_for(std::filesystem::absolute(path).lexically_normal());
                p.info = probe(p.ref);
            } catch (const std::exception& e) {
                p.error = QString::fromStdString(e.what());
            }
            probed.push_back(std::move(p));
        }
        QMetaObject::invokeMethod(
            this, [this, probed] { take(probed); }, Qt::QueuedConnection);
    });
}

void GatherPanel::take(const std::vector<Probed>& probed) {
    std::vector<Probed> good;
    QString errors;
    for (const auto& p : probed)
        if (p.info)
            good.push_back(p);
        else
            errors += (errors.isEmpty() ? "" : "\n") + p.error;
    if (!good.empty()) {
        session_.edit(good.size() == 1 ? "Add " + QString::fromStdString(good[0].ref.path.filename().string())
                                       : QString("Add %1 files").arg(good.size()),
                      [&](Project& p) {
                          std::vector<std::string> ids;
                          for (const auto& g : good) ids.push_back(add_media(p, g.ref));
                          const MediaInfo& first = *good[0].info;
                          if (p.shots.empty()) {
                              // Twice as wide as high: two circles side by side; otherwise a circle in each
                              // file.
                              const bool two = good.size() == 1 && first.width >= 1.9 * first.height &&
                                               first.width <= 2.1 * first.height;
                              const int count = two ? 2 : std::min<int>(kMostCameras, int(good.size()));
                              Shot shot = shot_for_rig(
                                  nominal_rig(count, first.width, first.height, two ? 2 : 1, kLikelyFov),
                                  "Shot 1");
                              if (first.ref.kind == MediaKind::video) shot.rate = first.rate;
                              p.shots.push_back(std::move(shot));
                          }
                          Shot& shot = p.shots.front();
                          std::size_t next = 0;
                          for (auto& c : shot.cameras) {
                              if (!c.media.empty()) continue;
                              const Lens& lens = find_camera(shot.rig, c.camera)->lens;
                              const bool shared = lens.circle.radius_px * 2 <= lens.width * 0.55;
                              if (next < good.size() && good[next].info->width == lens.width &&
                                  good[next].info->height == lens.height)
                                  c.media = ids[next];
                              if (!shared && next < good.size()) ++next;
                          }
                          if (shot.sound.empty())
                              for (std::size_t i = 0; i < good.size() && shot.sound.empty(); ++i)
                                  if (good[i].info->sound) shot.sound = ids[i];
                      });
        session_.say(QString("%1 added")
                         .arg(good.size() == 1 ? QString::fromStdString(good[0].ref.path.filename().string())
                                               : QString("%1 files").arg(good.size())));
    }
    if (!errors.isEmpty()) session_.say(errors, Signal::stop);
}

void GatherPanel::make_rig(int circles) {
    const Project& p = *session_.project();
    if (p.media.empty()) return;
    const int row = std::max(0, files_->currentRow());
    std::vector<std::string> ids;
    MediaInfo first;
    try {
        first = session_.library()->info(p.media[std::size_t(row)].ref);
        if (circles == 2)
            ids = {p.media[std::size_t(row)].id, p.media[std::size_t(row)].id};
        else
            for (const auto& m : p.media) ids.push_back(m.id);
    } catch (const Error& e) {
        session_.say(QString::fromStdString(e.message()), Signal::stop);
        return;
    }
    session_.edit(circles == 2 ? "Set up two circles in one file" : "Set up one circle in each file",
                  [&](Project& next) {
                      Shot shot = shot_for_rig(nominal_rig(std::min<int>(kMostCameras, int(ids.size())),
                                                           first.width, first.height, circles, kLikelyFov),
                                               "Shot 1");
                      if (!next.shots.empty()) {
                          const Shot& old = next.shots.front();
                          shot.id = old.id, shot.name = old.name, shot.sound = old.sound,
                          shot.rate = old.rate, shot.in = old.in, shot.out = old.out;
                      } else if (first.ref.kind == MediaKind::video) {
                          shot.rate = first.rate;
                      }
                      for (std::size_t i = 0; i < shot.cameras.size(); ++i) shot.cameras[i].media = ids[i];
                      if (next.shots.empty())
                          next.shots.push_back(std::move(shot));
                      else
                          next.shots.front() = std::move(shot);
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
            if (s.sound == id) s.sound.clear();
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
    const QSignalBlocker block_files(files_), block_cameras(cameras_), block_sound(sound_);
    const auto missing = missing_media(p);
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
        auto* offset = new QTableWidgetItem(QString::number(c.offset.to_double(), 'f', 4) + " s");
        offset->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
        offset->setToolTip("Source time minus shot time. Type seconds.");
        cameras_->setItem(r, 2, offset);
    }
    sound_->clear();
    sound_->addItem("no sound", "");
    for (const auto& m : p.media)
        sound_->addItem("Sound of " + QString::fromStdString(m.id), QString::fromStdString(m.id));
    if (shot) sound_->setCurrentIndex(std::max(0, sound_->findData(QString::fromStdString(shot->sound))));
    rate_->setEnabled(shot != nullptr);
    if (shot) rate_->set_quietly(shot->rate.to_double());
    one_circle_->setEnabled(!p.media.empty());
    two_circles_->setEnabled(!p.media.empty());
    show_facts();
}

} // namespace porb::app
