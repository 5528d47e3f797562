#pragma once

#include "app/panel.h"
#include "app/session.h"

#include <QAbstractTableModel>

namespace porb::app {

class NumberField;

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

  private:
    bool set_value(const QModelIndex& index, double value, const QString& merge_key);
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

/// Rig: lenses and poses, the image circle, the agree distance; rig files in and out.
class RigPanel : public Panel {
    Q_OBJECT
  public:
    explicit RigPanel(Session& session, QWidget* parent = nullptr);
    void turn_selected_back();
    void load_rig_file();
    void save_rig_file();

  private:
    void refresh() override;
    Session& session_;
    RigModel model_;
    RigTable* table_;
    QLabel* name_;
    NumberField* agree_;
};

} // namespace porb::app
