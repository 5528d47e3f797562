#pragma once

#include "app/session/session.h"

#include <QAbstractTableModel>
#include <QTableView>

namespace porb::app {

/// The rig as a table: a row for each value with its unit, a column for each camera.
class RigModel : public QAbstractTableModel {
    Q_OBJECT
  public:
    explicit RigModel(Session& session, QObject* parent = nullptr);
    int rowCount(const QModelIndex& = {}) const override;
    int columnCount(const QModelIndex& = {}) const override;
    QVariant data(const QModelIndex& index, int role) const override;
    bool setData(const QModelIndex& index, const QVariant& value, int role) override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;
    Qt::ItemFlags flags(const QModelIndex& index) const override;
    /// Adds `steps` of the row's own step, as part of a drag.
    void nudge(const QModelIndex& index, double from, double steps);
    double value(const QModelIndex& index) const;
    bool is_number(const QModelIndex& index) const;
    /// Edits also go to these columns of the same row, and to all alike cameras when `alike` is on.
    void set_reach(std::vector<int> columns, bool alike) {
        also_columns_ = std::move(columns), alike_ = alike;
    }
    /// Where the value at a place comes from, and what the profile had, in a sentence.
    QString origin_words(const QModelIndex& index) const;

  private:
    bool set_value(const QModelIndex& index, double value, const QString& merge_key);
    /// The cameras an edit at `index` is for: its own, those selected in its row, and all alike when that is
    /// on.
    std::vector<std::string> targets(const QModelIndex& index) const;
    std::vector<int> also_columns_;
    bool alike_ = false;
    Session& session_;
    int columns_ = 0;
};

/// The table's view: numbers are also dragged sideways.
class RigTable : public QTableView {
    Q_OBJECT
  public:
    RigTable(RigModel& model, Session& session, QWidget* parent = nullptr);

  protected:
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;

  private:
    RigModel& model_;
    Session& session_;
    QPersistentModelIndex dragged_;
    int drag_x_ = 0;
    double drag_from_ = 0;
    bool dragging_ = false;
};

} // namespace porb::app
