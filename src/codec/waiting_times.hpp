// Times of packets that wait in a decoder for their picture, by the number the decoder carries through; and the copy of
// a decoder's planes.
#pragma once

#include <cstring>
#include <map>

#include "media/types.hpp"

namespace wavecrest::codec {

class WaitingTimes {
  public:
    // The number for a packet.
    std::int64_t put(const Packet& packet) {
        times_[++last_] = {packet.pts, packet.duration};
        while (times_.size() > kMost) times_.erase(times_.begin());
        return last_;
    }
    void give(std::int64_t number, Picture& picture) {
        const auto found = times_.find(number);
        picture.pts = found != times_.end() ? found->second.first : next_;
        if (found != times_.end()) {
            picture.duration = found->second.second;
            times_.erase(found);
        }
        next_ = picture.pts + picture.duration;
    }

  private:
    static constexpr std::size_t kMost = 128;
    std::map<std::int64_t, std::pair<Time, Time>> times_;
    std::int64_t last_ = 0;
    Time next_{};
};

// A picture of 8-bit 4:2:0 planes.
inline Picture copy_planes(int width, int height, const std::uint8_t* const planes[3], const std::ptrdiff_t strides[3],
                           const Track& track) {
    Picture picture = Picture::allocate(width, height);
    for (int p = 0; p < 3; ++p) {
        const int rows = p == 0 ? height : (height + 1) / 2, columns = p == 0 ? width : (width + 1) / 2;
        for (int y = 0; y < rows; ++y)
            std::memcpy(picture.planes[p] + y * picture.strides[p], planes[p] + y * strides[p],
                        static_cast<std::size_t>(columns));
    }
    picture.pixel_aspect = track.pixel_aspect;
    picture.colour = track.colour;
    picture.frame_packing = track.frame_packing;
    return picture;
}

}  // namespace wavecrest::codec
