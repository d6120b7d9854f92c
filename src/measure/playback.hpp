// A player, simulated: what is in its buffer, when it starts, where it stalls. Pure arithmetic on the times it is told.
#pragma once

#include <optional>
#include <vector>

#include "base/time.hpp"

namespace wavecrest::measure {

struct PlayerSettings {
    Time start_buffer{};  // media it wants in its buffer before it starts, and before it goes on after a stall
    Time buffer{};        // media it holds at most
    Time duration{};      // of the title
};

struct Stall {
    Time at{};      // in the title
    Time length{};  // how long the picture stood still
    Time clock{};   // when it began, on the player's clock
};

struct BufferLevel {
    Time clock{};  // since the request
    Time level{};  // media in the buffer
};

// The player's clock starts with the request (0) and must not go back between calls.
class PlaybackModel {
  public:
    explicit PlaybackModel(const PlayerSettings& settings) : settings_(settings) {}

    // By `clock`, everything up to `until` of the title has arrived.
    void arrived(Time clock, Time until);
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
    void note_level(Time clock, bool always);

    PlayerSettings settings_;
    Time now_{};
    Time available_{};
    Time position_{};
    bool playing_ = false;
    std::optional<Time> startup_;
    std::vector<Stall> stalls_;
    std::vector<BufferLevel> levels_;
};

}  // namespace wavecrest::measure
