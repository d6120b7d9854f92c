// How a player fares that can only be asked where it is: from its state and position over time, as a control point
// gets them. Positions often come in whole seconds, so that shorter halts aren't seen unless the player tells them.
#pragma once

#include <optional>
#include <vector>

#include "base/time.hpp"
#include "measure/playback.hpp"

namespace wavecrest::measure {

struct Reading {
    Time clock{};  // since it was told to play
    enum class State { stopped, playing, waiting, paused } state = State::stopped;
    std::optional<Time> position{};  // in the title; nothing: it doesn't say
};

struct Rendering {
    bool started = false;
    Time startup{};             // until its position began to move
    std::vector<Stall> stalls;  // of half a second or more where it said so, else of kUnseen or more
    double speed = 0;           // of the position against the clock, outside of stalls; 0: too short to tell
    double speed_margin = 0;    // by so much it may be off: positions in whole seconds are
    bool ended = false;         // it stopped by itself
    Time last{};                // position that was seen last
};

// Shorter halts can't be told from positions in whole seconds.
inline constexpr double kUnseenHalt = 1.2;  // seconds

// `from`: where in the title it began.
Rendering rendering_of(const std::vector<Reading>& readings, Time from = {});

}  // namespace wavecrest::measure
