#pragma once

#include "app/picture/picture_area.h"
#include "app/picture/picture_tool.h"
#include "app/session/background_job.h"
#include "seams/crossings.h"

class QLabel;
class QPushButton;
class QTableWidget;

namespace porb::app {

/// Draws the crossings of the present moment over the picture; a click chooses one.
class CrossingTool : public QObject, public PictureTool {
    Q_OBJECT
  public:
    CrossingTool(Session& session, PictureArea& picture, QObject* parent = nullptr);
    int selected() const { return selected_; } ///< of the shot's crossings; -1: none
    void select(int index);

    bool press(QMouseEvent* event) override;
    bool move(QMouseEvent*) override { return false; }
    bool release(QMouseEvent*) override { return false; }
    bool double_click(QMouseEvent*) override { return false; }
    bool key(QKeyEvent*) override { return false; }
    void paint(QPainter& painter) override;
    QString words() const override;

  signals:
    void selection_changed();

  private:
    std::optional<ShelterKey> oval(int index) const; ///< where it is at the playhead, while it lasts
    Session& session_;
    PictureArea& picture_;
    int selected_ = -1;
};

/// The part of Seams that looks for crossings, lists them and closes them.
class CrossingsPart : public QWidget {
    Q_OBJECT
  public:
    CrossingsPart(Session& session, PictureArea& picture, QWidget* parent = nullptr);
    CrossingTool& tool() { return tool_; }
    BackgroundJob& job() { return job_; }
    void refresh();
    void scan();
    void close_open(bool chosen_only);
    void measure();
    /// To the next open one after the playhead, or before it.
    void go_to_open(int direction);

  private:
    using Work = std::function<Shot(const Project&, const Shot&, Composer&, const BackgroundJob::Tell&,
                                    const Cancel&)>;
    void run(const QString& label, const Work& work);
    void go_to(int index);
    void look_at_chosen(); ///< in window view
    void make_pictures();
    const CrossingScan* found() const;

    Session& session_;
    PictureArea& picture_;
    CrossingTool tool_;
    BackgroundJob job_, pictures_;
    Shared<CrossingScan> pictured_; ///< whose pictures are in the table
    std::vector<QImage> small_;
    QTableWidget* table_;
    QLabel *figure_, *told_, *says_;
    QPushButton *scan_, *close_all_, *close_one_, *leave_, *measure_;
};

} // namespace porb::app
