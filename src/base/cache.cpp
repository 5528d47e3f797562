#include "base/cache.h"

#include <algorithm>
#include <fstream>

#include <unistd.h>

namespace porb {

CacheBound::CacheBound(std::size_t bytes) : state_(std::make_shared<State>()), limit_(bytes) {
    state_->whole = this;
}

CacheBound::CacheBound(const std::shared_ptr<CacheBound>& whole, std::size_t bytes)
    : within_(whole), state_(whole->state_), limit_(bytes) {}

std::size_t CacheBound::default_bytes() {
    auto bytes = std::size_t(sysconf(_SC_PHYS_PAGES)) * std::size_t(sysconf(_SC_PAGE_SIZE));
    // A container's bound, by either version of control groups; "max" or no such file: none.
    for (const char* file : {"/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes"}) {
        std::size_t bound = 0;
        if (std::ifstream(file) >> bound && bound > 0) bytes = std::min(bytes, bound);
    }
    return bytes / 3;
}

void CacheBound::set_limit(std::size_t bytes) {
    Items gone;
    const std::lock_guard lock(state_->mutex);
    limit_ = bytes;
    gone = evict();
}

std::size_t CacheBound::limit() const {
    const std::lock_guard lock(state_->mutex);
    return limit_;
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
    return bytes <= limit_ && (!within_ || within_->has_room_for(bytes));
}

void CacheBound::evict_from(CacheBound* part, Items& gone) {
    while (part->used_ > part->limit_) {
        Registered oldest{nullptr, nullptr};
        for (const Registered& c : state_->caches)
            if ((part == state_->whole || c.part == part) && !c.items->empty() &&
                (!oldest.items || c.items->front().used < oldest.items->front().used))
                oldest = c;
        if (!oldest.items) return;
        oldest.part->count(0, oldest.items->front().bytes);
        gone.splice(gone.end(), *oldest.items, oldest.items->begin());
    }
}

CacheBound::Items CacheBound::evict() {
    Items gone;
    evict_from(this, gone);
    if (within_) evict_from(state_->whole, gone);
    return gone;
}

} // namespace porb
