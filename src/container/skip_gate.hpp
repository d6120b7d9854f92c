// What a reader leaves out after a skip: it lands somewhat before the place, and not all tracks begin there alike.
#pragma once

#include <map>
#include <optional>

#include "media/types.hpp"

namespace wavecrest::container {

class SkipGate {
  public:
    // From now on pictures before the keyframe at this time, and audio and text that end before it, are left out.
    // `leeway` is how far a container's rounding may put that keyframe in front of it.
    void set(std::optional<Time> to, Time leeway = {}) {
        to_ = to;
        leeway_ = leeway;
        open_.clear();
    }
    // Asked once for each packet in its order.
    bool leaves_out(TrackKind kind, const Packet& packet) {
        if (!to_) return false;
        bool& open = open_[packet.track];
        if (open) return false;
        if (kind == TrackKind::video ? packet.pts + leeway_ < *to_ || !packet.key
                                     : packet.pts + packet.duration <= *to_)
            return true;
        open = true;
        return false;
    }

  private:
    std::optional<Time> to_;
    Time leeway_{};
    std::map<TrackId, bool> open_;
};

}  // namespace wavecrest::container
