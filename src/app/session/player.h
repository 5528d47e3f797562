#pragma once

#include "app/session/session.h"

#include <QElapsedTimer>

class QAudioSink;

namespace porb::app {

/// Moves the playhead through the used part. In real time: by the clock of the shot's sound, where the
/// machine can play it; pictures that come too late are left out, time is never stretched. Every frame: one
/// after the other, silently, as each was shown.
class Player : public QObject {
    Q_OBJECT
  public:
    explicit Player(Session& session, QObject* parent = nullptr);
    ~Player() override;
    bool is_playing() const { return timer_.isActive(); }
    void play(bool on);
    void set_every_frame(bool on);
    bool plays_every_frame() const { return every_frame_; }
    /// The playhead's picture is on show.
    void picture_shown();

  signals:
    void playing_changed(bool playing);

  private:
    class SoundSource;
    void tick();
    void next_frame();
    Seconds now() const;
    void start_sound();
    void stop_sound();

    Session& session_;
    QTimer timer_;
    QElapsedTimer clock_;
    bool every_frame_ = false;
    Seconds from_{0};
    std::unique_ptr<SoundSource> source_;
    std::unique_ptr<QAudioSink> sink_;
};

} // namespace porb::app
