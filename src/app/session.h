#pragma once

#include "app/theme.h"
#include "project/history.h"
#include "solve/point_fit.h"

#include <QObject>
#include <QTimer>

#include <functional>

namespace porb {
class MediaLibrary;
}

namespace porb::app {

/// What the window works on: a project's history, its file, the shot on show, the playhead and the selected
/// camera. All edits go through edit(); everything else listens.
class Session : public QObject {
    Q_OBJECT
  public:
    explicit Session(std::filesystem::path autosave_folder, QObject* parent = nullptr);
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
    /// `merge_key` again continues that step. Changes that leave the rig impossible are refused with a
    /// message and false.
    bool edit(const QString& label, const std::function<void(Project&)>& change,
              const QString& merge_key = {});
    /// The same for the shot at work. Values of cameras that it changes are marked as coming from `origin`;
    /// an edit that would change a locked part is refused.
    bool edit_shot(const QString& label, const std::function<void(Shot&)>& change,
                   const QString& merge_key = {}, const Origin& origin = {OriginKind::hand, {}});
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
    bool save(const std::filesystem::path& file);
    /// Takes up what an earlier run left unsaved.
    void recover(const Project& project, const std::filesystem::path& file);

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
    void playhead_changed();
    void selection_changed();
    void shot_changed(); ///< another shot is worked on
    void said(const QString& text, porb::app::Signal signal);

  private:
    void replaced(Project project, const std::filesystem::path& file, bool saved);
    void read_headers(const Project& project);
    void after_change();
    void autosave();

    std::filesystem::path autosave_folder_, file_;
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
