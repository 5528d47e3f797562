#pragma once

#include "app/picture/picture_area.h"
#include "app/picture/picture_tool.h"

namespace porb::app {

/// Draws and edits shelters in map and window view: ovals that come whole from one camera.
class ShelterTool : public QObject, public PictureTool {
    Q_OBJECT
  public:
    ShelterTool(Session& session, PictureArea& picture, QObject* parent = nullptr);

    void begin();         ///< a new shelter: drag from its middle
    void begin_growing(); ///< a new shelter about what is clicked on
    void give_up();
    bool is_drawing() const { return drawing_; }
    int selected() const { return selected_; } ///< of the shot's shelters; -1: none
    void select(int index);
    void remove_selected();
    void toggle_key();

    bool press(QMouseEvent* event) override;
    bool move(QMouseEvent* event) override;
    bool release(QMouseEvent* event) override;
    bool double_click(QMouseEvent* event) override;
    bool key(QKeyEvent* event) override;
    void paint(QPainter& painter) override;
    QString words() const override;

  signals:
    void selection_changed();
    void drawing_changed();
    void grow_wanted(const porb::Vec3& rig_direction);

  private:
    enum class Part { none, middle, width, height };
    std::optional<ShelterKey> oval(int index) const;           ///< as it is at the playhead
    std::optional<Vec3> direction_at(const QPointF& at) const; ///< rig axes
    std::optional<QPointF> screen_of(const Vec3& rig_direction) const;
    Vec3 edge(const ShelterKey& oval, double phi) const;
    Part hit(const QPointF& at, int index) const;
    int under(const QPointF& at) const;
    void edit_oval(const QString& label, const ShelterKey& oval, const QString& key);

    Session& session_;
    PictureArea& picture_;
    bool drawing_ = false, growing_ = false;
    std::optional<ShelterKey> draft_;
    int selected_ = -1;
    Part grip_ = Part::none;
    Vec3 grip_at_{0, 0, 1};
    ShelterKey grip_oval_;
};

} // namespace porb::app
