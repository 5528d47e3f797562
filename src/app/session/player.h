#pragma once

#include "app/session/session.h"

#include <QElapsedTimer>

class QAudioSink;

namespace porb::app {

/// Moves the playhead through the used part in real time, with the shot's sound where the machine can play
/// it. Pictures that come too late are left out; time is never stretched.
class Player : public QObject {
    Q_OBJECT
  public:
    explicit Player(Session& session, QObject* parent = nullptr);
    ~Player() override;
    bool is_playing() const { return timer_.isActive(); }
    void play(bool on);

  signals:
    void playing_changed(bool playing);

  private:
    class SoundSource;
    void tick();
    void start_sound();
    void stop_sound();

    Session& session_;
    QTimer timer_;
    QElapsedTimer clock_;
    Seconds from_{0};
    std::unique_ptr<SoundSource> source_;
    std::unique_ptr<QAudioSink> sink_;
};

} // namespace porb::app
