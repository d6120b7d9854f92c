// What goes onto made-up discs: coded pictures of the test card, its audio coded, its subtitles drawn. The same
// description gives the same bytes.
#pragma once

#include <memory>
#include <optional>
#include <vector>

#include "codec/mpeg2_encoder.hpp"
#include "standin/disc_description.hpp"
#include "sample/test_card.hpp"

namespace wavecrest::standin {

// A group of pictures with the audio that goes with it.
struct MaterialGroup {
    std::int64_t first_picture = 0;  // since the interval began
    struct Picture {
        ByteVector data;  // as the disc has it
        bool key = false;
        int fields = 2;     // field periods it is shown for
        Time pts{}, dts{};  // since the group began
    };
    std::vector<Picture> pictures;  // in decoding order
    // For each audio track: pieces of plain samples in the disc's own packing are made by the caller from these.
    std::vector<std::vector<Packet>> audio;  // AC-3 frames, or one packet of plain LPCM (bitstream/lpcm.hpp)
    bool last = false;
};

// An interval of a part, coded for itself: its first picture and sample are at 0.
class Material {
  public:
    // Pictures from `first` to `end` of the part; `angle` from 0 changes the card's look.
    Material(const DiscDescription& disc, const DiscDescription::Part& part, int part_number, std::int64_t first,
             std::int64_t end, int angle);
    ~Material();

    // The next group; nothing at the end.
    Result<std::optional<MaterialGroup>> next();
    // Coded pictures a second, and the number in a whole part.
    static Ratio picture_rate(const DiscDescription& disc, const DiscDescription::Part& part);
    static std::int64_t picture_count(const DiscDescription& disc, const DiscDescription::Part& part);
    static int group_length(const DiscDescription& disc, const DiscDescription::Part& part);

  private:
    struct State;
    std::unique_ptr<State> state_;
};

// A subtitle of a track, drawn: pixels 0 nothing, 1 letters, 2 their outline.
struct SubtitleCue {
    int track = 0;
    Time from{}, to{};  // in the part
    bool forced = false;
    int x = 0, y = 0, width = 0, height = 0;
    std::vector<std::uint8_t> pixels;
};
// Those that begin in an interval of the part.
std::vector<SubtitleCue> subtitles_between(const DiscDescription& disc, int width, int height, Time from, Time to);

}  // namespace wavecrest::standin
