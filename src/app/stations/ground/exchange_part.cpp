#include "app/stations/ground/exchange_part.h"

#include "media/still.h"
#include "patch/exchange.h"
#include "patch/propose.h"
#include "project/autosave.h"

#include <QCheckBox>
#include <QFileDialog>
#include <QFileInfo>
#include <QListWidget>

namespace porb::app {

namespace {
constexpr int kSettled_ms = 250; ///< after the last change of a file that a program is writing
constexpr const char* kLayered = "Layers (*.ora *.tif *.tiff *.exr)";

/// What a file holds, told by its size and when it was written.
std::uint64_t state_of(const QString& file) {
    const QFileInfo info(file);
    if (!info.exists()) return 0;
    return fingerprint_of_bytes(
        (QString::number(info.size()) + "/" + QString::number(info.lastModified().toMSecsSinceEpoch()))
            .toStdString());
}
} // namespace

ExchangePart::ExchangePart(Session& session, PatchChoice& choice, GroundJobs& jobs, QWidget* parent)
    : GroundPart(session, choice, parent), jobs_(jobs) {
    head("PAINT PROGRAM");
    words_ = hint({}, "exchange_words");
    send_ = button(
        column(), "Send as layers…", "patch_send",
        "Footage, plate, patch and mask as layers of one file: OpenRaster, TIFF or OpenEXR. It is taken "
        "back whenever that file is saved",
        [this] { choose_file(); });
    back_ = button(column(), "Take back now", "patch_back", "Reads that file again",
                   [this] { take_back(file_); });
    head("WHOLE SPHERE");
    sphere_ = button(column(), "Save the patch as a sphere…", "patch_sphere",
                     "The patch alone, transparent about it, as an equirectangular picture 3840 wide",
                     [this] { save_sphere(); });
    picture_ = button(column(), "Take in a picture…", "patch_take_in",
                      "Its square, or a whole sphere twice as wide as high, becomes the patch's pixels",
                      [this] { choose_picture(); });
    head("OTHER SHOTS OF THIS PLACE");
    shots_ = new QListWidget;
    shots_->setObjectName("patch_shots");
    shots_->setMinimumHeight(70);
    column()->addWidget(shots_, 1);
    with_mask_ = new QCheckBox("With its mask");
    with_mask_->setObjectName("patch_with_mask");
    with_mask_->setChecked(true);
    with_mask_->setToolTip("Else the whole patch shows there, until a mask is made for that shot");
    column()->addWidget(with_mask_);
    copy_ = button(column(), "Copy to the ticked shots", "patch_copy",
                   "Registered on the ground by its features: it lies where the floor is the same", [this] {
                       std::vector<std::string> to;
                       for (int i = 0; i < shots_->count(); ++i)
                           if (shots_->item(i)->checkState() == Qt::Checked)
                               to.push_back(shots_->item(i)->data(Qt::UserRole).toString().toStdString());
                       copy_to(to, with_mask_->isChecked());
                   });
    settle_.setSingleShot(true);
    settle_.setInterval(kSettled_ms);
    connect(&settle_, &QTimer::timeout, this, &ExchangePart::look);
    connect(&watcher_, &QFileSystemWatcher::fileChanged, &settle_, qOverload<>(&QTimer::start));
    connect(&watcher_, &QFileSystemWatcher::directoryChanged, &settle_, qOverload<>(&QTimer::start));
    connect(&session_, &Session::shot_changed, &settle_, qOverload<>(&QTimer::start));
}

void ExchangePart::choose_file() {
    const Patch* p = choice_.patch();
    if (!p) return;
    const QString start =
        (session_.file().empty() ? QString()
                                 : QString::fromStdString(session_.file().parent_path().string()) + "/") +
        QString::fromStdString(p->name) + ".ora";
    QString file = QFileDialog::getSaveFileName(this, "Send as layers", start, kLayered);
    if (file.isEmpty()) return;
    if (QFileInfo(file).suffix().isEmpty()) file += ".ora";
    send(file);
}

void ExchangePart::send(const QString& file) {
    const Patch* p = choice_.patch();
    if (!p) return;
    try {
        session_.must_not_replace(file.toStdString());
    } catch (const std::exception& e) {
        return session_.say(QString::fromStdString(words_of(e)), Signal::stop);
    }
    const std::string name = p->name, shot = session_.shot()->id;
    jobs_.start("Send a patch", "Writing its layers", [this, file, name, shot](const GroundJobs::Site& s) {
        write_layers(layers_of(s.composer, s.project, s.shot, s.patch, s.time, s.cancel), file.toStdString());
        QMetaObject::invokeMethod(this, [this, file, name, shot] {
            if (!watcher_.files().isEmpty()) watcher_.removePaths(watcher_.files());
            if (!watcher_.directories().isEmpty()) watcher_.removePaths(watcher_.directories());
            file_ = file;
            patch_ = name, shot_ = shot;
            seen_ = state_of(file);
            // Programs replace files: the folder tells of that, the file of what is written into it.
            watcher_.addPaths({file, QFileInfo(file).absolutePath()});
            refresh();
        });
        return GroundJobs::Outcome{
            {}, "Written: " + QFileInfo(file).fileName() + ". Saving it brings it back here."};
    });
}

void ExchangePart::look() {
    if (file_.isEmpty() || !QFileInfo::exists(file_)) return;
    if (!watcher_.files().contains(file_)) watcher_.addPath(file_);
    const std::uint64_t now = state_of(file_);
    if (now == seen_) return;
    if (!session_.shot() || session_.shot()->id != shot_) { // it is taken when one goes there
        const Shot* its = find_shot(*session_.project(), shot_);
        if (its)
            session_.say(QFileInfo(file_).fileName() + " was saved. It is taken back when you work on shot " +
                             QString::fromStdString(its->name) + " again.",
                         Signal::care);
        return;
    }
    if (jobs_.job().is_running()) return settle_.start(); // after that
    seen_ = now;
    take_back(file_);
}

void ExchangePart::take_back(const QString& file) {
    const Shot* shot = session_.shot();
    if (!shot || shot->id != shot_) return;
    int index = -1;
    for (std::size_t i = 0; i < shot->patches.size(); ++i)
        if (shot->patches[i].name == patch_) index = int(i);
    if (index < 0)
        return session_.say(
            "The patch that was sent is not there any more: " + QString::fromStdString(patch_), Signal::care);
    choice_.choose(index);
    jobs_.start("Take a patch back", "Reading its layers", [file](const GroundJobs::Site& s) {
        // Whatever is wrong with the file is told, and nothing is changed.
        const Patch made = with_layers(s.patch, read_layers(file.toStdString()), file.toStdString());
        if (made == s.patch)
            return GroundJobs::Outcome{{}, "Nothing was changed in " + QFileInfo(file).fileName()};
        return GroundJobs::Outcome{[made](Patch& p) {
                                       p.pixels = made.pixels, p.mask = made.mask, p.plate = made.plate;
                                       p.resolution = made.resolution, p.kind = made.kind;
                                   },
                                   "Taken back from " + QFileInfo(file).fileName()};
    });
}

void ExchangePart::choose_picture() {
    if (!choice_.patch()) return;
    const QString file = QFileDialog::getOpenFileName(this, "A picture of the square, or of a whole sphere",
                                                      {}, "Pictures (*.png *.tif *.tiff *.exr *.jpg *.jpeg)");
    if (file.isEmpty()) return;
    jobs_.start("Take in a picture", "Reading it", [file](const GroundJobs::Site& s) {
        const Picture picture = read_still(file.toStdString());
        Patch made = s.patch;
        if (picture.width() == 2 * picture.height()) {
            made.pixels = square_of(picture, s.shot, s.patch, s.time);
        } else {
            PatchLayers one;
            one.layer = picture;
            made = with_layers(s.patch, one, file.toStdString());
        }
        return GroundJobs::Outcome{[made](Patch& p) {
                                       p.pixels = made.pixels, p.mask = made.mask, p.plate = made.plate;
                                       p.resolution = made.resolution, p.kind = PatchKind::painted;
                                   },
                                   {}};
    });
}

void ExchangePart::save_sphere() {
    if (!choice_.patch()) return;
    const QString file = QFileDialog::getSaveFileName(this, "Save the patch as a sphere", "patch.png",
                                                      "Pictures (*.png *.tif *.exr)");
    if (file.isEmpty()) return;
    constexpr int kWidth = 3840;
    jobs_.start("Save a patch as a sphere", "Drawing it", [file](const GroundJobs::Site& s) {
        write_still(
            sphere_of(s.composer, s.project, s.shot, s.patch, s.time, kWidth), file.toStdString(),
            {16, 95, SphericalTag{SphereMapping::equirect, StereoLayout::mono}, {}, false, nullptr, {}});
        return GroundJobs::Outcome{{}, "Saved " + QFileInfo(file).fileName()};
    });
}

void ExchangePart::copy_to(const std::vector<std::string>& shots, bool with_mask) {
    const Patch* p = choice_.patch();
    if (!p || shots.empty()) return session_.say("Tick the shots that are to get it.", Signal::care);
    jobs_.start(
        "Copy a patch", "Registering on the ground", [this, shots, with_mask](const GroundJobs::Site& s) {
            std::vector<std::pair<std::string, Patch>> made;
            QStringList failed;
            for (const std::string& id : shots) {
                const Shot* other = find_shot(s.project, id);
                if (!other) continue;
                try {
                    // A picture at a pole needs no ground to lie on.
                    Patch copy =
                        s.patch.kind == PatchKind::picture || s.patch.kind == PatchKind::soften
                            ? s.patch
                            : carried_over(s.composer, s.project, s.shot, s.patch, s.time, *other, s.cancel);
                    if (!with_mask) copy.mask = {};
                    made.emplace_back(id, std::move(copy));
                } catch (const Error& e) {
                    failed << QString::fromStdString(other->name + ": " + e.message());
                }
                s.tell(double(made.size()) / double(shots.size()));
            }
            QMetaObject::invokeMethod(this, [this, made, failed] {
                if (!made.empty())
                    session_.edit("Copy a patch to other shots", [&](Project& project) {
                        for (const auto& [id, copy] : made)
                            if (Shot* to = find_shot(project, id)) to->patches.push_back(copy);
                    });
                if (!failed.isEmpty())
                    session_.say(failed.join("; "), Signal::care);
                else
                    session_.say(
                        QString("Copied to %1 shot%2").arg(made.size()).arg(made.size() == 1 ? "" : "s"));
            });
            return GroundJobs::Outcome{};
        });
}

void ExchangePart::refresh() {
    const Patch* p = choice_.patch();
    const Shot* shot = session_.shot();
    const bool painted = p && (p->kind == PatchKind::painted || p->kind == PatchKind::fill);
    for (QPushButton* b : {send_, sphere_, picture_, copy_}) b->setEnabled(p != nullptr);
    send_->setEnabled(painted);
    back_->setEnabled(painted && !file_.isEmpty());
    words_->setText(!p ? "Make a patch first: on Patches."
                    : file_.isEmpty()
                        ? "Its layers in one file, for any paint program. Paint on the layer named "
                          "'patch'; saving brings it back, exactly in place."
                        : "Saving " + QFileInfo(file_).fileName() + " brings '" +
                              QString::fromStdString(patch_) + "' back.");
    QStringList now;
    for (const Shot& s : session_.project()->shots)
        if (shot && s.id != shot->id) now << QString::fromStdString(s.id);
    QStringList shown;
    for (int i = 0; i < shots_->count(); ++i) shown << shots_->item(i)->data(Qt::UserRole).toString();
    if (now == shown) return;
    shots_->clear();
    for (const Shot& s : session_.project()->shots) {
        if (shot && s.id == shot->id) continue;
        auto* item = new QListWidgetItem(QString::fromStdString(s.name), shots_);
        item->setData(Qt::UserRole, QString::fromStdString(s.id));
        item->setFlags(Qt::ItemIsEnabled | Qt::ItemIsUserCheckable);
        item->setCheckState(Qt::Unchecked);
    }
}

} // namespace porb::app
