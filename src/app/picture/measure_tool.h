#pragma once

#include "app/picture/picture_area.h"
#include "app/picture/picture_tool.h"

#include <array>
#include <functional>

namespace porb::app {

/// Clicks places on the sphere, in map and window view: two, and says how far they are apart; or three, for
/// whoever wants a plane through them. Stays until Escape, or until what it is for is done.
class MeasureTool : public QObject, public PictureTool {
    Q_OBJECT
  public:
    MeasureTool(Session& session, PictureArea& picture, QObject* parent = nullptr);

    void measure(); ///< two places, over and over
    /// Three places, told once with what was found there (world directions and 1/m); then the tool before is
    /// back.
    using Done = std::function<void(const std::array<Vec3, 3>&, const std::array<double, 3>&)>;
    void pick_plane(Done done);
    void stop();
    bool is_on() const { return on_; }

    bool press(QMouseEvent* event) override;
    bool move(QMouseEvent* event) override;
    bool release(QMouseEvent* event) override;
    bool double_click(QMouseEvent* event) override;
    bool key(QKeyEvent* event) override;
    void paint(QPainter& painter) override;
    QString words() const override;
    Qt::CursorShape cursor() const override { return Qt::CrossCursor; }

  private:
    void begin(std::size_t places);
    struct Place {
        Vec3 direction; ///< world
        double inverse_m = 0;
    };
    Session& session_;
    PictureArea& picture_;
    bool on_ = false;
    std::size_t wanted_ = 2;
    std::vector<Place> places_;
    Done done_;
    PictureTool* before_ = nullptr;
    bool shown_before_ = false; ///< distances
    QPointF hover_;
};

} // namespace porb::app
