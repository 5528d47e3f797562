#include "media/read_ahead.h"

namespace porb {

ReadAhead::ReadAhead(std::shared_ptr<MediaLibrary> library, int threads) : library_(std::move(library)) {
    for (int n = 0; n < threads; ++n) threads_.emplace_back([this] { work(); });
}

ReadAhead::~ReadAhead() {
    {
        const std::lock_guard lock(mutex_);
        end_ = true;
    }
    changed_.notify_all();
    for (auto& thread : threads_) thread.join();
}

void ReadAhead::want(std::vector<Run> runs) {
    {
        const std::lock_guard lock(mutex_);
        runs_ = std::move(runs);
        next_.assign(runs_.size(), 0);
        busy_.assign(runs_.size(), false);
        ++generation_;
    }
    changed_.notify_all();
}

void ReadAhead::work() {
    std::unique_lock lock(mutex_);
    while (true) {
        std::size_t chosen = runs_.size();
        changed_.wait(lock, [&] {
            chosen = runs_.size();
            for (std::size_t i = 0; i < runs_.size(); ++i)
                if (!busy_[i] && next_[i] < runs_[i].times.size() &&
                    (chosen == runs_.size() || next_[i] < next_[chosen]))
                    chosen = i;
            return end_ || chosen < runs_.size();
        });
        if (end_) return;
        const std::uint64_t generation = generation_;
        const Run& run = runs_[chosen];
        const Seconds time = run.times[next_[chosen]++];
        const MediaRef ref = run.ref;
        const int level = run.level;
        const Footage footage = run.footage;
        const bool back = run.back;
        busy_[chosen] = true;
        lock.unlock();
        try {
            if (back)
                library_->go_back(ref, time, level);
            else
                library_->frame(ref, time, level, footage);
        } catch (const std::exception&) {
            // told where the picture is made
        }
        lock.lock();
        if (generation == generation_) busy_[chosen] = false;
    }
}

} // namespace porb
