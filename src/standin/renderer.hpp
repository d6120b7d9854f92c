// A UPnP renderer of this machine, in place of a television: it is found, told what to play, really fetches it over a
// link of its own and 'plays' by the playback model, as a device of a class would. No picture is shown.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.hpp"
#include "base/time.hpp"
#include "device/device.hpp"

namespace wavecrest::standin {

enum class RendererFault {
    none,
    slow,           // takes two seconds for every answer
    wrong_state,    // says that it plays, whatever it does
    stops_at_seek,  // takes a seek, and then nothing moves
    false_claims,   // says that it plays everything
};
std::optional<RendererFault> fault_from_name(std::string_view name);  // "slow", "wrong-state" ...
const std::vector<std::string>& fault_names();

struct RendererSettings {
    std::string name;           // as it is found
    device::Device device;      // as which it plays
    std::int64_t link_bps = 0;  // of its link; 0: as fast as it goes
    std::string interface;      // by name or address; empty: all
    std::uint16_t port = 0;     // of its server; 0: any free one
    RendererFault fault = RendererFault::none;
    bool announced = true;                                 // by SSDP
    std::function<void(const std::string& line)> on_line;  // what it is doing; from any thread, one at a time
};

struct RendererStatus {
    std::string state;    // "PLAYING", as its service says
    std::string address;  // of what it plays; empty: nothing
    Time position{};
    int volume = 0;
    bool mute = false;
    std::uint64_t received = 0;  // bytes of what it plays
    std::size_t stalls = 0;
};

class Renderer {
  public:
    // Fails (kind machine) where it can't listen or be announced.
    static Result<std::unique_ptr<Renderer>> start(RendererSettings settings);
    virtual ~Renderer() = default;
    virtual std::string location() const = 0;  // of its description, at this machine's loopback address
    virtual RendererStatus status() const = 0;
};

}  // namespace wavecrest::standin
