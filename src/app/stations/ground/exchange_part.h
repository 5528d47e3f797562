#pragma once

#include "app/stations/ground/ground_jobs.h"
#include "app/stations/ground/ground_part.h"

#include <QFileSystemWatcher>
#include <QTimer>

class QCheckBox;
class QComboBox;
class QLabel;
class QListWidget;
class QPushButton;

namespace porb::app {

/// The chosen patch out to a paint program and back, and to other shots.
class ExchangePart : public GroundPart {
    Q_OBJECT
  public:
    ExchangePart(Session& session, PatchChoice& choice, GroundJobs& jobs, QWidget* parent = nullptr);
    /// Writes it, and takes it back whenever that file is saved.
    void send(const QString& file);
    void take_back(const QString& file);
    void copy_to(const std::vector<std::string>& shots, bool with_mask);
    const QString& watched() const { return file_; }
    void refresh() override;

  private:
    void choose_file();
    void choose_picture();
    void save_sphere();
    void look();
    GroundJobs& jobs_;
    QString file_;
    std::string patch_, shot_; ///< whose it is
    QFileSystemWatcher watcher_;
    QTimer settle_;
    std::uint64_t seen_ = 0; ///< of the file as it was taken or written last
    QLabel* words_;
    QPushButton *send_, *back_, *sphere_, *picture_, *copy_;
    QListWidget* shots_;
    QCheckBox* with_mask_;
};

} // namespace porb::app
