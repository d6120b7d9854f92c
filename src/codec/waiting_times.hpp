// Times of packets that wait in a decoder for their picture, by the number the decoder carries through; and the copy of
// a decoder's planes, of those that are decoded at all.
#pragma once

#include <algorithm>
#include <cstring>
#include <map>

#include "base/result.hpp"
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

// Of pictures that turn out to be of another kind than their track said.
inline tl::unexpected<Error> not_decodable() {
    return fail(ErrorKind::input, "the video has neither 8 nor 10 bits a sample", "video track",
                "remux it: convert --remux");
}

// How a decoder's chroma planes are sampled against luma.
enum class Chroma { none, half_both, half_width, full };  // 4:0:0, 4:2:0, 4:2:2, 4:4:4

// A chroma plane of another sampling made 4:2:0's, whose samples lie on every other column and between two lines: the
// mean of what lies around them.
template <typename Sample>
void thin_chroma(const std::uint8_t* from, std::ptrdiff_t stride, Chroma chroma, int plane, Picture& to) {
    const int columns = chroma == Chroma::full ? to.width : to.plane_width(plane);
    const auto line = [&](int y) {
        return reinterpret_cast<const Sample*>(from + std::min(y, to.height - 1) * stride);
    };
    for (int y = 0; y < to.plane_height(plane); ++y) {
        const Sample *upper = line(2 * y), *lower = line(2 * y + 1);
        Sample* out = to.row<Sample>(plane, y);
        for (int x = 0; x < to.plane_width(plane); ++x) {
            if (chroma == Chroma::half_width) {
                out[x] = static_cast<Sample>((upper[x] + lower[x] + 1) / 2);
                continue;
            }
            const int left = std::max(2 * x - 1, 0), at = 2 * x, right = std::min(2 * x + 1, columns - 1);
            out[x] = static_cast<Sample>(
                (upper[left] + 2 * upper[at] + upper[right] + lower[left] + 2 * lower[at] + lower[right] + 4) / 8);
        }
    }
}

// A picture of a decoder's planes, whose strides are in bytes.
inline Picture copy_planes(int width, int height, int bit_depth, Chroma chroma, const std::uint8_t* const planes[3],
                           const std::ptrdiff_t strides[3], const Track& track) {
    Picture picture = Picture::allocate(width, height, bit_depth);
    for (int p = 0; p < 3; ++p) {
        if (p > 0 && chroma != Chroma::half_both) {
            media::with_sample_type(bit_depth, [&](auto sample) {
                using Sample = decltype(sample);
                if (chroma != Chroma::none) return thin_chroma<Sample>(planes[p], strides[p], chroma, p, picture);
                for (int y = 0; y < picture.plane_height(p); ++y)
                    std::fill_n(picture.row<Sample>(p, y), picture.plane_width(p),
                                static_cast<Sample>(1 << (bit_depth - 1)));
            });
            continue;
        }
        for (int y = 0; y < picture.plane_height(p); ++y)
            std::memcpy(picture.row<std::uint8_t>(p, y), planes[p] + y * strides[p], picture.row_bytes(p));
    }
    picture.pixel_aspect = track.pixel_aspect;
    picture.colour = track.colour;
    picture.frame_packing = track.frame_packing;
    return picture;
}

}  // namespace wavecrest::codec
