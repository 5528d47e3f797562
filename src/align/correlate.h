#pragma once

#include <optional>
#include <span>
#include <vector>

namespace porb {

/// A signal of one source: `rate_hz` samples a second from source time `start_s` on; several channels are
/// correlated together (their correlations add).
struct Signal1d {
    double rate_hz = 0, start_s = 0;
    std::vector<std::vector<float>> channels;
    double seconds() const { return channels.empty() ? 0 : double(channels[0].size()) / rate_hz; }
};

/// How the difference of two sources' offsets was found: an event at source time t of `b` is at t + lag of
/// `a`.
struct Lag {
    double lag_s = 0;    ///< at the middle of what was compared
    double middle_s = 0; ///< that middle, in source time of `b`
    double drift_ppm = 0, drift_doubt_ppm = 0;
    double height = 0;   ///< of the peak, in standard deviations of the correlation elsewhere
    double rival = 0;    ///< the next best peak's height over this one's, 0..1
    double agreeing = 0; ///< share of the windows that say the same
    std::vector<float> curve;
    double curve_first_s = 0, curve_step_s = 0;
};

struct LagOptions {
    double least_lag_s = -30, most_lag_s = 30;
    double window_s = 20; ///< of `b`, correlated one by one: a drifting clock smears longer ones
    int most_windows = 8;
    double whitening = 0.7; ///< exponent of the generalised cross-correlation's phase transform; 0: plain
    double low_hz = 0, high_hz = 0; ///< band that counts; high 0: all
    double curve_s = 0.05;          ///< of correlation kept on either side of the peak
};

/// Cross-correlation by FFT with the phase transform (Knapp and Carter 1976; its exponent after Salvati et
/// al. 2014), window by window; the windows' peaks are reconciled by a line in time, whose slope is the
/// drift. Nothing when there is too little signal to compare.
std::optional<Lag> find_lag(const Signal1d& a, const Signal1d& b, const LagOptions& options);

/// The lag at which two short signals of several channels are most alike: the coefficient of correlation of
/// what overlaps, all channels together (Lag::height; 1: the same up to a factor). For signals of few seconds
/// and few frequencies, whose correlation has no quiet background to stand out of. At least `least_overlap_s`
/// must overlap.
std::optional<Lag> correlate_normalised(const Signal1d& a, const Signal1d& b, const LagOptions& options,
                                        double least_overlap_s);
/// How sure a normalised correlation is: its peak must be high, and no other lag nearly as close.
double confidence_of_normalised(const Lag& lag);

/// 0..1: how sure one may be that a lag is real; below kLeastConfidence it is to be refused.
double confidence_of(const Lag& lag);
inline constexpr double kLeastConfidence = 0.5;

} // namespace porb
