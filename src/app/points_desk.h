#pragma once

#include "app/background_job.h"
#include "app/picture_service.h"
#include "app/session.h"
#include "solve/calibrate.h"

#include <QAbstractTableModel>
#include <QWidget>

class QComboBox;
class QLineEdit;
class QSortFilterProxyModel;
class QTableView;

namespace porb::app {

/// The shot's points as rows: number, moment, cameras, miss, likeness, distance, state.
class PointTable : public QAbstractTableModel {
    Q_OBJECT
  public:
    using QAbstractTableModel::QAbstractTableModel;
    void show(const Shot* shot);
    int rowCount(const QModelIndex& = {}) const override { return int(points_->size()); }
    int columnCount(const QModelIndex& = {}) const override { return 8; }
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;
    const ControlPoint& point(int row) const { return (*points_)[std::size_t(row)]; }
    const std::vector<PointFit>& fits() const { return fits_; }
    const Shared<ControlPoints>& points() const { return points_; }

  private:
    Shared<ControlPoints> points_;
    Rig rig_;
    std::vector<PointFit> fits_;
};

/// Two cameras' pictures side by side, magnified about a point's two places. A click in one proposes the place in the
/// other, along the line where it must lie; drag a place to move it, arrow keys nudge by 0.1 px.
class PairView : public QWidget {
    Q_OBJECT
  public:
    PairView(Session& session, QWidget* parent = nullptr);
    void show_cameras(const std::string& a, const std::string& b);
    void show_point(int id); ///< 0: none
    int point() const { return point_; }
    QPointF widget_place(int side, const Vec2& px) const;

  signals:
    void chosen(int id);
    void cameras_changed();

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

  private:
    void ask();
    QRectF half(int side) const;
    Vec2 px_at(int side, const QPointF& at) const;
    const ControlPoint* found() const;
    void move_place(int side, const Vec2& px, const QString& key);
    void propose(int side, const Vec2& px);

    Session& session_;
    PictureService service_;
    BackgroundJob job_;
    std::string cameras_[2];
    QImage images_[2];
    double shrink_[2] = {1, 1}; ///< pixels of the source in one of the picture that was read
    Vec2 centre_[2] = {Vec2(0, 0), Vec2(0, 0)};
    double zoom_ = 0; ///< widget pixels a source pixel; 0: the whole picture
    int point_ = 0, held_ = -1, side_ = 1;
    QPointF pressed_;
    bool moved_ = false;
    quint64 number_ = 0;
};

/// Plots of the misses: how many of each size, and against the angle from the lens's axis, where a wrong lens model
/// shows.
class MissPlot : public QWidget {
    Q_OBJECT
  public:
    using QWidget::QWidget;
    void show(const Shot* shot, const std::vector<PointFit>& fits);

  protected:
    void paintEvent(QPaintEvent*) override;

  private:
    std::vector<double> misses_;
    std::vector<std::pair<double, double>> by_angle_; ///< degrees, radial miss in px
    std::vector<PairFigure> pairs_;
    std::vector<std::string> cameras_;
};

/// The desk of the Points station: pair above, table and plots below.
class PointsDesk : public QWidget {
    Q_OBJECT
  public:
    explicit PointsDesk(Session& session, QWidget* parent = nullptr);
    PairView& pair() { return *pair_; }
    QTableView& table() { return *table_; }

  protected:
    void showEvent(QShowEvent*) override;

  private:
    void refresh();
    void drop_selected(bool drop);
    void remove_selected();
    std::vector<int> selected_ids() const;
    Session& session_;
    PointTable* model_;
    QSortFilterProxyModel* sorted_;
    QTableView* table_;
    QLineEdit* filter_;
    QComboBox *a_, *b_;
    PairView* pair_;
    MissPlot* plot_;
};

} // namespace porb::app
