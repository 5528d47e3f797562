#include "media/library.h"

#include "base/error.h"
#include "media/colour.h"
#include "media/sequence.h"
#include "media/still.h"
#include "media/video.h"

namespace porb {

namespace {
std::string key_of(const MediaRef& ref) {
    return std::string(name_of(ref.kind)) + ref.sequence_rate.to_string() + ":" + ref.path.string() + "|" +
           ref.curve;
}
constexpr std::size_t kMostPoolBytes = 384u << 20;

std::shared_ptr<const ColourChange> colour_change_of(const MediaInfo& info) {
    if (info.ref.kind != MediaKind::video && info.transfer == "linear")
        return ColourChange::for_linear_file(info.ref.curve);
    const bool tagged = info.ref.kind == MediaKind::video;
    return ColourChange::for_curve(info.ref.curve, tagged ? info.transfer : "", tagged ? info.primaries : "");
}
} // namespace

double bytes_a_pixel(const MediaInfo& info) {
    // As source_from_frame() decides. The half has a quarter of the luma, at 16 bits, and all of the chroma.
    const bool stays = info.ref.kind == MediaKind::video && info.rotation_deg == 0 &&
                       !colour_change_of(info) && info.pixel_format.find("420p") != std::string::npos;
    if (!stays) return 8 * 1.25;
    return info.depth > 8 ? 3 + 1.5 : 1.5 + 1;
}

struct MediaLibrary::Source {
    /// Of a picture: while it is on show, source time, and how often it was halved.
    struct Showing {
        Seconds begin, end;
        int level = 0;
        bool proxy = false; ///< read from one
        bool operator==(const Showing&) const = default;
    };
    explicit Source(const std::shared_ptr<CacheBound>& frames_bound)
        : bound(frames_bound), kept(frames_bound), converted(frames_bound) {}
    static constexpr int kShareOfRun = 16; ///< of the bound, for each source

    std::shared_ptr<CacheBound> bound;
    double frame_bytes = 1; ///< of one that is kept
    Cache<Showing, SourcePicture> kept;
    Cache<Showing, Picture> converted; ///< of what is kept in the file's samples
    std::mutex mutex;                  ///< held while decoding
    MediaRef ref;
    MediaInfo info;
    std::unique_ptr<VideoReader> video;
    std::shared_ptr<const ColourChange> colour;
    bool open = false;
    std::optional<std::pair<std::filesystem::path, std::int64_t>> mended; ///< of the picture read last
    std::map<int, std::unique_ptr<VideoReader>> proxies; ///< by how often they are halved; opened when read
    std::map<int, std::filesystem::path> proxy_files;
    std::uint64_t proxies_of = 0; ///< the library's proxies_since_ of those

    void open_once() {
        if (open) return;
        if (ref.kind == MediaKind::video) {
            video = std::make_unique<VideoReader>(ref.path);
            info = video->info();
        } else {
            info = probe(ref);
        }
        info.ref = ref;
        colour = colour_change_of(info);
        frame_bytes = std::max(1.0, bytes_a_pixel(info) * info.width * info.height);
        open = true;
    }

    Picture still(const std::filesystem::path& path, BufferPool* pool) {
        std::int64_t pixels = 0;
        Picture picture = read_still(path, pool, &pixels);
        if (pixels > 0) mended = {path, pixels};
        if (colour) colour->apply(picture);
        return picture;
    }

    /// What `cache` keeps of that moment, and while it is on show.
    template <class Kept>
    static std::optional<Kept> find(Cache<Showing, Kept>& cache, Seconds t, int level, Footage footage,
                                    Showing* showing = nullptr) {
        return cache.find_if([&](const Showing& s) {
            if (s.level != level || t < s.begin || s.end <= t) return false;
            if (s.proxy && footage == Footage::originals) return false;
            if (showing) *showing = s;
            return true;
        });
    }
    void keep(const Showing& showing, const SourcePicture& picture) {
        kept.keep(showing, picture, picture.bytes());
    }

    struct Shown {
        SourcePicture picture;
        Seconds begin, end;
    };

    std::optional<Shown> latest; ///< of a film, decoded, whole; with the mutex

    std::optional<Shown> decode(Seconds t, BufferPool* pool) {
        if (ref.kind == MediaKind::video) {
            const auto frame = video->frame_at(t);
            if (!frame) return std::nullopt;
            return Shown{source_from_frame(frame->frame, info.rotation_deg, colour.get(), pool), frame->begin,
                         frame->end};
        }
        // A still lasts for ever in both directions.
        if (ref.kind == MediaKind::still)
            return Shown{still(ref.path, pool), Rational(-1'000'000'000), Rational(1'000'000'000)};
        const std::int64_t index = (t * ref.sequence_rate).floor(); // picture() says what is meant by t
        if (index < 0 || index >= info.frames) return std::nullopt;
        Picture picture = still(numbered_file(ref.path, info.first_number + index), pool);
        if (picture.width() != info.width || picture.height() != info.height)
            throw Error("is " + std::to_string(picture.width()) + " x " + std::to_string(picture.height()) +
                            ", the sequence's first picture " + std::to_string(info.width) + " x " +
                            std::to_string(info.height),
                        numbered_file(ref.path, info.first_number + index).string(),
                        "Render that picture again");
        return Shown{std::move(picture), frame_time(index, ref.sequence_rate),
                     frame_time(index + 1, ref.sequence_rate)};
    }
};

MediaLibrary::MediaLibrary(std::shared_ptr<CacheBound> bound, double frames_share)
    : bound_(std::move(bound)),
      frames_bound_(std::make_shared<CacheBound>(bound_, CacheBound::Share{frames_share})),
      pool_(std::make_shared<BufferPool>(std::min(kMostPoolBytes, bound_->limit() / 8))) {}
MediaLibrary::~MediaLibrary() = default;

std::shared_ptr<MediaLibrary::Source> MediaLibrary::source_for(const MediaRef& ref) {
    const std::lock_guard lock(mutex_);
    auto& source = sources_[key_of(ref)];
    if (!source) {
        source = std::make_shared<Source>(frames_bound_);
        source->ref = ref;
    }
    return source;
}

MediaInfo MediaLibrary::info(const MediaRef& ref) {
    const std::string key = key_of(ref);
    {
        const std::lock_guard lock(mutex_);
        if (const auto known = infos_.find(key); known != infos_.end()) return known->second;
    }
    const auto source = source_for(ref);
    MediaInfo info;
    {
        const std::lock_guard lock(source->mutex);
        source->open_once();
        info = source->info;
    }
    const std::lock_guard lock(mutex_);
    return infos_[key] = info;
}

MediaLibrary::Clock MediaLibrary::clock_of(const MediaRef& ref) {
    const auto of = [](const MediaInfo& info) {
        return Clock{info.duration, Rational(1) / info.rate, info.duration_guessed};
    };
    {
        const std::lock_guard lock(mutex_);
        if (const auto known = infos_.find(key_of(ref)); known != infos_.end()) return of(known->second);
    }
    return of(info(ref));
}

MediaLibrary::Asked MediaLibrary::asked_for(const MediaRef& ref, Seconds t) {
    Asked out{key_of(ref), source_for(ref), t};
    if (ref.kind == MediaKind::still) return out;
    const Clock clock = clock_of(ref);
    // As frame_index() has it, whatever frames' own times are.
    const Seconds meant = t + clock.frame * Rational(1, 100), end = clock.duration;
    if (meant < end || t >= end) out.t = meant;
    return out;
}

std::optional<SourcePicture> MediaLibrary::frame(const MediaRef& ref, Seconds t, int level, Footage footage) {
    Seconds begin, end;
    return frame_at(asked_for(ref, t), level, footage, &begin, &end);
}

std::optional<Picture> MediaLibrary::picture(const MediaRef& ref, Seconds t, int level, Footage footage) {
    const Asked asked = asked_for(ref, t);
    if (auto known = Source::find(asked.source->converted, asked.t, level, footage)) return known;
    Source::Showing showing{{}, {}, level, footage == Footage::proxies};
    const auto frame = frame_at(asked, level, footage, &showing.begin, &showing.end);
    if (!frame) return std::nullopt;
    if (const Picture* plain = frame->picture()) return *plain;
    Picture out = frame->converted(pool_.get());
    asked.source->converted.keep(showing, out, out.bytes());
    return out;
}

void MediaLibrary::go_back(const MediaRef& ref, Seconds t, int level) {
    constexpr int kMost = 12, kEnough = kMost / 2;
    if (ref.kind != MediaKind::video) return;
    const Asked asked = asked_for(ref, t);
    Source& source = *asked.source;
    const std::lock_guard lock(source.mutex);
    source.open_once();
    const Seconds frame = Rational(1) / source.info.rate;
    const int most =
        std::min(kMost, int(double(frames_bound_->limit()) / Source::kShareOfRun / source.frame_bytes));
    const Seconds enough = std::max(Seconds(0), asked.t - Rational(std::min(kEnough, most)) * frame);
    if (most < 1 || Source::find(source.kept, enough, level, Footage::originals)) return;
    source.video->frames_before(asked.t, most, [&](const DecodedFrame& before) {
        SourcePicture picture =
            source_from_frame(before.frame, source.info.rotation_deg, source.colour.get(), pool_.get());
        for (int l = 0; l < level; ++l) picture = halved(picture, pool_.get());
        source.keep({before.begin, before.end, level}, picture);
    });
}

void MediaLibrary::set_proxies(std::shared_ptr<const ProxyStore> store) {
    const std::lock_guard lock(mutex_);
    proxies_ = std::move(store);
    ++proxies_since_;
    unread_.clear();
}

bool MediaLibrary::shows(const MediaRef& ref, Seconds t) {
    if (ref.kind == MediaKind::still) return true;
    const Clock clock = clock_of(ref);
    const Seconds meant = t + clock.frame * Rational(1, 100);
    if (ref.kind == MediaKind::sequence) return meant >= Seconds(0) && meant < clock.duration;
    if (meant < Seconds(0)) return false;
    constexpr int kSure_s = 1; // from the end, whose exact moment headers tell a little differently
    if (!clock.guessed) {
        if (meant < clock.duration - Seconds(kSure_s)) return true;
        if (meant > clock.duration + Seconds(kSure_s)) return false;
    }
    return frame(ref, t, 0).has_value();
}

std::optional<SourcePicture> MediaLibrary::frame_at(const Asked& asked, int level, Footage footage,
                                                    Seconds* begin, Seconds* end) {
    Source& source = *asked.source;
    Source::Showing showing;
    const auto tell = [&] { *begin = showing.begin, *end = showing.end; };
    const auto known = [&] {
        auto kept = Source::find(source.kept, asked.t, level, footage, &showing);
        if (kept) tell();
        return kept;
    };
    if (auto kept = known()) return kept;
    const std::lock_guard lock(source.mutex);
    if (auto kept = known()) return kept; // another thread was quicker
    if (footage == Footage::proxies && source.ref.kind == MediaKind::video)
        if (auto small = from_proxy(asked, level, begin, end)) return small;
    source.open_once();
    // Perhaps only its reduction is missing.
    std::optional<SourcePicture> whole;
    if (level > 0) whole = Source::find(source.kept, asked.t, 0, Footage::originals, &showing);
    if (!whole && source.latest && source.latest->begin <= asked.t && asked.t < source.latest->end) {
        showing = {source.latest->begin, source.latest->end, 0};
        whole = source.latest->picture;
    }
    if (!whole) {
        auto shown = source.decode(asked.t, pool_.get());
        if (!shown) return std::nullopt;
        if (source.mended) {
            const std::lock_guard mended_lock(mutex_);
            mended_[asked.key].insert(*source.mended);
            source.mended.reset();
        }
        showing = {shown->begin, shown->end, 0};
        whole = shown->picture;
        if (source.ref.kind == MediaKind::video) source.latest = std::move(shown);
    }
    // Of films that are only looked at small the whole frame goes with the next one, and the decoder has its
    // memory back: to fill fresh memory for each takes as long as to halve it.
    if (level == 0 || source.ref.kind != MediaKind::video) source.keep(showing, *whole);
    tell();
    SourcePicture result = std::move(*whole);
    for (int l = 0; l < level; ++l) result = halved(result, pool_.get());
    showing.level = level;
    if (level > 0) source.keep(showing, result);
    return result;
}

std::optional<SourcePicture> MediaLibrary::from_proxy(const Asked& asked, int level, Seconds* begin,
                                                      Seconds* end) {
    Source& source = *asked.source;
    std::shared_ptr<const ProxyStore> store;
    std::uint64_t since = 0;
    {
        const std::lock_guard lock(mutex_);
        store = proxies_;
        since = proxies_since_;
    }
    if (!store) return std::nullopt;
    if (source.proxies_of != since) {
        source.proxies.clear();
        source.proxy_files.clear();
        for (const ProxyFile& file : store->of(source.ref)) source.proxy_files[file.level] = file.path;
        source.proxies_of = since;
    }
    // The coarsest that is fine enough.
    const auto after = source.proxy_files.upper_bound(level);
    if (after == source.proxy_files.begin()) return std::nullopt;
    const auto [proxy_level, file] = *std::prev(after);
    try {
        source.open_once(); // its size, rotation and curve are those of the source
        auto& reader = source.proxies[proxy_level];
        if (!reader) {
            reader = std::make_unique<VideoReader>(file, 1);
            store->touch(file);
        }
        const auto frame = reader->frame_at(asked.t);
        if (!frame) return std::nullopt;
        SourcePicture picture =
            proxy_picture(*frame, source.info, proxy_level, source.colour.get(), pool_.get());
        Source::Showing showing{frame->begin, frame->end, proxy_level, true};
        *begin = showing.begin, *end = showing.end;
        for (int l = proxy_level; l < level; ++l) picture = halved(picture, pool_.get());
        showing.level = level;
        source.keep(showing, picture);
        return picture;
    } catch (const std::exception& e) {
        source.proxies.erase(proxy_level);
        source.proxy_files.erase(proxy_level);
        const std::lock_guard lock(mutex_);
        unread_[asked.key] = "The proxy of " + source.ref.path.filename().string() +
                             " cannot be read and is left out (" + words_of(e) + "). Make it again.";
        return std::nullopt;
    }
}

void MediaLibrary::forget(const MediaRef& ref) {
    const std::string key = key_of(ref);
    const std::lock_guard lock(mutex_);
    sources_.erase(key);
    infos_.erase(key);
    mended_.erase(key);
    unread_.erase(key);
}

std::string MediaLibrary::remark(const MediaRef& ref) const {
    const std::lock_guard lock(mutex_);
    const std::string key = key_of(ref);
    if (const auto proxy = unread_.find(key); proxy != unread_.end()) return proxy->second;
    const auto found = mended_.find(key);
    if (found == mended_.end()) return {};
    const auto& files = found->second;
    std::int64_t pixels = 0;
    for (const auto& [file, count] : files) pixels += count;
    const std::string first = files.begin()->first.filename().string();
    const bool one = files.size() == 1;
    const std::string where =
        one ? "In " + first : "In " + std::to_string(files.size()) + " pictures from " + first + " on";
    const std::string what =
        pixels == 1
            ? "1 pixel is not a number and was filled from those beside it"
            : std::to_string(pixels) + " pixels are not numbers and were filled from those beside them";
    return where + ", " + what + ". Render " + (one ? "it" : "them") + " again to be rid of that.";
}

} // namespace porb
