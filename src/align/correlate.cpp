#include "align/correlate.h"

#include <fftw3.h>

#include <algorithm>
#include <cmath>
#include <complex>
#include <cstdint>
#include <memory>
#include <mutex>

namespace porb {

namespace {

constexpr double kDriftSearchPpm = 300; ///< clocks worse than this are broken
constexpr double kSilence = 1e-7;       ///< power below which a window says nothing

std::mutex& planner() {
    static std::mutex m; // FFTW's planner is the only part of it that is not thread-safe
    return m;
}

template <class T>
struct FftwFree {
    void operator()(T* p) const { fftwf_free(p); }
};
template <class T>
using Buffer = std::unique_ptr<T[], FftwFree<T>>;

std::size_t good_size(std::size_t least) {
    std::size_t n = 1;
    while (n < least) n *= 2;
    return n;
}

class Transform {
  public:
    explicit Transform(std::size_t n)
        : n_(n), time_(fftwf_alloc_real(n)), frequency_(fftwf_alloc_complex(n / 2 + 1)) {
        const std::lock_guard lock(planner());
        forward_ = fftwf_plan_dft_r2c_1d(int(n), time_.get(), frequency_.get(), FFTW_ESTIMATE);
        backward_ = fftwf_plan_dft_c2r_1d(int(n), frequency_.get(), time_.get(), FFTW_ESTIMATE);
    }
    ~Transform() {
        const std::lock_guard lock(planner());
        fftwf_destroy_plan(forward_);
        fftwf_destroy_plan(backward_);
    }
    Transform(const Transform&) = delete;
    Transform& operator=(const Transform&) = delete;

    std::vector<std::complex<float>> spectrum(std::span<const float> signal) {
        std::fill(time_.get(), time_.get() + n_, 0.0f);
        std::copy(signal.begin(), signal.end(), time_.get());
        fftwf_execute(forward_);
        std::vector<std::complex<float>> out(n_ / 2 + 1);
        for (std::size_t i = 0; i < out.size(); ++i) out[i] = {frequency_[i][0], frequency_[i][1]};
        return out;
    }
    std::vector<float> signal(std::span<const std::complex<float>> spectrum) {
        for (std::size_t i = 0; i < spectrum.size(); ++i)
            frequency_[i][0] = spectrum[i].real(), frequency_[i][1] = spectrum[i].imag();
        fftwf_execute(backward_);
        return {time_.get(), time_.get() + n_};
    }
    std::size_t size() const { return n_; }

  private:
    std::size_t n_;
    Buffer<float> time_;
    Buffer<fftwf_complex> frequency_;
    fftwf_plan forward_, backward_;
};

/// One window's correlation with the stretch of `a` it may lie in.
struct WindowLag {
    double at_s; ///< the window's middle, source time of b
    double lag_s;
    double height, rival;
    std::vector<float> values; ///< correlation by lag, normalised by its standard deviation
    double first_lag_s;
};

std::span<const float> part(const std::vector<float>& v, std::int64_t first, std::int64_t count) {
    const auto begin = std::clamp<std::int64_t>(first, 0, std::int64_t(v.size()));
    const auto end = std::clamp<std::int64_t>(first + count, begin, std::int64_t(v.size()));
    return {v.data() + begin, std::size_t(end - begin)};
}

double power_of(std::span<const float> v) {
    double mean = 0, sum = 0;
    for (const float f : v) mean += f;
    mean /= std::max<double>(1, double(v.size()));
    for (const float f : v) sum += (f - mean) * (f - mean);
    return v.empty() ? 0 : sum / double(v.size());
}

/// Vertex of the parabola through three neighbours, in samples from the middle one.
double vertex(double left, double middle, double right) {
    const double bend = left - 2 * middle + right;
    return bend < 0 ? std::clamp(0.5 * (left - right) / bend, -0.5, 0.5) : 0;
}

std::optional<WindowLag> window_lag(const Signal1d& a, const Signal1d& b, std::int64_t first,
                                    std::int64_t count, const LagOptions& o) {
    const double rate = b.rate_hz;
    const double begin_s = b.start_s + double(first) / rate;
    // Samples of a from which the window can have come.
    const auto a_first =
        std::max<std::int64_t>(0, std::int64_t(std::floor((begin_s + o.least_lag_s - a.start_s) * rate)));
    const auto a_last =
        std::min<std::int64_t>(std::int64_t(a.channels[0].size()),
                               std::int64_t(std::ceil((begin_s + o.most_lag_s - a.start_s) * rate)) + count);
    if (a_last - a_first < std::int64_t(rate / 4)) return std::nullopt;
    const std::size_t n = good_size(std::size_t(a_last - a_first + count));
    Transform fft(n);
    std::vector<float> sum(n, 0.0f);
    bool any = false;
    for (std::size_t c = 0; c < b.channels.size(); ++c) {
        const auto from = part(a.channels[c], a_first, a_last - a_first),
                   window = part(b.channels[c], first, count);
        if (power_of(from) < kSilence || power_of(window) < kSilence) continue;
        const auto sa = fft.spectrum(from);
        auto sb = fft.spectrum(window);
        const double hz = rate / double(n);
        const auto low = std::size_t(std::max(1.0, o.low_hz / hz));
        const auto high =
            o.high_hz > 0 ? std::min(sb.size() - 1, std::size_t(o.high_hz / hz)) : sb.size() - 1;
        double mean = 0;
        for (std::size_t i = low; i <= high; ++i) mean += std::abs(sa[i] * std::conj(sb[i]));
        const double floor = 1e-4 * mean / double(std::max<std::size_t>(1, high - low + 1));
        for (std::size_t i = 0; i < sb.size(); ++i) {
            const std::complex<float> cross = sa[i] * std::conj(sb[i]);
            const bool counts = i >= low && i <= high;
            sb[i] = counts ? cross * float(std::pow(double(std::abs(cross)) + floor + 1e-30, -o.whitening))
                           : 0.0f;
        }
        const auto correlation = fft.signal(sb);
        const double deviation = std::sqrt(std::max(power_of(correlation), 1e-30));
        for (std::size_t i = 0; i < n; ++i) sum[i] += correlation[i] / float(deviation);
        any = true;
    }
    if (!any) return std::nullopt;
    // Lags in order: sample k means that the window begins at a_first + k; negative k wrap round.
    const std::int64_t least = -(count - 1), most = a_last - a_first - 1;
    std::vector<float> values;
    for (std::int64_t k = least; k <= most; ++k)
        values.push_back(sum[std::size_t(k < 0 ? k + std::int64_t(n) : k)]);
    const double deviation = std::sqrt(std::max(power_of(values), 1e-30));
    for (float& v : values) v /= float(deviation);
    const double first_lag = a.start_s + double(a_first + least) / rate - begin_s;
    // The peak among the lags that are allowed; two places that overlap by less than an eighth are no
    // witnesses.
    std::size_t best = 0;
    const std::int64_t overlap = std::min<std::int64_t>(count, a_last - a_first) / 8;
    const auto allowed = [&](std::size_t i) {
        const std::int64_t k = least + std::int64_t(i);
        const double lag = first_lag + double(i) / rate;
        return lag >= o.least_lag_s && lag <= o.most_lag_s && k > least + overlap && k < most - overlap;
    };
    for (std::size_t i = 1; i + 1 < values.size(); ++i)
        if (allowed(i) && (best == 0 || values[i] > values[best])) best = i;
    if (best == 0) return std::nullopt;
    const auto apart = std::size_t(std::max(2.0, 0.03 * rate));
    float rival = 0;
    for (std::size_t i = 1; i + 1 < values.size(); ++i)
        if (allowed(i) && (i + apart < best || i > best + apart)) rival = std::max(rival, values[i]);
    const double fraction = vertex(values[best - 1], values[best], values[best + 1]);
    const double lag = first_lag + (double(best) + fraction) / rate;
    return WindowLag{begin_s + 0.5 * double(count) / rate,
                     lag,
                     values[best],
                     rival / std::max(values[best], 1e-6f),
                     std::move(values),
                     first_lag};
}

} // namespace

std::optional<Lag> find_lag(const Signal1d& a, const Signal1d& b, const LagOptions& o) {
    if (a.channels.empty() || b.channels.size() != a.channels.size() || a.rate_hz != b.rate_hz)
        return std::nullopt;
    const auto total = std::int64_t(b.channels[0].size());
    const auto count = std::min<std::int64_t>(total, std::int64_t(o.window_s * b.rate_hz));
    if (count < std::int64_t(b.rate_hz / 4)) return std::nullopt;
    const int windows = int(std::clamp<std::int64_t>(total / count, 1, o.most_windows));
    std::vector<WindowLag> found;
    for (int w = 0; w < windows; ++w) {
        const std::int64_t first = windows == 1 ? (total - count) / 2 : (total - count) * w / (windows - 1);
        if (auto lag = window_lag(a, b, first, count, o)) found.push_back(std::move(*lag));
    }
    if (found.empty()) return std::nullopt;
    // The line through two windows, or a level one through one, that most of the strength of all agrees with.
    const double tolerance = std::max(0.004, 1.5 / b.rate_hz);
    double best_score = -1, best_lag = 0, best_slope = 0, pivot = 0;
    const auto consider = [&](double at, double lag, double slope) {
        double score = 0;
        for (const auto& f : found)
            if (std::abs(lag + slope * (f.at_s - at) - f.lag_s) < tolerance) score += f.height;
        if (score > best_score) best_score = score, best_lag = lag, best_slope = slope, pivot = at;
    };
    for (std::size_t i = 0; i < found.size(); ++i) {
        consider(found[i].at_s, found[i].lag_s, 0);
        for (std::size_t j = i + 1; j < found.size(); ++j) {
            const double slope = (found[j].lag_s - found[i].lag_s) / (found[j].at_s - found[i].at_s);
            if (std::abs(slope) <= kDriftSearchPpm * 1e-6) consider(found[i].at_s, found[i].lag_s, slope);
        }
    }
    std::vector<const WindowLag*> inliers;
    for (const auto& f : found)
        if (std::abs(best_lag + best_slope * (f.at_s - pivot) - f.lag_s) < tolerance) inliers.push_back(&f);
    // A straight line by least squares through those, each by its height.
    double w = 0, wt = 0, wl = 0;
    for (const auto* f : inliers) w += f->height, wt += f->height * f->at_s, wl += f->height * f->lag_s;
    Lag out;
    out.middle_s = wt / w;
    out.lag_s = wl / w;
    double tt = 0, tl = 0;
    for (const auto* f : inliers) {
        const double t = f->at_s - out.middle_s;
        tt += f->height * t * t, tl += f->height * t * (f->lag_s - out.lag_s);
    }
    if (inliers.size() >= 2 && tt > 0) {
        const double slope = tl / tt;
        double squares = 0;
        for (const auto* f : inliers) {
            const double residual = f->lag_s - out.lag_s - slope * (f->at_s - out.middle_s);
            squares += f->height * residual * residual;
        }
        // Never thought better known than a tenth of a sample at each end allows.
        const double noise = std::max(std::sqrt(squares / w), 0.1 / b.rate_hz);
        out.drift_ppm = 1e6 * slope;
        out.drift_doubt_ppm = 1e6 * noise / std::sqrt(tt / w) / std::sqrt(double(inliers.size()));
    } else {
        out.drift_doubt_ppm = 1e6;
    }
    // Joint heights: windows that agree strengthen each other, those that do not weaken.
    const WindowLag& strongest = **std::max_element(
        inliers.begin(), inliers.end(), [](const auto* x, const auto* y) { return x->height < y->height; });
    out.agreeing = double(inliers.size()) / double(found.size());
    double squares = 0;
    for (const auto* f : inliers) squares += f->height * f->height;
    out.height = std::sqrt(squares / double(found.size())) *
                 (found.size() > 1 ? std::sqrt(double(inliers.size())) : 1);
    out.rival = inliers.size() > 1 ? strongest.rival / std::sqrt(double(inliers.size())) : strongest.rival;
    const double step = 1 / b.rate_hz;
    const auto centre = std::int64_t(std::llround((strongest.lag_s - strongest.first_lag_s) / step));
    const auto half = std::int64_t(std::llround(o.curve_s / step));
    const std::int64_t stride = std::max<std::int64_t>(1, 2 * half / 400);
    out.curve_first_s = strongest.first_lag_s + double(centre - half) * step - strongest.lag_s + out.lag_s;
    out.curve_step_s = step * double(stride);
    for (std::int64_t i = centre - half; i <= centre + half; i += stride) {
        float top = 0; // the highest of the samples one point stands for
        for (std::int64_t j = i; j < i + stride; ++j)
            if (j >= 0 && j < std::int64_t(strongest.values.size()))
                top = std::max(top, strongest.values[std::size_t(j)]);
        out.curve.push_back(float(top / std::max(strongest.height, 1e-9)));
    }
    return out;
}

double confidence_of(const Lag& lag) {
    // Noise alone reaches about 5.5 deviations somewhere among a million lags, and then has close rivals.
    const double by_height = 1 - std::exp(-std::max(0.0, lag.height - 6.5) / 4);
    const double by_rival = std::clamp((0.95 - lag.rival) / 0.35, 0.0, 1.0);
    return std::min(0.999, by_height * std::sqrt(by_rival) * std::sqrt(lag.agreeing));
}

std::optional<Lag> correlate_normalised(const Signal1d& a, const Signal1d& b, const LagOptions& o,
                                        double least_overlap_s) {
    if (a.channels.empty() || a.channels.size() != b.channels.size() || a.rate_hz != b.rate_hz)
        return std::nullopt;
    const double rate = a.rate_hz;
    const auto na = std::int64_t(a.channels[0].size()), nb = std::int64_t(b.channels[0].size());
    const auto least = std::int64_t(least_overlap_s * rate);
    // Sample i of b is compared with sample i + k of a: lag = k / rate + (a.start - b.start).
    const double start = a.start_s - b.start_s;
    const auto first =
        std::max<std::int64_t>(-nb + least, std::int64_t(std::floor((o.least_lag_s - start) * rate)));
    const auto last =
        std::min<std::int64_t>(na - least, std::int64_t(std::ceil((o.most_lag_s - start) * rate)));
    if (last - first < 3) return std::nullopt;
    std::vector<float> correlation;
    for (std::int64_t k = first; k <= last; ++k) {
        const std::int64_t from = std::max<std::int64_t>(0, -k), to = std::min(nb, na - k);
        double ab = 0, aa = 0, bb = 0;
        for (std::size_t c = 0; c < a.channels.size(); ++c) {
            const float *x = a.channels[c].data() + k, *y = b.channels[c].data();
            float sab = 0, saa = 0, sbb = 0;
            for (std::int64_t i = from; i < to; ++i)
                sab += x[i] * y[i], saa += x[i] * x[i], sbb += y[i] * y[i];
            ab += double(sab), aa += double(saa), bb += double(sbb);
        }
        correlation.push_back(float(aa > 0 && bb > 0 ? ab / std::sqrt(aa * bb) : 0));
    }
    std::size_t best = 1;
    for (std::size_t i = 1; i + 1 < correlation.size(); ++i)
        if (correlation[i] > correlation[best]) best = i;
    if (!(correlation[best] > 0)) return std::nullopt;
    Lag out;
    out.height = double(correlation[best]);
    const auto apart = std::size_t(0.12 * rate);
    for (std::size_t i = 1; i + 1 < correlation.size(); ++i)
        if ((i + apart < best || i > best + apart) && correlation[i] >= correlation[i - 1] &&
            correlation[i] >= correlation[i + 1])
            out.rival = std::max(out.rival, double(correlation[i]) / out.height);
    const double fraction = vertex(correlation[best - 1], correlation[best], correlation[best + 1]);
    out.lag_s = start + (double(first) + double(best) + fraction) / rate;
    out.middle_s = b.start_s + b.seconds() / 2;
    out.drift_doubt_ppm = 1e6;
    out.agreeing = 1;
    const auto half = std::int64_t(o.curve_s * rate);
    out.curve_step_s = 1 / rate;
    out.curve_first_s = out.lag_s - double(half) / rate;
    for (std::int64_t i = std::int64_t(best) - half; i <= std::int64_t(best) + half; ++i)
        out.curve.push_back(i >= 0 && i < std::int64_t(correlation.size())
                                ? float(std::max(0.0, double(correlation[std::size_t(i)]) / out.height))
                                : 0.0f);
    return out;
}

double confidence_of_normalised(const Lag& lag) {
    return std::min(0.99, std::clamp((lag.height - 0.45) / 0.4, 0.0, 1.0) *
                              std::clamp((1.02 - lag.rival) / 0.15, 0.0, 1.0));
}

} // namespace porb
