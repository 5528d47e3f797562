#pragma once

#include "app/picture/pair_view.h"
#include "app/stations/points/residual_plot.h"

#include <QAbstractTableModel>

class QComboBox;
class QLineEdit;
class QSortFilterProxyModel;
class QTableView;

namespace porb::app {

/// The shot's points as rows: number, moment, cameras, residual, correlation, distance, state.
class PointTable : public QAbstractTableModel {
    Q_OBJECT
  public:
    using QAbstractTableModel::QAbstractTableModel;
    void show(const Shot* shot, const std::vector<PointFit>& fits);
    int rowCount(const QModelIndex& = {}) const override { return int(points_->size()); }
    int columnCount(const QModelIndex& = {}) const override { return 8; }
    QVariant data(const QModelIndex& index, int role) const override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;
    const ControlPoint& point(int row) const { return (*points_)[std::size_t(row)]; }

  private:
    Shared<ControlPoints> points_;
    std::vector<PointFit> fits_;
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
    ResidualPlot* plot_;
    int shown_ = -1; ///< state of the fits that the table shows
};

} // namespace porb::app
