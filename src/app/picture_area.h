#pragma once

#include "app/background_job.h"
#include "app/overlays.h"
#include "app/picture_service.h"
#include "app/picture_tool.h"
#include "app/session.h"

#include <QWidget>

class QPainter;

namespace porb::app {

class Comparison;

enum class ViewMode { map, window, lens, sheet, rig, pair };
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

    ViewMode mode() const { return mode_; }
    void set_mode(ViewMode mode);
    void set_drag_use(DragUse use) { drag_use_ = use; }
    void set_level_hold(LevelHold hold) { level_hold_ = hold; }
    void set_eye(Eye eye);
    void set_footprints(bool on);
    void set_overlaps(bool on);
    void set_coverage(bool on);
    void set_supply(bool on); ///< which camera supplies what
    void set_trust(bool on);  ///< where distances found near seams are trusted
    bool shows_trust() const { return trust_; }
    /// Plays the second round the playhead over and over, at full quality from pictures made before, and of
    /// both states while two are compared. Any other change of the picture ends it.
    void toggle_loop();
    bool loops() const { return looping_; }
    std::size_t looped() const { return reel_.size(); } ///< pictures of it, once they are all there
    /// Shows the selected camera and its neighbour alone by turns, several times a second, in map and window
    /// view.
    void set_flicker(bool on);
    void set_playing(bool on);
    /// While playing: whether parallax is left open, since closing it takes too long here.
    bool plays_without_parallax() const { return playing_open_; }
    /// Control points: their misses on a lens, what they will double by on the sphere.
    void set_points_shown(bool on);
    void set_lines_shown(bool on) { lines_shown_ = on, update(); }
    /// With a kind, dragging traces a line of it; with a region tool, an outline in which points are looked
    /// for, or not.
    void set_line_tool(std::optional<LineKind> kind);
    std::optional<LineKind> line_tool() const { return line_tool_; }
    enum class RegionTool { none, avoid, only };
    void set_region_tool(RegionTool tool);
    RegionTool region_tool() const { return region_tool_; }
    /// What is drawn and edited over the picture; nullptr: nothing. It must outlive its stay.
    void set_tool(PictureTool* tool);
    Comparison& comparison() { return *compare_; }
    void reset_look();
    Turn look() const { return look_; }
    double field_of_view() const { return fov_deg_; }
    void set_look(const Turn& look, double fov_deg);

    /// Whether a full picture of the present state is on show; for tests and saved shots.
    bool settled() const { return settled_; }
    double last_milliseconds() const { return answer_.milliseconds; }
    bool had_picture() const { return !answer_.images.empty(); }
    /// Where a world direction is drawn, if it is (map and window).
    std::optional<QPointF> point_of(const Vec3& direction) const;
    /// Where a source pixel of the selected camera is drawn (lens view).
    QPointF lens_point(const Vec2& pixel) const;
    Vec2 lens_pixel(const QPointF& point) const; ///< the other way round
    /// The world direction under a place of the widget, if there is one (map and window).
    std::optional<Vec3> direction_at(const QPointF& point) const;

  signals:
    void playing_open_changed();
    void mode_changed();
    void look_changed();
    void trace_tool_changed();
    void loop_changed();
    void trust_changed();
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

  private:
    enum class Grip { none, look, pan, level, circle_move, circle_rim, wipe };

    /// Coarse while something moves; while the playhead is dragged without flow too, which looks at moments
    /// before.
    void set_playing_open(bool on);
    void ask(bool moving, bool scrubbing = false);
    std::optional<PictureRequest> wanted(bool moving, bool scrubbing);
    void set_loop(bool on);
    void next_of_loop();
    void take(const PictureAnswer& answer);
    std::optional<View> wanted_view(double scale) const;
    QRectF map_rect() const; ///< the whole map on the widget, zoomed and panned
    QRectF lens_rect() const;
    std::vector<QRectF> sheet_cells(std::size_t count) const;
    void drag_level(const QPointF& to);
    void drag_circle(const QPointF& to);
    Grip lens_grip(const QPointF& at) const;
    void zoom_at(const QPointF& at, double factor);
    void paint_composed(QPainter& p);
    void paint_comparison(QPainter& p, const QRectF& to);
    bool compares() const;
    void paint_overlays(QPainter& p);
    void paint_lens(QPainter& p);
    void paint_sheet(QPainter& p);
    void paint_words(QPainter& p);
    void paint_points(QPainter& p);
    bool trace_press(QMouseEvent* event);
    bool trace_move(QMouseEvent* event);
    bool trace_release(QMouseEvent* event);
    void paint_magnifier(QPainter& p, const QRectF& picture);
    bool magnifies() const;
    const Camera* neighbour() const; ///< the camera that looks nearest to where the selected one does
    void edit_circle(const ImageCircle& circle, const QString& label);
    void update_empty();
    const Camera* selected() const;
    bool half_map() const;

    Session& session_;
    PictureService& service_;
    ViewMode mode_ = ViewMode::map;
    DragUse drag_use_ = DragUse::look;
    LevelHold level_hold_ = LevelHold::none;
    Eye eye_ = Eye::mono;
    int slow_frames_ = 0; ///< one after the other while playing with parallax closed
    bool footprints_ = false, overlaps_ = false, coverage_ = false, supply_ = false, playing_ = false,
         playing_open_ = false, settled_ = false;
    Turn look_;
    double fov_deg_ = 90;
    double zoom_ = 1;       ///< of map and lens view; 1 fits
    QPointF pan_{0.5, 0.5}; ///< the place of the map or source (0..1) at the widget's centre
    Grip grip_ = Grip::none;
    QPointF grip_at_;
    std::optional<Vec3> grip_direction_;
    Turn grip_orientation_;
    quint64 number_ = 0;
    FlowSettings flow_asked_; ///< of the last picture
    PictureAnswer answer_;
    qsizetype remarks_ = 0; ///< of the last answer,
    std::string remarked_;  ///< and its shot
    std::optional<PlanKey> overlay_key_;
    Overlays overlay_;
    BackgroundJob loop_job_;
    std::vector<PictureAnswer> reel_; ///< of the loop
    std::size_t reel_at_ = 0;
    bool looping_ = false, trust_ = false;
    double loop_done_ = 0;
    QTimer rest_, flicker_, loop_timer_;
    bool second_side_ = false; ///< of the flicker
    QPointF hover_{-1, -1};
    QWidget* empty_ = nullptr;
    Comparison* compare_;
    PictureTool* tool_ = nullptr;
    bool points_shown_ = false, lines_shown_ = false;
    std::optional<LineKind> line_tool_;
    RegionTool region_tool_ = RegionTool::none;
    bool traces() const { return line_tool_ || region_tool_ != RegionTool::none; }
    void add_line(const QPolygonF& trace);
    void add_region(const QPolygonF& trace);
    QPolygonF trace_;   ///< of the line being drawn, widget places
    QStringList words_; ///< what overlays have to say, drawn with the rest
};

} // namespace porb::app
