#include "app/stations/rig/rig_panel.h"

#include "app/session/job_bar.h"
#include "app/stations/rig/lens_plot.h"
#include "app/stations/rig/rig_dialogs.h"
#include "app/widgets/number_field.h"
#include "base/error.h"
#include "media/motion.h"
#include "project/camera_edits.h"
#include "project/limits.h"
#include "project/origins.h"
#include "project/takes.h"

#include <QCheckBox>
#include <QFileDialog>
#include <QInputDialog>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>
#include <QToolButton>

namespace porb::app {

QPushButton* RigPanel::button(QLayout* row, const QString& text, const char* name, const QString& tip,
                              void (RigPanel::*work)()) {
    auto* b = new QPushButton(text);
    b->setObjectName(name);
    b->setToolTip(tip);
    row->addWidget(b);
    connect(b, &QPushButton::clicked, this, work);
    return b;
}

RigPanel::RigPanel(Session& session, QWidget* parent)
    : Panel("Rig", "What each lens is and where it points. Coloured figures depart from the profile.",
            parent),
      session_(session), model_(session) {
    setObjectName("rig_panel");
    found_ = new QFrame;
    found_->setProperty("role", "offer");
    auto* offer = new QHBoxLayout(found_);
    offer->setContentsMargins(8, 4, 4, 4);
    found_words_ = new QLabel;
    found_words_->setObjectName("embedded_words");
    found_words_->setWordWrap(true);
    offer->addWidget(found_words_, 1);
    button(offer, "Compare…", "use_embedded", "Show what would change, then decide",
           &RigPanel::use_embedded_rig);
    column()->addWidget(found_);
    auto* head = new QHBoxLayout;
    name_ = new QLabel;
    name_->setWordWrap(true);
    head->addWidget(name_, 1);
    button(head, "Profiles…", "profiles", "Start from a profile that fits (P)", &RigPanel::choose_profile);
    column()->addLayout(head);
    table_ = new RigTable(model_, session);
    table_->setMinimumHeight(230);
    column()->addWidget(table_, 1);
    origin_ = new QLabel;
    origin_->setObjectName("value_origin");
    origin_->setProperty("role", "hint");
    origin_->setWordWrap(true);
    origin_->setMinimumHeight(30);
    origin_->setAlignment(Qt::AlignTop);
    column()->addWidget(origin_);
    alike_ = new QCheckBox("Edit alike cameras together");
    alike_->setObjectName("alike_together");
    alike_->setToolTip("The same kind of lens on the same size of picture: values are set alike, places and "
                       "directions moved alike");
    column()->addWidget(alike_);
    column()->addWidget(new LensPlot(session));
    auto* tools = new QHBoxLayout;
    tools->setSpacing(4);
    const auto menu = [&](const QString& text, const char* name, void (RigPanel::*work)(Part),
                          const QString& tip) {
        auto* b = new QToolButton;
        b->setText(text);
        b->setObjectName(name);
        b->setToolTip(tip);
        b->setPopupMode(QToolButton::InstantPopup);
        b->setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Preferred);
        auto* m = new QMenu(b);
        m->addAction(text + " lens", this, [this, work] { (this->*work)(Part::lens); });
        m->addAction(text + " pose", this, [this, work] { (this->*work)(Part::pose); });
        b->setMenu(m);
        tools->addWidget(b);
    };
    menu("Copy", "rig_copy", &RigPanel::copy, "Keep this camera's lens or pose to paste");
    menu("Paste", "rig_paste", &RigPanel::paste, "Give the selected cameras the kept lens or pose");
    menu("Lock", "rig_lock", &RigPanel::lock,
         "Lock or unlock: neither edits nor solves change what is locked");
    menu("Reset", "rig_reset", &RigPanel::reset, "Back to what the profile has");
    column()->addLayout(tools);
    auto* circles = new QHBoxLayout;
    find_ = button(circles, "Find circles", "find_circles", "Look for the image circles in the sources (C)",
                   &RigPanel::find_circles_now);
    auto* back = new QPushButton("Turn to the back");
    back->setObjectName("turn_back");
    back->setToolTip("Turns the selected camera by 180° (Ctrl+B)");
    circles->addWidget(back);
    connect(back, &QPushButton::clicked, this, &RigPanel::turn_selected_back);
    column()->addLayout(circles);
    column()->addWidget(new JobBar(job_, session_, "circles", "every circle"));
    connect(&job_, &BackgroundJob::running_changed, find_, &QWidget::setDisabled);
    auto* files = new QHBoxLayout;
    auto* calibration = new QToolButton;
    calibration->setText("Calibration and rig files");
    calibration->setObjectName("calibration_menu");
    calibration->setPopupMode(QToolButton::InstantPopup);
    calibration->setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Preferred);
    auto* list = new QMenu(calibration);
    list->addAction("Read a calibration…", this, &RigPanel::read_calibration);
    list->addAction("Write a calibration…", this, &RigPanel::write_calibration);
    list->addSeparator();
    list->addAction("Load a rig file…", this, [this] { load_rig_file(); });
    list->addAction("Save the rig as a file…", this, &RigPanel::save_rig_file);
    list->addAction("Save the rig as a profile…", this, &RigPanel::save_as_profile);
    list->addAction("Compare with the profile…", this, &RigPanel::compare_with_profile);
    list->addSeparator();
    list->addAction("Read a motion record…", this, &RigPanel::read_motion);
    calibration->setMenu(list);
    files->addWidget(calibration);
    column()->addLayout(files);
    auto* agree_row = new QHBoxLayout;
    agree_row->addWidget(new QLabel("Agree distance"));
    agree_ = new NumberField(limits::kDistance_m, 0.05, 2, "m");
    agree_->setObjectName("agree_distance");
    agree_->setSpecialValueText("infinitely far");
    agree_->setToolTip(
        "The distance at which all cameras agree; 0 is infinitely far. Nearer and farther things double.");
    agree_row->addWidget(agree_, 1);
    column()->addLayout(agree_row);
    connect(agree_, &NumberField::edited, this, [this](double v) {
        session_.edit_shot(
            "Set the agree distance",
            [v](Shot& s) { s.seams.agree_distance_m = v, s.seams.agree_choice = AgreeChoice::chosen; },
            "agree-distance");
    });
    connect(agree_, &NumberField::drag_ended, this, [this] { session_.end_drag(); });
    const auto reach = [this] {
        std::vector<int> columns;
        for (const auto& i : table_->selectionModel()->selectedIndexes())
            if (i.row() == table_->currentIndex().row()) columns.push_back(i.column());
        model_.set_reach(columns, alike_->isChecked());
        origin_->setText(model_.origin_words(table_->currentIndex()));
    };
    connect(table_->selectionModel(), &QItemSelectionModel::selectionChanged, this, reach);
    connect(table_->selectionModel(), &QItemSelectionModel::currentChanged, this, reach);
    connect(alike_, &QCheckBox::toggled, this, reach);
    connect(&session_, &Session::project_changed, this, &RigPanel::refresh_if_seen);
    connect(&session_, &Session::selection_changed, this, &RigPanel::refresh_if_seen);
    refresh();
}

const std::optional<Rig>& RigPanel::rig_inside() {
    const Shot& shot = *session_.shot();
    std::vector<std::string> cameras;
    for (const auto& c : shot.cameras) cameras.push_back(c.camera + "=" + c.media);
    if (cameras != inside_cameras_ || inside_of_ != session_.project()->media) {
        inside_.reset();
        inside_cameras_ = cameras;
        inside_of_ = session_.project()->media;
        inside_ = embedded_rig(*session_.project(), shot, *session_.library());
    }
    return inside_;
}

void RigPanel::refresh() {
    const Shot* shot = session_.shot();
    setEnabled(shot != nullptr);
    found_->hide();
    if (!shot) {
        name_->setText("No cameras yet. Gather the files of a take first.");
        return;
    }
    const Lens& first = shot->rig.cameras.front().lens;
    name_->setText(QString("%1\n%2 cameras, pictures of %3 × %4")
                       .arg(QString::fromStdString(shot->rig.name))
                       .arg(shot->rig.cameras.size())
                       .arg(first.width)
                       .arg(first.height));
    agree_->set_quietly(shot->seams.agree_distance_m);
    for (int c = 0; c < int(shot->rig.cameras.size()); ++c)
        if (shot->rig.cameras[std::size_t(c)].id == session_.selected_camera() &&
            table_->currentIndex().column() != c)
            table_->setCurrentIndex(model_.index(std::max(2, table_->currentIndex().row()), c));
    origin_->setText(model_.origin_words(table_->currentIndex()));
    try {
        const auto& inside = rig_inside();
        if (inside && std::any_of(shot->rig.cameras.begin(), shot->rig.cameras.end(), [&](const Camera& c) {
                const Camera* other = find_camera(*inside, c.id);
                return !other || !(other->lens == c.lens) || !(other->pose == c.pose);
            })) {
            found_words_->setText("The video carries a rig of its own: “" +
                                  QString::fromStdString(inside->name) + "”");
            found_->show();
        }
    } catch (const Error& e) {
        found_words_->setText("The video's own rig cannot be used: " +
                              QString::fromStdString(e.what_failed()));
        found_->show();
    }
}

std::vector<std::string> RigPanel::selected_cameras() const {
    std::vector<std::string> out;
    const Shot* shot = session_.shot();
    if (!shot) return out;
    for (const auto& i : table_->selectionModel()->selectedIndexes())
        if (const auto& id = shot->rig.cameras[std::size_t(i.column())].id;
            std::find(out.begin(), out.end(), id) == out.end())
            out.push_back(id);
    if (out.empty()) out.push_back(session_.selected_camera());
    if (alike_->isChecked())
        for (const auto& id : alike_cameras(shot->rig, out.front()))
            if (std::find(out.begin(), out.end(), id) == out.end()) out.push_back(id);
    return out;
}

void RigPanel::copy(Part part) {
    const Shot* shot = session_.shot();
    const Camera* c = shot ? find_camera(shot->rig, session_.selected_camera()) : nullptr;
    if (!c) return;
    if (part == Part::lens)
        lens_copy_ = c->lens;
    else
        pose_copy_ = c->pose;
    session_.say(
        QString("%1 of %2 kept").arg(part == Part::lens ? "Lens" : "Pose", QString::fromStdString(c->id)));
}

void RigPanel::paste(Part part) {
    if (part == Part::lens ? !lens_copy_ : !pose_copy_)
        return session_.say("Copy a lens or pose first.", Signal::care);
    const auto ids = selected_cameras();
    session_.edit_shot(part == Part::lens ? "Paste a lens" : "Paste a pose", [&](Shot& s) {
        for (const auto& id : ids) {
            Camera& c = *find_camera(s.rig, id);
            if (part == Part::lens)
                c.lens = pasted_lens(*lens_copy_, c.lens);
            else
                c.pose = *pose_copy_;
        }
    });
}

void RigPanel::lock(Part part) {
    const auto ids = selected_cameras();
    const Shot* shot = session_.shot();
    if (!shot) return;
    const ShotCamera* first = find_camera(*shot, ids.front());
    const bool on = first && !(part == Part::lens ? first->lens_locked : first->pose_locked);
    session_.edit_shot(QString("%1 the %2").arg(on ? "Lock" : "Unlock", part == Part::lens ? "lens" : "pose"),
                       [&](Shot& s) {
                           for (auto& c : s.cameras)
                               if (std::find(ids.begin(), ids.end(), c.camera) != ids.end())
                                   (part == Part::lens ? c.lens_locked : c.pose_locked) = on;
                       });
    session_.say(
        QString("%1 of %2 %3")
            .arg(part == Part::lens ? "Lens" : "Pose",
                 ids.size() == 1 ? QString::fromStdString(ids[0]) : QString("%1 cameras").arg(ids.size()),
                 on ? "locked" : "unlocked"));
}

void RigPanel::reset(Part part) {
    const Shot* shot = session_.shot();
    if (!shot) return;
    if (!shot->calibration.profile)
        return session_.say("This rig did not start from a profile. Choose one under Profiles.",
                            Signal::care);
    const auto ids = selected_cameras();
    session_.edit_shot(part == Part::lens ? "Reset the lens" : "Reset the pose",
                       [&](Shot& s) {
                           for (const auto& id : ids)
                               if (const Camera* from = profile_camera(s, id)) {
                                   Camera& c = *find_camera(s.rig, id);
                                   if (part == Part::lens)
                                       c.lens = from->lens;
                                   else
                                       c.pose = from->pose;
                               }
                       },
                       {}, {OriginKind::profile, shot->calibration.profile->name});
}

void RigPanel::circle_to_alike() {
    const Shot* shot = session_.shot();
    const Camera* from = shot ? find_camera(shot->rig, session_.selected_camera()) : nullptr;
    if (!from) return;
    const ImageCircle circle = from->lens.circle;
    // In a picture of its own the circle lies alike; of circles that share pictures only the size is alike.
    const bool own = 2 * circle.radius_px > 0.6 * std::max(from->lens.width, from->lens.height);
    const auto ids = alike_cameras(shot->rig, from->id);
    session_.edit_shot("Copy the circle to alike cameras", [&](Shot& s) {
        for (const auto& id : ids) {
            Lens& lens = find_camera(s.rig, id)->lens;
            set_circle(lens, {own ? circle.center_px : lens.circle.center_px, circle.radius_px});
        }
    });
}

void RigPanel::find_circles_now() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    if (job_.is_running()) return job_.stop();
    session_.say("Looking for the image circles…");
    job_.start([this, project = session_.project(), id = shot->id, library = session_.library()](
                   const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        std::vector<std::pair<std::string, CircleSearch>> found;
        QString errors;
        const Shot& at = *find_shot(*project, id);
        for (std::size_t i = 0; i < at.cameras.size(); ++i) {
            const ShotCamera& use = at.cameras[i];
            tell(double(i) / double(at.cameras.size()), "Finding circles");
            if (use.media.empty() ||
                std::any_of(found.begin(), found.end(), [&](const auto& f) { return f.first == use.media; }))
                continue;
            try {
                found.push_back({use.media, find_shot_circles(*project, at, use.media, *library, cancel)});
                const auto& why = found.back().second;
                if (!why.why_not.empty())
                    errors += QString("%1: %2. %3.\n")
                                  .arg(QString::fromStdString(use.media), QString::fromStdString(why.why_not),
                                       QString::fromStdString(why.mend));
            } catch (const Cancelled&) {
                throw;
            } catch (const std::exception& e) {
                errors += QString::fromStdString(words_of(e)) + "\n";
            }
        }
        return [this, id, found, errors] {
            if (!session_.shot() || session_.shot()->id != id) return;
            int set = 0;
            double least = 1;
            for (const auto& [media, search] : found)
                for (const auto& c : search.circles) least = std::min(least, c.confidence);
            session_.edit_shot("Find the image circles", [&](Shot& s) {
                for (const auto& [media, search] : found) set += take_circles(s, media, search);
            });
            if (!errors.isEmpty())
                session_.say("Not every circle was found. " + errors.trimmed(),
                             set ? Signal::care : Signal::stop);
            else if (set == 0)
                session_.say("No circle was set: the lenses are locked, or no camera has a source.",
                             Signal::care);
            else
                session_.say(QString("%1 image circles found, the least sure one by %2 %")
                                 .arg(set)
                                 .arg(100 * least, 0, 'f', 0));
        };
    });
}

void RigPanel::choose_profile() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    ProfileChooser chooser(*shot, this);
    if (chooser.exec() != QDialog::Accepted || !chooser.chosen()) return;
    const Profile profile = *chooser.chosen();
    const Lens& like = shot->rig.cameras.front().lens;
    const Rig rig = scaled(profile.rig, like.width, like.height);
    start_from_rig("Start from " + QString::fromStdString(profile.name()), rig,
                   {OriginKind::profile, profile.name()});
}

void RigPanel::start_from_rig(const QString& label, const Rig& rig, const Origin& origin) {
    std::vector<std::string> told;
    const bool done = session_.edit_shot(
        label, [&](Shot& s) { told = start_from(s, rig, origin); }, {}, origin);
    if (!done || told.empty()) return;
    QStringList words;
    for (const auto& t : told) words << QString::fromStdString(t);
    session_.say(label + ": " + words.join("; ") + ". Undo brings it back.", Signal::care);
}

void RigPanel::save_as_profile() {
    if (!session_.shot()) return;
    const QString name = QInputDialog::getText(this, "Save as a profile",
                                               "Name, for the next shot with this rig:", QLineEdit::Normal,
                                               QString::fromStdString(session_.shot()->rig.name));
    if (name.trimmed().isEmpty()) return;
    try {
        save_profile(session_.shot()->rig, name.trimmed().toStdString(), profile_folders().front());
        session_.say("Kept as profile “" + name.trimmed() + "”");
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(words_of(e)), Signal::stop);
    }
}

void RigPanel::take_rig_after_look(const Rig& rig, const QString& label, const Origin& origin) {
    Shot after = *session_.shot();
    take_rig(after, rig, origin);
    RigComparison comparison(session_.shot()->rig, after.rig, label, this);
    if (comparison.exec() != QDialog::Accepted) return session_.say("The rig was left as it is.");
    session_.edit_shot(
        label, [&](Shot& s) { take_rig(s, rig, origin); }, {}, origin);
}

void RigPanel::use_embedded_rig() {
    if (!session_.shot()) return session_.say("Gather the files of a take first.", Signal::care);
    try {
        const auto rig = embedded_rig(*session_.project(), *session_.shot(), *session_.library());
        if (!rig)
            session_.say("The sources carry no rig of their own. Read a calibration, or choose a profile.",
                         Signal::care);
        else
            take_rig_after_look(*rig, "Use the video's own rig", {OriginKind::file, "the video's metadata"});
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(words_of(e)), Signal::stop);
    }
}

void RigPanel::compare_with_profile() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    if (!shot->calibration.profile)
        return session_.say("This rig did not start from a profile. Choose one under Profiles.",
                            Signal::care);
    take_rig_after_look(*shot->calibration.profile, "Go back to the profile",
                        {OriginKind::profile, shot->calibration.profile->name});
}

void RigPanel::read_calibration() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const QString file = QFileDialog::getOpenFileName(this, "Read a lens calibration", {},
                                                      "Calibrations (*.yml *.yaml *.xml *.json)");
    if (file.isEmpty()) return;
    try {
        const Camera& at = *find_camera(shot->rig, session_.selected_camera());
        const Calibration c =
            load_calibration(file.toStdString(),
                             {at.lens.width, at.lens.height, at.lens.projection != Projection::rectilinear});
        auto ids = selected_cameras();
        if (c.lenses.size() == 2) {
            if (ids.size() != 2 && shot->rig.cameras.size() == 2)
                ids = {shot->rig.cameras[0].id, shot->rig.cameras[1].id};
        } else {
            ids.resize(1);
        }
        const Origin origin{OriginKind::file, QFileInfo(file).fileName().toStdString()};
        Shot after = *shot;
        take_calibration(after, ids, c, origin);
        RigComparison comparison(shot->rig, after.rig, "Use calibration " + QFileInfo(file).fileName(), this);
        for (const auto& r : c.remarks) comparison.add_remark(QString::fromStdString(r));
        if (comparison.exec() != QDialog::Accepted) return session_.say("The lens was left as it is.");
        session_.edit_shot(
            "Read calibration " + QFileInfo(file).fileName(),
            [&](Shot& s) { take_calibration(s, ids, c, origin); }, {}, origin);
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(words_of(e)), Signal::stop);
    }
}

void RigPanel::write_calibration() {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const auto ids = selected_cameras();
    const bool pair = ids.size() == 2;
    const QString file = QFileDialog::getSaveFileName(
        this,
        pair ? "Write the calibration of two cameras"
             : "Write the calibration of camera " + QString::fromStdString(ids.front()),
        "calibration.yml", "YAML (*.yml);;XML (*.xml);;JSON (*.json)");
    if (file.isEmpty()) return;
    try {
        session_.must_not_replace(file.toStdString());
        save_calibration(calibration_of(shot->rig, ids[0], pair ? ids[1] : ""), file.toStdString());
        session_.say("Written " + QFileInfo(file).fileName());
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(words_of(e)), Signal::stop);
    }
}

void RigPanel::read_motion() {
    if (!session_.shot()) return;
    const QString file =
        QFileDialog::getOpenFileName(this, "Read a motion record", {}, "Motion records (*.csv *.mp4 *.mov)");
    if (file.isEmpty()) return;
    try {
        const MotionRecord record = load_motion(file.toStdString());
        session_.edit_shot("Read a motion record", [&](Shot& s) {
            s.calibration.motion = MotionSource{std::filesystem::absolute(file.toStdString()), Seconds(0),
                                                session_.selected_camera()};
        });
        session_.say(QString("%1 motion samples, as camera %2 recorded them")
                         .arg(record.size())
                         .arg(QString::fromStdString(session_.selected_camera())));
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(words_of(e)), Signal::stop);
    }
}

void RigPanel::turn_selected_back() {
    const std::string id = session_.selected_camera();
    session_.edit_shot("Turn " + QString::fromStdString(id) + " to the back", [&](Shot& s) {
        Camera& c = *find_camera(s.rig, id);
        c.pose.turn = turn_of(rotation_of({180, 0, 0}) * rotation_of(c.pose.turn));
        c.pose.position_m = rotation_of({180, 0, 0}) * c.pose.position_m;
    });
}

void RigPanel::load_rig_file(QString file) {
    if (!session_.shot()) return session_.say("Gather the files of a take first.", Signal::care);
    if (file.isEmpty())
        file = QFileDialog::getOpenFileName(this, "Load a rig", {}, "Rigs (*.rig.json *.json)");
    if (file.isEmpty()) return;
    try {
        const Rig rig = load_rig(file.toStdString());
        const Origin origin{OriginKind::file, QFileInfo(file).fileName().toStdString()};
        const Shot& shot = *session_.shot();
        if (rig.cameras.size() == shot.rig.cameras.size())
            return take_rig_after_look(rig, "Load rig " + QFileInfo(file).fileName(), origin);
        start_from_rig("Load rig " + QFileInfo(file).fileName(), rig, origin);
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(words_of(e)), Signal::stop);
    }
}

void RigPanel::save_rig_file() {
    if (!session_.shot()) return;
    const QString file =
        QFileDialog::getSaveFileName(this, "Save the rig", "rig.rig.json", "Rigs (*.rig.json)");
    if (file.isEmpty()) return;
    try {
        session_.must_not_replace(file.toStdString());
        save_rig(session_.shot()->rig, file.toStdString());
        session_.say("Saved " + QFileInfo(file).fileName());
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(words_of(e)), Signal::stop);
    }
}

} // namespace porb::app
