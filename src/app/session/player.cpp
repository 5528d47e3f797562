#include "app/session/player.h"

#include "media/sound.h"
#include "project/span.h"

#include <QAudioDevice>
#include <QAudioSink>
#include <QIODevice>
#include <QMediaDevices>

namespace porb::app {

namespace {
constexpr int kRate = 48000, kChannels = 2;
}

/// The sound of one source from a moment on, as the audio device asks for it.
class Player::SoundSource : public QIODevice {
  public:
    SoundSource(const std::filesystem::path& path, Seconds from)
        : reader_(path, kRate, kChannels), next_((from * Rational(kRate)).round()) {
        open(QIODevice::ReadOnly);
    }
    bool isSequential() const override { return true; }

  protected:
    qint64 readData(char* data, qint64 most) override {
        const qint64 frames = most / qint64(sizeof(float) * kChannels);
        if (frames <= 0) return 0;
        std::vector<float> samples;
        try { // on the audio device's thread, where nobody would catch it
            samples = reader_.read(next_, frames);
        } catch (const std::exception&) {
            samples.assign(std::size_t(frames * kChannels), 0.f); // a damaged place is silent
        }
        next_ += frames;
        std::memcpy(data, samples.data(), samples.size() * sizeof(float));
        return qint64(samples.size() * sizeof(float));
    }
    qint64 writeData(const char*, qint64) override { return -1; }

  private:
    SoundReader reader_;
    std::int64_t next_;
};

Player::Player(Session& session, QObject* parent) : QObject(parent), session_(session) {
    timer_.setTimerType(Qt::PreciseTimer);
    connect(&timer_, &QTimer::timeout, this, &Player::tick);
    connect(&session_, &Session::shot_changed, this, [this] {
        if (!is_playing()) return; // another sound, and another clock
        play(false);
        play(true);
    });
}
Player::~Player() = default;

void Player::play(bool on) {
    if (on == is_playing()) return;
    if (!on) {
        timer_.stop();
        stop_sound();
        emit playing_changed(false);
        return;
    }
    const Shot* shot = session_.shot();
    if (!shot || session_.length() <= Seconds(0)) {
        emit playing_changed(false);
        return;
    }
    const Span span = used_span(*session_.project(), *shot, *session_.library());
    const Seconds frame = Rational(1) / shot->timing.rate;
    if (session_.playhead() < span.in || session_.playhead() + frame >= span.out)
        session_.set_playhead(span.in);
    from_ = session_.playhead();
    clock_.start();
    if (!every_frame_) start_sound();
    timer_.start(std::max(5, int(1000 / shot->timing.rate.to_double() / 2)));
    emit playing_changed(true);
}

void Player::set_every_frame(bool on) {
    if (every_frame_ == on) return;
    const bool plays = is_playing();
    if (plays) play(false);
    every_frame_ = on;
    if (plays) play(true);
}

void Player::picture_shown() {
    if (is_playing() && every_frame_) next_frame();
}

void Player::next_frame() {
    const Shot* shot = session_.shot();
    if (!shot) return play(false);
    const Span span = used_span(*session_.project(), *shot, *session_.library());
    const FrameRate rate = shot->timing.rate;
    const std::int64_t next = frame_index(session_.playhead(), rate) + 1;
    clock_.restart();
    session_.set_playhead(next > frame_before(span.out, rate) ? span.in : frame_time(next, rate));
}

/// Since playing began: what was heard, where something is; a device that tells nothing yet, or stopped,
/// leaves it to the clock.
Seconds Player::now() const {
    const Seconds clock = Rational(clock_.elapsed(), 1000);
    if (!sink_ || sink_->state() != QAudio::ActiveState) return clock;
    const Seconds heard = Rational(sink_->processedUSecs(), 1'000'000);
    // Devices count in blocks: the clock fills the time between, within a tenth of a second of what is heard.
    constexpr int kBlock_ms = 100;
    const Seconds apart = clock - heard, most = Rational(kBlock_ms, 1000);
    return apart > most || apart < Seconds(0) - most ? heard : clock;
}

void Player::tick() {
    const Shot* shot = session_.shot();
    if (!shot) return play(false);
    if (every_frame_) {
        // A picture that is not to be made at all (a view without one) must not hold it up for ever.
        constexpr int kLongest_ms = 2000;
        if (clock_.elapsed() > kLongest_ms) next_frame();
        return;
    }
    const Span span = used_span(*session_.project(), *shot, *session_.library());
    const Seconds now = from_ + this->now();
    if (now >= span.out) { // round again
        from_ = span.in;
        clock_.restart();
        stop_sound();
        start_sound();
        session_.set_playhead(span.in);
        return;
    }
    // A moment just before the out point already belongs to the frame at out, which is not part of the shot.
    const std::int64_t last = frame_before(span.out, shot->timing.rate);
    session_.set_playhead(frame_time(std::min(frame_index(now, shot->timing.rate), last), shot->timing.rate));
}

void Player::start_sound() {
    const Shot* shot = session_.shot();
    const Media* media = shot ? find_media(*session_.project(), shot->timing.sound) : nullptr;
    const QAudioDevice device = QMediaDevices::defaultAudioOutput();
    if (!media || device.isNull()) return;
    QAudioFormat format;
    format.setSampleRate(kRate);
    format.setChannelCount(kChannels);
    format.setSampleFormat(QAudioFormat::Float);
    if (!device.isFormatSupported(format)) return;
    try {
        source_ = std::make_unique<SoundSource>(media->ref.path, sound_time(*shot, from_));
        sink_ = std::make_unique<QAudioSink>(device, format);
        sink_->start(source_.get());
    } catch (const std::exception&) {
        source_.reset(); // a source without sound plays silently
    }
}

void Player::stop_sound() {
    if (sink_) sink_->stop();
    sink_.reset();
    source_.reset();
}

} // namespace porb::app
