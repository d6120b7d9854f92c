// A small MPEG-2 video encoder (Rec. ITU-T H.262, main profile at main level) for sample discs: I pictures, P pictures
// with a simple motion search, film with repeat-field flags, bit rate held to the declared buffer. Whole numbers
// only, so the same pictures give the same bytes on every machine.
#pragma once

#include <memory>

#include "base/bytes.hpp"
#include "base/time.hpp"
#include "media/types.hpp"

namespace wavecrest::codec {

struct Mpeg2Settings {
    // What is coded, and how often: film has repeat-field flags in a 30000/1001 stream.
    enum class Pictures {
        film,        // 24000/1001 pictures with pulldown flags
        whole,       // progressive pictures at the frame rate
        interlaced,  // frames of two fields, the upper first
        film_whole,  // 24000/1001 pictures in a stream of that rate (Blu-ray)
    };
    int width = 720;   // multiple of 16
    int height = 480;  // any even number; coded up to the next multiple of 16
    bool wide = true;  // display aspect 16:9, else 4:3
    bool pal = false;  // 25 frames a second, else 30000/1001
    Pictures pictures = Pictures::film;
    std::int64_t mean_bps = 4'500'000;
    std::int64_t peak_bps = 8'000'000;  // rate at which the decoder's buffer fills; written as bit_rate
    int group_length = 12;              // pictures from one I picture to the next; a multiple of 4 with film
    bool captions = false;              // line 21 data (empty captions) with every group, as DVD-Video stores it

    bool high_definition() const { return width > 720; }
    Ratio picture_rate() const {
        if (pictures == Pictures::film || pictures == Pictures::film_whole) return {24000, 1001};
        return pal ? Ratio{25, 1} : Ratio{30000, 1001};
    }
};

// The decoder's buffer: in DVD-Video 112 units of 16384 bits, and the most of main profile at high level.
inline constexpr std::int64_t kDvdVbvBits = 112 * 16384;
inline constexpr std::int64_t kHighVbvBits = 597 * 16384;

struct Mpeg2Picture {
    ByteVector data;  // sequence and group headers included where a group starts
    bool key = false;
    int fields = 2;                // field periods it is shown for
    std::int64_t buffer_bits = 0;  // the decoder buffer's fullness before this picture is taken out
};

class Mpeg2Encoder {
  public:
    explicit Mpeg2Encoder(const Mpeg2Settings& settings);
    ~Mpeg2Encoder();

    // The next picture in display (= coding) order. `last` closes the sequence after it.
    Mpeg2Picture encode(const Picture& picture, bool last);
    // What a decoder shows for the picture encoded last.
    const Picture& reconstruction() const;

  private:
    struct State;
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::codec
