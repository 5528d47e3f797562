#pragma once

#include "app/widgets/theme.h"
#include "base/cache.h"
#include "project/autosave.h"
#include "project/history.h"
#include "project/outputs.h"
#include "solve/bundle/point_fit.h"

#include <QFileSystemWatcher>
#include <QObject>
#include <QTimer>

#include <functional>
#include <future>

namespace porb {
class MediaLibrary;
}

namespace porb::app {

/// What the window works on: a project's history, its file, the shot on show, the playhead and the selected
/// camera. All edits go through edit(); everything else listens.
class Session : public QObject {
    Q_OBJECT
  public:
    /// `memory`: of all that is kept to be shown again.
    Session(std::filesystem::path autosave_folder, std::shared_ptr<CacheBound> memory,
            QObject* parent = nullptr);
    const std::filesystem::path& autosave_folder() const { return autosave_folder_; }
    ~Session() override;

    const ProjectPtr& project() const { return history_.now(); }
    const Shot* shot() const; ///< the one being worked on; nullptr while the project is empty
    void choose_shot(const std::string& id);
    /// Media whose files are not there, looked up once for each state of the project.
    const std::vector<std::string>& missing() const { return missing_; }
    void look_for_files();
    /// How the shot's points fit its rig, worked out once for each state of both.
    const std::vector<PointFit>& point_fits();
    /// Goes up whenever point_fits() had to be worked out anew.
    int fits_made() const { return fits_made_; }
    const std::shared_ptr<MediaLibrary>& library() const { return library_; }

    /// Applies `change` to a copy and makes it the project, as one undo step named `label`; the same
    /// `merge_key` again continues that step. What could not be saved (validate()) is refused with a message
    /// and false; so is a change that throws.
    bool edit(const QString& label, const std::function<void(Project&)>& change,
              const QString& merge_key = {});
    /// The same for the shot at work. Values of cameras that it changes are marked as coming from `origin`;
    /// an edit that would change a locked part is refused.
    bool edit_shot(const QString& label, const std::function<void(Shot&)>& change,
                   const QString& merge_key = {}, const Origin& origin = {OriginKind::hand, {}});
    /// Whether what a job found from `then` still belongs to the shot at work: it is the same one, with the
    /// same cameras, sources, lenses and poses. Says that the result is left away otherwise.
    bool still_holds(const Shot& then);
    void say_changed_meanwhile(); ///< the same words, for jobs that ask for less, or for more
    void end_drag() { history_.end_merge(); }
    void undo();
    void redo();
    const History& history() const { return history_; }

    const std::filesystem::path& file() const { return file_; }
    /// The project as it was saved or opened last; null for one that never was.
    ProjectPtr saved() const { return file_.empty() ? nullptr : saved_; }
    bool is_dirty() const { return saved_ != history_.now(); }
    void start_new();
    bool open(const std::filesystem::path& file); ///< false, and a message, when it cannot be read
    enum class Saved { yes, no, changed_on_disk };
    /// Writes the project under its lock. What another program wrote to its file since it was opened here is
    /// not replaced unless `over_changes`; then and when it cannot be written a message says why.
    Saved save(const std::filesystem::path& file, bool over_changes = false);
    /// Takes up what an earlier run left unsaved: its autosave stays until the project is saved. False, and a
    /// message, when another window has it already.
    bool recover(const Autosave& left);
    /// Throws Error when a file written there would replace one that the project uses, or the project.
    void must_not_replace(const std::filesystem::path& output) const {
        porb::must_not_replace(output, *project(), file_);
    }
    /// The work is saved or given up: its autosave goes.
    void forget_autosave();
    /// Whether the project's file holds something else than what was opened or saved here last.
    bool changed_on_disk() const;

    Seconds playhead() const { return playhead_; }
    void set_playhead(Seconds time);
    Seconds length() const { return length_; }
    void refresh_length();

    const std::string& selected_camera() const { return selected_; }
    void select_camera(const std::string& id);

    void say(const QString& text, Signal signal = Signal::good) { emit said(text, signal); }

  signals:
    void project_changed();
    void file_changed();
    void disk_changed(); ///< another program wrote the project's file
    void playhead_changed();
    void selection_changed();
    void shot_changed(); ///< another shot is worked on
    void said(const QString& text, porb::app::Signal signal);

  private:
    /// `on_disk`: fingerprint of the bytes of `file` that the project was read from.
    void replaced(Project project, const std::filesystem::path& file, std::uint64_t on_disk, bool saved);
    void watch_file();
    void look_at_disk();
    void read_headers(const Project& project);
    void after_change();
    void autosave();

    std::filesystem::path autosave_folder_, file_;
    std::uint64_t on_disk_ = 0; ///< fingerprint of the file as it was opened or saved here last
    std::optional<AutosaveSlot> slot_;
    std::future<void> autosaving_;
    QFileSystemWatcher watcher_;
    std::uint64_t told_of_ = 0; ///< the change on disk that was told last
    std::shared_ptr<MediaLibrary> library_;
    History history_;
    ProjectPtr saved_;
    Seconds playhead_{0}, length_{0};
    std::string selected_, shot_id_;
    std::vector<std::string> missing_;
    std::vector<Media> looked_for_; ///< of which missing_ was found
    struct FitKey {
        Shared<ControlPoints> points;
        Rig rig;
        bool own_distances = true;
        double agree_distance_m = 0;
        bool operator==(const FitKey&) const = default;
    };
    FitKey fitted_;
    std::vector<PointFit> fits_; ///< of fitted_
    int fits_made_ = 0;
    QTimer autosave_timer_;
};

} // namespace porb::app
