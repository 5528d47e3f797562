#pragma once

#include "base/range.h"

#include <algorithm>
#include <condition_variable>
#include <cstddef>
#include <cstdint>
#include <list>
#include <memory>
#include <mutex>
#include <optional>
#include <utility>
#include <vector>

namespace porb {

/// What a person may set the bound of all caches to.
inline constexpr Range kMemory_gb{0.25, 1024};

/// How much memory the caches of a program may take together. They share one order of use: what was used
/// longest ago goes first, in whichever cache it lies. What somebody still holds lives on, uncounted, until
/// it is let go. Thread-safe.
class CacheBound {
  public:
    explicit CacheBound(std::size_t bytes = default_bytes());
    /// A part of `whole` with a bound of its own, for work that must not push everything else out: what it
    /// holds counts in both.
    CacheBound(const std::shared_ptr<CacheBound>& whole, std::size_t bytes);
    /// The same for a share of `whole`, whatever its limit becomes.
    struct Share {
        double of_whole; ///< 0 to 1
    };
    CacheBound(const std::shared_ptr<CacheBound>& whole, Share share);

    /// A third of the machine's memory, or of what its container may take.
    static std::size_t default_bytes();

    /// Takes effect at once.
    void set_limit(std::size_t bytes);
    std::size_t limit() const;
    std::size_t used() const;

  private:
    template <class Key, class Value>
    friend class Cache;
    struct Item {
        std::uint64_t used; ///< by the whole's clock
        std::size_t bytes;
        std::shared_ptr<const void> entry;
    };
    using Items = std::list<Item>; ///< of one cache, oldest use first
    struct Registered {
        Items* items;
        CacheBound* part;
    };
    /// Shared by a whole and its parts.
    struct State {
        std::mutex mutex;
        std::uint64_t clock = 0;
        std::vector<Registered> caches;
    };
    /// Takes out what must go, for its destruction without the lock. With the lock.
    Items evict();
    void evict_from(const CacheBound* part, Items& gone);
    void count(std::size_t more, std::size_t less);
    bool has_room_for(std::size_t bytes) const;
    std::size_t limit_now() const;
    /// Whether it is that one or a part of it.
    bool lies_in(const CacheBound* whole) const;

    std::shared_ptr<CacheBound> within_;
    std::shared_ptr<State> state_;
    std::size_t limit_ = 0, used_ = 0;
    double share_ = 0; ///< of `within_`, in place of limit_; 0: none
};

/// Values by their keys within a shared bound. Looked through from the latest use on, so that a cache is for
/// some thousand values at most. Thread-safe.
template <class Key, class Value>
class Cache {
  public:
    explicit Cache(std::shared_ptr<CacheBound> bound) : bound_(std::move(bound)) {
        const std::lock_guard lock(bound_->state_->mutex);
        bound_->state_->caches.push_back({&items_, bound_.get()});
    }
    Cache(const Cache&) = delete;
    Cache& operator=(const Cache&) = delete;
    ~Cache() {
        const std::lock_guard lock(bound_->state_->mutex);
        std::erase_if(bound_->state_->caches, [this](const auto& c) { return c.items == &items_; });
        for (const auto& item : items_) bound_->count(0, item.bytes);
    }

    /// The value whose key `matches` wants, which is thereby used.
    template <class Matches>
    std::optional<Value> find_if(const Matches& matches) {
        const std::lock_guard lock(bound_->state_->mutex);
        return look(matches);
    }
    std::optional<Value> find(const Key& key) {
        return find_if([&](const Key& k) { return k == key; });
    }

    /// In place of what has that key. What is larger than the bound is not kept, and nothing goes for it.
    void keep(const Key& key, Value value, std::size_t bytes) {
        auto entry = std::make_shared<const Entry>(Entry{key, std::move(value)});
        typename CacheBound::Items gone;
        const std::lock_guard lock(bound_->state_->mutex);
        take_out([&](const Key& k) { return k == key; }, gone);
        if (!bound_->has_room_for(bytes)) return; // it would push out everything else and then itself
        items_.push_back({++bound_->state_->clock, bytes, std::move(entry)});
        bound_->count(bytes, 0);
        gone.splice(gone.end(), bound_->evict());
    }

    template <class Matches>
    void forget_if(const Matches& matches) {
        typename CacheBound::Items gone;
        const std::lock_guard lock(bound_->state_->mutex);
        take_out(matches, gone);
    }

    /// The value of `key`, made by `make` when it is not kept: once, however many ask meanwhile. What `make`
    /// throws goes to the one that made; whoever waited for it makes it then. `bytes_of` measures it.
    template <class Make, class BytesOf>
    Value get(const Key& key, const Make& make, const BytesOf& bytes_of) {
        const auto same = [&](const Key& k) { return k == key; };
        {
            std::unique_lock lock(bound_->state_->mutex);
            while (true) {
                if (auto found = look(same)) return *std::move(found);
                if (std::find_if(making_.begin(), making_.end(), [&](const Key* k) { return same(*k); }) ==
                    making_.end())
                    break;
                made_.wait(lock);
            }
            making_.push_back(&key);
        }
        const Making mark{this, &key};
        Value value = make();
        keep(key, value, bytes_of(value));
        return value;
    }

  private:
    struct Entry {
        Key key;
        Value value;
    };
    struct Making { ///< says when it is over, also by an exception
        Cache* cache;
        const Key* key;
        ~Making() {
            const std::lock_guard lock(cache->bound_->state_->mutex);
            std::erase(cache->making_, key);
            cache->made_.notify_all();
        }
    };
    static const Entry& entry_of(const CacheBound::Item& item) {
        return *static_cast<const Entry*>(item.entry.get());
    }
    template <class Matches>
    std::optional<Value> look(const Matches& matches) {
        for (auto it = items_.end(); it != items_.begin();)
            if (matches(entry_of(*--it).key)) {
                it->used = ++bound_->state_->clock;
                items_.splice(items_.end(), items_, it);
                return entry_of(*it).value;
            }
        return std::nullopt;
    }
    template <class Matches>
    void take_out(const Matches& matches, CacheBound::Items& gone) {
        for (auto it = items_.begin(); it != items_.end();) {
            const auto here = it++;
            if (!matches(entry_of(*here).key)) continue;
            bound_->count(0, here->bytes);
            gone.splice(gone.end(), items_, here);
        }
    }

    std::shared_ptr<CacheBound> bound_;
    CacheBound::Items items_;
    std::vector<const Key*> making_;
    std::condition_variable made_;
};

} // namespace porb
