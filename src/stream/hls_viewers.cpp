#include "stream/hls_viewers.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace wavecrest::stream {

namespace {

std::string key_of(const HlsViewers::Player& player) {
    return fmt::format("{}\n{}\n{}\n{}", player.address, player.live, player.stream, player.name.substr(0, 20));
}

}  // namespace

std::string HlsViewers::new_name() {
    const base::MutexLock lock(mutex_);
    return fmt::format("{}", ++last_name_);
}

void HlsViewers::asked(const Player& player, const std::string& list, std::uint64_t segment, std::size_t bytes, Now now,
                       const std::string& agent) {
    const base::MutexLock lock(mutex_);
    Entry* const found = entry_of(key_of(player), now);
    if (!found) return;
    Entry& entry = *found;
    entry.lists[list].watched = true;
    if (!entry.watches) {
        entry.watches = true;
        One& one = entry.one;
        one.id = ++last_id_;
        one.address = player.address;
        one.stream = player.stream;
        one.live = player.live;
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

void HlsViewers::listed(const Player& player, const std::string& list, std::uint64_t newest, Now now) {
    const base::MutexLock lock(mutex_);
    if (Entry* const entry = entry_of(key_of(player), now)) entry->lists[list].newest = newest;
}

bool HlsViewers::is_known(const Player& player) const {
    const base::MutexLock lock(mutex_);
    const auto found = entries_.find(key_of(player));
    return found != entries_.end() && found->second.watches;
}

bool HlsViewers::has_listed(const Player& player, const std::string& list, std::uint64_t newest) const {
    const base::MutexLock lock(mutex_);
    const auto found = entries_.find(key_of(player));
    if (found == entries_.end()) return false;
    const auto one = found->second.lists.find(list);
    return one != found->second.lists.end() && one->second.watched && one->second.newest == newest;
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
