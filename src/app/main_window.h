#pragma once

#include "app/orbit_rail.h"
#include "app/picture_area.h"
#include "app/player.h"
#include "app/render_queue.h"
#include "app/timeline.h"

#include <QMainWindow>

class QButtonGroup;
class QStackedWidget;
class QLabel;
class QSplitter;

namespace porb::app {

class AlignStrip;
class GatherPanel;
class RigPanel;
class MasterPanel;
class RigView;
class PointsPanel;
class PointsDesk;
class LevelPanel;
class MatchPanel;
class SeamsPanel;
class CrossingLane;
class ResidualLane;

/// The window: orbit rail above, picture and the station's panel, timeline below. Owns what lives as long as
/// it does.
class MainWindow : public QMainWindow {
    Q_OBJECT
  public:
    explicit MainWindow(const std::filesystem::path& data_folder);
    ~MainWindow() override;

    Session& session() { return session_; }
    PictureArea& picture() { return *picture_; }
    RenderQueue& queue() { return queue_; }
    void set_station(Station station);
    bool open_project(const std::filesystem::path& file);
    void open_demo(const QString& name);
    void add_files(const QStringList& files);
    void offer_recovery();
    void restore_session();
    void show_align(bool on);
    PointsPanel& points() { return *points_; }
    LevelPanel& level() { return *level_; }
    MatchPanel& match() { return *match_; }
    SeamsPanel& seams() { return *seams_; }
    PointsDesk& desk() { return *desk_; }
    AlignStrip& align_strip() { return *align_; }
    QList<QAction*> all_actions() const { return actions_; }

  protected:
    void closeEvent(QCloseEvent*) override;
    void dragEnterEvent(QDragEnterEvent*) override;
    void dropEvent(QDropEvent*) override;

  private:
    QAction* action(const QString& text, const QKeySequence& key, const std::function<void()>& work);
    void make_actions();
    void make_message_line();
    void make_view_bar(QWidget* holder);
    void refresh_title();
    void say(const QString& text, Signal signal);
    void step(int frames);
    void set_in();
    void set_out();
    void add_marker();
    void edit_marker(int index);
    void go_to_marker(int step);
    void set_used_from_markers();
    void nudge(double frames);
    void next_shot(int step);
    bool save();
    bool save_as();
    bool save_over_or_not();
    void tell_disk_changed();
    void reload_project();
    bool may_leave();
    void remember_recent(const QString& file);
    void refresh_recent();
    void show_palette();
    void save_still();
    void make_single();

    Session session_;
    PictureService service_;
    RenderQueue queue_;
    Player player_;
    OrbitRail* rail_;
    PictureArea* picture_;
    RigView* rig_view_;
    QStackedWidget* views_;
    AlignStrip* align_;
    Timeline* timeline_;
    QStackedWidget* panels_;
    QWidget* side_;
    GatherPanel* gather_;
    RigPanel* rig_;
    PointsPanel* points_;
    PointsDesk* desk_;
    LevelPanel* level_;
    MatchPanel* match_;
    SeamsPanel* seams_;
    ResidualLane* lane_;
    CrossingLane* crossing_lane_;
    MasterPanel* master_;
    QButtonGroup* modes_;
    QWidget* eyes_;
    QLabel *message_, *message_icon_;
    QTimer message_timer_;
    QMenu* recent_;
    QAction *undo_, *redo_;
    QList<QAction*> actions_;
    std::vector<std::jthread> stills_; ///< being saved
};

/// The folder of the demo takes, beside the sources or where the program was installed; empty when there is
/// none.
std::filesystem::path demo_folder();

} // namespace porb::app
