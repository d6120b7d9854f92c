// When a conversion may work, so that it is in nobody's way: by hours of the day, by a share of the processor, and not
// while a stream suffers.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <string_view>

#include "base/cancel.hpp"
#include "base/result.hpp"
#include "base/time.hpp"

namespace wavecrest::job {

struct Nice {
    struct Hours {
        int from = 0, to = 0;  // minutes of the day, local time; from 22:00 to 07:00 goes over midnight
    };
    std::optional<Hours> hours;
    double share = 1;  // of all processors together, above 0 to 1
};
// "22:00-07:00", "50 %", or both with a comma. Fails (kind usage) for other texts.
Result<Nice> parse_nice(const std::string& text);

// What a pacer asks of the world.
struct World {
    std::function<Time()> now;       // of a clock that only goes forward
    std::function<int()> minute;     // of the day, local time
    std::function<double()> worked;  // processor time of this program so far, s
    int processors = 1;
    // Whether a stream that somebody watches suffers since it was asked last; asked every few seconds.
    std::function<bool()> suffers;
    // Whether anybody watches.
    std::function<bool()> watched;
};

// Decides before each picture whether to go on. Not for several threads.
class Pacer {
  public:
    Pacer(const Nice& nice, World world) : nice_(nice), world_(std::move(world)) {}

    // How long to wait before asking again; 0: go on.
    Time wait();
    // Why, for people: "until 22:00 (--nice)"; empty while it goes on.
    const std::string& reason() const { return reason_; }

  private:
    std::optional<Time> by_hours();
    std::optional<Time> by_streams();
    Time by_share();

    Nice nice_;
    World world_;
    std::string reason_;
    // Of the processor: since when it is counted, and what was worked then.
    std::optional<Time> since_;
    double worked_ = 0;
    // Of streams: when they are asked again, and whether it waits for them now.
    std::optional<Time> ask_at_;
    bool gives_way_ = false;
    Time give_way_until_{}, patience_ = base::from_seconds(30);
};

// Waits as the pacer says, in short steps, until it may go on or is cancelled. `told` hears each new reason once.
void wait_for(Pacer& pacer, const std::function<void(const std::string&)>& told, const Cancel& cancel);

// The real one, with the streams of this user's servers on this machine.
World real_world();

}  // namespace wavecrest::job
