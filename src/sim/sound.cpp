#include "sim/simulate.h"

#include "base/angle.h"
#include "sim/patterns.h"

namespace porb::sim {

namespace {
/// White noise in [-1, 1] that depends on the sample's number alone, so every microphone hears the same
/// voice.
float white(std::int64_t sample, int salt) {
    return 2 * hash01(int(sample & 0x7fffffff), salt, 5) - 1;
}

/// A two-pole resonance (one formant of a voice).
struct Resonance {
    double a1, a2, gain, y1 = 0, y2 = 0;
    Resonance(double hz, double width_hz, int rate) {
        const double r = std::exp(-kPi * width_hz / rate);
        a1 = 2 * r * std::cos(2 * kPi * hz / rate);
        a2 = -r * r;
        gain = (1 - r) * 2;
    }
    double operator()(double x) {
        const double y = gain * x + a1 * y1 + a2 * y2;
        y2 = y1;
        y1 = y;
        return y;
    }
};

constexpr double kClapAt = 1.0;
} // namespace

std::vector<float> hall_sound(double from_s, std::int64_t samples, int rate, const Microphone& mic) {
    if (mic.speed != 1) {
        // What a fast or slow clock writes down is the same sound at other moments: read between the samples.
        Microphone even = mic;
        even.speed = 1;
        const auto first = std::int64_t(std::floor(from_s * rate));
        const std::vector<float> true_sound =
            hall_sound(double(first) / rate, std::int64_t(double(samples) * mic.speed) + 4, rate, even);
        std::vector<float> out(static_cast<std::size_t>(samples));
        for (std::size_t i = 0; i < out.size(); ++i) {
            const double at = from_s * rate - double(first) + double(i) * mic.speed;
            const auto n = std::size_t(at);
            const float f = float(at - double(n));
            out[i] = true_sound[n] * (1 - f) + true_sound[n + 1] * f;
        }
        return out;
    }
    std::vector<float> out(static_cast<std::size_t>(samples));
    const auto first = std::int64_t(std::llround(from_s * rate));
    const std::int64_t warm_up = rate / 5;
    Resonance low(520, 90, rate), mid(1480, 140, rate), high(2500, 200, rate);
    for (std::int64_t i = -warm_up; i < samples; ++i) {
        const std::int64_t n = first + i;
        const double t = double(n) / rate;
        const int syllable = int(std::floor(t * 4.3));
        const double within = t * 4.3 - syllable;
        const double loud = hash01(syllable, 1, 9) < 0.25f
                                ? 0
                                : (0.3 + 0.7 * hash01(syllable, 2, 9)) * std::pow(std::sin(kPi * within), 2);
        const double pitch = 105 + 50 * hash01(syllable, 3, 9);
        const double buzz = std::fmod(t * pitch, 1.0) < 0.12 ? 1 : -0.13;
        const double source = loud * (0.8 * buzz + 0.35 * double(white(n, 1)));
        const double voice = low(source) + 0.6 * mid(source) + 0.35 * high(source);
        if (i < 0) continue;
        double clap = 0;
        if (t >= kClapAt && t < kClapAt + 0.25)
            clap = std::exp(-(t - kClapAt) * 45) * double(white(n, 2)) * 0.8;
        const double own = double(white(n, 100 + int(mic.seed)));
        out[static_cast<std::size_t>(i)] = float(std::clamp(1.6 * voice + clap + 0.004 * own, -1.0, 1.0));
    }
    if (mic.own_tone) {
        const double hz = 350 + 320 * double(mic.seed % 7);
        Resonance body(hz, 0.7 * hz, rate);
        double dull = 0;
        const double share = 0.25 + 0.1 * double(mic.seed % 5);
        for (float& v : out) {
            dull += share * (double(v) - dull);
            v = float(dull + 0.5 * body(v));
        }
    }
    if (mic.noise_below_db > 0) {
        double power = 0;
        for (const float v : out) power += double(v) * double(v);
        // White noise in [-1, 1] has a third of unit power.
        const double level = std::sqrt(3 * power / double(std::max<std::size_t>(out.size(), 1))) *
                             std::pow(10, -mic.noise_below_db / 20);
        for (std::size_t i = 0; i < out.size(); ++i)
            out[i] += float(level * double(white(std::int64_t(i) + first, 3000 + int(mic.seed))));
    }
    return out;
}

} // namespace porb::sim
