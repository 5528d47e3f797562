#pragma once

#include "app/session/session.h"

#include <QCheckBox>
#include <QWidget>

class QComboBox;
class QLabel;
class QTableWidget;

namespace porb::app {

class NoiseView;
class NumberField;

/// The part of Match that says how sources are read: by which curve light lies in their pixels, and how far
/// noise is taken off.
class SourcesPart : public QWidget {
    Q_OBJECT
  public:
    explicit SourcesPart(Session& session, QWidget* parent = nullptr);
    void refresh();

  private:
    void choose_curve(const std::string& curve);
    void choose_curve_file();
    std::vector<std::size_t> chosen() const; ///< rows; all when none is selected

    Session& session_;
    QTableWidget* table_;
    QComboBox* curve_;
    QLabel* for_;
    QCheckBox* denoise_;
    NumberField *over_time_, *in_frame_;
    NoiseView* noise_view_;
};

} // namespace porb::app
