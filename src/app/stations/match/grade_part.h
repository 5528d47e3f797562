#pragma once

#include "app/session/session.h"

#include <QCheckBox>
#include <QWidget>

class QLabel;
class QPushButton;

namespace porb::app {

class NumberField;

/// The part of Match that says how the shot's finished picture is to look.
class GradePart : public QWidget {
    Q_OBJECT
  public:
    explicit GradePart(Session& session, QWidget* parent = nullptr);
    void refresh();
    void toggle_bypass();

  private:
    void set(const QString& label, const std::function<void(Grade&)>& work, const QString& key = {});
    void read_file();
    void write_file();
    void choose_lut();

    Session& session_;
    QCheckBox* on_;
    NumberField *exposure_, *warmth_, *tint_, *contrast_, *pivot_, *saturation_, *lut_strength_;
    NumberField *lift_[3], *gamma_[3], *gain_[3];
    QLabel* lut_;
    QPushButton *take_lut_, *drop_lut_, *copy_, *reset_;
};

} // namespace porb::app
