#include "net/guess_limiter.hpp"

#include <openssl/crypto.h>

#include <algorithm>

namespace wavecrest::net {
namespace {

std::string network_of(const std::string& address) {
    if (address.find(':') == std::string::npos) return address;
    std::size_t end = 0;
    for (int groups = 0; groups < 4 && end != std::string::npos; ++groups) end = address.find(':', end + 1);
    return address.substr(0, end);
}

}  // namespace

GuessLimiter::Known& GuessLimiter::of(const std::string& address) {
    const std::string network = network_of(address);
    auto found = known_.find(network);
    if (found == known_.end()) {
        if (known_.size() >= kMostKnown) {
            known_.erase(order_.back());
            order_.pop_back();
        }
        order_.push_front(network);
        found = known_.emplace(network, Known{kAtOnce, clock_.now(), order_.begin()}).first;
    }
    Known& known = found->second;
    order_.splice(order_.begin(), order_, known.place);
    const Time now = clock_.now();
    known.left = std::min(known.left + base::to_seconds(now - known.at) / kSecondsForOne, double{kAtOnce});
    known.at = now;
    return known;
}

bool GuessLimiter::may_try(const std::string& address) {
    const base::MutexLock lock(mutex_);
    return of(address).left >= 1;
}

void GuessLimiter::failed(const std::string& address) {
    const base::MutexLock lock(mutex_);
    Known& known = of(address);
    known.left = std::max(known.left - 1, 0.0);
}

bool same_secret(const std::string& a, const std::string& b) {
    return a.size() == b.size() && ::CRYPTO_memcmp(a.data(), b.data(), a.size()) == 0;
}

std::string without_keys(std::string text) {
    for (const std::string_view mark : {"?key=", "&key="}) {
        for (std::size_t at = text.find(mark); at != std::string::npos; at = text.find(mark, at + 1)) {
            const std::size_t from = at + mark.size();
            const std::size_t end = std::min(text.find_first_of("&#\"'<> \t\r\n),;", from), text.size());
            text.replace(from, end - from, "***");
        }
    }
    return text;
}

}  // namespace wavecrest::net
