#pragma once

#include <memory>

namespace porb {

/// A value that many copies share until one of them is edited: long lists inside a project, of which every
/// undo step is a copy. Reads like a pointer to const; compares by value.
template <class T>
class Shared {
  public:
    Shared() : value_(empty()) {}
    Shared(T value) : value_(std::make_shared<const T>(std::move(value))) {} // NOLINT: meant to convert

    const T& operator*() const { return *value_; }
    const T* operator->() const { return value_.get(); }
    /// Makes it a copy of its own, changed by `work`.
    template <class Work>
    void edit(Work&& work) {
        T next = *value_;
        work(next);
        value_ = std::make_shared<const T>(std::move(next));
    }
    bool operator==(const Shared& o) const { return value_ == o.value_ || *value_ == *o.value_; }

  private:
    static const std::shared_ptr<const T>& empty() {
        static const auto kEmpty = std::make_shared<const T>();
        return kEmpty;
    }
    std::shared_ptr<const T> value_;
};

} // namespace porb
