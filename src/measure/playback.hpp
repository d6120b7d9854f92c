// A player, simulated: what is in its buffer, when it starts, where it stalls. Pure arithmetic on the times it is told.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "base/time.hpp"

namespace wavecrest::measure {

struct PlayerSettings {
    Time start_buffer{};  // media it wants in its buffer before it starts
    Time buffer{};        // media it holds at most
    Time duration{};      // of the title
    // Media it wants before it goes on after a stall; 0: as much as at the start. From stall to stall it may want more:
    // so many times as much, up to a most (0: without one).
    Time resume_buffer{};
    double resume_growth = 1;
    Time most_resume_buffer{};
    Time refill{};  // once it holds the most, it reads on when it holds less than this; 0: at once
    // From when it has what it wants to the first picture: decoders and outputs are made.
    Time start_delay{};
};

struct Stall {
    Time at{};      // in the title
    Time length{};  // how long the picture stood still
    Time clock{};   // when it began, on the player's clock
};

// Of stalls, those that people see: of 100 ms and more, and shorter ones (from 20 ms on) where all together they make
// 250 ms.
std::vector<Stall> seen_stalls(std::vector<Stall> stalls);

struct BufferLevel {
    Time clock{};  // since the request
    Time level{};  // media in the buffer
};

// What of a title has arrived, as far as a player can show it: all of it in order, or up to the gap. Whoever knows
// where its bytes lie gives one.
class Arrivals {
  public:
    virtual ~Arrivals() = default;
    // How far the title can be played when so many bytes have come; from call to call never less.
    virtual Time playable(std::uint64_t received) = 0;
    virtual void restart() = 0;
    virtual std::uint64_t bytes() const = 0;  // of all
    // Bytes that come at once, as far as the player is concerned: whole segments, or what it hands to its decoder. The
    // end of the part that holds this byte.
    virtual std::uint64_t part_end(std::uint64_t at) const = 0;
};

// The slowest link over which a player plays to the end without a stall (of 100 ms or more, or 250 ms in all) and
// starts within 15 s, bits of payload a second; found to 2 %, in memory. `latency` passes with each part that is asked
// for by itself (0: none is). Nothing where even `most_bps` doesn't do.
std::optional<std::int64_t> slowest_link(const PlayerSettings& settings, Arrivals& arrivals, Time latency,
                                         std::int64_t most_bps);

// The player's clock starts with the request (0) and must not go back between calls.
class PlaybackModel {
  public:
    explicit PlaybackModel(const PlayerSettings& settings) : settings_(settings), wanted_(settings.start_buffer) {}

    // By `clock`, everything up to `until` of the title has arrived.
    void arrived(Time clock, Time until);
    // What has arrived and wasn't shown yet is lost; returns how far the title has been. What comes next follows there.
    Time drop(Time clock);
    // When the player, reading on, has room again: `clock` itself when it has room now.
    Time room_at(Time clock) const;
    // Plays what has arrived to its end; a stall that never ended is closed at the time given.
    void finish(Time clock);

    bool started() const { return startup_.has_value(); }
    bool playing() const { return playing_; }
    // From the request to the first picture moving; nothing when it never started.
    std::optional<Time> startup() const { return startup_; }
    const std::vector<Stall>& stalls() const { return stalls_; }
    Time position() const { return position_; }
    // The buffer's level over time, at most ten points a second.
    const std::vector<BufferLevel>& levels() const { return levels_; }

  private:
    void advance(Time clock);
    Time played_from() const { return now_ > begins_ ? now_ : begins_; }
    void note_level(Time clock, bool always);

    PlayerSettings settings_;
    Time wanted_{};  // before it plays
    Time now_{};
    Time begins_{};  // to play: see PlayerSettings::start_delay
    Time available_{};
    Time position_{};
    bool playing_ = false;
    std::optional<Time> startup_;
    std::vector<Stall> stalls_;
    std::vector<BufferLevel> levels_;
};

}  // namespace wavecrest::measure
