// The screens of the house for the control page: renderers of the network (UPnP), found and asked while somebody looks,
// and told what to do. All talk with them goes by a thread of its own, since devices answer when they like.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/result.hpp"
#include "base/time.hpp"

namespace wavecrest::stream {

class StreamServer;

struct Screen {
    std::string udn, name, address;
    std::string state;  // "playing", "paused" ...; "doesn't answer"
    std::string title;  // of what it plays; empty: nothing, or unknown
    std::optional<Time> position, duration;
    std::optional<int> volume;  // percent
    bool mute = false;
    std::string trouble;  // of the latest order; empty: none
};

struct ScreenOrder {
    std::string screen;  // its UDN, or "all"
    enum class What { play, pause, resume, stop, seek_to, seek_by, volume, mute } what = What::play;
    std::string stream;  // to play: its name
    Time time{};         // to seek to or by
    int percent = 0;     // volume
    bool on = false;     // mute
};

class Screens {
  public:
    explicit Screens(const StreamServer& server);  // must outlive it
    Screens(const Screens&) = delete;
    Screens& operator=(const Screens&) = delete;
    ~Screens();

    // As they were when looked at last; they are looked at again every two seconds for as long as this is called, and
    // searched for every half a minute. `searched`: whether that was done at least once.
    struct Seen {
        bool searched = false;
        std::vector<Screen> screens;
    };
    Seen list();
    // Is done soon; what came of it is told by the list.
    void order(const ScreenOrder& order);

  private:
    struct State;
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::stream
