// Closed captions inside pictures: found, and turned into text with times. CEA-608 (line 21) and CEA-708 (DTVCC), as
// MPEG-2 user data (ATSC A/53 part 4, 6.2.3; and the form DVD-Video has) and H.264 SEI messages (A/72 part 1, 6.4.2)
// carry them.
#pragma once

#include <array>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "media/types.hpp"

namespace wavecrest::bitstream {

// A pair of bytes and what it is: 0 field 1, 1 field 2 (CEA-608), 2 data and 3 start of a DTVCC packet (CEA-708).
struct CaptionPair {
    int type = 0;
    std::uint8_t first = 0, second = 0;
};
// Those of a picture, in order; H.264 and H.265 with lengths in front of units.
std::vector<CaptionPair> caption_pairs(Codec codec, ByteSpan access_unit);

struct CaptionCue {
    Time from{}, to{};
    std::string text;  // UTF-8, \n between rows
};

// Follows the commands of the first caption channel of field 1 (CC1).
class LineCaptions {
  public:
    void push(Time time, std::uint8_t first, std::uint8_t second);
    void finish(Time end);
    std::vector<CaptionCue>& cues() { return cues_; }

  private:
    enum class Mode { none, pop_on, roll_up, paint_on };
    using Screen = std::array<std::u32string, 15>;
    void control(Time time, std::uint8_t code);
    void put(Time time, char32_t letter);
    void changed(Time time);  // what is shown is about to change
    void shown_now(Time time);

    Mode mode_ = Mode::none;
    int rows_ = 2, row_ = 14;
    Screen shown_{}, hidden_{};
    std::optional<Time> since_;
    std::uint8_t last_first_ = 0, last_second_ = 0;
    bool other_channel_ = false;
    std::vector<CaptionCue> cues_;
};

// The first service of DTVCC.
class ServiceCaptions {
  public:
    void push(Time time, bool starts_packet, std::uint8_t first, std::uint8_t second);
    void finish(Time end);
    std::vector<CaptionCue>& cues() { return cues_; }

  private:
    struct Window {
        bool visible = false;
        std::size_t rows = 4;
        std::vector<std::u32string> text;
    };
    void packet(Time time);
    void service(Time time, ByteSpan block);
    void changed(Time time);
    std::u32string visible_text() const;

    ByteVector packet_;
    std::map<int, Window> windows_;
    int current_ = 0;
    std::u32string shown_;
    Time since_{};
    std::vector<CaptionCue> cues_;
};

// Captions of a video track: packets in decoding order go in, cues come out.
class CaptionReader {
  public:
    explicit CaptionReader(Codec codec) : codec_(codec) {}
    void push(const Packet& packet);
    // CC1 when it says anything, else the first service.
    std::vector<CaptionCue> finish();

  private:
    void feed(Time time, const std::vector<CaptionPair>& pairs);
    Codec codec_;
    std::map<Time, std::vector<CaptionPair>> waiting_;  // pictures are put in order of presentation
    Time end_{};
    LineCaptions line_;
    ServiceCaptions service_;
};

}  // namespace wavecrest::bitstream
