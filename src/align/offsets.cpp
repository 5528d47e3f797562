#include "align/offsets.h"

#include "align/correlate.h"
#include "align/motion_signal.h"
#include "align/timecode.h"
#include "base/error.h"
#include "base/parallel.h"
#include "media/sound.h"
#include "project/origins.h"

#include <fmt/format.h>

#include <map>
#include <mutex>

namespace porb {

namespace {

constexpr int kSoundHz = 8000;     ///< speech and claps lie below half of it
constexpr double kMotionHz = 240;  ///< eight times the usual frame rate
constexpr double kMostSound = 900; ///< seconds of each source that are listened to at most
constexpr double kMostMotion = 30; ///< and looked at
constexpr double kLeastDriftPpm = 1.5, kDriftSigmas = 3;

/// One source with all cameras that it feeds.
struct Source {
    std::string media;
    MediaRef ref;
    MediaInfo info;
    std::vector<std::size_t> cameras; ///< into the shot's
    Seconds first, last;              ///< source time that is compared
};

std::vector<Source> sources_of(const Project& project, const Shot& shot, MediaLibrary& library,
                               const AlignOptions& o, double most_seconds) {
    std::vector<Source> sources;
    for (std::size_t i = 0; i < shot.cameras.size(); ++i) {
        const ShotCamera& use = shot.cameras[i];
        const Media* media = find_media(project, use.media);
        if (!media || media->ref.kind == MediaKind::still) continue;
        const auto same = std::find_if(sources.begin(), sources.end(),
                                       [&](const Source& s) { return s.media == use.media; });
        if (same != sources.end()) {
            same->cameras.push_back(i);
            continue;
        }
        Source s{media->id, media->ref, library.info(media->ref), {i}, Seconds(0), Seconds(0)};
        s.last = s.info.duration;
        const Seconds margin = Rational::from_double(o.most_offset_s);
        if (o.from)
            s.first = std::clamp(source_time(use, *o.from) - (i ? margin : Seconds(0)), Seconds(0), s.last);
        if (o.to) s.last = std::clamp(source_time(use, *o.to) + (i ? margin : Seconds(0)), s.first, s.last);
        s.last = std::min(s.last, s.first + Rational::from_double(most_seconds));
        sources.push_back(std::move(s));
    }
    return sources;
}

/// Everything that two sources are compared by; `signals` in the order they are tried.
struct Heard {
    std::vector<std::optional<Signal1d>> signals;
    std::string why_not, mend;
};

Heard listen(const Source& s, const Cancel& cancel) {
    if (!s.info.sound)
        return {{std::nullopt}, "its source has no sound", "Align it by timecode, motion or hand"};
    Signal1d signal;
    signal.rate_hz = kSoundHz;
    signal.start_s = s.first.to_double();
    SoundReader reader(s.ref.path, kSoundHz, 1);
    const auto first = (s.first * Rational(kSoundHz)).round(), last = (s.last * Rational(kSoundHz)).round();
    std::vector<float> samples;
    double power = 0;
    for (std::int64_t at = first; at < last; at += kSoundHz) {
        cancel.check();
        const auto some = reader.read(at, std::min<std::int64_t>(kSoundHz, last - at));
        for (const float v : some) power += double(v) * double(v);
        samples.insert(samples.end(), some.begin(), some.end());
    }
    if (power / std::max<double>(1, double(samples.size())) < 1e-9)
        return {{std::nullopt}, "its sound is silent", "Align it by timecode, motion or hand"};
    signal.channels.push_back(std::move(samples));
    return {{std::move(signal)}, {}, {}};
}

Heard watch(const Source& s, const Shot& shot, MediaLibrary& library,
            const std::function<void(double)>& progress, const Cancel& cancel) {
    const Camera& camera = shot.rig.cameras[s.cameras.front()];
    MotionSignals m = motion_signals(s.ref, camera, s.first, s.last, kMotionHz, library, progress, cancel);
    return {{std::move(m.turning), std::move(m.change)}, {}, {}};
}

LagOptions lag_options(AlignMethod method, double most_offset_s) {
    LagOptions o;
    o.least_lag_s = -most_offset_s;
    o.most_lag_s = most_offset_s;
    if (method == AlignMethod::sound) {
        o.low_hz = 120;
        o.high_hz = 3700;
    } else {
        o.curve_s = 0.5;
    }
    return o;
}

struct Match {
    Lag lag;
    double confidence = 0;
};

std::optional<Match> match(const Heard& a, const Heard& b, AlignMethod method, double most_offset_s) {
    std::optional<Match> best;
    for (std::size_t i = 0; i < a.signals.size() && i < b.signals.size(); ++i) {
        if (!a.signals[i] || !b.signals[i]) continue;
        const LagOptions o = lag_options(method, most_offset_s);
        const bool sound = method == AlignMethod::sound;
        const double overlap =
            std::max(1.0, 0.4 * std::min(a.signals[i]->seconds(), b.signals[i]->seconds()));
        const auto lag = sound ? find_lag(*a.signals[i], *b.signals[i], o)
                               : correlate_normalised(*a.signals[i], *b.signals[i], o, overlap);
        if (!lag) continue;
        const double confidence = sound ? confidence_of(*lag) : confidence_of_normalised(*lag);
        if (!best || confidence > best->confidence) best = Match{*lag, confidence};
        if (best->confidence >= kLeastConfidence) break;
    }
    return best;
}

/// A source's place once it is known: t_source = T (1 + drift) + at_start, about `offset` in the middle.
struct Placed {
    bool known = false;
    double offset = 0, at_start = 0, drift = 0, doubt_ppm = 0, confidence = 0;
    PeakCurve peak;
    double best_refused = 0;
};

Placed placed_by(const Match& m, const Placed& anchor, double seconds, bool find_drift) {
    Placed p;
    p.known = true;
    p.confidence = m.confidence;
    const double slope = m.lag.drift_ppm * 1e-6;
    const bool drifts = find_drift && m.lag.drift_doubt_ppm < 1e5 &&
                        std::abs(m.lag.drift_ppm) > kLeastDriftPpm &&
                        std::abs(m.lag.drift_ppm) > kDriftSigmas * m.lag.drift_doubt_ppm &&
                        std::abs(slope) * seconds > 0.0005;
    // An event at t of this source is at t + lag of the anchor, which itself stands at T (1 + d) + o.
    p.offset = anchor.offset - m.lag.lag_s;
    p.doubt_ppm = m.lag.drift_doubt_ppm;
    if (drifts) {
        const double s = 1 + slope;
        p.drift = (1 + anchor.drift) / s - 1;
        p.at_start = (anchor.at_start - m.lag.lag_s + slope * m.lag.middle_s) / s;
    } else {
        p.drift = anchor.drift;
        p.at_start = anchor.at_start - m.lag.lag_s;
    }
    p.peak = {p.offset - double(m.lag.curve.size() / 2) * m.lag.curve_step_s, m.lag.curve_step_s, {}};
    p.peak.height.assign(m.lag.curve.rbegin(), m.lag.curve.rend()); // a larger lag is a smaller offset
    return p;
}

FoundOffset found_offset(const std::string& camera, const Placed& p, const char* method) {
    FoundOffset f;
    f.camera = camera;
    f.found = true;
    f.offset_s = p.offset;
    f.offset_at_start_s = p.at_start;
    f.drift_ppm = 1e6 * p.drift;
    f.drift_doubt_ppm = p.doubt_ppm;
    f.confidence = p.confidence;
    f.method = method;
    f.peak = p.peak;
    return f;
}

std::vector<FoundOffset> by_timecode(const Shot& shot, const std::vector<Source>& sources) {
    std::vector<FoundOffset> out;
    std::optional<double> zero;
    for (const auto& s : sources) {
        const ShotCamera& first = shot.cameras[s.cameras.front()];
        const auto start = timecode_seconds(s.info.timecode, s.info.rate);
        Placed p;
        if (start) {
            if (!zero) zero = *start + first.offset.to_double();
            p = {true, *zero - *start, *zero - *start, 0, 1e6, 0.9, {}, 0};
        }
        for (const std::size_t c : s.cameras) {
            if (start) {
                out.push_back(found_offset(shot.cameras[c].camera, p, "timecode"));
            } else {
                FoundOffset f;
                f.camera = shot.cameras[c].camera;
                f.why_not = s.info.timecode.empty() ? "its source carries no timecode"
                                                    : "its timecode '" + s.info.timecode + "' cannot be read";
                f.mend = "Align it by sound, motion or hand";
                out.push_back(f);
            }
        }
    }
    return out;
}

} // namespace

const char* name_of(AlignMethod method) {
    return method == AlignMethod::sound ? "sound" : method == AlignMethod::timecode ? "timecode" : "motion";
}

std::vector<FoundOffset> find_offsets(const Project& project, const Shot& shot, MediaLibrary& library,
                                      const AlignOptions& options,
                                      const std::function<void(double)>& progress, const Cancel& cancel) {
    const auto sources = sources_of(
        project, shot, library, options,
        options.method == AlignMethod::sound ? kMostSound : kMostMotion + 2 * options.most_offset_s);
    if (sources.size() < 2)
        throw Error(sources.empty() ? "has no moving sources"
                                    : "has a single source: there is nothing to align it with",
                    "shot " + shot.name, "Give each camera its own file");
    if (options.method == AlignMethod::timecode) return by_timecode(shot, sources);

    const auto report = [&](double share) {
        if (progress) progress(share);
    };
    std::vector<Heard> heard(sources.size());
    std::mutex mutex;
    double read = 0;
    parallel_ranges(int(sources.size()), 1, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const auto n = std::size_t(i);
            heard[n] = options.method == AlignMethod::sound
                           ? listen(sources[n], cancel)
                           : watch(sources[n], shot, library, nullptr, cancel);
            const std::lock_guard lock(mutex);
            report(0.5 * ++read / double(sources.size()));
        }
    });
    // From the first source outwards: each one is compared with the reference, then with any that is known
    // already. A reference that fits nobody makes way for the next.
    std::vector<Placed> placed(sources.size());
    std::vector<double> refused(sources.size(), 0);
    std::size_t root = 0;
    double done = 0;
    for (; root < sources.size(); ++root) {
        const ShotCamera& first = shot.cameras[sources[root].cameras.front()];
        Placed anchor;
        anchor.known = true;
        anchor.offset = first.offset.to_double();
        anchor.at_start = anchor.offset;
        placed[root] = anchor;
        std::vector<std::optional<Match>> matches(sources.size());
        parallel_ranges(int(sources.size()), 1, [&](int begin, int end) {
            for (int i = begin; i < end; ++i) {
                cancel.check();
                if (std::size_t(i) != root)
                    matches[std::size_t(i)] =
                        match(heard[root], heard[std::size_t(i)], options.method, options.most_offset_s);
                const std::lock_guard lock(mutex);
                report(0.5 + 0.4 * (1 - 1 / (1 + ++done / double(sources.size()))));
            }
        });
        bool any = false;
        for (std::size_t i = 0; i < sources.size(); ++i) {
            if (!matches[i]) continue;
            refused[i] = std::max(refused[i], matches[i]->confidence);
            refused[root] = std::max(refused[root], matches[i]->confidence);
            if (matches[i]->confidence < kLeastConfidence) continue;
            placed[i] = placed_by(*matches[i], anchor, (sources[i].last - sources[i].first).to_double(),
                                  options.find_drift);
            placed[root].confidence = std::max(placed[root].confidence, placed[i].confidence);
            any = true;
        }
        if (any) break;
        placed[root].known = false;
    }
    for (bool again = root < sources.size();
         again;) { // those the reference could not place, by their neighbours
        again = false;
        for (std::size_t i = 0; i < sources.size(); ++i)
            for (std::size_t k = 0; k < sources.size() && !placed[i].known; ++k) {
                if (!placed[k].known || k == root) continue;
                cancel.check();
                const auto m = match(heard[k], heard[i], options.method, options.most_offset_s);
                if (!m || m->confidence < kLeastConfidence) continue;
                placed[i] = placed_by(*m, placed[k], (sources[i].last - sources[i].first).to_double(),
                                      options.find_drift);
                again = true;
            }
    }
    report(1);
    std::vector<FoundOffset> out;
    for (std::size_t i = 0; i < sources.size(); ++i)
        for (const std::size_t c : sources[i].cameras) {
            if (placed[i].known) {
                out.push_back(found_offset(shot.cameras[c].camera, placed[i],
                                           i == root ? "reference" : name_of(options.method)));
                continue;
            }
            FoundOffset f;
            f.camera = shot.cameras[c].camera;
            f.confidence = std::min(refused[i], kLeastConfidence);
            f.why_not = !heard[i].why_not.empty() ? heard[i].why_not
                        : options.method == AlignMethod::sound
                            ? "its sound has nothing in common with the others'"
                            : "its picture does not move as the others' do";
            f.mend = !heard[i].mend.empty()
                         ? heard[i].mend
                         : fmt::format(
                               "Look further than {:.0f} s apart, choose another range, or align it by hand",
                               options.most_offset_s);
            out.push_back(f);
        }
    std::sort(out.begin(), out.end(), [&](const FoundOffset& a, const FoundOffset& b) {
        const auto place = [&](const std::string& id) {
            return std::find_if(shot.cameras.begin(), shot.cameras.end(),
                                [&](const ShotCamera& c) { return c.camera == id; }) -
                   shot.cameras.begin();
        };
        return place(a.camera) < place(b.camera);
    });
    return out;
}

Shot aligned(const Shot& shot, const std::vector<FoundOffset>& offsets, bool with_drift) {
    Shot out = shot;
    for (const auto& f : offsets) {
        if (!f.found) continue;
        for (auto& c : out.cameras) {
            if (c.camera != f.camera) continue;
            c.offset = Rational::from_double(with_drift ? f.offset_at_start_s : f.offset_s);
            c.drift_ppm = with_drift ? f.drift_ppm : 0;
            if (f.method != "reference") origin_of(c, CameraValue::offset) = {OriginKind::found, f.method};
        }
    }
    Seconds begun(0);
    for (const auto& c : out.cameras)
        if (c.used && !c.media.empty()) begun = std::max(begun, shot_time(c, Seconds(0)));
    // To the frame: the first one that every source shows.
    const Seconds exact = begun * out.timing.rate - Rational(1, 2);
    const std::int64_t frame = exact.floor() + (Rational(exact.floor()) < exact ? 1 : 0);
    const Seconds first = Rational(std::max<std::int64_t>(0, frame)) / out.timing.rate;
    if (out.timing.in < first && (!out.timing.out || first < *out.timing.out)) out.timing.in = first;
    return out;
}

} // namespace porb
