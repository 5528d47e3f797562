#pragma once

#include "app/session/background_job.h"
#include "app/session/session.h"

#include <QElapsedTimer>
#include <QWidget>

class QProgressBar;

namespace porb::app {

/// A row that is seen while a job runs: what it does, how far it is and how long it will still take, and
/// Stop. When the job was stopped or failed it says so, and what stays as it was.
class JobBar : public QWidget {
    Q_OBJECT
  public:
    /// `name` begins the names of its parts; `unharmed` is what a stop leaves as it was ("the rig").
    JobBar(BackgroundJob& job, Session& session, const QString& name, const QString& unharmed,
           QWidget* parent = nullptr);

  private:
    void show_progress(double share, const QString& doing);
    QProgressBar* bar_;
    QElapsedTimer clock_;
};

} // namespace porb::app
