#pragma once

#include <algorithm>
#include <initializer_list>
#include <iterator>
#include <memory>
#include <utility>
#include <vector>

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

/// A list whose entries copies of it share until one is edited: shots inside a project, of which every undo
/// step is a copy. Reading never copies. Whatever may change an entry (operator[], front(), back(), iterating
/// over a list that is not const) first makes it a copy of its own if it is shared: a reference got that way
/// is for use before the list is copied next. Compares by value. One list is for one thread at a time, copies
/// of it are for any.
template <class T>
class SharedList {
    using Entries = std::vector<std::shared_ptr<T>>;
    template <class List, class Value>
    class Iterator {
      public:
        using iterator_category = std::forward_iterator_tag;
        using value_type = T;
        using difference_type = std::ptrdiff_t;
        using pointer = Value*;
        using reference = Value&;
        Iterator() = default;
        Iterator(List* list, std::size_t at) : list_(list), at_(at) {}
        Value& operator*() const { return (*list_)[at_]; }
        Value* operator->() const { return &**this; }
        Iterator& operator++() { return ++at_, *this; }
        Iterator operator++(int) { return Iterator(list_, at_++); }
        bool operator==(const Iterator& o) const { return at_ == o.at_; }

      private:
        List* list_ = nullptr;
        std::size_t at_ = 0;
    };

  public:
    using value_type = T;
    SharedList() = default;
    SharedList(std::initializer_list<T> values) {
        for (const T& v : values) push_back(v);
    }

    std::size_t size() const { return entries_.size(); }
    bool empty() const { return entries_.empty(); }
    const T& operator[](std::size_t i) const { return *entries_[i]; }
    T& operator[](std::size_t i) { return own(entries_[i]); }
    const T& at(std::size_t i) const { return *entries_.at(i); }
    T& at(std::size_t i) { return own(entries_.at(i)); }
    const T& front() const { return *entries_.front(); }
    T& front() { return own(entries_.front()); }
    const T& back() const { return *entries_.back(); }
    T& back() { return own(entries_.back()); }
    auto begin() const { return Iterator<const SharedList, const T>(this, 0); }
    auto end() const { return Iterator<const SharedList, const T>(this, size()); }
    auto begin() { return Iterator<SharedList, T>(this, 0); }
    auto end() { return Iterator<SharedList, T>(this, size()); }

    void push_back(T value) { entries_.push_back(std::make_shared<T>(std::move(value))); }
    template <class... Args>
    T& emplace_back(Args&&... args) {
        return *entries_.emplace_back(std::make_shared<T>(std::forward<Args>(args)...));
    }
    void pop_back() { entries_.pop_back(); }
    void erase(std::size_t i) { entries_.erase(entries_.begin() + std::ptrdiff_t(i)); }
    void clear() { entries_.clear(); }
    void reserve(std::size_t n) { entries_.reserve(n); }
    /// Says how many went.
    template <class Which>
    std::size_t erase_if(const Which& which) {
        return std::erase_if(entries_, [&](const auto& e) { return which(std::as_const(*e)); });
    }
    template <class Before>
    void stable_sort(const Before& before) {
        std::stable_sort(entries_.begin(), entries_.end(), [&](const auto& a, const auto& b) {
            return before(std::as_const(*a), std::as_const(*b));
        });
    }

    bool operator==(const SharedList& o) const {
        return std::equal(entries_.begin(), entries_.end(), o.entries_.begin(), o.entries_.end(),
                          [](const auto& a, const auto& b) { return a == b || *a == *b; });
    }

  private:
    static T& own(std::shared_ptr<T>& entry) {
        if (entry.use_count() > 1) entry = std::make_shared<T>(std::as_const(*entry));
        return *entry;
    }
    Entries entries_;
};

} // namespace porb
