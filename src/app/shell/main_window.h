#pragma once

#include "app/session/player.h"
#include "app/shell/orbit_rail.h"
#include "app/shell/proxy_jobs.h"
#include "app/stations/station.h"

#include <QMainWindow>

#include <map>

class QButtonGroup;
class QHBoxLayout;
class QLabel;
class QMenu;
class QSplitter;
class QStackedWidget;
class QToolButton;

namespace porb::app {

class RigView;

/// The window: orbit rail above, picture and the station's panel, timeline below. Owns what lives as long as
/// it does.
class MainWindow : public QMainWindow {
    Q_OBJECT
  public:
    /// `memory`: of all caches together.
    explicit MainWindow(const std::filesystem::path& data_folder,
                        std::shared_ptr<CacheBound> memory = std::make_shared<CacheBound>());
    ~MainWindow() override;

    Session& session() { return session_; }
    PictureArea& picture() { return *picture_; }
    RenderQueue& queue() { return queue_; }
    /// Goes to the station of that name ("seams"); one that is not there is nothing to go to. Says whether it
    /// is.
    bool set_station(const QString& id);
    const std::vector<std::unique_ptr<Station>>& stations() const { return stations_; }
    bool open_project(const std::filesystem::path& file);
    void open_demo(const QString& name);
    void add_files(const QStringList& files);
    void offer_recovery();
    void restore_session();
    QList<QAction*> all_actions() const { return actions_; }
    /// Does what a menu offers under that name; false when nothing is called so.
    bool run(const QString& command);

  protected:
    void closeEvent(QCloseEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void dragEnterEvent(QDragEnterEvent*) override;
    void dropEvent(QDropEvent*) override;

  private:
    QAction* action(const QString& group, const Command& command);
    void make_station_menus(QMenu* stations, QMenu* file);
    void make_actions();
    void make_overlay_actions(QMenu* view);
    void make_message_line();
    void make_view_bar(QWidget* holder);
    void follow_project();
    void tell_playing();
    void make_play_actions(QMenu* play);
    void refresh_title();
    void say(const QString& text, Signal signal);
    void step(int frames);
    void set_in();
    void set_out();
    void add_marker();
    void edit_marker(int index);
    void go_to_marker(int step);
    void set_used_from_markers();
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
    void save_distances();

    Session session_;
    PictureService service_;
    RenderQueue queue_;
    Player player_;
    ProxyJobs proxies_;
    OrbitRail* rail_;
    PictureArea* picture_;
    RigView* rig_view_;
    QStackedWidget* views_;         ///< the picture, the rig, and stations' own pages
    std::map<ViewMode, int> pages_; ///< of views_, where that is not the picture
    Timeline* timeline_;
    QStackedWidget* panels_;
    QSplitter* middle_; ///< the picture's side and the panel's
    QWidget* side_;
    bool panel_chosen_ = false; ///< how wide it is, by dragging; else by the window's width
    std::vector<std::unique_ptr<Station>> stations_;
    std::size_t at_ = 0;         ///< the station
    QAction *supply_, *flicker_; ///< overlays that mean nothing for a pair
    QButtonGroup* modes_;
    QMenu* overlays_;
    QHBoxLayout* shown_overlays_; ///< those that are on, beside the menu
    QWidget* eyes_;
    QLabel *message_, *message_icon_;
    QTimer message_timer_, rate_timer_; ///< the latter ticks each second while playing
    int shown_before_ = 0, slow_seconds_ = 0;
    bool slow_told_ = false; ///< that proxies would help
    QMenu* recent_;
    QAction *undo_, *redo_;
    QList<QAction*> actions_;
    BackgroundJob stills_; ///< being saved, one after the other
};

/// The folder of the demo takes, beside the sources or where the program was installed; empty when there is
/// none.
std::filesystem::path demo_folder();

} // namespace porb::app
