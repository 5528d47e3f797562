#pragma once

#include "optics/profiles.h"
#include "project/project.h"

#include <QDialog>

class QCheckBox;
class QLabel;
class QLineEdit;
class QListWidget;
class QPushButton;

namespace porb::app {

/// The library of profiles, searched by words; those that fit the shot first.
class ProfileChooser : public QDialog {
    Q_OBJECT
  public:
    explicit ProfileChooser(const Shot& shot, QWidget* parent = nullptr);
    std::optional<Profile> chosen() const;

  private:
    void refresh();
    std::vector<Profile> all_, fitting_, shown_;
    QLineEdit* words_;
    QCheckBox* only_fitting_;
    QListWidget* list_;
    QLabel* facts_;
    QPushButton* use_;
};

/// What a rig is and what it would become, camera by camera, before it is taken.
class RigComparison : public QDialog {
    Q_OBJECT
  public:
    RigComparison(const Rig& before, const Rig& after, const QString& title, QWidget* parent = nullptr);
    void add_remark(const QString& text);

  private:
    QLabel* remarks_;
};

} // namespace porb::app
