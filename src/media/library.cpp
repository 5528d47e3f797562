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
} // namespace

struct MediaLibrary::Source {
    /// Of a picture: while it is on show, source time, and how often it was halved.
    struct Showing {
        Seconds begin, end;
        int level = 0;
        bool operator==(const Showing&) const = default;
    };
    explicit Source(const std::shared_ptr<CacheBound>& bound) : kept(bound) {}

    Cache<Showing, Picture> kept;
    std::mutex mutex; ///< held while decoding
    MediaRef ref;
    MediaInfo info;
    std::unique_ptr<VideoReader> video;
    std::shared_ptr<const ColourChange> colour;
    bool open = false;
    std::optional<std::pair<std::filesystem::path, std::int64_t>> mended; ///< of the picture read last

    void open_once() {
        if (open) return;
        if (ref.kind == MediaKind::video) {
            video = std::make_unique<VideoReader>(ref.path);
            info = video->info();
            colour = ColourChange::for_curve(ref.curve, info.transfer, info.primaries);
        } else {
            info = probe(ref);
            colour = info.transfer == "linear" ? ColourChange::for_linear_file(ref.curve)
                                               : ColourChange::for_curve(ref.curve, "", "");
        }
        open = true;
    }

    Picture still(const std::filesystem::path& path, BufferPool* pool) {
        std::int64_t pixels = 0;
        Picture picture = read_still(path, pool, &pixels);
        if (pixels > 0) mended = {path, pixels};
        if (colour) colour->apply(picture);
        return picture;
    }

    std::optional<Picture> find(Seconds t, int level) {
        return kept.find_if([&](const Showing& s) { return s.level == level && s.begin <= t && t < s.end; });
    }
    void keep(const Showing& showing, const Picture& picture) {
        kept.keep(showing, picture, picture.bytes());
    }

    struct Shown {
        Picture picture;
        Seconds begin, end;
    };

    std::optional<Shown> decode(Seconds t, BufferPool* pool) {
        if (ref.kind == MediaKind::video) {
            const auto frame = video->frame_at(t);
            if (!frame) return std::nullopt;
            return Shown{picture_from_frame(*frame->frame, info.rotation_deg, colour.get(), pool),
                         frame->begin, frame->end};
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

MediaLibrary::MediaLibrary(std::shared_ptr<CacheBound> bound)
    : bound_(std::move(bound)),
      pool_(std::make_shared<BufferPool>(std::min(kMostPoolBytes, bound_->limit() / 8))) {}
MediaLibrary::~MediaLibrary() = default;

std::shared_ptr<MediaLibrary::Source> MediaLibrary::source_for(const MediaRef& ref) {
    const std::lock_guard lock(mutex_);
    auto& source = sources_[key_of(ref)];
    if (!source) {
        source = std::make_shared<Source>(bound_);
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

std::optional<Picture> MediaLibrary::picture(const MediaRef& ref, Seconds t, int level) {
    const std::string key = key_of(ref);
    if (ref.kind == MediaKind::still) return picture_at(key, ref, t, level);
    const Clock clock = clock_of(ref);
    // As frame_index() has it, whatever frames' own times are.
    const Seconds meant = t + clock.frame * Rational(1, 100), end = clock.duration;
    return picture_at(key, ref, meant < end || t >= end ? meant : t, level);
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
    return picture(ref, t, 0).has_value();
}

std::optional<Picture> MediaLibrary::picture_at(const std::string& key, const MediaRef& ref, Seconds t,
                                                int level) {
    const auto source = source_for(ref);
    if (auto kept = source->find(t, level)) return kept;
    const std::lock_guard lock(source->mutex);
    if (auto kept = source->find(t, level)) return kept; // another thread was quicker
    source->open_once();
    // Perhaps only its reduction is missing.
    Source::Showing showing;
    std::optional<Picture> whole;
    if (level > 0)
        whole = source->kept.find_if([&](const Source::Showing& s) {
            if (s.level != 0 || t < s.begin || s.end <= t) return false;
            showing = s;
            return true;
        });
    if (!whole) {
        auto shown = source->decode(t, pool_.get());
        if (!shown) return std::nullopt;
        if (source->mended) {
            const std::lock_guard mended_lock(mutex_);
            mended_[key].insert(*source->mended);
            source->mended.reset();
        }
        showing = {shown->begin, shown->end, 0};
        whole = std::move(shown->picture);
        source->keep(showing, *whole);
    }
    Picture result = std::move(*whole);
    for (int l = 0; l < level; ++l) result = halved(result, pool_.get());
    showing.level = level;
    if (level > 0) source->keep(showing, result);
    return result;
}

void MediaLibrary::forget(const MediaRef& ref) {
    const std::string key = key_of(ref);
    const std::lock_guard lock(mutex_);
    sources_.erase(key);
    infos_.erase(key);
    mended_.erase(key);
}

std::string MediaLibrary::remark(const MediaRef& ref) const {
    const std::lock_guard lock(mutex_);
    const auto found = mended_.find(key_of(ref));
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
