#include "base/clock.hpp"

#include <thread>

namespace wavecrest::base {

void RealClock::wait_until(Time time) {
    std::this_thread::sleep_until(start_ + std::chrono::duration_cast<std::chrono::steady_clock::duration>(time));
}

}  // namespace wavecrest::base
