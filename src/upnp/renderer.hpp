// A renderer (a television, a receiver, a box) as a control point drives it: AVTransport and RenderingControl
// (ISO/IEC 29341-4-10 and -4-13).
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include "base/result.hpp"
#include "base/time.hpp"
#include "upnp/description.hpp"
#include "upnp/didl.hpp"

namespace wavecrest::upnp {

enum class TransportState { stopped, playing, paused, transitioning, no_media, other };
std::string_view short_name(TransportState state);      // "playing"
TransportState transport_state(std::string_view text);  // "PLAYING"

struct TransportInfo {
    TransportState state = TransportState::other;
    bool error = false;  // it says that one occurred
};
struct PositionInfo {
    std::optional<Time> position;  // nothing: it doesn't say
    std::optional<Time> duration;
    std::string address;  // of what it plays
    std::string title;    // as it was told; empty: unknown
};

class Renderer {
  public:
    // Fails (kind wanting) where the device is none, or can't be driven.
    static Result<Renderer> of(const DeviceDescription& device, Time limit = base::from_seconds(5));

    const std::string& name() const { return name_; }
    const Service& transport() const { return transport_; }
    const std::optional<Service>& rendering() const { return rendering_; }

    // Gives it what to play: the item's first resource, with the item's description. It is stopped before.
    Status set(const Object& item);
    Status play();
    Status pause();
    Status stop();
    Status seek(Time to);
    Result<TransportInfo> state() const;
    Result<PositionInfo> position() const;
    // In percent of its range. Fails (kind wanting) where it has no such control.
    Result<int> volume() const;
    Status set_volume(int percent);
    Result<bool> mute() const;
    Status set_mute(bool mute);

  private:
    Renderer() = default;
    Result<std::vector<std::pair<std::string, std::string>>> transport_action(
        const char* name, std::vector<std::pair<std::string, std::string>> further = {}) const;
    Result<std::vector<std::pair<std::string, std::string>>> rendering_action(
        const char* name, std::vector<std::pair<std::string, std::string>> further = {}) const;
    int largest_volume() const;

    std::string name_;
    Service transport_;
    std::optional<Service> rendering_;
    Time limit_{};
};

}  // namespace wavecrest::upnp
