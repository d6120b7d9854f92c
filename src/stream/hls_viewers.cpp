#include "stream/hls_viewers.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace wavecrest::stream {

namespace {

std::string key_of(const std::string& address, bool live, const std::string& stream, const std::string& name) {
    return fmt::format("{}\n{}\n{}\n{}", address, live, stream, name.substr(0, 20));
}

}  // namespace

std::string HlsViewers::new_name() {
    const base::MutexLock lock(mutex_);
    return fmt::format("{}", ++last_name_);
}

void HlsViewers::asked(const std::string& address, const std::string& name, const std::string& stream, bool live,
                       std::uint64_t segment, std::size_t bytes, Now now, const std::string& agent) {
    const base::MutexLock lock(mutex_);
    Entry* const found = entry_of(key_of(address, live, stream, name), now);
    if (!found) return;
    Entry& entry = *found;
    if (!entry.watches) {
        entry.watches = true;
        One& one = entry.one;
        one.id = ++last_id_;
        one.address = address;
        one.stream = stream;
        one.live = live;
        one.first = segment;
        one.segment = segment;
        entry.first = entry.last = now;
    }
    // One that comes back after it had gone begins anew.
    if (now - entry.last > kGone) {
        entry.first = now;
        entry.one.sent = 0;
        entry.one.id = ++last_id_;
    }
    entry.last = now;
    // Asking for one again, or for the next, is going on.
    if (segment > entry.one.segment + 1 || segment + 1 < entry.one.segment) entry.one.first = segment;
    entry.one.agent = agent;
    entry.one.segment = segment;
    entry.one.sent += bytes;
}

HlsViewers::Entry* HlsViewers::entry_of(const std::string& key, Now now) {
    if (const auto found = entries_.find(key); found != entries_.end()) return &found->second;
    std::erase_if(entries_, [&](const auto& entry) { return now - entry.second.last > kGone; });
    if (entries_.size() >= kMost) return nullptr;
    Entry& entry = entries_[key];
    entry.first = entry.last = now;
    return &entry;
}

void HlsViewers::listed(const std::string& address, const std::string& name, const std::string& stream,
                        std::uint64_t newest, Now now) {
    const base::MutexLock lock(mutex_);
    if (Entry* const entry = entry_of(key_of(address, true, stream, name), now)) entry->listed = newest;
}

bool HlsViewers::is_known(const std::string& address, const std::string& name, const std::string& stream) const {
    const base::MutexLock lock(mutex_);
    const auto found = entries_.find(key_of(address, true, stream, name));
    return found != entries_.end() && found->second.watches;
}

bool HlsViewers::has_listed(const std::string& address, const std::string& name, const std::string& stream,
                            std::uint64_t newest) const {
    const base::MutexLock lock(mutex_);
    const auto found = entries_.find(key_of(address, true, stream, name));
    return found != entries_.end() && found->second.watches && found->second.listed == newest;
}

std::vector<HlsViewers::One> HlsViewers::watching(Now now) const {
    const base::MutexLock lock(mutex_);
    std::vector<One> all;
    for (const auto& [key, entry] : entries_) {
        if (!entry.watches || now - entry.last > kGone) continue;
        all.push_back(entry.one);
        all.back().connected = std::chrono::duration_cast<Time>(now - entry.first);
        all.back().quiet = std::chrono::duration_cast<Time>(now - entry.last);
    }
    return all;
}

}  // namespace wavecrest::stream
