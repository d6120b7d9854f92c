// Slows down whoever guesses keys: of one address so many wrong ones are looked at, then one in so long. Others are not
// held up.
#pragma once

#include <chrono>
#include <cstddef>
#include <list>
#include <string>
#include <unordered_map>

#include "base/clock.hpp"
#include "base/mutex.hpp"

namespace wavecrest::net {

class GuessLimiter {
  public:
    static constexpr int kAtOnce = 10;               // wrong keys of an address before it is slowed down
    static constexpr double kSecondsForOne = 3;      // then
    static constexpr std::size_t kMostKnown = 4096;  // addresses; the one heard of longest ago is forgotten

    explicit GuessLimiter(base::Clock& clock) : clock_(clock) {}

    // Whether a key from this address may be looked at now. Of IPv6 the first 64 bits count: one host has as many
    // addresses below them as it likes.
    bool may_try(const std::string& address);
    // One was wrong.
    void failed(const std::string& address);

  private:
    struct Known {
        double left = kAtOnce;
        Time at{};
        std::list<std::string>::iterator place;
    };
    Known& of(const std::string& address) REQUIRES(mutex_);

    base::Clock& clock_;
    base::Mutex mutex_;
    std::list<std::string> order_ GUARDED_BY(mutex_);  // heard of last in front
    std::unordered_map<std::string, Known> known_ GUARDED_BY(mutex_);
};

// Whoever measures how long a comparison takes may not learn how much of a key was right.
bool same_secret(const std::string& a, const std::string& b);

// A text in which values of `key` in queries of addresses are hidden ("...?key=***"): for logs, results and errors.
std::string without_keys(std::string text);

}  // namespace wavecrest::net
