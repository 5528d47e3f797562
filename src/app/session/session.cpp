#include "app/session/session.h"

#include "base/error.h"
#include "base/file.h"
#include "base/parallel.h"
#include "project/limits.h"
#include "project/origins.h"
#include "project/span.h"
#include "project/tile_store.h"
#include "solve/bundle/point_fit.h"
#include "solve/points.h"

namespace porb::app {

namespace {
constexpr int kAutosaveAfterMs = 4000; // work lost to a crash is at most this and the time of one write
}

Session::Session(std::filesystem::path autosave_folder, std::shared_ptr<CacheBound> memory, QObject* parent)
    : QObject(parent), autosave_folder_(std::move(autosave_folder)),
      library_(std::make_shared<MediaLibrary>(std::move(memory))), history_(Project{}) {
    saved_ = history_.now();
    autosave_timer_.setSingleShot(true);
    autosave_timer_.setInterval(kAutosaveAfterMs);
    connect(&autosave_timer_, &QTimer::timeout, this, &Session::autosave);
    connect(&watcher_, &QFileSystemWatcher::fileChanged, this, &Session::look_at_disk);
    try {
        slot_.emplace(autosave_folder_);
    } catch (const std::exception&) {
        slot_.reset(); // said when there is something to keep
    }
}

Session::~Session() {
    forget_autosave();
}

const Shot* Session::shot() const {
    if (const Shot* chosen = find_shot(*project(), shot_id_)) return chosen;
    return project()->shots.empty() ? nullptr : &project()->shots.front();
}

void Session::choose_shot(const std::string& id) {
    if (shot() && shot()->id == id) return;
    end_drag(); // what is set next is set of another shot
    shot_id_ = id;
    selected_.clear();
    refresh_length();
    if (shot()) {
        if (!shot()->rig.cameras.empty()) selected_ = shot()->rig.cameras.front().id;
        playhead_ = Seconds(-1); // so that the new one is told to everybody
        set_playhead(shot()->timing.in);
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
    FitKey key = s ? FitKey{s->calibration.points, s->rig, s->calibration.solving.depth_per_point,
                            s->calibration.solving.depth_per_point ? 0 : s->seams.agree_distance_m}
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
    try {
        change(next);
        validate(next, project().get());
    } catch (const std::exception& e) {
        say(QString::fromStdString(words_of(e)), Signal::stop);
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
    const ProjectPtr held = project();
    const Shot& before = *shot();
    std::optional<std::string> locked;
    const auto work = [&](Project& next) {
        Shot& after = *find_shot(next, before.id);
        change(after);
        locked = broken_lock(before, after);
        if (locked) {
            after = before;
            return;
        }
        // What the change itself said of a value's origin stands; the rest is from whoever made it.
        for (auto& camera : after.cameras) {
            const ShotCamera* old = find_camera(before, camera.camera);
            for (const CameraValue v : changed_values(before, after, camera.camera))
                if (!old || origin_of(*old, v) == origin_of(camera, v)) origin_of(camera, v) = origin;
        }
    };
    const bool done = edit(label, work, merge_key);
    if (locked)
        say(QString("%1 is locked. Unlock it in Rig to change it.")
                .arg(QString::fromStdString(*locked).replace(
                    0, 1, QString::fromStdString(*locked).left(1).toUpper())),
            Signal::care);
    return done && !locked;
}

bool Session::still_holds(const Shot& then) {
    const auto same_source = [](const ShotCamera& a, const ShotCamera& b) {
        return a.camera == b.camera && a.media == b.media && a.offset == b.offset &&
               a.drift_ppm == b.drift_ppm && a.used == b.used;
    };
    const Shot* now = shot();
    if (now && now->id == then.id && now->rig == then.rig &&
        std::equal(now->cameras.begin(), now->cameras.end(), then.cameras.begin(), then.cameras.end(),
                   same_source))
        return true;
    say_changed_meanwhile();
    return false;
}

void Session::say_changed_meanwhile() {
    say("The shot was changed meanwhile, or is not on show: what was found is left away. Start it again.",
        Signal::care);
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
    const Seconds last =
        length_ > Seconds(0) && shot() ? length_ - Rational(1) / shot()->timing.rate : Seconds(0);
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

void Session::replaced(Project project, const std::filesystem::path& file, std::uint64_t on_disk,
                       bool saved) {
    read_headers(project);
    forget_autosave();
    file_ = file;
    on_disk_ = told_of_ = on_disk;
    watch_file();
    history_ = History(std::move(project));
    saved_ = saved ? history_.now() : nullptr;
    playhead_ = Seconds(0);
    selected_.clear();
    shot_id_.clear();
    looked_for_.clear();
    missing_.clear();
    after_change();
    if (shot())
        set_playhead(std::clamp(shot()->timing.in, Seconds(0),
                                std::max(length_ - Rational(1) / shot()->timing.rate, Seconds(0))));
    emit playhead_changed();
    emit selection_changed();
    if (!missing_.empty())
        say(QString("%1 of %2 sources are not where they were. Gather shows which; relink them there.")
                .arg(missing_.size())
                .arg(history_.now()->media.size()),
            Signal::care);
}

void Session::start_new() {
    replaced(Project{}, {}, 0, true);
}

bool Session::open(const std::filesystem::path& file) {
    try {
        std::vector<std::string> remarks;
        // Of the bytes that were read, not of the file a moment later: another program may write it
        // meanwhile.
        const std::string text = read_text_file(file, limits::kProjectBytes);
        Project project = parse_project(text, file, &remarks);
        std::vector<std::string> painted;
        find_tiles(project, file, &painted);
        sweep_parts(std::filesystem::absolute(file).parent_path());
        replaced(std::move(project), std::filesystem::absolute(file), fingerprint_of_bytes(text), true);
        QStringList words;
        for (const auto& r : remarks) words << QString::fromStdString(r);
        if (!words.isEmpty())
            say("Left out, since the rig has no such camera: " + words.join("; "), Signal::care);
        for (const auto& r : painted) say(QString::fromStdString(r), Signal::care);
        return true;
    } catch (const std::exception& e) {
        say(QString::fromStdString(words_of(e)), Signal::stop);
        return false;
    }
}

Session::Saved Session::save(const std::filesystem::path& file, bool over_changes) {
    std::uint64_t written = 0;
    try {
        const auto lock = LockFile::take(lock_of_project(file), "Pale Orbit");
        if (!lock)
            throw Error("is being changed by " +
                            LockFile::holder_of(lock_of_project(file)).value_or("another program"),
                        file.string(), "Save again when that has ended, or save under another name");
        // Under the lock: nobody can write between this look and the save.
        const bool same = std::filesystem::absolute(file) == file_ || same_file(file, file_);
        if (same && !over_changes && changed_on_disk()) {
            say(QString("%1 was changed by another program since it was opened here. It was not saved.")
                    .arg(QString::fromStdString(file.filename().string())),
                Signal::care);
            return Saved::changed_on_disk;
        }
        porb::must_not_replace(file, *project(), {});
        sweep_parts(std::filesystem::absolute(file).parent_path());
        const std::string text = project_to_text(*project(), file);
        write_tiles(*project(), file);
        write_file_atomically(file, text);
        written = fingerprint_of_bytes(text);
    } catch (const std::exception& e) {
        say(QString::fromStdString(words_of(e)), Signal::stop);
        return Saved::no;
    }
    forget_autosave();
    file_ = std::filesystem::absolute(file);
    on_disk_ = told_of_ = written;
    watch_file();
    saved_ = history_.now();
    say("Saved " + QString::fromStdString(file_.filename().string()));
    emit file_changed();
    return Saved::yes;
}

bool Session::recover(const Autosave& left) {
    read_all_tiles(left.project); // its folder goes with the autosave
    auto slot = AutosaveSlot::adopt(left);
    if (!slot) {
        say("Another window has taken that work up already.", Signal::care);
        return false;
    }
    replaced(left.project, left.project_file, left.opened, false);
    slot_ = std::move(slot); // it goes on in the same file, which stays until this is saved
    if (changed_on_disk())
        say("Unsaved work was brought back. Its project was changed on disk since: saving asks which to "
            "keep.",
            Signal::care);
    else
        say("Unsaved work was brought back. Save it to keep it.", Signal::care);
    return true;
}

bool Session::changed_on_disk() const {
    try {
        const std::uint64_t now = fingerprint_of(file_);
        return now != 0 && now != on_disk_; // a file that is gone has nothing to lose
    } catch (const std::exception&) {
        return true; // cannot be read: whatever it is, it is not what was opened
    }
}

void Session::watch_file() {
    if (!watcher_.files().isEmpty()) watcher_.removePaths(watcher_.files());
    if (!file_.empty()) watcher_.addPath(QString::fromStdString(file_.string()));
}

void Session::look_at_disk() {
    watch_file(); // a file that was replaced is another one: the watch went with the old
    try {
        const std::uint64_t now = fingerprint_of(file_);
        if (now == 0 || now == on_disk_ || now == told_of_) return;
        told_of_ = now;
    } catch (const std::exception&) {
        return; // saving asks
    }
    emit disk_changed();
}

void Session::forget_autosave() {
    if (autosaving_.valid()) autosaving_.wait();
    autosave_timer_.stop();
    if (slot_) slot_->remove();
}

void Session::set_playhead(Seconds time) {
    const Seconds frame = shot() ? Rational(1) / shot()->timing.rate : Rational(1, 30);
    time = std::clamp(time, Seconds(0), std::max(length_ - frame, Seconds(0)));
    if (time == playhead_) return;
    playhead_ = time;
    emit playhead_changed();
}

void Session::select_camera(const std::string& id) {
    if (id == selected_) return;
    end_drag();
    selected_ = id;
    emit selection_changed();
}

void Session::autosave() {
    if (!is_dirty()) return;
    if (autosaving_.valid() && autosaving_.wait_for(std::chrono::seconds(0)) != std::future_status::ready) {
        autosave_timer_.start(); // the disk is slow: one at a time
        return;
    }
    if (!slot_) {
        try {
            slot_.emplace(autosave_folder_);
        } catch (const std::exception& e) {
            say("Unsaved work cannot be kept safe: " + QString::fromStdString(words_of(e)), Signal::care);
            return;
        }
    }
    // The text is made on another thread, from a value that nobody changes.
    autosaving_ = std::async(
        std::launch::async, [this, slot = &*slot_, value = project(), file = file_, opened = on_disk_] {
            try {
                slot->write(file, opened, *value);
            } catch (const std::exception& e) {
                const QString words =
                    "Unsaved work could not be kept safe: " + QString::fromStdString(words_of(e));
                QMetaObject::invokeMethod(
                    this, [this, words] { say(words, Signal::care); }, Qt::QueuedConnection);
            }
        });
}

} // namespace porb::app
