#pragma once

#include <condition_variable>
#include <deque>
#include <mutex>
#include <optional>

namespace porb {

/// A short queue between two workers. put() waits while it is full, take() while it is empty.
template <class T>
class Pipe {
  public:
    explicit Pipe(std::size_t capacity) : capacity_(capacity) {}

    /// Waits until something can be put in: for whoever makes large things only when they are wanted. False
    /// when the other side gave up.
    bool wait_for_room() {
        std::unique_lock lock(mutex_);
        return has_room(lock);
    }
    /// False when the other side gave up.
    bool put(T item) {
        std::unique_lock lock(mutex_);
        if (!has_room(lock)) return false;
        items_.push_back(std::move(item));
        changed_.notify_all();
        return true;
    }
    /// Nothing when the pipe was closed and is empty, or abandoned.
    std::optional<T> take() {
        std::unique_lock lock(mutex_);
        changed_.wait(lock, [&] { return !items_.empty() || closed_ || abandoned_; });
        if (abandoned_ || items_.empty()) return std::nullopt;
        T item = std::move(items_.front());
        items_.pop_front();
        changed_.notify_all();
        return item;
    }
    void close() { set(closed_); }
    void abandon() { set(abandoned_); }

  private:
    bool has_room(std::unique_lock<std::mutex>& lock) {
        changed_.wait(lock, [&] { return items_.size() < capacity_ || abandoned_; });
        return !abandoned_;
    }
    void set(bool& flag) {
        const std::lock_guard lock(mutex_);
        flag = true;
        changed_.notify_all();
    }
    std::mutex mutex_;
    std::condition_variable changed_;
    std::deque<T> items_;
    std::size_t capacity_;
    bool closed_ = false, abandoned_ = false;
};

} // namespace porb
