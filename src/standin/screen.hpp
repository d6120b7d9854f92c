// A device with a browser, without one: goes through the check page as a device of a class would, in place of hardware
// that isn't there. Its page is the real one's other half: the same messages over the same wire.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/result.hpp"
#include "device/device.hpp"
#include "net/url.hpp"
#include "trial/step.hpp"

namespace wavecrest::standin {

// What a device of this description sees of a step whose clip has these tracks, in this container; at 60 Hz.
trial::Seen seen_by(const device::Device& device, const trial::Step& step, std::string_view container,
                    const std::vector<Track>& tracks);

struct ScreenSettings {
    net::Url page;              // the check page's address
    device::Device device;      // as which it plays
    std::string name;           // answered where the page asks which device it is; empty: the last of the answers
    std::int64_t link_bps = 0;  // of its link; 0: as fast as it goes
    std::function<void(const std::string& what)> on_step;
};
// Goes through the whole test and gives what the page says at the end, a line each. Clips are really fetched, over a
// link of the given rate, and looked into: what their bytes hold decides. Takes no longer than fetching. Fails (kind
// wanting) where the page can't be reached, or answers as none does.
Result<std::vector<std::string>> take_test(const ScreenSettings& settings, const Cancel& cancel);

}  // namespace wavecrest::standin
