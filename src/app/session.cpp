#include "app/session.h"

#include "base/error.h"
#include "base/parallel.h"
#include "project/autosave.h"
#include "project/origins.h"
#include "project/span.h"
#include "solve/calibrate.h"

namespace porb::app {

namespace {
constexpr int kAutosaveAfterMs = 4000; // work lost to a crash is at most this and the time of one write
}

Session::Session(std::filesystem::path autosave_folder, QObject* parent)
    : QObject(parent), autosave_folder_(std::move(autosave_folder)),
      library_(std::make_shared<MediaLibrary>()), history_(Project{}) {
    saved_ = history_.now();
    autosave_timer_.setSingleShot(true);
    autosave_timer_.setInterval(kAutosaveAfterMs);
    connect(&autosave_timer_, &QTimer::timeout, this, &Session::autosave);
}

Session::~Session() {
    remove_autosave(autosave_folder_, file_);
}

const Shot* Session::shot() const {
    if (const Shot* chosen = find_shot(*project(), shot_id_)) return chosen;
    return project()->shots.empty() ? nullptr : &project()->shots.front();
}

void Session::choose_shot(const std::string& id) {
    if (shot() && shot()->id == id) return;
    shot_id_ = id;
    selected_.clear();
    refresh_length();
    if (shot()) {
        if (!shot()->rig.cameras.empty()) selected_ = shot()->rig.cameras.front().id;
        playhead_ = Seconds(-1); // so that the new one is told to everybody
        set_playhead(shot()->in);
    }
    emit shot_changed();
    emit project_changed();
    emit selection_changed();
}

void Session::look_for_files() {
    missing_ = missing_media(*project());
    looked_for_ = project()->media;
}

const std::vector<PointFit>& Session::point_fits() {
    const Shot* s = shot();
    // The agree distance matters only to points that have no distance of their own.
    FitKey key = s ? FitKey{s->points, s->rig, s->solving.depth_per_point,
                            s->solving.depth_per_point ? 0 : s->agree_distance_m}
                   : FitKey{};
    if (!(key == fitted_)) {
        fits_ = s ? measure_points(*s) : std::vector<PointFit>{};
        fitted_ = std::move(key);
        ++fits_made_;
    }
    return fits_;
}

bool Session::edit(const QString& label, const std::function<void(Project&)>& change,
                   const QString& merge_key) {
    Project next = *project();
    change(next);
    for (const auto& shot : next.shots)
        for (const auto& camera : shot.rig.cameras)
            if (const auto fault = fault_in(camera.lens)) {
                say(QString("Camera %1, %2: %3. %4")
                        .arg(QString::fromStdString(camera.id), QString::fromStdString(fault->member),
                             QString::fromStdString(fault->what), QString::fromStdString(fault->mend)),
                    Signal::stop);
                emit project_changed(); // fields show the old value again
                return false;
            }
    history_.apply(std::move(next), label.toStdString(), merge_key.toStdString());
    after_change();
    return true;
}

bool Session::edit_shot(const QString& label, const std::function<void(Shot&)>& change,
                        const QString& merge_key, const Origin& origin) {
    if (!shot()) return false;
    const Shot before = *shot();
    Shot after = before;
    change(after);
    if (const auto locked = broken_lock(before, after)) {
        say(QString("%1 is locked. Unlock it in Rig to change it.")
                .arg(QString::fromStdString(*locked).replace(
                    0, 1, QString::fromStdString(*locked).left(1).toUpper())),
            Signal::care);
        emit project_changed();
        return false;
    }
    // What the change itself said of a value's origin stands; the rest is from whoever made it.
    for (auto& camera : after.cameras) {
        const ShotCamera* old = find_camera(before, camera.camera);
        for (const CameraValue v : changed_values(before, after, camera.camera))
            if (!old || origin_of(*old, v) == origin_of(camera, v)) origin_of(camera, v) = origin;
    }
    return edit(
        label, [&](Project& p) { *find_shot(p, before.id) = std::move(after); }, merge_key);
}

void Session::undo() {
    if (!history_.can_undo()) return;
    say("Undone: " + QString::fromStdString(history_.undo_label()));
    history_.undo();
    after_change();
}

void Session::redo() {
    if (!history_.can_redo()) return;
    say("Done again: " + QString::fromStdString(history_.redo_label()));
    history_.redo();
    after_change();
}

void Session::after_change() {
    if (project()->media != looked_for_) look_for_files(); // a slow disk is not asked at every edit
    refresh_length();
    if (is_dirty() && !autosave_timer_.isActive()) autosave_timer_.start();
    if (const Shot* s = shot(); s && !find_camera(s->rig, selected_))
        selected_ = s->rig.cameras.empty() ? "" : s->rig.cameras.front().id;
    emit project_changed();
    emit file_changed();
}

void Session::refresh_length() {
    length_ = shot() ? shot_length(*project(), *shot(), *library_) : Seconds(0);
    const Seconds last = length_ > Seconds(0) && shot() ? length_ - Rational(1) / shot()->rate : Seconds(0);
    if (playhead_ > last) set_playhead(std::max(last, Seconds(0)));
}

void Session::read_headers(const Project& project) {
    // Side by side, so that opening sixteen sources does not take sixteen times as long; what is wrong with
    // one is said where it is used.
    parallel_ranges(int(project.media.size()), 1, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) try {
                library_->info(project.media[std::size_t(i)].ref);
            } catch (const std::exception&) {
                continue;
            }
    });
}

void Session::replaced(Project project, const std::filesystem::path& file, bool saved) {
    read_headers(project);
    remove_autosave(autosave_folder_, file_);
    file_ = file;
    history_ = History(std::move(project));
    saved_ = saved ? history_.now() : nullptr;
    playhead_ = Seconds(0);
    selected_.clear();
    shot_id_.clear();
    looked_for_.clear();
    missing_.clear();
    after_change();
    if (shot())
        set_playhead(
            std::clamp(shot()->in, Seconds(0), std::max(length_ - Rational(1) / shot()->rate, Seconds(0))));
    emit playhead_changed();
    emit selection_changed();
    if (!missing_.empty())
        say(QString("%1 of %2 sources are not where they were. Gather shows which; relink them there.")
                .arg(missing_.size())
                .arg(history_.now()->media.size()),
            Signal::care);
}

void Session::start_new() {
    replaced(Project{}, {}, true);
}

bool Session::open(const std::filesystem::path& file) {
    try {
        replaced(load_project(file), std::filesystem::absolute(file), true);
        return true;
    } catch (const std::exception& e) {
        say(QString::fromStdString(e.what()), Signal::stop);
        return false;
    }
}

bool Session::save(const std::filesystem::path& file) {
    try {
        save_project(*project(), file);
    } catch (const std::exception& e) {
        say(QString::fromStdString(e.what()), Signal::stop);
        return false;
    }
    remove_autosave(autosave_folder_, file_);
    file_ = std::filesystem::absolute(file);
    saved_ = history_.now();
    say("Saved " + QString::fromStdString(file_.filename().string()));
    emit file_changed();
    return true;
}

void Session::recover(const Project& project, const std::filesystem::path& file) {
    replaced(project, file, false);
    say("Unsaved work was brought back. Save it to keep it.", Signal::care);
}

void Session::set_playhead(Seconds time) {
    const Seconds frame = shot() ? Rational(1) / shot()->rate : Rational(1, 30);
    time = std::clamp(time, Seconds(0), std::max(length_ - frame, Seconds(0)));
    if (time == playhead_) return;
    playhead_ = time;
    emit playhead_changed();
}

void Session::select_camera(const std::string& id) {
    if (id == selected_) return;
    selected_ = id;
    emit selection_changed();
}

void Session::autosave() {
    if (!is_dirty()) return;
    try {
        write_autosave(autosave_folder_, file_, *project());
    } catch (const std::exception& e) {
        say("Unsaved work could not be kept safe: " + QString::fromStdString(e.what()), Signal::care);
    }
}

} // namespace porb::app
