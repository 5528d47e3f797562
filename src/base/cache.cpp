#include "base/cache.h"

#include "base/machine.h"

#include <algorithm>

namespace porb {

CacheBound::CacheBound(std::size_t bytes) : state_(std::make_shared<State>()), limit_(bytes) {}

CacheBound::CacheBound(const std::shared_ptr<CacheBound>& whole, std::size_t bytes)
    : within_(whole), state_(whole->state_), limit_(bytes) {}

CacheBound::CacheBound(const std::shared_ptr<CacheBound>& whole, Share share)
    : within_(whole), state_(whole->state_), share_(share.of_whole) {}

std::size_t CacheBound::default_bytes() {
    return this_machine().memory_bytes / 3;
}

void CacheBound::set_limit(std::size_t bytes) {
    Items gone;
    const std::lock_guard lock(state_->mutex);
    limit_ = bytes;
    gone = evict();
}

std::size_t CacheBound::limit() const {
    const std::lock_guard lock(state_->mutex);
    return limit_now();
}

std::size_t CacheBound::limit_now() const {
    return share_ > 0 ? std::size_t(share_ * double(within_->limit_now())) : limit_;
}

bool CacheBound::lies_in(const CacheBound* whole) const {
    return this == whole || (within_ && within_->lies_in(whole));
}

std::size_t CacheBound::used() const {
    const std::lock_guard lock(state_->mutex);
    return used_;
}

void CacheBound::count(std::size_t more, std::size_t less) {
    used_ = used_ + more - less;
    if (within_) within_->count(more, less);
}

bool CacheBound::has_room_for(std::size_t bytes) const {
    return bytes <= limit_now() && (!within_ || within_->has_room_for(bytes));
}

void CacheBound::evict_from(const CacheBound* part, Items& gone) {
    while (part->used_ > part->limit_now()) {
        Registered oldest{nullptr, nullptr};
        for (const Registered& c : state_->caches)
            if (!c.items->empty() && c.part->lies_in(part) &&
                (!oldest.items || c.items->front().used < oldest.items->front().used))
                oldest = c;
        if (!oldest.items) return;
        oldest.part->count(0, oldest.items->front().bytes);
        gone.splice(gone.end(), *oldest.items, oldest.items->begin());
    }
}

CacheBound::Items CacheBound::evict() {
    Items gone;
    for (const CacheBound* part = this; part; part = part->within_.get()) evict_from(part, gone);
    return gone;
}

} // namespace porb
