// How viewers fare who fetch a film for themselves, by what the server sees of them: what arrived at them when, whether
// they wanted more, and how their player lives off it (playback.hpp). Nothing is asked of the player. Where it stands
// and whether it ran dry is computed from that, as a player of its kind would; what it shows can't be seen.
#pragma once

#include <functional>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "measure/playback.hpp"

namespace wavecrest::measure {

// One look at what a viewer has on its way.
struct ViewerSight {
    std::string address, agent, stream;
    bool hls = false;
    Time from{};            // in the film: where what it fetches begins
    Time until{};           // up to which that has arrived at it
    bool wants = false;     // it takes what comes; else it is served, or reads no further for now
    Time duration{};        // of the film
    bool is_active = true;  // something is on its way; else its connection only stands by
    // Of a live stream, which everybody is sent at once: the number of its connection (0: not live), times on the
    // stream's timeline, how far it is behind, and how often it was moved on to a later place because it was too slow.
    std::uint64_t live = 0;
    Time lag{};
    std::uint64_t skips = 0;
};

struct Viewing {
    std::string address, agent, stream;
    bool hls = false;
    Time began{}, last{};         // on the watch's clock: its first request, and when it was seen last
    Time duration{};              // of the film
    std::optional<Time> startup;  // from the first request until enough had come; nothing: never enough
    Time position{};              // where playback stands
    Time arrived{};               // up to which the film is there
    Time most_buffered{};         // how much it held at most
    std::vector<Stall> stalls;    // with their clock since `began`
    int seeks = 0;
    bool held_back = false;  // it read no further for a while: it has buffered as much as it likes
    bool ended = false;      // it has gone
    // Of a live stream, where times in the film are those since it joined.
    bool live = false;
    std::uint64_t id = 0;     // of its connection
    Time most_lag{};          // how far it was behind at most
    std::uint64_t skips = 0;  // how often it was moved on

    Time stalled() const;
    // What it was at the end, as far as can be told: "played to the end", "left at 12:05", "left at once" ...
    enum class End { playing, complete, left, left_at_once };
    End end() const;
};

class ViewingWatch {
  public:
    // How a player plays that calls itself so.
    using SettingsOf = std::function<PlayerSettings(const std::string& agent, bool hls)>;
    explicit ViewingWatch(SettingsOf settings_of) : settings_of_(std::move(settings_of)) {}

    // All that is seen at an instant, several times a second; the clock must not go back. Who isn't among it any more
    // has all it asked for, and is gone after kGone; of a live stream at once.
    void look(Time now, const std::vector<ViewerSight>& sights);
    // Those that are there, and those that went, the latest last; at most kMostKept of these are kept.
    std::vector<Viewing> viewings() const;
    // Those that went since the last call.
    std::vector<Viewing> take_gone();

    static constexpr std::size_t kMostKept = 200, kMostAtOnce = 2000;

  private:
    struct One {
        Viewing viewing;
        PlayerSettings settings;
        std::optional<PlaybackModel> model;  // of what is played without a seek
        Time leg_from{}, leg_began{};        // in the film, and on the clock
        Time joined{}, live_from{};          // where on its timeline a live stream was joined, and gone on with
        Time held{};                         // of the clock, in which it wanted nothing and had nothing left to play
        Time looked{}, plays_until{};
        std::size_t counted = 0;  // stalls of the legs before
        bool rests = false;       // it has nothing left and asks for nothing
    };
    void see(Time now, One& one, const ViewerSight& sight);
    void see_live(Time now, One& one, const ViewerSight& sight);
    void begin_leg(Time now, One& one, Time from);
    void close_leg(Time now, One& one);
    static void take_over(Time now, One& one);

    SettingsOf settings_of_;
    std::map<std::string, One> ones_;
    std::vector<Viewing> gone_;
    std::size_t untold_ = 0;  // of the last of these
};

}  // namespace wavecrest::measure
