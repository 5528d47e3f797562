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

std::vector<float> hall_sound(double from_s, std::int64_t samples, int rate, unsigned microphone_seed) {
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
        const double hiss = 0.004 * double(white(n, 100 + int(microphone_seed)));
        out[static_cast<std::size_t>(i)] = float(std::clamp(1.6 * voice + clap + hiss, -1.0, 1.0));
    }
    return out;
}

} // namespace porb::sim
