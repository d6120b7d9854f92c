// A bounded queue between two stages of a pipeline. Closing it ends both sides: readers drain what is left,
// writers are told to stop.
#pragma once

#include <deque>
#include <optional>

#include "base/mutex.hpp"

namespace wavecrest::base {

template <typename T>
class BoundedQueue {
  public:
    explicit BoundedQueue(std::size_t capacity) : capacity_(capacity) {}

    // Waits for room; false when the queue was closed (the item is dropped).
    bool push(T item) {
        const MutexLock lock(mutex_);
        while (!closed_ && items_.size() >= capacity_) room_.wait(mutex_);
        if (closed_) return false;
        items_.push_back(std::move(item));
        filled_.notify_one();
        return true;
    }

    // Waits for an item; nothing when the queue is closed and empty.
    std::optional<T> pop() {
        const MutexLock lock(mutex_);
        while (!closed_ && items_.empty()) filled_.wait(mutex_);
        if (items_.empty()) return std::nullopt;
        T item = std::move(items_.front());
        items_.pop_front();
        room_.notify_one();
        return item;
    }

    // No more items will come.
    void close() {
        const MutexLock lock(mutex_);
        closed_ = true;
        room_.notify_all();
        filled_.notify_all();
    }

    // Closes and drops what is queued: the way out after an error.
    void abandon() {
        const MutexLock lock(mutex_);
        closed_ = true;
        items_.clear();
        room_.notify_all();
        filled_.notify_all();
    }

  private:
    const std::size_t capacity_;
    Mutex mutex_;
    Condition room_;
    Condition filled_;
    std::deque<T> items_ GUARDED_BY(mutex_);
    bool closed_ GUARDED_BY(mutex_) = false;
};

}  // namespace wavecrest::base
