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

struct MediaLibrary::Kept {
    std::string key;
    Seconds begin, end;
    int level;
    Picture picture;
};

MediaLibrary::MediaLibrary(std::size_t cache_bytes)
    : pool_(std::make_shared<BufferPool>(std::min(kMostPoolBytes, cache_bytes / 4))), limit_(cache_bytes) {}
MediaLibrary::~MediaLibrary() = default;

std::shared_ptr<MediaLibrary::Source> MediaLibrary::source_for(const MediaRef& ref) {
    const std::lock_guard lock(mutex_);
    auto& source = sources_[key_of(ref)];
    if (!source) {
        source = std::make_shared<Source>();
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

std::optional<Picture> MediaLibrary::find_kept(const std::string& key, Seconds t, int level) {
    const std::lock_guard lock(mutex_);
    for (auto it = kept_.begin(); it != kept_.end(); ++it)
        if (it->level == level && it->begin <= t && t < it->end && it->key == key) {
            std::rotate(it, it + 1, kept_.end());
            return kept_.back().picture;
        }
    return std::nullopt;
}

void MediaLibrary::keep(const std::string& key, Seconds begin, Seconds end, int level,
                        const Picture& picture) {
    const std::lock_guard lock(mutex_);
    if (picture.bytes() > limit_) return;
    while (!kept_.empty() && bytes_ + picture.bytes() > limit_) {
        bytes_ -= kept_.front().picture.bytes();
        kept_.erase(kept_.begin());
    }
    bytes_ += picture.bytes();
    kept_.push_back({key, begin, end, level, picture});
}

std::optional<Picture> MediaLibrary::picture(const MediaRef& ref, Seconds t, int level) {
    const std::string key = key_of(ref);
    if (ref.kind == MediaKind::still) return picture_at(key, ref, t, level);
    Seconds end, frame;
    {
        std::unique_lock lock(mutex_);
        auto known = infos_.find(key);
        if (known == infos_.end()) {
            lock.unlock();
            (void)info(ref);
            lock.lock();
            known = infos_.find(key);
        }
        end = known->second.duration, frame = Rational(1) / known->second.rate;
    }
    const Seconds meant =
        t + frame * Rational(1, 100); // as frame_index() has it, whatever frames' own times are
    return picture_at(key, ref, meant < end || t >= end ? meant : t, level);
}

std::optional<Picture> MediaLibrary::picture_at(const std::string& key, const MediaRef& ref, Seconds t,
                                                int level) {
    if (auto kept = find_kept(key, t, level)) return kept;
    const auto source = source_for(ref);
    const std::lock_guard lock(source->mutex);
    if (auto kept = find_kept(key, t, level)) return kept; // another thread was quicker
    source->open_once();
    std::optional<Source::Shown> shown;
    if (level > 0) { // perhaps only its reduction is missing
        const std::lock_guard kept_lock(mutex_);
        for (const Kept& k : kept_)
            if (k.level == 0 && k.begin <= t && t < k.end && k.key == key)
                shown = {k.picture, k.begin, k.end};
    }
    if (!shown) {
        shown = source->decode(t, pool_.get());
        if (!shown) return std::nullopt;
        if (source->mended) {
            const std::lock_guard kept_lock(mutex_);
            mended_[key].insert(*source->mended);
            source->mended.reset();
        }
        keep(key, shown->begin, shown->end, 0, shown->picture);
    }
    Picture result = shown->picture;
    for (int l = 0; l < level; ++l) result = halved(result, pool_.get());
    if (level > 0) keep(key, shown->begin, shown->end, level, result);
    return result;
}

void MediaLibrary::forget(const MediaRef& ref) {
    const std::string key = key_of(ref);
    const std::lock_guard lock(mutex_);
    sources_.erase(key);
    infos_.erase(key);
    mended_.erase(key);
    std::erase_if(kept_, [&](const Kept& k) {
        if (k.key != key) return false;
        bytes_ -= k.picture.bytes();
        return true;
    });
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

std::size_t MediaLibrary::cached_bytes() const {
    const std::lock_guard lock(mutex_);
    return bytes_;
}

} // namespace porb
