#pragma once

#include "app/session/session.h"
#include "project/seams.h"

#include <QWidget>

class QComboBox;
class QPushButton;

namespace porb::app {

class MeasureTool;
class NumberField;

/// How far away what lies in a shape or a shelter is told to be: the rule, and its metres or its plane.
class AreaDistanceRow : public QWidget {
    Q_OBJECT
  public:
    /// `name` is the row's object name and the beginning of its fields'.
    AreaDistanceRow(const QString& name, Session& session, MeasureTool& tool, QWidget* parent = nullptr);
    void show_distance(const AreaDistance& distance);

  signals:
    /// `key` merges what is dragged or typed into one step.
    void edited(const porb::AreaDistance& distance, const QString& key);

  private:
    void pick_plane();

    Session& session_;
    MeasureTool& tool_;
    AreaDistance shown_;
    QComboBox* rule_;
    NumberField* metres_;
    QPushButton* plane_;
};

} // namespace porb::app
