// Cancellation: a flag shared by those who work and those who may ask them to stop. Safe to set from a signal handler.
#pragma once

#include <atomic>

namespace wavecrest {
namespace base {

class Cancel {
  public:
    void request() noexcept { requested_.store(true, std::memory_order_relaxed); }
    bool requested() const noexcept { return requested_.load(std::memory_order_relaxed); }

  private:
    std::atomic<bool> requested_{false};
};

}  // namespace base

using base::Cancel;

}  // namespace wavecrest
