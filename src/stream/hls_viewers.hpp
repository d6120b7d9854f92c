// Who watches by HLS: players fetch one segment after the other on connections that come and go, so that a viewer is
// whoever has asked lately.
#pragma once

#include <chrono>
#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "base/mutex.hpp"
#include "base/time.hpp"

namespace wavecrest::stream {

class HlsViewers {
  public:
    using Now = std::chrono::steady_clock::time_point;
    // A player that has asked for nothing so long has gone. It is longer than any pause between two segments.
    static constexpr std::chrono::seconds kGone{20};

    struct One {
        std::uint64_t id = 0;
        std::string address, stream;
        bool live = false;
        std::uint64_t segment = 0;  // the latest it asked for
        std::uint64_t first = 0;    // of those that it asked for one after the other
        std::string agent;          // how it calls itself
        Time quiet{};               // since it asked
        std::uint64_t sent = 0;     // bytes
        Time connected{};
    };

    struct Player {
        std::string address, name;  // the name that it was given; empty: whoever is at this address
        std::string stream;
        bool live = false;
    };

    // A number to give to a player with its playlist, so that those behind one address are told apart.
    std::string new_name();
    // A player asked for a segment of so many bytes, out of one of the stream's lists (of a ladder there are several).
    void asked(const Player& player, const std::string& list, std::uint64_t segment, std::size_t bytes, Now now,
               const std::string& agent = "");
    std::vector<One> watching(Now now) const;
    // A player of a live stream is given a list up to a segment; whether it has been. Only who has asked for a segment
    // of it is known, since many fetch the list twice before; but then it is known what they were given.
    bool is_known(const Player& player) const;
    void listed(const Player& player, const std::string& list, std::uint64_t newest, Now now);
    bool has_listed(const Player& player, const std::string& list, std::uint64_t newest) const;

  private:
    struct List {
        std::optional<std::uint64_t> newest;  // that it was given
        bool watched = false;                 // it has asked for a segment of it
    };
    struct Entry {
        One one;
        Now first, last;
        std::map<std::string, List> lists;
        bool watches = false;  // it has asked for a segment
    };
    // More are not told apart: what outsiders make up must not fill the memory.
    static constexpr std::size_t kMost = 4096;

    // Nothing where there are too many.
    Entry* entry_of(const std::string& key, Now now) REQUIRES(mutex_);

    mutable base::Mutex mutex_;
    std::map<std::string, Entry> entries_ GUARDED_BY(mutex_);
    std::uint64_t last_id_ GUARDED_BY(mutex_) = 0;
    std::uint64_t last_name_ GUARDED_BY(mutex_) = 0;
};

}  // namespace wavecrest::stream
