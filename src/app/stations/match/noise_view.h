#pragma once

#include "app/session/background_job.h"
#include "app/session/session.h"
#include "stitch/source/noise_look.h"

#include <QImage>
#include <QTimer>
#include <QWidget>

namespace porb::app {

/// Pixels of the selected camera's own picture, as shot and without noise, beside each other: what is judged
/// while settings are dragged, and made in a moment, where whole pictures take seconds.
class NoiseView : public QWidget {
    Q_OBJECT
  public:
    explicit NoiseView(Session& session, QWidget* parent = nullptr);
    /// What is seen follows the session; asks for it anew when that changed.
    void refresh();
    bool is_settled() const { return !job_.is_running() && !wait_.isActive(); }
    const std::optional<NoiseLook>& shown() const { return shown_; }

  protected:
    void paintEvent(QPaintEvent*) override;
    void showEvent(QShowEvent*) override { refresh(); }
    void resizeEvent(QResizeEvent*) override { refresh(); }
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

  private:
    struct Asked {
        std::string shot, camera;
        MediaRef ref;
        Seconds time;
        Denoise denoise;
        int width, height; ///< of the whole picture
        Region part;
        bool operator==(const Asked&) const = default;
    };
    void ask();
    void move_by(QPointF screen_px);
    QRect half(bool right) const;
    std::optional<Asked> wanted() const;

    Session& session_;
    BackgroundJob job_;
    QTimer wait_;
    std::optional<Asked> asked_;
    std::optional<NoiseLook> shown_;
    std::string camera_; ///< whose that is
    QImage images_[2];
    QString trouble_;
    std::optional<QPointF> middle_; ///< of the part, on the picture; none: the picture's own
    QPointF dragged_from_;
    int larger_ = 1; ///< screen pixels for one of the source's
};

} // namespace porb::app
