#pragma once

#include "app/picture/timeline.h"
#include "app/session/background_job.h"
#include "app/session/session.h"
#include "solve/bundle/point_fit.h"

#include <QWidget>

namespace porb::app {

/// The residual lane under the ruler: how well the rig closes at moments all over the shot, measured in the
/// background and kept for the rigs that were measured last, so that a moment that drifts is seen.
class ResidualLane : public QWidget {
    Q_OBJECT
  public:
    ResidualLane(Session& session, TimeRuler& ruler, QWidget* parent = nullptr);
    int measured() const;
    QSize sizeHint() const override { return {200, 30}; }

  protected:
    void paintEvent(QPaintEvent*) override;
    void showEvent(QShowEvent*) override;
    bool event(QEvent*) override;

  private:
    struct Lane {
        Rig rig;
        std::string shot;
        std::map<Seconds, std::optional<Rms>> at; ///< nothing: too little to compare
    };
    Lane* lane();
    void changed();
    void measure();

    Session& session_;
    TimeRuler& ruler_;
    std::shared_ptr<MediaLibrary> library_; ///< of its own: playing must not wait for it
    std::vector<Lane> lanes_;
    BackgroundJob job_;
    QTimer wait_;
};

} // namespace porb::app
