#pragma once

#include "app/picture/loop_player.h"
#include "app/picture/overlays.h"
#include "app/picture/picture_service.h"
#include "app/picture/picture_tool.h"
#include "app/picture/view_state.h"
#include "app/session/session.h"

#include <QElapsedTimer>
#include <QWidget>

class QPainter;

namespace porb::app {

class Comparison;

/// What a drag with the left button does in map and window view.
enum class DragUse { look, level };
/// How dragging levels: freely, or only round the upright axis.
enum class LevelHold { none, pitch_and_roll };

/// The large picture: asks the service for what the mode needs, coarse while something moves and full when it
/// rests, draws it with its overlays, and turns gestures into looks and edits.
class PictureArea : public QWidget {
    Q_OBJECT
  public:
    PictureArea(Session& session, PictureService& service, QWidget* parent = nullptr);

    ViewMode mode() const { return view_.mode; }
    void set_mode(ViewMode mode);
    void set_drag_use(DragUse use) { drag_use_ = use; }
    void set_level_hold(LevelHold hold) { level_hold_ = hold; }
    void set_eyes(EyesLook look);
    EyesLook eyes() const { return eyes_; }
    void set_footprints(bool on);
    void set_overlaps(bool on);
    void set_coverage(bool on);
    void set_supply(bool on); ///< which camera supplies what
    void set_trust(bool on);  ///< where distances found near seams are trusted
    bool shows_trust() const { return trust_; }
    void set_distances(bool on); ///< how far away things are, as colours
    bool shows_distances() const { return distances_; }
    void set_distance_steps(bool on); ///< where distances step
    /// What was found for the picture on show; nothing while distances and their steps are not shown, or not
    /// there yet.
    FoundDistancesPtr found_distances() const { return settled_ ? answer_.found : nullptr; }
    /// Plays the second round the playhead over and over, at full quality from pictures made before, and of
    /// both states while two are compared. Any other change of the picture ends it.
    void toggle_loop();
    const LoopPlayer& loop() const { return loop_; }
    /// Shows the selected camera and its neighbour alone by turns, several times a second, in map and window
    /// view.
    void set_flicker(bool on);
    void set_playing(bool on, bool every_frame = false);
    /// Whether proxies are shown while it plays and while the playhead is dragged.
    void set_proxies(bool on);
    /// The one on show was made from proxies: how often they are halved; 0: from the sources themselves.
    int shown_proxy_level() const;
    /// How many pictures were shown so far, of any kind.
    int shown() const { return shown_; }
    /// How many different moments were painted so far: what an eye saw change.
    int painted() const { return painted_; }
    /// Of the one on show.
    Seconds shown_time() const { return answer_.time; }
    /// While playing: whether parallax is left open, since closing it takes too long here.
    bool plays_without_parallax() const { return playing_open_; }
    /// Control points: their residuals on a lens, what they will double by on the sphere.
    void set_points_shown(bool on);
    void set_lines_shown(bool on) { lines_shown_ = on, update(); }
    void set_regions_shown(bool on) { regions_shown_ = on, update(); }
    /// What is drawn and edited over the picture; nullptr: nothing. It must outlive its stay.
    void set_tool(PictureTool* tool);
    PictureTool* tool() const { return tool_; }
    Comparison& comparison() { return *compare_; }
    void reset_look();
    Turn look() const { return view_.look; }
    double field_of_view() const { return view_.fov_deg; }
    void set_look(const Turn& look, double fov_deg);
    Turn flat_look() const { return view_.flat; }
    double flat_width() const { return view_.flat_deg; }
    /// What the down view looks at, degrees across its square.
    void set_flat_look(const Turn& look, double across_deg);
    /// The whole of what a mode shows, without zoom.
    void show_whole();
    /// Whether patches are shown, or what cameras supply alone.
    void set_patches(bool on);
    bool shows_patches() const { return patches_; }

    /// Whether a full picture of the present state is on show; for tests and saved shots.
    bool settled() const { return settled_; }
    double last_milliseconds() const { return answer_.milliseconds; }
    bool had_picture() const { return !answer_.images.empty(); }
    /// Where one looks, for this widget's size and what is selected.
    ViewState view() const;
    std::optional<QPointF> point_of(const Vec3& direction) const { return view().point_of(direction); }
    std::optional<Vec3> direction_at(const QPointF& point) const { return view().direction_at(point); }
    QPointF lens_point(const Vec2& pixel) const { return view().lens_point(pixel); }
    Vec2 lens_pixel(const QPointF& point) const { return view().lens_pixel(point); }
    const Camera* selected() const; ///< the selected camera, or the first; nullptr: there is none

  signals:
    void picture_shown(); ///< another one was painted
    void playing_open_changed();
    void mode_changed();
    void eyes_changed();
    void look_changed();
    void tool_changed();
    void loop_changed();
    void trust_changed();
    void distances_changed();
    void patches_changed();
    void add_files_wanted();
    void demo_wanted();

  protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    void tabletEvent(QTabletEvent*) override;
    void leaveEvent(QEvent*) override;

  private:
    enum class Grip { none, look, pan, flat_turn, flat_aim, level, circle_move, circle_rim, wipe };

    /// Coarse while something moves; while the playhead is dragged without flow too, which looks at moments
    /// before.
    void set_playing_open(bool on);
    void ask(bool moving, bool scrubbing = false);
    std::optional<PictureRequest> wanted(bool moving, bool scrubbing);
    void start_loop();
    void take(const PictureAnswer& answer);
    std::vector<QRectF> sheet_cells(std::size_t count) const;
    void drag_level(const QPointF& to);
    void drag_circle(const QPointF& to);
    Grip lens_grip(const QPointF& at) const;
    bool draws() const; ///< the tool takes every drag
    Qt::CursorShape resting_cursor() const;
    void zoom_at(const QPointF& at, double factor);
    void paint_composed(QPainter& p);
    void paint_comparison(QPainter& p, const QRectF& to);
    bool compares() const;
    void paint_overlays(QPainter& p);
    void paint_lens(QPainter& p);
    void paint_sheet(QPainter& p);
    void paint_words(QPainter& p);
    void paint_distances(QPainter& p);
    QString disparity_text(double inverse_m, const Vec3& direction) const;
    const QImage& shown_image(std::size_t which) const; ///< of eyes by turns, whichever it is now
    QRectF answer_rect() const;                         ///< where what the answer shows lies on the widget
    void paint_marks(QPainter& p);
    void paint_magnifier(QPainter& p, const QRectF& picture);
    bool magnifies() const;
    const Camera* neighbour() const; ///< the camera that looks nearest to where the selected one does
    void edit_circle(const ImageCircle& circle, const QString& label);
    void update_empty();

    Session& session_;
    PictureService& service_;
    ViewState view_; ///< without what view() adds
    DragUse drag_use_ = DragUse::look;
    LevelHold level_hold_ = LevelHold::none;
    int shown_ = 0, painted_ = 0;
    Seconds painted_time_{-1};
    ProjectPtr quick_, quick_of_; ///< the project with less, and the one that it is made of
    bool quick_without_flow_ = false;
    bool was_just_edited() const;
    QElapsedTimer since_edit_; ///< of what flow does not follow from, while it plays
    int closed_frames_ = 0;    ///< since it plays with parallax closed
    double frame_ms_ = 0;      ///< what the last few of them took on the mean
    bool footprints_ = false, overlaps_ = false, coverage_ = false, supply_ = false, playing_ = false,
         playing_open_ = false, settled_ = false;
    Grip grip_ = Grip::none;
    QPointF grip_at_;
    std::optional<Vec3> grip_direction_;
    Turn grip_orientation_;
    quint64 number_ = 0;
    quint64 mode_since_ = 0; ///< answers to earlier requests are of another mode
    bool patches_ = true, proxies_ = true, every_frame_ = false;
    Seconds asked_time_{-1};  ///< of the last request
    FlowSettings flow_asked_; ///< of the last picture
    PictureAnswer answer_;
    qsizetype remarks_ = 0; ///< of the last answer,
    std::string remarked_;  ///< and its shot
    std::optional<PlanKey> overlay_key_;
    Overlays overlay_;
    LoopPlayer loop_;
    bool trust_ = false, distances_ = false, distance_steps_ = false;
    QPointF pointer_{-1, -1};
    EyesLook eyes_ = EyesLook::mono;
    bool right_now_ = false; ///< of eyes by turns
    QTimer rest_, flicker_, turns_;
    bool second_side_ = false; ///< of the flicker
    QPointF hover_{-1, -1};
    QWidget* empty_ = nullptr;
    Comparison* compare_;
    PictureTool* tool_ = nullptr;
    bool points_shown_ = false, lines_shown_ = false, regions_shown_ = false;
    QStringList words_; ///< what overlays have to say, drawn with the rest
};

} // namespace porb::app
